package edit

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"glenrain/core/annot"
	"glenrain/core/content"
	"glenrain/core/layout"
	"glenrain/core/pdf"
	"glenrain/core/step"
)

// worker changes pages of a document.
type worker struct {
	doc      *pdf.Document
	faces    *faces
	index    []int
	pages    []pdf.Ref
	done     int
	whys     []string
	at       map[string][]int // pages by why something was left
	count    map[string]int
	set      map[string]string // words that were set in another face, and which
	tight    int
	moved    int // paragraphs for which what stands below was moved
	unlinked int
}

func (w *worker) left(why string, page, n int) {
	if w.at == nil {
		w.at, w.count = map[string][]int{}, map[string]int{}
	}
	if w.count[why] == 0 {
		w.whys = append(w.whys, why)
	}
	w.count[why] += n
	if list := w.at[why]; len(list) == 0 || list[len(list)-1] != page {
		w.at[why] = append(list, page)
	}
}

// page replaces hits on a page, paragraph by paragraph; one that can't be is left, and told. First those are changed that have room, then,
// each by itself on the page as it is by then, those for which what stands below moves.
func (w *worker) page(ctx context.Context, page *content.Page, l *layout.Page, ref pdf.Ref, at int, list []found) error {
	byPara := map[int][]found{}
	var order []int
	for _, h := range list {
		if h.Why != "" {
			w.left(h.Why, w.index[at], 1)
			continue
		}
		if byPara[h.para] == nil {
			order = append(order, h.para)
		}
		byPara[h.para] = append(byPara[h.para], h)
	}
	slices.Sort(order)
	done := 0
	var late []int
	whys := map[int]string{}
	noRoom := map[int]bool{} // for which moving what stands below may help
	var set laid
	try := func(set *laid, l *layout.Page, n int, push bool) error {
		if err := ctx.Err(); err != nil {
			return err
		}
		hits := byPara[n]
		p, err := read(w.doc, l, n, w.doc.Geometry(ref).Visible)
		if err == nil {
			slices.SortFunc(hits, func(a, b found) int { return b.from - a.from }) // from behind, so that places stay
			for _, h := range hits {
				p.edit(p.placeOf(h.from, false), p.placeOf(h.to, true), h.With)
			}
			var f fit
			if f, err = w.lay(set, p, growAuto, push); err == nil {
				done += len(hits)
				return nil
			}
			noRoom[n] = f.Need > 0
		}
		var no *step.Refusal
		if !errors.As(err, &no) {
			return err
		}
		whys[n] = no.Sentence
		return nil
	}
	for _, n := range order {
		if err := try(&set, l, n, false); err != nil {
			return err
		}
		if whys[n] != "" {
			late = append(late, n)
		}
	}
	if err := set.apply(w.doc); err != nil {
		return err
	}
	paras := len(l.Paragraphs)
	for _, n := range late {
		why := whys[n]
		if !noRoom[n] {
			w.left(why, w.index[at], len(byPara[n]))
			continue
		}
		if len(w.faces.set) > 0 { // what was set in them is read again
			w.faces.finish()
			w.faces = newFaces(w.doc)
		}
		again, err := content.NewReader(w.doc).Page(ctx, ref, wanted)
		if err != nil {
			return err
		}
		if l = layout.Read(again, w.doc.Geometry(ref).Visible, nil); len(l.Paragraphs) != paras { // it is grouped in other ways now
			w.left(why, w.index[at], len(byPara[n]))
			continue
		}
		delete(whys, n)
		var one laid
		if err := try(&one, l, n, true); err != nil {
			return err
		}
		if whys[n] != "" {
			w.left(whys[n], w.index[at], len(byPara[n]))
			continue
		}
		if err := one.apply(w.doc); err != nil {
			return err
		}
	}
	if done == 0 {
		return nil
	}
	w.pages = append(w.pages, ref)
	w.done += done
	return nil
}

// wanted is what of a page is read for changing it.
var wanted = content.Options{Images: true, Paths: true}

// apply writes what was laid.
func (d *laid) apply(doc *pdf.Document) error {
	if d.page == nil {
		return nil
	}
	if err := content.Apply(doc, d.page, d.patches()); err != nil {
		return err
	}
	for _, f := range d.after {
		f()
	}
	return nil
}

