package main

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"
	"time"

	"glenrain/core/arrange"
	"glenrain/core/draw"
	"glenrain/core/finding"
	"glenrain/core/intake"
	"glenrain/core/jobs"
	"glenrain/core/outgoing"
	"glenrain/core/pdf"
	"glenrain/core/raster"
	"glenrain/core/step"
	"glenrain/core/structure"
)

// gcPercent lets a command that ends soon spend its time on the file; a server keeps Go's own value.
const gcPercent = 200

var errUnreadable = errors.New("can't be read")

// opened is a PDF that was opened by name.
type opened struct {
	*pdf.Document
	pages []pdf.Leaf
	wrong []string // what was wrong with it
	anew  bool     // it is to be written anew before it is changed
	file  *os.File
}

func (o *opened) close() { _ = o.file.Close() }

// openFile opens a PDF and lists its pages; it must be closed. One that is to be changed is read whole. Of several passwords the first one that
// opens it is used.
func openFile(ctx context.Context, path string, passwords []string, change bool) (*opened, error) {
	debug.SetGCPercent(gcPercent)
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	o := &opened{file: f}
	st, err := f.Stat()
	if err == nil && st.IsDir() {
		err = fmt.Errorf("%s is a folder: %w", path, errUnreadable)
	}
	if err == nil {
		err = eachPassword(passwords, func(password string) (err error) {
			if change {
				o.Document, o.wrong, o.anew, err = pdf.OpenVerified(ctx, f, st.Size(), password)
			} else {
				o.Document, o.wrong, err = pdf.OpenMended(ctx, f, st.Size(), password)
			}
			return err
		})
	}
	if err == nil {
		o.pages, err = o.Pages()
	}
	if err == nil && len(o.pages) == 0 {
		err = pdf.ErrNoPages
	}
	if err != nil {
		o.close()
		return nil, fmt.Errorf("%s: %w", filepath.Base(path), err)
	}
	return o, nil
}

// eachPassword tries to open a file with each of several passwords, and then with none, as long as it stays locked.
func eachPassword(passwords []string, open func(string) error) error {
	for _, p := range passwords {
		if err := open(p); !errors.Is(err, pdf.ErrLocked) {
			return err
		}
	}
	return open("")
}

// writeWhole writes a file of a mode so that it appears whole or not at all.
func writeWhole(path string, mode os.FileMode, write func(io.Writer) error) (err error) {
	f, err := os.CreateTemp(filepath.Dir(path), ".glenrain-*")
	if err != nil {
		return useError{fmt.Errorf("%s can't be written: %w", path, err)}
	}
	leavings.add(f.Name())
	defer func() {
		leavings.drop(f.Name())
		if err != nil {
			_ = f.Close()
			_ = os.Remove(f.Name())
		}
	}()
	if err = write(f); err != nil {
		return err
	}
	if err = f.Chmod(mode); err != nil {
		return err
	}
	if err = f.Sync(); err != nil {
		return err
	}
	if err = f.Close(); err != nil {
		return err
	}
	return os.Rename(f.Name(), path)
}

// paths opens sources by path, relative to the working folder, and what steps' work made, in a folder for the time of the run.
type paths struct {
	open      []*os.File
	made      string // the folder
	passwords []string
	options   intake.Options // how files of other kinds are turned into pages
}

