package desk

import (
	"context"
	"slices"
	"time"

	"glenrain/core/content"
	"glenrain/core/layout"
	"glenrain/core/pdf"
	"glenrain/core/step"
	"glenrain/desk/store"
)

// Found is what a search in one document gives.
type Found struct {
	Hits  int // in all
	Pages []FoundPage
	// Unread are pages that show something but no text, by key: pictures, which can't be searched.
	Unread []step.Key
	More   bool // there are more hits than are counted
}

// FoundPage is a page with hits.
type FoundPage struct {
	Key    step.Key
	Number int
	Hits   int
	Lines  []FoundLine // the first of them
}

// FoundLine is a hit with what stands around it.
type FoundLine struct {
	N                   int // which of the page's hits, from 0
	Before, Text, After string
	Annotation          bool // it stands in an annotation
}

const (
	mostHits  = 20_000
	mostLines = 400 // hits that are given with what stands around them
)

// maxFinding is how long a document is looked through.
const maxFinding = 5 * time.Second

// Find looks for a query in a document.
func (d *Desk) Find(ctx context.Context, s *Snapshot, q layout.Query) (*Found, error) {
	f, err := q.Compile()
	if err != nil {
		return nil, &step.Refusal{Sentence: err.Error(), Cause: err}
	}
	rows, err := d.Texts(ctx, s)
	if err != nil {
		return nil, err
	}
	out := &Found{}
	until := time.Now().Add(maxFinding)
	lines := 0
	for _, r := range rows {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if time.Now().After(until) {
			return nil, step.Refuse("this search takes too long in a document of %s: search for something simpler", step.Count(len(rows), "page"))
		}
		if r.Text == "" {
			if k, err := step.ParseKey(r.Key); err == nil {
				out.Unread = append(out.Unread, k)
			}
			continue
		}
		hits := f.Find(r.reading, mostHits-out.Hits+1)
		if len(hits) == 0 {
			continue
		}
		if out.Hits+len(hits) > mostHits {
			out.More = true
			hits = hits[:mostHits-out.Hits]
		}
		key, err := step.ParseKey(r.Key)
		if err != nil {
			return nil, err
		}
		p := FoundPage{Key: key, Number: r.Number, Hits: len(hits)}
		for n, h := range hits {
			if lines >= mostLines {
				break
			}
			lines++
			l := FoundLine{N: n}
			l.Before, l.Text, l.After = layout.Around(r.reading, h, 48)
			l.Annotation = slices.ContainsFunc(r.annotated, func(part [2]int) bool { return h[0] >= part[0] && h[0] < part[1] })
			p.Lines = append(p.Lines, l)
		}
		out.Hits += len(hits)
		out.Pages = append(out.Pages, p)
		if out.More {
			break
		}
	}
	return out, nil
}

// maxPage is how long a page may be read for somebody who looks at it.
const maxPage = 4 * time.Second

var errPage = step.Refuse("this page takes too long to read, so it was skipped")

// ReadPage interprets and groups one page of a snapshot.
func (d *Desk) ReadPage(ctx context.Context, s *Snapshot, k step.Key) (*layout.Page, pdf.Geometry, error) {
	ref, ok := s.Keys.Ref(k)
	if !ok || s.PDF.PageIndex(ref) < 0 {
		return nil, pdf.Geometry{}, store.ErrMissing
	}
	g := s.PDF.Geometry(ref)
	timed, cancel := context.WithTimeoutCause(ctx, maxPage, errPage)
	defer cancel()
	l, err := bounded(timed, d, "reading a page", func(ctx context.Context) (*layout.Page, error) {
		p, err := content.NewReader(s.PDF.In(ctx)).Page(ctx, ref, content.Options{})
		if err != nil {
			return nil, err
		}
		return layout.Read(p, g.Visible, nil), nil
	}, nil)
	if err != nil && ctx.Err() == nil && timed.Err() != nil {
		err = errPage
	}
	return l, g, err
}
