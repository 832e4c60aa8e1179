package main

import (
	"bufio"
	"fmt"
	"html"
	"math"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"glenrain/core/layout"
	"glenrain/core/pdf"
)

// word is a word with the rectangle around it, in points from the upper left corner of the media box as it is seen, and
// a point of its baseline.
type word struct {
	text           string
	x0, y0, x1, y1 float64
	bx, by         float64
}

// pdftotextWords gives the words of pages as pdftotext reads them.
func pdftotextWords(path string, pages []int) ([][]word, error) {
	at := map[int]int{}
	for i, n := range pages {
		at[n] = i
	}
	cmd := exec.Command("pdftotext", "-bbox", path, "-")
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	words := make([][]word, len(pages))
	page := 0
	lines := bufio.NewScanner(out)
	lines.Buffer(nil, 1<<24)
	for lines.Scan() {
		l := strings.TrimSpace(lines.Text())
		switch {
		case strings.HasPrefix(l, "<page "):
			page++
		case strings.HasPrefix(l, "<word "):
			i, ok := at[page]
			if !ok {
				continue
			}
			var w word
			for name, v := range map[string]*float64{"xMin": &w.x0, "yMin": &w.y0, "xMax": &w.x1, "yMax": &w.y1} {
				*v, _ = strconv.ParseFloat(attribute(l, name), 64)
			}
			_, text, _ := strings.Cut(l, ">")
			text, _, _ = strings.Cut(text, "</word>")
			if w.text = string(normal(html.UnescapeString(text))); w.text != "" {
				words[i] = append(words[i], w)
			}
		}
	}
	if err := cmd.Wait(); err != nil {
		return nil, fmt.Errorf("pdftotext: %w", err)
	}
	return words, lines.Err()
}

// key is what words are compared by. pdftotext gives the letters of right-to-left words as the eye meets them, ours as they are
// read: of such the letters count, not their order.
func key(w string) string {
	for _, r := range w {
		if unicode.Is(unicode.Arabic, r) || unicode.Is(unicode.Hebrew, r) || unicode.Is(unicode.Syriac, r) {
			letters := []rune(w)
			slices.Sort(letters)
			return string(letters)
		}
	}
	return w
}

// ourWords gives the words of a page that was grouped.
func ourWords(l *layout.Page, g pdf.Geometry) []word {
	g.Visible, g.UserUnit = g.MediaBox, 1
	var out []word
	for i := range l.Words {
		w := &l.Words[i]
		if l.Dropped(w) {
			continue
		}
		b := l.Box(w)
		x0, y0 := seen(g, b.X0, b.Y0)
		x1, y1 := seen(g, b.X1, b.Y1)
		o := word{string(normal(l.Text(w))), min(x0, x1), min(y0, y1), max(x0, x1), max(y0, y1), 0, 0}
		bx, by := l.Base(w)
		ax, ay := l.Along(w)
		half := (w.U1 - w.U0) / 2
		o.bx, o.by = seen(g, bx+ax*half, by+ay*half)
		if o.text != "" {
			out = append(out, o)
		}
	}
	return out
}

// matchWords pairs words of one text whose extents along x differ by at most a point and of which the middle of
// our baseline lies in the other's rectangle; of upright text, along y instead.
func matchWords(ours, theirs []word) (s score, lost, extra []word) {
	byText := map[string][]int{}
	for i, w := range ours {
		byText[key(w.text)] = append(byText[key(w.text)], i)
	}
	used := make([]bool, len(ours))
	for _, w := range theirs {
		found := false
		for _, i := range byText[key(w.text)] {
			o := ours[i]
			if used[i] || o.by < w.y0-1 || o.by > w.y1+1 || o.bx < w.x0-1 || o.bx > w.x1+1 {
				continue
			}
			across := math.Abs(o.x0-w.x0) <= 1 && math.Abs(o.x1-w.x1) <= 1
			upright := w.y1-w.y0 > w.x1-w.x0 && math.Abs(o.y0-w.y0) <= 1 && math.Abs(o.y1-w.y1) <= 1
			if across || upright {
				used[i], found = true, true
				break
			}
		}
		if found {
			s.both++
		} else {
			lost = append(lost, w)
		}
	}
	for i, w := range ours {
		if !used[i] {
			extra = append(extra, w)
		}
	}
	s.ours, s.theirs = len(ours), len(theirs)
	return s, lost, extra
}
