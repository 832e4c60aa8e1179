package compare

import (
	"fmt"
	"image"
	"image/color"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// apply makes b of a by the changes.
func apply(a, b []string, list []Change) (out []string) {
	at := 0
	for _, c := range list {
		out = append(append(out, a[at:c.A0]...), b[c.B0:c.B1]...)
		at = c.A1
	}
	return append(out, a[at:]...)
}

// The changes make the one of the other, and are no more words than a table of all would find.
func TestDiff(t *testing.T) {
	a, _ := Words("the north berth is dredged in the winter of 2026")
	b, _ := Words("the northern berth was dredged in winter of 2026 again")
	assert.Equal(t, []Change{{1, 2, 1, 2}, {3, 4, 3, 4}, {6, 7, 6, 6}, {10, 10, 9, 10}}, Diff(a, b))
	assert.Empty(t, Diff(a, a))
	r := rand.New(rand.NewPCG(1, 2))
	for range 300 {
		x, y := make([]string, r.IntN(40)), make([]string, r.IntN(40))
		for i := range x {
			x[i] = string(rune('a' + r.IntN(4)))
		}
		for i := range y {
			y[i] = string(rune('a' + r.IntN(4)))
		}
		list := Diff(x, y)
		require.Equal(t, strings.Join(y, " "), strings.Join(apply(x, y, list), " "), "%v %v %v", x, y, list)
		words := 0
		for _, c := range list {
			words += c.A1 - c.A0 + c.B1 - c.B0
		}
		require.Equal(t, shortest(x, y), words, "%v %v %v", x, y, list)
	}
}

// shortest is how many words come and go at least.
func shortest(a, b []string) int {
	d := make([][]int, len(a)+1)
	for i := range d {
		d[i] = make([]int, len(b)+1)
		for j := range d[i] {
			switch {
			case i == 0 || j == 0:
				d[i][j] = i + j
			case a[i-1] == b[j-1]:
				d[i][j] = d[i-1][j-1]
			default:
				d[i][j] = 1 + min(d[i-1][j], d[i][j-1])
			}
		}
	}
	return d[len(a)][len(b)]
}

func leaf(n int) string {
	var b strings.Builder
	for i := range 60 {
		fmt.Fprintf(&b, "word%d ", (n*7919+i*i*31)%5000)
	}
	return b.String()
}

// Pages that were put in, taken out and changed are told apart.
func TestPages(t *testing.T) {
	var a, b []string
	for i := range 12 {
		a = append(a, leaf(i))
	}
	for i, text := range a {
		switch i {
		case 2: // taken out
		case 5:
			b = append(b, leaf(100), text) // one is put in before it
		case 8:
			b = append(b, strings.Replace(text, "word", "other", 6))
		default:
			b = append(b, text)
		}
	}
	want := []Pair{{0, 0}, {1, 1}, {2, -1}, {3, 2}, {4, 3}, {-1, 4}, {5, 5}, {6, 6}, {7, 7}, {8, 8}, {9, 9}, {10, 10}, {11, 11}}
	assert.Equal(t, want, Pages(a, b))
	assert.Equal(t, []Pair{{0, 0}}, Pages([]string{""}, []string{"words came"}))
	assert.Equal(t, []Pair{{-1, 0}}, Pages(nil, []string{"x"}))
}

// What looks otherwise is found, and nothing else.
func TestLooks(t *testing.T) {
	a, b := image.NewGray(image.Rect(0, 0, 200, 100)), image.NewGray(image.Rect(0, 0, 200, 100))
	assert.Empty(t, Looks(a, b))
	for y := 40; y < 50; y++ {
		for x := 60; x < 90; x++ {
			b.SetGray(x, y, color.Gray{Y: 200})
		}
	}
	b.SetGray(5, 5, color.Gray{Y: 20}) // too little to be seen
	assert.Equal(t, []image.Rectangle{image.Rect(60, 36, 96, 60)}, Looks(a, b))
}