// lay sets a paragraph that was edited. push: what stands below it may be moved down.
func (w *worker) lay(set *laid, p *para, grow string, push bool) (f fit, err error) {
	lacking, err := p.encode(w.faces)
	if err != nil {
		return f, err
	}
	for i := range p.chars {
		if c := &p.chars[i]; c.style != nil && c.style.colour != nil && !p.restorable(c.show) {
			return f, step.Refuse("its colour is set in a way that can’t be mixed with another")
		}
	}
	rows, err := p.wrap()
	if err != nil {
		return f, err
	}
	p.push = nil
	if push {
		p.push = p.pushDown
	}
	if f, err = p.place(rows, grow); err != nil {
		return f, err
	}
	if f.Tight {
		w.tight++
	}
	if f.Moved > 0 {
		w.moved++
		set.move(p.page, p.lay, p.moves)
		moves := slices.Clone(p.moves)
		set.after = append(set.after, func() { p.moveAnnots(moves) })
	}
	if w.set == nil {
		w.set = map[string]string{}
	}
	for face, words := range lacking {
		for _, word := range words {
			w.set[word] = face
		}
	}
	final := slices.Clone(rows)
	for i := range final {
		final[i].chars = slices.Clone(final[i].chars)
	}
	set.after = append(set.after, func() { w.unlinked += p.relink(final) })
	p.rows = final
	set.add(p, rows)
	return f, nil
}

// moveAnnots moves annotations with what they lie on.
func (p *para) moveAnnots(list []moved) {
	held := map[pdf.Ref]bool{}
	for _, k := range p.links {
		held[k.ref] = true
	}
	entries := p.doc.Array(p.doc.Dict(p.page.Ref).Get("Annots"))
	var own pdf.Array // where some stand in the list itself
	for i, o := range entries {
		ref, _ := o.(pdf.Ref)
		d := p.doc.Dict(o)
		r, ok := p.doc.Rect(d.Get("Rect"))
		if !ok || !ref.IsZero() && held[ref] || ref.IsZero() && slices.ContainsFunc(p.links, func(k linked) bool { return k.dict == d }) {
			continue
		}
		u, v := p.of((r.X0+r.X1)/2, (r.Y0+r.Y1)/2)
		for _, t := range list {
			if u < t.u0-2 || u > t.u1+2 || v < t.bottom-2 || v > t.top+2 {
				continue
			}
			if !ref.IsZero() {
				annot.Move(p.doc, p.doc.Edit(ref), t.m)
				break
			}
			if own == nil {
				own = slices.Clone(entries)
			}
			moved := d.Clone()
			annot.Move(p.doc, moved, t.m)
			own[i] = moved
			break
		}
	}
	if own != nil {
		p.doc.Edit(p.page.Ref).Set("Annots", own)
	}
}

func (w *worker) warnings() (out []string) {
	if len(w.set) > 0 {
		byFace := map[string][]string{}
		for word, face := range w.set {
			byFace[face] = append(byFace[face], "“"+word+"”")
		}
		for _, face := range slices.Sorted(maps.Keys(byFace)) {
			if words := byFace[face]; len(words) > 0 {
				slices.Sort(words)
				more := ""
				if n := len(words) - 8; n > 0 {
					words, more = words[:8], fmt.Sprintf(" and %d more", n)
				}
				out = append(out, fmt.Sprintf("%s%s set in %s, because the original font lacks some letters.", strings.Join(words, ", "), more, face))
			}
		}
	}
	if w.tight > 0 {
		out = append(out, fmt.Sprintf("Line spacing was tightened in %s to make the text fit.", step.Count(w.tight, "paragraph")))
	}
	if w.moved > 0 {
		out = append(out, fmt.Sprintf("Text below %s moved down.", step.Count(w.moved, "paragraph")))
	}
	if w.unlinked > 0 {
		out = append(out, fmt.Sprintf("%s removed with the words that it was on.", step.Count(w.unlinked, "link or mark")))
	}
	for _, why := range w.whys {
		out = append(out, fmt.Sprintf("%s left on %s: %s.", step.Count(w.count[why], "place"), inSentence(w.doc, w.at[why]), why))
	}
	return out
}
