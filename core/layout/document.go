package layout

import (
	"context"
	"errors"
	"math"
	"runtime"
	"runtime/debug"
	"strconv"
	"sync"
	"time"
	"unicode/utf8"

	"glenrain/core/content"
	"glenrain/core/pdf"
)

// Fault is a page that met a fault in the program. The program goes on.
type Fault struct {
	Page  int // which of those that were asked for
	What  any
	Stack []byte
}

func (f *Fault) Error() string { return "a page can't be read because of a fault in the program" }

// guarded makes an error of a panic, which would end the program in a goroutine of its own.
func guarded(f func() ([]byte, error)) (b []byte, err error) {
	defer func() {
		if p := recover(); p != nil {
			err = &Fault{What: p, Stack: debug.Stack()}
		}
	}()
	return f()
}

// maxPage is how long a page may be read: of one that takes longer, what was read until then is given.
const maxPage = 3 * time.Second

// Pages reads pages of a document with so many workers; 0 for as many as there are cores. render turns each into bytes, appending to b; it is called for several pages at once, in any
// order. put gets these in the order of the pages, one after another. The first error ends it.
func Pages(ctx context.Context, doc *pdf.Document, pages []pdf.Ref, opt content.Options, workers int, render func(i int, l *Page, b []byte) []byte, put func(i int, b []byte) error) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	type result struct {
		b   []byte
		err error
	}
	type job struct {
		i    int
		done chan result
	}
	if workers <= 0 {
		workers = runtime.GOMAXPROCS(0)
	}
	workers = max(1, min(workers, len(pages)))
	jobs, order := make(chan job), make(chan job, 8*workers) // no further ahead of put than that
	spare := make(chan []byte, 16*workers)
	var wg sync.WaitGroup
	wg.Go(func() {
		defer close(order)
		defer close(jobs)
		for i := range pages {
			j := job{i, make(chan result, 1)}
			select {
			case order <- j:
			case <-ctx.Done():
				return
			}
			select {
			case jobs <- j:
			case <-ctx.Done():
				return
			}
		}
	})
	r := content.NewReader(doc.In(ctx))
	for range workers {
		wg.Go(func() {
			p, l := &content.Page{}, &Page{}
			for j := range jobs {
				o := opt
				o.Into = p
				timed, done := context.WithTimeout(ctx, maxPage)
				b, err := guarded(func() ([]byte, error) {
					_, err := r.Page(timed, pages[j.i], o)
					return nil, err
				})
				if done(); errors.Is(err, context.DeadlineExceeded) && ctx.Err() == nil { // what was read until then is there
					p.Cut, err = true, nil
				}
				if err == nil {
					select {
					case b = <-spare:
					default:
					}
					b, err = guarded(func() ([]byte, error) { return render(j.i, Read(p, doc.Geometry(pages[j.i]).Visible, l), b[:0]), nil })
				}
				var fault *Fault
				if errors.As(err, &fault) { // what was left behind is not used again
					fault.Page, p, l = j.i, &content.Page{}, &Page{}
				}
				j.done <- result{b, err}
			}
		})
	}
	var first error
	for j := range order {
		if first != nil {
			continue
		}
		var got result
		select {
		case got = <-j.done:
		case <-ctx.Done():
			got.err = ctx.Err()
		}
		if first = got.err; first == nil {
			first = put(j.i, got.b)
		}
		if first != nil {
			cancel()
		}
		select {
		case spare <- got.b:
		default:
		}
	}
	wg.Wait()
	if first == nil {
		first = ctx.Err()
	}
	return first
}

// AppendPage writes a page's text: a paragraph a line, an empty line between them, the cells of a row with tabs between them.
func (l *Page) AppendPage(b []byte) []byte {
	row := -1
	for i := range l.Paragraphs {
		p := &l.Paragraphs[i]
		at := l.Lines[p.Lines[0]].row
		switch {
		case i == 0:
		case p.Cell && l.Paragraphs[i-1].Cell && l.Paragraphs[i-1].Block == p.Block:
			if at == row {
				b = append(b, '\t')
			} else {
				b = append(b, '\n')
			}
		default:
			b = append(b, '\n', '\n')
		}
		row = at
		b = l.AppendParagraph(b, p)
	}
	if len(l.Paragraphs) > 0 {
		b = append(b, '\n')
	}
	return b
}

