package recognize

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func lineAt(block int, x, y float64, words ...string) Line {
	l := Line{Size: 10, block: block}
	for i, w := range words {
		l.Words = append(l.Words, Word{Text: w, X: x + 30*float64(i), Y: y, Long: 25})
	}
	return l
}

func said(lines []Line) (out []string) {
	for _, l := range lines {
		out = append(out, l.Words[0].Text)
	}
	return out
}

// A table that was read column by column comes row by row; columns of running text stay.
func TestByRows(t *testing.T) {
	var columns []Line
	names := []string{"a", "b", "c"}
	for c, n := range names {
		for r := range 4 {
			columns = append(columns, lineAt(c, float64(100*c), 700-float64(20*r), n+string(rune('1'+r))))
		}
	}
	before := lineAt(9, 0, 760, "a", "heading", "of", "some", "words")
	got := byRows(append([]Line{before}, columns...))
	assert.Equal(t, []string{"a", "a1", "b1", "c1", "a2", "b2", "c2", "a3", "b3", "c3", "a4", "b4", "c4"}, said(got))
	var prose []Line
	for c := range 2 {
		for r := range 8 {
			prose = append(prose, lineAt(c, float64(250*c), 700-float64(14*r), names[c]+string(rune('1'+r)), "and", "so", "it", "goes", "on"))
		}
	}
	was := said(prose)
	assert.Equal(t, was, said(byRows(prose)))
	address := []Line{lineAt(0, 0, 700, "a1", "x"), lineAt(0, 0, 686, "a2"), lineAt(0, 0, 672, "a3"), lineAt(1, 300, 700, "b1"), lineAt(1, 300, 686, "b2"), lineAt(1, 300, 672, "b3")}
	was = said(address)
	assert.Equal(t, was, said(byRows(address)))
	assert.Empty(t, byRows(nil))
}
