package desk

import (
	"context"
	"strings"

	"glenrain/core/annot"
	"glenrain/core/annotate"
	"glenrain/core/layout"
	"glenrain/core/pdf"
	"glenrain/core/step"
)

// Mark is text that was marked in a document.
type Mark struct {
	Page   step.Key
	Number int // of the page, from 1
	Object int // its object number
	How    string
	Colour [3]float64
	Author string
	Text   string // what is marked
}

const mostMarks = 500 // that are listed

// Marks lists the text that is marked in a document, page by page.
func (d *Desk) Marks(ctx context.Context, s *Snapshot) ([]Mark, error) {
	var out []Mark
	for i, p := range s.Pages() {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		ref, _ := s.Keys.Ref(p.Key)
		marks := annot.Markups(s.PDF, ref)
		if len(marks) == 0 {
			continue
		}
		l, _, err := d.ReadPage(ctx, s, p.Key)
		if err != nil {
			return nil, err
		}
		reading := l.Reading()
		for _, m := range marks {
			if len(m.Quads) == 0 {
				continue
			}
			out = append(out, Mark{p.Key, i + 1, m.Ref.Num, annotate.How(m.Kind), m.Colour, m.Author, under(l, reading, m.Quads)})
			if len(out) == mostMarks {
				return out, nil
			}
		}
	}
	return out, nil
}

// Taken gives the places and the text of runs of words of a page, from the first to the last of each, by their places in the order of reading.
func (d *Desk) Taken(ctx context.Context, s *Snapshot, k step.Key, ranges [][2]int) (quads annotate.Quads, text string, err error) {
	l, _, err := d.ReadPage(ctx, s, k)
	if err != nil {
		return nil, "", err
	}
	r := l.Reading()
	var words []string
	for _, part := range ranges {
		if part[0] < 0 || part[1] < part[0] || part[1] >= len(r.Words) {
			return nil, "", step.Refuse("the selected text has changed: select it again")
		}
		from, to := r.Words[part[0]].From, r.Words[part[1]].To
		words = append(words, strings.Fields(strings.ReplaceAll(r.Text[from:to], "\u00ad", ""))...)
		for _, q := range l.Quads(r, from, to) {
			quads = append(quads, q.Points())
		}
	}
	return quads, strings.Join(words, " "), nil
}

// longestUnder is how much text of a mark is told, in bytes.
const longestUnder = 300

// under gives the text in the quads, with an ellipsis where some was left out between.
func under(l *layout.Page, r layout.Reading, quads [][8]float64) string {
	areas := make([]pdf.Rect, len(quads))
	for i, q := range quads {
		areas[i] = pdf.Rect{X0: min(q[0], q[2], q[4], q[6]), Y0: min(q[1], q[3], q[5], q[7]), X1: max(q[0], q[2], q[4], q[6]), Y1: max(q[1], q[3], q[5], q[7])}
	}
	var b strings.Builder
	for i, part := range l.Under(r, areas) {
		if b.Len() > longestUnder {
			break
		}
		if i > 0 {
			b.WriteString(" … ")
		}
		b.WriteString(strings.ReplaceAll(r.Text[part[0]:part[1]], "\u00ad", ""))
	}
	return strings.Join(strings.Fields(b.String()), " ")
}