// AppendJSON writes a page as one line of JSON: number (from 1), boxes as [x0 y0 x1 y1], and in unrotated default user
// space every shown glyph with its text and origin, the words with their boxes and baselines, the paragraphs as
// indexes of words with their text.
func (l *Page) AppendJSON(b []byte, number int, g pdf.Geometry) []byte {
	rect := func(key string, r pdf.Rect) {
		b = append(append(b, key...), '[')
		for i, v := range [4]float64{r.X0, r.Y0, r.X1, r.Y1} {
			if i > 0 {
				b = append(b, ',')
			}
			b = appendFloat(b, v)
		}
		b = append(b, ']')
	}
	b = strconv.AppendInt(append(b, `{"page":`...), int64(number), 10)
	rect(`,"mediabox":`, g.MediaBox)
	rect(`,"cropbox":`, g.Visible)
	b = strconv.AppendInt(append(b, `,"rotate":`...), int64(g.Rotate), 10)
	b = appendFloat(append(b, `,"userunit":`...), g.UserUnit)
	b = append(b, `,"chars":[`...)
	n := 0
	for i := range l.Source.Glyphs {
		gl := &l.Source.Glyphs[i]
		if l.Source.Shows[gl.Show].Hidden {
			continue
		}
		if n++; n > 1 {
			b = append(b, ',')
		}
		text := gl.Char.Text
		if text == "" {
			text = "\ufffd"
		}
		b = appendString(append(b, `{"t":`...), text)
		b = appendFloat(append(b, `,"x":`...), gl.X)
		b = appendFloat(append(b, `,"y":`...), gl.Y)
		b = append(b, '}')
	}
	b = append(b, `],"words":[`...)
	at := make([]int, len(l.Words))
	n = 0
	for i := range l.Words {
		w := &l.Words[i]
		if l.Dropped(w) {
			continue
		}
		at[i] = n
		if n++; n > 1 {
			b = append(b, ',')
		}
		b = appendString(append(b, `{"t":`...), l.Text(w))
		box := l.Box(w)
		_, base := l.Base(w)
		for _, v := range [5]struct {
			key string
			v   float64
		}{{`,"x0":`, box.X0}, {`,"y0":`, box.Y0}, {`,"x1":`, box.X1}, {`,"y1":`, box.Y1}, {`,"base":`, base}} {
			b = appendFloat(append(b, v.key...), v.v)
		}
		if l.Annotation(w) {
			b = append(b, `,"annotation":true`...)
		}
		b = append(b, '}')
	}
	b = append(b, `],"paragraphs":[`...)
	for i := range l.Paragraphs {
		p := &l.Paragraphs[i]
		if i > 0 {
			b = append(b, ',')
		}
		b = appendString(append(b, `{"t":`...), l.ParagraphText(p))
		b = append(b, `,"words":[`...)
		first := true
		for _, k := range p.Lines {
			for _, w := range l.Lines[k].Words {
				if !first {
					b = append(b, ',')
				}
				first = false
				b = strconv.AppendInt(b, int64(at[w]), 10)
			}
		}
		b = append(b, `],"align":"`...)
		b = append(append(b, p.Align.String()...), `"}`...)
	}
	return append(b, "]}\n"...)
}

// appendFloat writes a number with four decimals at most.
func appendFloat(b []byte, v float64) []byte {
	if math.IsNaN(v) || math.IsInf(v, 0) {
		return append(b, '0')
	}
	return strconv.AppendFloat(b, math.Round(v*1e4)/1e4, 'f', -1, 64)
}

func appendString(b []byte, s string) []byte {
	b = append(b, '"')
	for _, r := range s {
		switch {
		case r == '"' || r == '\\':
			b = append(b, '\\', byte(r))
		case r < 0x20:
			const hex = "0123456789abcdef"
			b = append(b, '\\', 'u', '0', '0', hex[r>>4], hex[r&15])
		default:
			b = utf8.AppendRune(b, r)
		}
	}
	return append(b, '"')
}
