package scan

import "image"

// Shapes of rules: how long they are at least, and how thick at most, in parts of the picture's width.
const (
	longRule  = 1.0 / 16
	thickRule = 1.0 / 350
	ruleInk   = 26 // how much darker than the paper, of 255
)

// Rules takes thin straight rules out of a picture that stands straight, across and upwards: a reader of letters takes them for parts of those that stand on them. What
// crosses a rule stays. It reports whether there were any.
func Rules(g *image.Gray) bool {
	w, h := g.Rect.Dx(), g.Rect.Dy()
	long, thick := max(40, int(float64(w)*longRule)), max(4, int(float64(w)*thickRule))
	if w < 2*long || h < 2*long {
		return false
	}
	ink := int(median(g.Pix)) - ruleInk
	if ink < 60 {
		return false
	}
	dark := func(x, y int) bool { return int(g.Pix[y*g.Stride+x]) < ink }
	type run struct{ at, from, to int } // of row or column at
	var across, upwards []run
	since := make([]int, w) // how many dark pixels stand above, and with, this one
	for y := range h {
		n, miss := 0, 0
		row := g.Pix[y*g.Stride:][:w]
		for x, v := range row {
			if int(v) < ink {
				n, miss = n+miss+1, 0
				since[x]++
				continue
			}
			if since[x] >= long {
				upwards = append(upwards, run{x, y - since[x], y})
			}
			since[x] = 0
			if n == 0 {
				continue
			}
			if miss++; miss > 2 {
				if n >= long {
					across = append(across, run{y, x - miss + 1 - n, x - miss + 1})
				}
				n, miss = 0, 0
			}
		}
		if n >= long {
			across = append(across, run{y, w - miss - n, w - miss})
		}
	}
	for x, n := range since {
		if n >= long {
			upwards = append(upwards, run{x, h - n, h})
		}
	}
	if len(across)+len(upwards) > 20_000 { // a picture of something else
		return false
	}
	type change struct {
		at  int
		val uint8
	}
	var all []change
	// thin gives the dark pixels through a place, crosswise to its rule, and what lies beside them; ok is false where they are more than a rule has.
	thin := func(x, y, dx, dy int) (from, to int, light uint8, ok bool) {
		for from = 0; from > -thick-2; from-- {
			if nx, ny := x+dx*(from-1), y+dy*(from-1); nx < 0 || ny < 0 || !dark(nx, ny) {
				break
			}
		}
		for to = 0; to < thick+2; to++ {
			if nx, ny := x+dx*(to+1), y+dy*(to+1); nx >= w || ny >= h || !dark(nx, ny) {
				break
			}
		}
		if to-from+1 > thick {
			return 0, 0, 0, false
		}
		light = uint8(max(0, min(255, ink+ruleInk)))
		return from, to, light, true
	}
	take := func(r run, along bool) {
		n := 0
		var mine []change
		for i := r.from; i < r.to; i++ {
			x, y, dx, dy := i, r.at, 0, 1
			if !along {
				x, y, dx, dy = r.at, i, 1, 0
			}
			from, to, light, ok := thin(x, y, dx, dy)
			if !ok {
				continue
			}
			n++
			for k := from - 1; k <= to+1; k++ { // with its soft edges
				if nx, ny := x+dx*k, y+dy*k; nx >= 0 && ny >= 0 && nx < w && ny < h {
					mine = append(mine, change{ny*g.Stride + nx, light})
				}
			}
		}
		if n*10 >= 6*(r.to-r.from) {
			all = append(all, mine...)
		}
	}
	for _, r := range across {
		take(r, true)
	}
	for _, r := range upwards {
		take(r, false)
	}
	for _, c := range all {
		g.Pix[c.at] = max(g.Pix[c.at], c.val)
	}
	return len(all) > 0
}
