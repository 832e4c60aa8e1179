package raster

import (
	"bytes"
	"context"
	"encoding/gob"
	"errors"
	"fmt"
	"image"
	"image/jpeg"
	"image/png"
	"io"
	"os"

	"github.com/klippa-app/go-pdfium"
	"github.com/klippa-app/go-pdfium/enums"
	"github.com/klippa-app/go-pdfium/references"
	"github.com/klippa-app/go-pdfium/requests"
	"github.com/klippa-app/go-pdfium/webassembly"
	"github.com/tetratelabs/wazero"
	"github.com/tetratelabs/wazero/api"
	"github.com/tetratelabs/wazero/experimental"

	"glenrain/core/child"
	"glenrain/core/pdf"
)

func init() {
	child.Register("renderer", func(args []string, in io.Reader, out io.Writer) error {
		if len(args) != 1 {
			return errors.New("it is started with the folder for the compiled renderer")
		}
		return serve(args[0], in, out)
	})
}

// The messages between the pool and a child, as gob on its standard input and output.
type (
	question struct {
		Request Request // Source.Parts is empty where the child should have the document
	}
	answer struct {
		Ready     bool
		NeedParts bool
		Error     string
		Picture   Picture
	}
)

// openDocuments is how many documents a child keeps open.
const openDocuments = 6

// memoryPages bounds PDFium's memory: 64 KiB each, so 320 MiB.
const memoryPages = 5120

type renderer struct {
	lib  pdfium.Pdfium
	docs []openDocument // most recently used last
}

type openDocument struct {
	key   string
	ref   references.FPDF_DOCUMENT
	close func()
}

// serve answers questions until its input ends, which is the error it gives then.
func serve(cacheDir string, in io.Reader, out io.Writer) error {
	cache, err := wazero.NewCompilationCacheWithDir(cacheDir)
	if err != nil {
		return err
	}
	pool, err := webassembly.Init(webassembly.Config{
		MinIdle: 1, MaxIdle: 1, MaxTotal: 1,
		FSConfig: wazero.NewFSConfig(), // PDFium sees no files but through our reader
		Stdout:   os.Stderr,
		RuntimeConfig: wazero.NewRuntimeConfig().
			WithCoreFeatures(api.CoreFeaturesV2 | experimental.CoreFeaturesExceptionHandling).
			WithCompilationCache(cache).
			WithMemoryLimitPages(memoryPages),
	})
	if err != nil {
		return err
	}
	lib, err := pool.GetInstanceWithContext(context.Background())
	if err != nil {
		return err
	}
	c := &renderer{lib: lib}
	dec, enc := gob.NewDecoder(in), gob.NewEncoder(out)
	if err := enc.Encode(answer{Ready: true}); err != nil {
		return err
	}
	for {
		var q question
		if err := dec.Decode(&q); err != nil {
			return err
		}
		if err := enc.Encode(c.answer(q.Request)); err != nil {
			return err
		}
	}
}

func (c *renderer) answer(r Request) (a answer) {
	defer func() {
		if p := recover(); p != nil {
			a = answer{Error: fmt.Sprint(p)}
		}
	}()
	ref, known, err := c.open(r.Source)
	if err != nil {
		return answer{Error: err.Error()}
	}
	if !known {
		return answer{NeedParts: true}
	}
	draw := c.render
	switch {
	case r.Save:
		draw = c.save
	case r.Count:
		draw = c.count
	}
	p, err := draw(ref, r)
	if err != nil {
		return answer{Error: err.Error()}
	}
	return answer{Picture: p}
}

func (c *renderer) open(s Source) (references.FPDF_DOCUMENT, bool, error) {
	for i, d := range c.docs {
		if d.key == s.Key {
			c.docs = append(append(c.docs[:i:i], c.docs[i+1:]...), d)
			return d.ref, true, nil
		}
	}
	if len(s.Parts) == 0 {
		return "", false, nil
	}
	if len(c.docs) >= openDocuments {
		old := c.docs[0]
		c.docs = c.docs[1:]
		_, _ = c.lib.FPDF_CloseDocument(&requests.FPDF_CloseDocument{Document: old.ref})
		old.close()
	}
	parts, done, err := OpenParts(s.Parts)
	if err != nil {
		return "", false, err
	}
	d := openDocument{key: s.Key, close: done}
	opened, err := c.lib.OpenDocument(&requests.OpenDocument{
		FileReader:     io.NewSectionReader(parts, 0, parts.Size()),
		FileReaderSize: parts.Size(),
	})
	if err != nil {
		d.close()
		return "", false, err
	}
	d.ref = opened.Document
	c.docs = append(c.docs, d)
	return d.ref, true, nil
}

