package content

import (
	"context"
	"errors"
	"sync"

	"glenrain/core/font"
	"glenrain/core/pdf"
)

// Reader interprets the pages of one document. Its fonts and forms are kept between pages; several goroutines
// may use it.
type Reader struct {
	Doc    *pdf.Document
	layers *layers

	mu     sync.Mutex
	fonts  map[any]*font.Font // by reference, or by dictionary where it is direct
	bodies map[pdf.Ref]*Body
	kept   int // bytes of bodies
}

// NewReader starts reading a document, which must not be changed meanwhile.
func NewReader(doc *pdf.Document) *Reader {
	return &Reader{Doc: doc, layers: readLayers(doc), fonts: map[any]*font.Font{}, bodies: map[pdf.Ref]*Body{}}
}

// Options say what of a page is wanted besides its text.
type Options struct {
	Images bool
	Paths  bool // and clipping
	// Deep also runs patterns and the glyphs of Type 3 fonts.
	Deep bool
	// NoAnnotations leaves appearances out.
	NoAnnotations bool
	// Into is a page whose memory is used again.
	Into *Page
}

// Limits of one page: more operators, glyphs or nesting than these have no honest page.
const (
	maxOperators = 8 << 20
	maxGlyphs    = 500_000
	maxMade      = 300_000            // of shows, of marks, of pictures
	maxPaths     = 600_000            // and
	maxPoints    = 6_000_000          // in them
	maxRead      = 4 * pdf.MaxContent // bytes of all bodies that run
	maxForms     = 40
	maxInvoked   = 100_000
	keepBodies   = 24 << 20 // bytes
	maxFonts     = 4000     // that are kept
)

// heavy lets one page with much content be read at a time.
var heavy = make(chan struct{}, 1)

// heavyBody is how many bytes of content are much.
const heavyBody = 8 << 20

// Page runs the contents of a page and the appearances of its annotations. What is damaged is read as far
// as it makes sense; an error comes only from ctx.
func (r *Reader) Page(ctx context.Context, page pdf.Ref, opt Options) (*Page, error) {
	p := opt.Into
	if p == nil {
		p = &Page{}
	}
	p.reset(page)
	x := &runner{ctx: ctx, r: r, doc: r.Doc, page: p, opt: opt}
	x.state = State{CTM: pdf.Identity, Scale: 1, LineWidth: 1, Alpha: 1}
	if opt.Paths {
		x.state.Clip = r.Doc.Geometry(page).MediaBox
	}
	x.dirty = true
	res := r.Doc.Dict(r.Doc.Inherited(page, "Resources"))
	body, cut := r.pageBody(page)
	p.Cut = cut
	if len(body.Data) > heavyBody {
		select {
		case heavy <- struct{}{}:
			defer func() { <-heavy }()
		case <-ctx.Done():
			return p, ctx.Err()
		}
	}
	x.invoke(Invocation{Kind: PageBody, Body: body, Parent: -1, Matrix: pdf.Identity, Resources: res})
	if !opt.NoAnnotations {
		x.annotations(page, res)
	}
	return p, x.err
}

// pageBody joins the streams of a page, with a line feed between them: tokens don't cross (7.8.2). What is behind
// MaxContent bytes is left out, and cut is true.
func (r *Reader) pageBody(page pdf.Ref) (b *Body, cut bool) {
	o := r.Doc.Page(page).Get("Contents")
	b = &Body{}
	decode := func(s *pdf.Stream) []byte {
		data, _, err := r.Doc.DecodeMost(s, pdf.MaxContent-len(b.Data))
		cut = cut || errors.Is(err, pdf.ErrLimit)
		return data
	}
	switch v := r.Doc.Resolve(o).(type) {
	case *pdf.Stream:
		ref, _ := o.(pdf.Ref)
		data := decode(v)
		b.Data = data
		b.Parts = []Span{{ref, 0, len(data)}}
	case pdf.Array:
		for _, e := range v {
			s := r.Doc.Stream(e)
			if s == nil {
				continue
			}
			ref, _ := e.(pdf.Ref)
			if cut || r.Doc.Over() != nil || len(b.Data) >= pdf.MaxContent {
				cut = true
				break
			}
			data := decode(s)
			if len(v) == 1 {
				b.Data = data
			} else {
				if len(b.Parts) > 0 {
					b.Data = append(b.Data, '\n')
				}
				b.Data = append(b.Data, data...)
			}
			b.Parts = append(b.Parts, Span{ref, len(b.Data) - len(data), len(b.Data)})
		}
	}
	return b, cut
}

// body gives a form's decoded stream.
func (r *Reader) body(ref pdf.Ref, s *pdf.Stream) *Body {
	r.mu.Lock()
	b := r.bodies[ref]
	r.mu.Unlock()
	if b != nil && !ref.IsZero() {
		return b
	}
	data, _, _ := r.Doc.DecodeMost(s, pdf.MaxContent)
	b = &Body{Data: data, Parts: []Span{{ref, 0, len(data)}}}
	if !ref.IsZero() {
		r.mu.Lock()
		if r.kept+len(data) > keepBodies {
			clear(r.bodies)
			r.kept = 0
		}
		r.bodies[ref] = b
		r.kept += len(data)
		r.mu.Unlock()
	}
	return b
}

// Font gives a font of a resource dictionary's entry.
func (r *Reader) Font(o pdf.Object) *font.Font {
	var key any
	if ref, ok := o.(pdf.Ref); ok {
		key = ref
	} else if d := r.Doc.Dict(o); d != nil {
		key = d
	} else {
		return nil
	}
	r.mu.Lock()
	f, ok := r.fonts[key]
	r.mu.Unlock()
	if ok {
		return f
	}
	if d := r.Doc.Dict(o); d != nil {
		f = font.Read(r.Doc, o)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if have, ok := r.fonts[key]; ok { // another was quicker: one font, one pointer
		return have
	}
	if len(r.fonts) >= maxFonts {
		clear(r.fonts)
	}
	r.fonts[key] = f
	return f
}
