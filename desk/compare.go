package desk

import (
	"bytes"
	"context"
	"image"
	"strconv"
	"strings"

	_ "image/jpeg" // pictures of pages come as JPEG and PNG
	_ "image/png"

	"glenrain/core/compare"
	"glenrain/core/raster"
	"glenrain/core/step"
	"glenrain/desk/store"
)

// Against finds what a document is compared with: "arrival", "state:ID" of its own trail, or "doc:ID", another document as it is now.
func (d *Desk) Against(ctx context.Context, person, document uint, with string) (now, then *Snapshot, err error) {
	if now, err = d.Look(ctx, person, document); err != nil {
		return nil, nil, err
	}
	what, text, _ := strings.Cut(with, ":")
	id, _ := strconv.ParseUint(text, 10, 32)
	switch what {
	case "arrival":
		first, err := d.Arrival(ctx, now)
		if err != nil {
			return nil, nil, err
		}
		then, err = d.LookAt(ctx, person, first)
		return now, then, err
	case "state":
		if then, err = d.LookAt(ctx, person, uint(id)); err == nil && then.Document.ID != document {
			err = store.ErrMissing
		}
		return now, then, err
	case "doc":
		then, err = d.Look(ctx, person, uint(id))
		return now, then, err
	}
	return nil, nil, step.Refuse("choose what to compare with")
}

// Compared is what two documents differ in, page by page.
type Compared struct {
	Pages []ComparedPage
	// Looked is how many pages without other words were looked at for other looks; Unlooked how many were not.
	Looked, Unlooked int
}

// ComparedPage is a page of before and the page that it became; either may be missing.
type ComparedPage struct {
	Then, Now       *PageInfo
	ThenAt, NowAt   int // from 0
	Words           []ComparedWords
	Looks           bool // it looks otherwise although it says the same
	Moved           bool // it stands in another place among the pages that stayed
	ThenDoc, NowDoc uint
}

// ComparedWords is a change of words, with what stands around it.
type ComparedWords struct{ Before, Was, Is, After string }

// Bounds of comparing.
const (
	mostLooked  = 40  // pages whose pictures are compared
	lookedBox   = 300 // pixels
	mostCompare = 6000
	aroundWords = 5
)

// Compare tells in what two snapshots differ.
func (d *Desk) Compare(ctx context.Context, then, now *Snapshot) (*Compared, error) {
	a, b := then.Pages(), now.Pages()
	if len(a) > mostCompare || len(b) > mostCompare {
		return nil, step.Refuse("you can compare documents of up to %s pages", step.Thousands(mostCompare))
	}
	same := then.Document.ID == now.Document.ID
	texts, err := d.comparedTexts(ctx, then, now)
	if err != nil {
		return nil, err
	}
	var pairs []compare.Pair
	if same {
		pairs = byKey(a, b)
	} else {
		pairs = compare.Pages(texts[0], texts[1])
	}
	out := &Compared{}
	last := -1
	for _, p := range pairs {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		c := ComparedPage{ThenAt: p.A, NowAt: p.B, ThenDoc: then.Document.ID, NowDoc: now.Document.ID}
		if p.A >= 0 {
			c.Then = &a[p.A]
		}
		if p.B >= 0 {
			c.Now = &b[p.B]
		}
		switch {
		case p.A < 0 || p.B < 0:
			out.Pages = append(out.Pages, c)
			continue
		case p.A < last:
			c.Moved = true
		default:
			last = p.A
		}
		if same && c.Then.Version == c.Now.Version {
			if c.Moved {
				out.Pages = append(out.Pages, c)
			}
			continue
		}
		c.Words = changedWords(texts[0][p.A], texts[1][p.B])
		if len(c.Words) == 0 {
			if out.Looked >= mostLooked {
				out.Unlooked++
			} else {
				out.Looked++
				if c.Looks, err = d.otherLooks(ctx, then, now, c.Then, c.Now); err != nil {
					return nil, err
				}
			}
		}
		if len(c.Words) > 0 || c.Looks || c.Moved {
			out.Pages = append(out.Pages, c)
		}
	}
	return out, nil
}

// byKey matches the pages of two states of one document: pages that went stand where they were.
func byKey(a, b []PageInfo) (out []compare.Pair) {
	at := map[step.Key]int{}
	for i, p := range a {
		at[p.Key] = i
	}
	stays := map[step.Key]bool{}
	for _, p := range b {
		stays[p.Key] = true
	}
	i := 0
	gone := func(to int) {
		for ; i < to; i++ {
			if !stays[a[i].Key] {
				out = append(out, compare.Pair{A: i, B: -1})
			}
		}
	}
	for j, p := range b {
		k, ok := at[p.Key]
		if ok {
			gone(k)
			out = append(out, compare.Pair{A: k, B: j})
		} else {
			out = append(out, compare.Pair{A: -1, B: j})
		}
	}
	gone(len(a))
	return out
}

