package typeset

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"

	"glenrain/core/pdf"
)

// Long is a table that is too long to be set at once: what stands before its rows, header rows among them, the rows, and what stands behind.
type Long struct {
	Before, After []byte
	Rows          []Row
}

// Row is the HTML of a row. Inside says that cells of rows above reach into it, so that no run begins with it.
type Row struct {
	HTML   []byte
	Inside bool
}

// atOnce is how many rows are set at a time.
const atOnce = 1000

// Run is a PDF of a part of a sheet, and how many of its pages count.
type Run struct {
	Path  string
	Size  int64
	Pages int
}

// Turn waits until a run may be set; over tells that it is.
type Turn func() (over func() error, err error)

// MaxRuns is how many runs a file may be set in; Runs tells how many sheets take about.
const MaxRuns = 200

// Runs counts the runs that sheets take, as far as that is known before.
func Runs(sheets []Sheet) (n int) {
	for _, s := range sheets {
		n++
		if s.Long != nil {
			n += len(s.Long.Rows) / atOnce
		}
	}
	return n
}

// SetLong sets a sheet that may be long, in runs: each ends where a page ended, and the next goes on there, with the numbers of its pages. each takes one after
// another; its file goes then. Each run waits for a turn, which is over when each has taken it. first is the number of the first page.
func (t *Setter) SetLong(ctx context.Context, s Sheet, first int, turn Turn, each func(Run) error) (next int, err error) {
	if s.Long == nil {
		return t.run(ctx, s, first, turn, func(*pdf.Document, int) int { return 0 }, each)
	}
	rows := s.Long.Rows
	for from := 0; ; {
		to := min(len(rows), from+atOnce)
		for to < len(rows) && to > from+1 && rows[to].Inside {
			to--
		}
		part := s
		part.Long = nil
		part.HTML = append([]byte(nil), s.Long.Before...)
		for _, r := range rows[from:to] {
			part.HTML = append(part.HTML, r.HTML...)
		}
		part.HTML = append(part.HTML, s.Long.After...)
		left := 0
		first, err = t.run(ctx, part, first, turn, func(doc *pdf.Document, pages int) int {
			if to == len(rows) || pages < 2 {
				return 0
			}
			if left = rowsOnLast(doc); left <= 0 || left >= to-from {
				left = 0
				return 0
			}
			for to-left > from && rows[to-left].Inside { // they would go on in a row that is not there
				left++
			}
			if to-left <= from {
				left = 0
				return 0
			}
			return 1
		}, each)
		if err != nil {
			return first, err
		}
		if from = to - left; from >= len(rows) {
			return first, nil
		}
	}
}

// run sets one run; drop says how many of its pages don't count.
func (t *Setter) run(ctx context.Context, s Sheet, first int, turn Turn, drop func(doc *pdf.Document, pages int) int, each func(Run) error) (next int, err error) {
	over, err := turn()
	if err != nil {
		return first, err
	}
	defer func() {
		if oerr := over(); err == nil {
			err = oerr
		}
	}()
	f, err := os.CreateTemp("", "glenrain-run-*.pdf")
	if err != nil {
		return first, err
	}
	defer os.Remove(f.Name())
	defer f.Close()
	s.First = first
	if err := t.Set(ctx, s, f); err != nil {
		return first, err
	}
	size, err := f.Seek(0, io.SeekCurrent)
	if err != nil {
		return first, err
	}
	doc, err := pdf.Open(f, size)
	if err != nil {
		return first, err
	}
	pages, err := doc.Pages()
	if err != nil || len(pages) == 0 {
		return first, errors.Join(err, ErrFailed)
	}
	n := len(pages) - drop(doc.In(ctx), len(pages))
	return first + n, each(Run{f.Name(), size, n})
}

// rowsOnLast counts the rows of the last table in a document whose content stands on its last page.
func rowsOnLast(doc *pdf.Document) int {
	pages, err := doc.Pages()
	if err != nil {
		return 0
	}
	last := pages[len(pages)-1].Ref
	rows := []bool{} // whether each stands on the last page, of the last table
	w := doc.NewWalk()
	var walk func(o pdf.Object, depth int)
	walk = func(o pdf.Object, depth int) {
		if depth > pdf.MaxDepth {
			return
		}
		if list := doc.Array(o); list != nil {
			for _, k := range list {
				walk(k, depth+1)
			}
			return
		}
		d := w.Enter(o)
		if d == nil {
			return
		}
		defer w.Leave()
		switch doc.Name(d.Get("S")) {
		case "Table":
			rows = rows[:0]
		case "TR":
			rows = append(rows, onPage(doc, d, last, 0))
			return
		}
		walk(d.Get("K"), depth+1)
	}
	walk(doc.Dict(doc.Catalog().Get("StructTreeRoot")).Get("K"), 0)
	n := 0
	for i := len(rows) - 1; i >= 0 && rows[i]; i-- {
		n++
	}
	return n
}

// onPage reports whether the first content of an element stands on a page.
func onPage(doc *pdf.Document, d *pdf.Dict, page pdf.Ref, depth int) bool {
	if d == nil || depth > 30 {
		return false
	}
	if pg, ok := d.Get("Pg").(pdf.Ref); ok {
		return pg == page
	}
	k := d.Get("K")
	if list := doc.Array(k); len(list) > 0 {
		k = list[0]
	}
	return onPage(doc, doc.Dict(k), page, depth+1)
}

// numbered makes pages count from a number on (CSS Lists 3, 4.2).
func numbered(first int) string {
	if first <= 1 {
		return ""
	}
	return fmt.Sprintf("<style>@page:first{counter-set:page %d}</style>", first)
}
