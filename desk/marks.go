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
		l, _, err := d.ReadPage(ctx, s, p.Key, false)
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

// under gives the words of which the middle lies in one of the quads.
func under(l *layout.Page, r layout.Reading, quads [][8]float64) string {
	var b strings.Builder
	last := -2
	for i, at := range r.Words {
		box := l.Box(&l.Words[at.Word])
		x, y := (box.X0+box.X1)/2, (box.Y0+box.Y1)/2
		for _, q := range quads {
			around := pdf.Rect{X0: min(q[0], q[2], q[4], q[6]), Y0: min(q[1], q[3], q[5], q[7]), X1: max(q[0], q[2], q[4], q[6]), Y1: max(q[1], q[3], q[5], q[7])}
			if x < around.X0 || x > around.X1 || y < around.Y0 || y > around.Y1 {
				continue
			}
			if last >= 0 {
				if i == last+1 {
					b.WriteString(r.Text[r.Words[last].To:at.From])
				} else {
					b.WriteString(" … ")
				}
			}
			b.WriteString(strings.TrimSuffix(r.Text[at.From:at.To], "\u00ad"))
			last = i
			break
		}
		if b.Len() > 300 {
			break
		}
	}
	return strings.Join(strings.Fields(b.String()), " ")
}
