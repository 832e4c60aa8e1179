package font

import (
	_ "embed"
	"strconv"
	"strings"
	"sync"
)

//go:embed data/metrics.txt
var metricsText string

// metrics are those of one of the standard 14 fonts (9.6.2.2), in thousandths of the em.
type metrics struct {
	name            string
	ascent, descent float64
	widths          map[string]float64
	encoding        [256]string // its own
}

var allMetrics = sync.OnceValue(func() map[string]*metrics {
	all := map[string]*metrics{}
	var m *metrics
	for l := range strings.Lines(metricsText) {
		f := strings.Fields(l)
		switch {
		case len(f) < 2 || f[0] == "#":
		case f[0] == "font":
			m = &metrics{name: f[1], widths: map[string]float64{}}
			all[f[1]] = m
		case f[0] == "Ascender":
			m.ascent, _ = strconv.ParseFloat(f[1], 64)
		case f[0] == "Descender":
			m.descent, _ = strconv.ParseFloat(f[1], 64)
		case len(f) == 3:
			w, _ := strconv.ParseFloat(f[1], 64)
			m.widths[f[2]] = w
			if code, err := strconv.Atoi(f[0]); err == nil && code >= 0 && code < 256 {
				m.encoding[code] = f[2]
			}
		}
	}
	return all
})

// standard14 gives the metrics of a standard font, or nil. Names of other systems' faces of the same
// widths are understood.
func standard14(name string) *metrics {
	if m := allMetrics()[name]; m != nil {
		return m
	}
	lower := strings.ToLower(strings.NewReplacer(" ", "", ",", "", "-", "", "_", "").Replace(name))
	family := ""
	switch {
	case strings.HasPrefix(lower, "arial") && !strings.Contains(lower, "narrow") && !strings.Contains(lower, "black"), strings.HasPrefix(lower, "helvetica"):
		family = "Helvetica"
	case strings.HasPrefix(lower, "timesnewroman"), strings.HasPrefix(lower, "times"):
		family = "Times"
	case strings.HasPrefix(lower, "couriernew"), strings.HasPrefix(lower, "courier"):
		family = "Courier"
	case strings.HasPrefix(lower, "symbol"):
		return allMetrics()["Symbol"]
	case strings.HasPrefix(lower, "zapfdingbats"):
		return allMetrics()["ZapfDingbats"]
	default:
		return nil
	}
	return allMetrics()[faceOf(family, strings.Contains(lower, "bold"), strings.Contains(lower, "italic") || strings.Contains(lower, "oblique"))]
}

// faceOf names the face of a standard family.
func faceOf(family string, bold, italic bool) string {
	lean := "Oblique"
	if family == "Times" {
		lean = "Italic"
	}
	switch {
	case bold && italic:
		return family + "-Bold" + lean
	case bold:
		return family + "-Bold"
	case italic:
		return family + "-" + lean
	case family == "Times":
		return "Times-Roman"
	}
	return family
}
