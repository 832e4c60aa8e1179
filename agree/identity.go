package main

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"

	"glenrain/core/content"
	"glenrain/core/pdf"
)

// identity counts what was tried of patching, and what failed.
type identity struct {
	forms, alike     int // forms and appearances of which every operator was written again; of these, those after which no glyph moved
	streams, rebuilt int // token ranges and gaps give the stream again
	pages, same      int // pages of which every operator was written again: equal glyph origins, equal pixels
	taken, still     int // glyphs taken out of an operator; of these, those that moved no other
}

// mostPatched is how many pages of a file are patched.
const mostPatched = 3

// rebuild cuts a stream into operators and what lies between them, and writes both again: as they were, and the operators anew.
func rebuild(data []byte) (again, anew []byte, ok bool) {
	s := content.Scanner{Data: data}
	var o content.Op
	at := 0
	ok = true
	for s.Next(&o) {
		ok = ok && o.Start >= at && o.At >= o.Start && o.End >= o.At && o.End <= len(data)
		if !ok {
			return nil, nil, false
		}
		last := o.Start
		for _, a := range o.Args {
			ok = ok && a.Start >= last && a.End >= a.Start && a.End <= o.At
			last = a.End
		}
		again = append(append(again, data[at:o.Start]...), data[o.Start:o.End]...)
		anew = append(o.Append(anew, data), '\n')
		at = o.End
	}
	return append(again, data[at:]...), anew, ok
}

// patch tries the identities on a page.
func (d *identity) patch(ctx context.Context, doc *pdf.Document, page pdf.Ref, path string, number int, pixels bool) (notes []string, err error) {
	r := content.NewReader(doc)
	before, err := r.Page(ctx, page, content.Options{})
	if err != nil {
		return nil, err
	}
	var whole []content.Patch
	for i, v := range before.Invocations {
		again, anew, ok := rebuild(v.Body.Data)
		d.streams++
		if ok && bytes.Equal(again, v.Body.Data) {
			d.rebuilt++
		} else {
			notes = append(notes, fmt.Sprintf("page %d: content %d is not rebuilt", number, i))
		}
		whole = append(whole, content.Patch{Invocation: i, Start: 0, End: len(v.Body.Data), New: anew})
	}
	// Every operator written again. Forms are patched by what draws them, so each once: the page's own here.
	d.pages++
	fork := doc.Fork()
	if err := content.Apply(fork, before, whole[:1]); err != nil {
		return nil, err
	}
	after, err := content.NewReader(fork).Page(ctx, page, content.Options{})
	if err != nil {
		return nil, err
	}
	if why := sameGlyphs(before, after, nil, 0); why != "" {
		notes = append(notes, fmt.Sprintf("page %d written again: %s", number, why))
	} else if pixels && !samePixels(doc, fork, path, number) {
		notes = append(notes, fmt.Sprintf("page %d written again: other pixels", number))
	} else {
		d.same++
	}
	tried := 0
	for i, v := range before.Invocations {
		if v.Kind != content.FormBody && v.Kind != content.AppearanceBody || tried == 3 {
			continue
		}
		tried++
		d.forms++
		fork := doc.Fork()
		if err := content.Apply(fork, before, whole[i:i+1]); err != nil {
			return nil, err
		}
		after, err := content.NewReader(fork).Page(ctx, page, content.Options{})
		if err != nil {
			return nil, err
		}
		if why := sameGlyphs(before, after, nil, 0); why != "" {
			notes = append(notes, fmt.Sprintf("page %d, form %d written again: %s", number, i, why))
		} else {
			d.alike++
		}
	}
	// One glyph out of an operator that shows several.
	rnd := rand.New(rand.NewPCG(uint64(number), 5))
	for range 40 {
		if len(before.Shows) == 0 {
			break
		}
		sh := before.Shows[rnd.IntN(len(before.Shows))]
		if sh.N < 2 || sh.State.Size == 0 || before.Invocations[sh.Invocation].Kind > content.AppearanceBody {
			continue
		}
		k := sh.First + rnd.IntN(sh.N)
		d.taken++
		fork := doc.Fork()
		if err := content.Apply(fork, before, content.TakeOut(before, []int{k})); err != nil {
			return nil, err
		}
		after, err := content.NewReader(fork).Page(ctx, page, content.Options{})
		if err != nil {
			return nil, err
		}
		em := math.Hypot(sh.Up[0], sh.Up[1])
		if why := sameGlyphs(before, after, map[int]bool{k: true}, 1e-6*em); why != "" {
			notes = append(notes, fmt.Sprintf("page %d, glyph %d taken out: %s", number, k, why))
		} else {
			d.still++
		}
		break
	}
	return notes, nil
}

// sameGlyphs says how the glyphs of two pages differ, but for those that are gone from the second; "" where they don't.
func sameGlyphs(a, b *content.Page, gone map[int]bool, tolerance float64) string {
	j := 0
	for i := range a.Glyphs {
		if gone[i] {
			continue
		}
		if j >= len(b.Glyphs) {
			return fmt.Sprintf("%d glyphs, then %d", len(a.Glyphs), len(b.Glyphs))
		}
		g, h := &a.Glyphs[i], &b.Glyphs[j]
		j++
		if g.Char.Code != h.Char.Code || g.Char.Text != h.Char.Text {
			return fmt.Sprintf("glyph %d is %q, then %q", i, g.Char.Text, h.Char.Text)
		}
		if d := math.Hypot(g.X-h.X, g.Y-h.Y); d > tolerance {
			return fmt.Sprintf("glyph %d moved by %g", i, d)
		}
	}
	if j != len(b.Glyphs) {
		return fmt.Sprintf("%d glyphs, then %d", len(a.Glyphs), len(b.Glyphs))
	}
	return ""
}

// samePixels draws a page of both documents by poppler.
func samePixels(a, b *pdf.Document, path string, page int) bool {
	dir, err := os.MkdirTemp("", "agree-")
	if err != nil {
		return false
	}
	defer os.RemoveAll(dir)
	update, err := b.Update([16]byte{1})
	if err != nil {
		return false
	}
	was, err := os.ReadFile(path)
	if err != nil {
		return false
	}
	next := filepath.Join(dir, "next.pdf")
	if os.WriteFile(next, append(was, update...), 0o600) != nil {
		return false
	}
	at := strconv.Itoa(page)
	draw := func(file string) ([32]byte, bool) {
		out, err := exec.Command("pdftoppm", "-r", "60", "-f", at, "-l", at, file).Output()
		return sha256.Sum256(out), err == nil
	}
	x, ok1 := draw(path)
	y, ok2 := draw(next)
	return !ok1 || ok2 && x == y
}