func (c *renderer) count(doc references.FPDF_DOCUMENT, _ Request) (Picture, error) {
	got, err := c.lib.FPDF_GetPageCount(&requests.FPDF_GetPageCount{Document: doc})
	if err != nil {
		return Picture{}, err
	}
	return Picture{Pages: got.PageCount}, nil
}

// save writes the document as PDFium understood it.
func (c *renderer) save(doc references.FPDF_DOCUMENT, _ Request) (Picture, error) {
	got, err := c.lib.FPDF_SaveAsCopy(&requests.FPDF_SaveAsCopy{Document: doc, Flags: requests.SaveFlagRemoveSecurity})
	if err != nil {
		return Picture{}, err
	}
	if got.FileBytes == nil {
		return Picture{}, errors.New("nothing was saved")
	}
	return Picture{Type: "application/pdf", Data: *got.FileBytes}, nil
}

func (c *renderer) render(doc references.FPDF_DOCUMENT, r Request) (Picture, error) {
	page := requests.Page{ByIndex: &requests.PageByIndex{Document: doc, Index: r.Page}}
	size, err := c.lib.GetPageSize(&requests.GetPageSize{Page: page})
	if err != nil {
		return Picture{}, err
	}
	scale := r.Scale
	if r.Width > 0 && r.Height > 0 {
		scale = min(float64(r.Width)/size.Width, float64(r.Height)/size.Height)
	}
	if !(scale > 0 && scale < 1e6) {
		return Picture{}, errors.New("a page is drawn in no such size")
	}
	w, h := pixels(size.Width*scale), pixels(size.Height*scale)
	whole := image.Rect(0, 0, w, h)
	req := &requests.RenderPageInPixels{
		Page: page, Width: w, Height: h, Document: &doc, RenderForm: true,
		RenderFlags: enums.FPDF_RENDER_FLAG_ANNOT,
	}
	if !r.Region.Empty() && r.Region != whole {
		cut := r.Region.Intersect(whole)
		if cut.Empty() {
			return Picture{}, errors.New("the region is outside the page")
		}
		req.Width, req.Height = cut.Dx(), cut.Dy()
		req.Crop = &requests.RenderPageCrop{
			X: float64(cut.Min.X) / scale, Y: float64(cut.Min.Y) / scale,
			Width: float64(cut.Dx()) / scale, Height: float64(cut.Dy()) / scale,
		}
	}
	if req.Width*req.Height > pdf.MaxDrawn {
		return Picture{}, fmt.Errorf("a picture of %d by %d pixels is too large", req.Width, req.Height)
	}
	got, err := c.lib.RenderPageInPixels(req)
	if err != nil {
		return Picture{}, err
	}
	defer got.Cleanup()
	img, ok := got.Result.RenderedImage.(*image.RGBA)
	if !ok {
		return Picture{}, errors.New("the renderer gave another kind of picture")
	}
	return encode(img, r.Format)
}

func pixels(f float64) int { return max(1, int(f+0.5)) }

func encode(img *image.RGBA, f Format) (Picture, error) {
	b := img.Bounds()
	p := Picture{Width: b.Dx(), Height: b.Dy()}
	if f == Raw {
		p.Data = make([]byte, 0, 4*p.Width*p.Height)
		for y := range p.Height {
			p.Data = append(p.Data, img.Pix[y*img.Stride:y*img.Stride+4*p.Width]...)
		}
		return p, nil
	}
	var out bytes.Buffer
	var err error
	if f == Auto && manyColours(img) {
		p.Type = "image/jpeg"
		err = jpeg.Encode(&out, img, &jpeg.Options{Quality: 88})
	} else {
		p.Type = "image/png"
		var src image.Image = img
		near := 0
		if f == Auto {
			near = alike
		}
		if few := fewColours(img, near); few != nil {
			src = few
		}
		err = (&png.Encoder{CompressionLevel: png.BestSpeed}).Encode(&out, src)
	}
	p.Data = out.Bytes()
	return p, err
}

// manyColours samples the picture: photographs and scans have more colours than
// text with its smoothed edges.
func manyColours(img *image.RGBA) bool {
	seen := map[[3]byte]bool{}
	n := len(img.Pix) / 4
	step := max(1, n/4096)
	for i := 0; i < n; i += step {
		p := img.Pix[i*4:]
		seen[[3]byte{p[0], p[1], p[2]}] = true
		if len(seen) > 320 {
			return true
		}
	}
	return false
}
