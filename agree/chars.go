package main

import (
	"bufio"
	"fmt"
	"html"
	"math"
	"os/exec"
	"strconv"
	"strings"
	"unicode"

	"golang.org/x/text/unicode/norm"

	"glenrain/core/content"
	"glenrain/core/draw"
	"glenrain/core/pdf"
)

// char is a character with its origin, in points from the upper left corner of the page as it is seen.
type char struct {
	r    rune
	x, y float64
}

// mutoolChars gives the characters of pages as mutool reads them, without white space.
func mutoolChars(path string, pages []int) ([][]char, error) {
	list := make([]string, len(pages))
	at := map[int]int{}
	for i, n := range pages {
		list[i] = strconv.Itoa(n)
		at[n] = i
	}
	cmd := exec.Command("mutool", "draw", "-F", "stext", path, strings.Join(list, ","))
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	chars := make([][]char, len(pages))
	page := 0
	lines := bufio.NewScanner(out)
	lines.Buffer(nil, 1<<24)
	for lines.Scan() {
		l := lines.Text()
		switch {
		case strings.HasPrefix(l, "<page id=\"page"):
			n, _ := strconv.Atoi(attribute(l, "id")[4:])
			page = at[n]
		case strings.HasPrefix(l, "<char "):
			x, _ := strconv.ParseFloat(attribute(l, "x"), 64)
			y, _ := strconv.ParseFloat(attribute(l, "y"), 64)
			for _, r := range normal(html.UnescapeString(attribute(l, "c"))) {
				chars[page] = append(chars[page], char{r, x, y})
			}
		}
	}
	if err := cmd.Wait(); err != nil {
		return nil, fmt.Errorf("mutool: %w", err)
	}
	return chars, lines.Err()
}

func attribute(l, name string) string {
	_, v, _ := strings.Cut(l, " "+name+"=\"")
	v, _, _ = strings.Cut(v, "\"")
	return v
}

// normal gives the characters that are compared: NFKC, without white space and controls.
func normal(s string) []rune {
	var out []rune
	for _, r := range norm.NFKC.String(s) {
		if !unicode.IsSpace(r) && !unicode.IsControl(r) {
			out = append(out, r)
		}
	}
	return out
}

// ourChars gives the characters of a page that was read; a glyph of which nothing is known counts as U+FFFD, as mutool has it.
func ourChars(p *content.Page, g pdf.Geometry) []char {
	var out []char
	for _, gl := range p.Glyphs {
		if p.Shows[gl.Show].Hidden || !p.OnPage(&gl, g.Visible) {
			continue
		}
		x, y := seen(g, gl.X, gl.Y)
		if math.IsNaN(x) || math.IsNaN(y) {
			continue
		}
		text := gl.Char.Text
		if text == "" {
			text = "\ufffd"
		}
		for i, r := range []rune(text) {
			if i == 1 { // the further letters of a ligature stand at its end, as mutool has them
				x, y = seen(g, gl.EX, gl.EY)
			}
			for _, n := range normal(string(r)) {
				out = append(out, char{n, x, y})
			}
		}
	}
	return out
}

// seen takes a point of default user space to the page as it is seen.
func seen(g pdf.Geometry, x, y float64) (float64, float64) {
	_, h := g.Seen()
	x, y = draw.Upright(g).Invert().Apply(x, y)
	return x, h - y
}

// match pairs characters of one text that stand within a point of one another; each pairs once.
func match(ours, theirs []char) (s score, lost, extra []char) {
	type cell struct{ x, y int }
	grid := map[cell][]int{}
	at := func(c char) cell { return cell{int(math.Floor(c.x)), int(math.Floor(c.y))} }
	for i, c := range ours {
		grid[at(c)] = append(grid[at(c)], i)
	}
	used := make([]bool, len(ours))
	for _, c := range theirs {
		k := at(c)
		best, dist := -1, 1.0
		for dx := -1; dx <= 1; dx++ {
			for dy := -1; dy <= 1; dy++ {
				for _, i := range grid[cell{k.x + dx, k.y + dy}] {
					o := ours[i]
					if d := math.Hypot(o.x-c.x, o.y-c.y); !used[i] && o.r == c.r && d <= dist {
						best, dist = i, d
					}
				}
			}
		}
		if best < 0 {
			lost = append(lost, c)
			continue
		}
		used[best] = true
		s.both++
	}
	for i, c := range ours {
		if !used[i] {
			extra = append(extra, c)
		}
	}
	s.ours, s.theirs = len(ours), len(theirs)
	return s, lost, extra
}