func (p *paths) Open(ctx context.Context, ref step.SourceRef) (*step.Source, error) {
	path, ok := strings.CutPrefix(string(ref), "path:")
	if !ok {
		return nil, step.Refuse("the source %q can't be opened here: on the command line it is path:FILE", ref)
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	st, err := f.Stat()
	if err != nil || st.IsDir() {
		_ = f.Close()
		return nil, fmt.Errorf("%s: %w", path, errUnreadable)
	}
	p.open = append(p.open, f)
	f, size, err := p.converted(ctx, path, f, st.Size())
	if err != nil {
		return nil, err
	}
	src := &step.Source{Name: trimExt(path), Data: f, Size: size}
	if len(p.passwords) > 0 && !draw.IsPicture(f) {
		err = eachPassword(p.passwords, func(password string) (err error) {
			src.Doc, _, err = pdf.OpenMended(ctx, f, size, password)
			return err
		})
		if err != nil {
			return nil, fmt.Errorf("%s: %w", filepath.Base(path), err)
		}
	}
	return src, nil
}

// converted gives a file as it is, or the pages that it was turned into where it is of another kind.
func (p *paths) converted(ctx context.Context, path string, f *os.File, size int64) (*os.File, int64, error) {
	if intake.Find(ctx, path, f, size) == intake.None {
		return f, size, nil
	}
	folder, err := p.folder()
	if err != nil {
		return nil, 0, err
	}
	made, err := os.CreateTemp(folder, "made-*")
	if err != nil {
		return nil, 0, err
	}
	if _, err := convertFile(ctx, path, f, size, p.options, folder, made.Name()); err != nil {
		return f, size, errors.Join(err, made.Close())
	}
	p.open = append(p.open, made)
	st, err := made.Stat()
	if err != nil {
		return nil, 0, err
	}
	return made, st.Size(), nil
}

// folder is where what is made stands until the run ends.
func (p *paths) folder() (string, error) {
	if p.made == "" {
		dir, err := os.MkdirTemp("", "glenrain-run-")
		if err != nil {
			return "", err
		}
		p.made = dir
		leavings.add(dir)
	}
	return p.made, nil
}

// Keep keeps what long work made until the run ends.
func (p *paths) Keep(write func(io.Writer) error) (step.SourceRef, error) {
	folder, err := p.folder()
	if err != nil {
		return "", err
	}
	f, err := os.CreateTemp(folder, "made-*")
	if err != nil {
		return "", err
	}
	err = write(f)
	return step.SourceRef("path:" + f.Name()), errors.Join(err, f.Close())
}

func (p *paths) close() {
	for _, f := range p.open {
		_ = f.Close()
	}
	if p.made != "" {
		_ = os.RemoveAll(p.made)
	}
}

func trimExt(path string) string {
	return strings.TrimSuffix(filepath.Base(path), filepath.Ext(path))
}

type infoCommand struct {
	File     string `arg:"" help:"The PDF."`
	Password string `help:"Password of a locked file."`
	JSON     bool   `name:"json" help:"As JSON."`
}

type info struct {
	Pages     int      `json:"pages"`
	Version   string   `json:"version"`
	Encrypted bool     `json:"encrypted"`
	Tagged    bool     `json:"tagged"`
	Repaired  bool     `json:"repaired"`
	Bytes     int64    `json:"bytes"`
	Title     string   `json:"title"`
	Sizes     []sizeOf `json:"sizes"`
}

type sizeOf struct {
	Width  float64 `json:"width"` // points, as the page is seen
	Height float64 `json:"height"`
	Pages  int     `json:"pages"`
}

func (c *infoCommand) Run(ctx context.Context) error {
	doc, err := openFile(ctx, c.File, []string{c.Password}, false)
	if err != nil {
		return err
	}
	defer doc.close()
	title, _ := doc.Resolve(doc.Dict(doc.Trailer().Get("Info")).Get("Title")).(pdf.String)
	out := info{Pages: len(doc.pages), Repaired: len(doc.wrong) > 0, Version: doc.Version(), Encrypted: doc.Encryption() != nil, Tagged: structure.Tagged(doc.Document), Bytes: doc.Size(), Title: pdf.Text(title)}
	at := map[[2]float64]int{}
	for _, p := range doc.pages {
		w, h := doc.Geometry(p.Ref).Seen()
		key := [2]float64{round(w), round(h)}
		i, ok := at[key]
		if !ok {
			i = len(out.Sizes)
			at[key] = i
			out.Sizes = append(out.Sizes, sizeOf{Width: key[0], Height: key[1]})
		}
		out.Sizes[i].Pages++
	}
	if c.JSON {
		enc := json.NewEncoder(os.Stdout)
		enc.SetIndent("", "  ")
		return enc.Encode(out)
	}
	fmt.Printf("%s, PDF %s, %s bytes\n", step.Count(out.Pages, "page"), out.Version, step.Thousands(int(out.Bytes)))
	for _, s := range out.Sizes {
		fmt.Printf("%s of %g x %g pt\n", step.Count(s.Pages, "page"), s.Width, s.Height)
	}
	if out.Tagged {
		fmt.Println("tagged")
	}
	for _, w := range doc.wrong {
		fmt.Println("damaged: " + w)
	}
	return nil
}

func round(v float64) float64 { return float64(int64(v*100+0.5)) / 100 }

type runCommand struct {
	Steps     string   `arg:"" help:"Steps as JSON, {\"steps\":[...]}; - is standard input."`
	File      string   `arg:"" help:"The PDF."`
	Out       string   `short:"o" required:"" help:"Where to write the result."`
	Passwords []string `name:"password" sep:"none" help:"Password of a locked file, or of one that a step inserts; can be repeated."`
	Signature string   `enum:",keep,remove" default:"" help:"For a signed file: keep appends changes after the signed part; remove deletes the signature."`
}

func (c *runCommand) Run(ctx context.Context) error {
	data, err := readSteps(c.Steps)
	if err != nil {
		return useError{err}
	}
	registry := jobs.Registry()
	steps, _, err := registry.ParseList(data)
	if err != nil {
		return err
	}
	file, err := openFile(ctx, c.File, c.Passwords, true)
	if err != nil {
		return err
	}
	defer file.close()
	doc := file.Document
	signed := finding.Signed(doc)
	if signed != "" && c.Signature == "" {
		return useError{fmt.Errorf("%s is %s; --signature=keep appends the changes after the signed part, --signature=remove deletes the signature", filepath.Base(c.File), signed)}
	}
	shared, err := doc.SplitSharedPages()
	if err != nil {
		return err
	}
	for _, w := range file.wrong {
		fmt.Printf("The file was damaged and has been repaired: %s.\n", w)
	}
	if doc.Encryption() != nil {
		fmt.Println("The file was locked; the result is not.")
	}
	anew := doc.Encryption() != nil || file.anew || shared > 0
	if anew && signed != "" && c.Signature == "keep" {
		return useError{fmt.Errorf("changing %s means rewriting it, which breaks its signature: use --signature=remove to delete the signature", filepath.Base(c.File))}
	}
	if anew {
		if doc, err = workingCopy(ctx, doc); err != nil {
			return err
		}
	}
	pages, err := doc.Pages()
	if err != nil {
		return err
	}
	sources := &paths{passwords: c.Passwords}
	defer sources.close()
	var pool *raster.Pool // only where a step looks at pages
	drawn, err := sources.folder()
	if err != nil {
		return err
	}
	drawer := raster.NewDrawer("run", drawn, func() (_ *raster.Pool, err error) {
		if pool == nil {
			pool, err = ownPool()
		}
		return pool, err
	})
	defer func() {
		drawer.Close()
		if pool != nil {
			pool.Close()
		}
	}()
	now := time.Now()
	q := step.Sequence{Registry: registry, Doc: doc, Keys: step.NewKeys(pages)}
	for i, s := range steps {
		res, err := q.Run(ctx, s, &step.Env{Now: now, Seed: seedOf(data, i), Step: i + 1, Sources: sources, Files: sources, Draw: drawer})
		if err != nil {
			return fmt.Errorf("step %d: %w", i+1, err)
		}
		if res.NewBase != nil && signed != "" && c.Signature == "keep" {
			return useError{fmt.Errorf("step %d rewrites the file, which breaks its signature: use --signature=remove to delete the signature", i+1)}
		}
		fmt.Println(res.Sentence + ".")
		for _, w := range res.Warnings {
			fmt.Println("  " + w)
		}
	}
	return writeWhole(c.Out, 0o644, func(w io.Writer) error {
		if signed != "" && c.Signature == "keep" {
			_, err := io.Copy(w, io.NewSectionReader(q.Doc.Source(), 0, q.Doc.Size()))
			return err
		}
		out := q.Doc.Fork()
		if signed != "" {
			fmt.Println("The signature was removed.")
		}
		if finding.HasRights(out) {
			fmt.Println("Its usage rights (extra permissions for some programs) were removed.")
		}
		opt := outgoing.Prepare(out, now)
		opt.ID = seedOf(data, -1)
		return out.WriteFull(ctx, w, opt)
	})
}

// workingCopy gives a locked or mended document as a sound one in memory.
func workingCopy(ctx context.Context, doc *pdf.Document) (*pdf.Document, error) {
	var b bytes.Buffer
	if err := doc.WriteFull(ctx, &b, pdf.FullOptions{KeepNumbers: true}); err != nil {
		return nil, err
	}
	return pdf.Open(bytes.NewReader(b.Bytes()), int64(b.Len()))
}

// seedOf makes the chance of a step from the list of steps, so that the same list on the
// same file gives the same file but for its dates.
func seedOf(data []byte, i int) [16]byte {
	sum := sha256.Sum256(fmt.Appendf(nil, "%d %s", i, data))
	return [16]byte(sum[:16])
}

func readSteps(name string) ([]byte, error) {
	if name == "-" {
		return io.ReadAll(io.LimitReader(os.Stdin, 64<<20))
	}
	return os.ReadFile(name)
}

type combineCommand struct {
	Files     []string `arg:"" help:"PDFs, JPEGs and PNGs, in order."`
	Out       string   `short:"o" required:"" help:"Where to write the result."`
	Passwords []string `name:"password" sep:"none" help:"Password of a locked file; can be repeated: each is tried on each locked file."`
}

func (c *combineCommand) Run(ctx context.Context) error {
	sources := &paths{passwords: c.Passwords}
	defer sources.close()
	inserts := make([]arrange.Insert, len(c.Files))
	for i, f := range c.Files {
		inserts[i] = arrange.Insert{From: step.SourceRef("path:" + f), Name: trimExt(f)}
	}
	seed := seedOf([]byte(strings.Join(c.Files, "\n")), 0)
	env := &step.Env{Now: time.Now(), Seed: seed, Sources: sources}
	doc, warnings, err := arrange.Combine(ctx, env, inserts, nil)
	if err != nil {
		return err
	}
	for _, w := range warnings {
		fmt.Println(w)
	}
	return writeWhole(c.Out, 0o644, func(w io.Writer) error {
		return doc.WriteFull(ctx, w, pdf.FullOptions{Once: true, ID: seed})
	})
}

type renderCommand struct {
	File string  `arg:"" help:"The PDF."`
	Page int     `default:"1" help:"Page number, from 1."`
	DPI  float64 `name:"dpi" default:"96" help:"Resolution in dpi."`
	Out  string  `short:"o" required:"" help:"Where to write the PNG."`

	Password string `help:"Password of a locked file."`
}

func (c *renderCommand) Run(ctx context.Context) error {
	doc, err := openFile(ctx, c.File, []string{c.Password}, false)
	if err != nil {
		return err
	}
	defer doc.close()
	if c.Page < 1 || c.Page > len(doc.pages) {
		return useError{fmt.Errorf("the file has %s; there is no page %d", step.Count(len(doc.pages), "page"), c.Page)}
	}
	if !(c.DPI >= 1 && c.DPI <= 2400) { // which "NaN" is not
		return useError{errors.New("the resolution can be from 1 to 2400 dpi")}
	}
	pool, err := ownPool()
	if err != nil {
		return err
	}
	defer pool.Close()
	abs, size, done, err := c.drawable(ctx, doc)
	if err != nil {
		return err
	}
	defer done()
	pic, err := pool.Render(ctx, raster.Request{
		Source: raster.Source{Key: abs, Parts: []raster.Part{{Path: abs, Size: size}}},
		Page:   c.Page - 1, Scale: c.DPI / 72, Format: raster.PNG,
	})
	if err != nil {
		return fmt.Errorf("page %d: %w", c.Page, err)
	}
	return writeWhole(c.Out, 0o644, func(w io.Writer) error {
		_, err := w.Write(pic.Data)
		return err
	})
}

// ownPool gives a renderer for the time of a command.
func ownPool() (*raster.Pool, error) {
	cache, err := os.UserCacheDir()
	if err != nil {
		cache = os.TempDir()
	}
	return raster.NewPool(filepath.Join(cache, "glenrain", "pdfium"), 1)
}

// drawable gives the file for the renderer: a sound one without a password in place of one that is locked or had to be mended.
func (c *renderCommand) drawable(ctx context.Context, doc *opened) (path string, size int64, done func(), err error) {
	st, err := doc.file.Stat()
	if err != nil {
		return "", 0, nil, err
	}
	if doc.Encryption() == nil && len(doc.wrong) == 0 && doc.Document.Size() == st.Size() {
		if path, err = filepath.Abs(c.File); err != nil {
			return "", 0, nil, err
		}
		return path, st.Size(), func() {}, nil
	}
	f, err := os.CreateTemp("", "glenrain-render-*")
	if err == nil {
		leavings.add(f.Name())
	}
	if err != nil {
		return "", 0, nil, err
	}
	done = func() { _ = os.Remove(f.Name()) }
	err = doc.WriteFull(ctx, f, pdf.FullOptions{KeepNumbers: true})
	if err == nil {
		size, err = f.Seek(0, io.SeekCurrent)
	}
	if err = errors.Join(err, f.Close()); err != nil {
		done()
		return "", 0, nil, err
	}
	return f.Name(), size, done, nil
}

type stepsCommand struct {
	JSON bool `name:"json" help:"As JSON."`
}

func (c *stepsCommand) Run() error {
	var all []step.Description
	for _, k := range jobs.Registry().Kinds() {
		all = append(all, k.Describe())
	}
	if c.JSON {
		enc := json.NewEncoder(os.Stdout)
		enc.SetIndent("", "  ")
		return enc.Encode(map[string]any{"steps": all})
	}
	for _, d := range all {
		fmt.Printf("%s\n  %s\n", d.Name, d.Meaning)
		for _, f := range d.Fields {
			fmt.Printf("    %-8s %s\n", f.Name, f.Meaning)
		}
	}
	return nil
}