// comparedTexts gives the texts of the pages of both; of pages that are the same in both, and of the newest state, those that were read already.
func (d *Desk) comparedTexts(ctx context.Context, then, now *Snapshot) (out [2][]string, err error) {
	for k, s := range []*Snapshot{then, now} {
		head, err := d.Snapshot(ctx, s.Document.ID)
		if err != nil {
			return out, err
		}
		texts, err := d.Texts(ctx, head)
		if err != nil {
			return out, err
		}
		read := map[step.Key]string{}
		for i, p := range head.Pages() {
			if i < len(texts) {
				read[p.Key] = texts[i].Text
			}
		}
		out[k] = make([]string, len(s.Pages()))
		for i, p := range s.Pages() {
			if err := ctx.Err(); err != nil {
				return out, err
			}
			if at := head.Index(p.Key); at >= 0 && head.version(p.Key) == p.Version {
				out[k][i] = read[p.Key]
				continue
			}
			l, _, err := d.ReadPage(ctx, s, p.Key)
			if err != nil {
				continue // a page that can't be read has no words
			}
			out[k][i] = strings.ReplaceAll(l.Reading().Text, "\u00ad", "")
		}
	}
	return out, nil
}

// changedWords tells what of two texts differs.
func changedWords(a, b string) (out []ComparedWords) {
	x, _ := compare.Words(a)
	y, _ := compare.Words(b)
	for _, c := range compare.Diff(x, y) {
		out = append(out, ComparedWords{
			Before: strings.Join(y[max(0, c.B0-aroundWords):c.B0], " "), Was: strings.Join(x[c.A0:c.A1], " "),
			Is: strings.Join(y[c.B0:c.B1], " "), After: strings.Join(y[c.B1:min(len(y), c.B1+aroundWords)], " "),
		})
		if len(out) >= 200 {
			break
		}
	}
	return out
}

func (d *Desk) otherLooks(ctx context.Context, then, now *Snapshot, a, b *PageInfo) (bool, error) {
	places, err := d.looks(ctx, then, now, a, b, lookedBox)
	return len(places) > 0, err
}

// looks gives the places in which two pages look otherwise, in pixels of pictures whose longer side has so many.
func (d *Desk) looks(ctx context.Context, then, now *Snapshot, a, b *PageInfo, box int) ([]image.Rectangle, error) {
	var pics [2]image.Image
	for i, p := range []*PageInfo{a, b} {
		s := []*Snapshot{then, now}[i]
		pic, err := d.pool.Render(ctx, raster.Request{Source: s.source(), Page: s.Index(p.Key), Width: box, Height: box, Format: raster.PNG})
		if err != nil {
			return nil, nil // what can't be drawn is not compared
		}
		if pics[i], _, err = image.Decode(bytes.NewReader(pic.Data)); err != nil {
			return nil, err
		}
	}
	return compare.Looks(pics[0], pics[1]), nil
}

// ComparedPlaces are the places of two pages that differ: words as parts of each page's reading, and what looks otherwise besides, as parts
// of the width and height, from the upper left corner.
type ComparedPlaces struct {
	Then, Now *Snapshot
	A, B      [][2]int // bytes of the readings
	Looks     [][4]float64
}

// ComparePage finds the places in which a page differs from what it was.
func (d *Desk) ComparePage(ctx context.Context, then, now *Snapshot, a, b step.Key) (*ComparedPlaces, error) {
	out := &ComparedPlaces{Then: then, Now: now}
	la, _, err := d.ReadPage(ctx, then, a)
	if err != nil {
		return nil, err
	}
	lb, _, err := d.ReadPage(ctx, now, b)
	if err != nil {
		return nil, err
	}
	x, ax := compare.Words(la.Reading().Text)
	y, bx := compare.Words(lb.Reading().Text)
	for _, c := range compare.Diff(x, y) {
		if c.A1 > c.A0 {
			out.A = append(out.A, [2]int{ax[c.A0][0], ax[c.A1-1][1]})
		}
		if c.B1 > c.B0 {
			out.B = append(out.B, [2]int{bx[c.B0][0], bx[c.B1-1][1]})
		}
	}
	pa, _ := then.page(a)
	pb, _ := now.page(b)
	if pa == nil || pb == nil {
		return out, nil
	}
	const box = 700
	places, err := d.looks(ctx, then, now, pa, pb, box)
	if err != nil {
		return nil, err
	}
	scale := float64(box) / max(pb.W, pb.H)
	for _, r := range places {
		out.Looks = append(out.Looks, [4]float64{float64(r.Min.X) / scale, float64(r.Min.Y) / scale, float64(r.Max.X) / scale, float64(r.Max.Y) / scale})
	}
	return out, nil
}
