package table

import (
	"bytes"
	"cmp"
	"fmt"
	"slices"
	"strconv"

	"github.com/xuri/excelize/v2"

	"glenrain/core/intake/page"
)

// borderStyles are the styles of lines (18.18.3) by excelize's numbers.
var borderStyles = map[int]string{1: ".5pt solid", 2: "1pt solid", 3: ".5pt dashed", 4: ".5pt dotted", 5: "1.5pt solid", 6: "1.5pt double", 7: ".5pt dotted",
	8: "1pt dashed", 9: ".5pt dashed", 10: "1pt dashed", 11: ".5pt dotted", 12: "1pt dotted", 13: "1pt dashed"}

// style reads a style of cells once.
func (w *workbookReader) style(h *Sheet, id int) error {
	if _, ok := h.Styles[id]; ok {
		return nil
	}
	if st, ok := w.styles[id]; ok {
		h.Styles[id] = st
		return nil
	}
	var st Style
	x, err := w.f.GetStyle(id)
	if err == nil && x != nil {
		st = w.styleOf(x)
	}
	w.styles[id], h.Styles[id] = st, st
	return nil
}

func (w *workbookReader) styleOf(x *excelize.Style) (st Style) {
	st.Down = "bottom"
	if f := x.Font; f != nil {
		family, factor := w.s.Stand(f.Family)
		st.Family, st.Size = family, cmp.Or(f.Size, 11)*factor
		st.Bold, st.Italic, st.Strike, st.Underline = f.Bold, f.Italic, f.Strike, f.Underline != "" && f.Underline != "none"
		if c := page.Colour(w.f.GetBaseColor(f.Color, f.ColorIndexed, f.ColorTheme)); c != "" && c != "#000000" {
			st.Colour = tinted(c, f.ColorTint)
		}
	}
	if x.Fill.Type == "pattern" && x.Fill.Pattern > 0 && len(x.Fill.Color) > 0 {
		st.Fill = page.Colour(x.Fill.Color[0])
	} else if x.Fill.Type == "gradient" && len(x.Fill.Color) > 1 {
		st.Fill = page.Colour(x.Fill.Color[1])
	}
	if a := x.Alignment; a != nil {
		st.Across = map[string]string{"left": "left", "center": "center", "right": "right", "justify": "justify", "distributed": "justify", "centerContinuous": "center"}[a.Horizontal]
		st.Down = cmp.Or(map[string]string{"top": "top", "center": "middle", "justify": "top"}[a.Vertical], "bottom")
		st.Wrap, st.Indent = a.WrapText || a.Horizontal == "justify", a.Indent
	}
	for _, b := range x.Border {
		i := slices.Index([]string{"top", "right", "bottom", "left"}, b.Type)
		if line := borderStyles[b.Style]; i >= 0 && line != "" {
			st.Borders[i] = line + " " + cmp.Or(page.Colour(b.Color), "#000000")
		}
	}
	return st
}

// tinted makes a colour lighter or darker (18.8.19).
func tinted(c string, tint float64) string {
	if tint == 0 || len(c) != 7 {
		return c
	}
	var b bytes.Buffer
	b.WriteByte('#')
	for i := 1; i < 7; i += 2 {
		v, _ := strconv.ParseUint(c[i:i+2], 16, 8)
		f := float64(v)
		if tint < 0 {
			f *= 1 + max(-1, tint)
		} else {
			f += (255 - f) * min(1, tint)
		}
		fmt.Fprintf(&b, "%02x", uint8(f+0.5))
	}
	return b.String()
}
