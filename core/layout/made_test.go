package layout_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/content"
	"glenrain/core/font"
	"glenrain/core/layout"
	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
)

// maker sets pages whose paragraphs are known.
type maker struct {
	r     *rand.Rand
	faces map[string]*font.TrueType
	out   strings.Builder
	truth []string // in reading order
}

var stock = strings.Fields(`the harbour master shall give notice to every owner whose vessel lies at a winter berth of works that dredging
requires within the inner basin and the approach channel between October and March no vessel may be moored alongside the quay wall while
the survey is under way unless its lines are tended and a watch is kept soundings are reduced to chart datum and given in metres tide gauge
readings are taken hourly contractor silt disposal ground licence quantity cubic metre bucket dredger spoil barge pilot fairway mooring
buoy chain sinker fender ladder bollard slipway crane store office board minutes agreed proposed`)

func (m *maker) words(n int) []string {
	out := make([]string, n)
	for i := range out {
		out[i] = stock[m.r.IntN(len(stock))]
	}
	out[0] = strings.ToUpper(out[0][:1]) + out[0][1:]
	out[n-1] += "."
	return out
}

func (m *maker) width(s, face string, size float64) float64 {
	f := m.faces[face]
	w := 0.0
	for _, r := range s {
		w += float64(f.Advance(f.Glyph(r)))
	}
	return w * size / float64(f.UnitsPerEm)
}

func (m *maker) put(x, y float64, s, face string, size float64) {
	name := map[string]string{plain: "F1", bold: "F2"}[face]
	s = strings.ReplaceAll(s, "•", "\\225")
	fmt.Fprintf(&m.out, "BT /%s %g Tf 1 0 0 1 %.3f %.3f Tm (%s) Tj ET\n", name, size, x, y, strings.NewReplacer("(", "\\(", ")", "\\)").Replace(s))
}

const plain, bold = "Sans", "Sans Bold"

// set breaks words into lines and sets them; it gives where the next baseline may be.
func (m *maker) set(words []string, x, y, width, first, size, leading float64, align string) float64 {
	var line []string
	begin := true
	flush := func(last bool) {
		dent := 0.0
		if begin {
			dent = first
		}
		text := strings.Join(line, " ")
		w := m.width(text, plain, size)
		room := width - dent
		switch {
		case align == "centred":
			m.put(x+(width-w)/2, y, text, plain, size)
		case align == "right":
			m.put(x+width-w, y, text, plain, size)
		case align == "justified" && !last && len(line) > 1:
			extra := (room - w) / float64(len(line)-1)
			at := x + dent
			for _, word := range line {
				m.put(at, y, word, plain, size)
				at += m.width(word+" ", plain, size) + extra
			}
		default:
			m.put(x+dent, y, text, plain, size)
		}
		y -= leading
		line, begin = nil, false
	}
	for _, w := range words {
		room := width
		if begin {
			room -= first
		}
		if len(line) > 0 && m.width(strings.Join(append(line, w), " "), plain, size) > room {
			flush(false)
		}
		line = append(line, w)
	}
	flush(true)
	return y
}

func (m *maker) paragraph(n int, x, y, width, first, size, leading float64, align string) float64 {
	w := m.words(n)
	m.truth = append(m.truth, strings.Join(w, " "))
	return m.set(w, x, y, width, first, size, leading, align)
}

// column fills a column with paragraphs of one style.
func (m *maker) column(x, y, bottom, width, size float64, style string) {
	leading := size * (1.15 + 0.2*m.r.Float64())
	align := "left"
	if strings.Contains(style, "justified") {
		align = "justified"
	}
	for {
		n := 15 + m.r.IntN(60)
		lines := float64(n)*5.6*size*0.5/width + 2 // more than it will take
		if y-lines*leading < bottom {
			return
		}
		switch {
		case strings.Contains(style, "indented"):
			y = m.paragraph(n, x, y, width, 1.5*size, size, leading, align)
		case strings.Contains(style, "bullets"):
			w := append([]string{"•"}, m.words(n/3+3)...)
			m.truth = append(m.truth, strings.Join(w, " "))
			m.put(x, y, "•", plain, size)
			y = m.set(w[1:], x+1.5*size, y, width-1.5*size, 0, size, leading, align)
		case strings.Contains(style, "numbered"):
			no := fmt.Sprintf("%d.", strings.Count(strings.Join(m.truth, "\n"), "\n")+2)
			w := append([]string{no}, m.words(n/3+3)...)
			m.truth = append(m.truth, strings.Join(w, " "))
			m.put(x, y, no, plain, size)
			y = m.set(w[1:], x+2.5*size, y, width-2.5*size, 0, size, leading, align) - 0.3*size
		case strings.Contains(style, "headed"):
			w := m.words(3 + m.r.IntN(3))
			m.truth = append(m.truth, strings.Join(w, " "))
			m.put(x, y, strings.Join(w, " "), bold, size)
			y = m.paragraph(n, x, y-1.3*leading, width, 0, size, leading, align) - 0.8*leading
		default:
			y = m.paragraph(n, x, y, width, 0, size, leading, align) - 0.7*leading
		}
	}
}

// table sets rows of cells, row by row.
func (m *maker) table(x, y float64, rows int, columns []float64, size float64) float64 {
	for range rows {
		at := x
		for i, w := range columns {
			text := fmt.Sprintf("%d.%d", m.r.IntN(900), m.r.IntN(9))
			if i == 0 {
				text = stock[m.r.IntN(len(stock))] + " " + stock[m.r.IntN(len(stock))]
			}
			m.truth = append(m.truth, text)
			if i == 0 {
				m.put(at, y, text, plain, size)
			} else {
				m.put(at+w-m.width(text, plain, size)-size, y, text, plain, size)
			}
			at += w
		}
		y -= 1.5 * size
	}
	return y
}

// made sets one page in a style.
func made(t *testing.T, style string, seed uint64) (*layout.Page, []string) {
	t.Helper()
	m := &maker{r: rand.New(rand.NewPCG(seed, 7)), faces: map[string]*font.TrueType{}}
	for _, n := range []string{plain, bold} {
		f, err := font.Face(n)
		require.NoError(t, err)
		m.faces[n] = f
	}
	size := 8.5 + float64(m.r.IntN(8))/2
	switch {
	case strings.Contains(style, "table"):
		y := m.paragraph(40, 72, 760, 450, 0, size, 1.25*size, "justified")
		y = m.table(72, y-2*size, 6+m.r.IntN(10), []float64{170, 80, 80, 80}, size)
		m.paragraph(40, 72, y-2*size, 450, 0, size, 1.25*size, "justified")
	case strings.Contains(style, "two"):
		w := m.words(6)
		title := strings.Join(w, " ")
		m.truth = append(m.truth, title)
		m.put(60+(480-m.width(title, bold, size+6))/2, 780, title, bold, size+6)
		m.column(60, 740, 60, 225, size, style)
		m.column(315, 740, 60, 225, size, style)
	case strings.Contains(style, "centred"):
		y := 760.0
		for y > 160 {
			y = m.paragraph(12+m.r.IntN(25), 100, y, 400, 0, size, 1.3*size, "centred") - 1.2*size
		}
	default:
		m.column(72, 770, 60, 450, size, style)
	}
	var f pdftest.File
	f.Add("<</Type/Catalog/Pages 2 0 R>>")
	f.Add("<</Type/Pages/Count 1/Kids[3 0 R]>>")
	f.Add("<</Type/Page/Parent 2 0 R/MediaBox[0 0 595 842]/Contents 4 0 R/Resources<</Font<</F1 5 0 R/F2 6 0 R>>>>>>")
	f.Add("%s", pdftest.Stream("", m.out.String()))
	f.Add("<</Type/Font/Subtype/Type1/BaseFont/Helvetica/Encoding/WinAnsiEncoding>>")
	f.Add("<</Type/Font/Subtype/Type1/BaseFont/Helvetica-Bold/Encoding/WinAnsiEncoding>>")
	doc := pdftest.Open(t, f.Bytes())
	ref := pdftest.Refs(t, doc)[0]
	p, err := content.NewReader(doc).Page(t.Context(), ref, content.Options{})
	require.NoError(t, err)
	return layout.Read(p, pdf.Rect{X1: 595, Y1: 842}, nil), m.truth
}

// Paragraphs on made pages of many styles are those that were set, and stand in the order in which they are read.
func TestMadeParagraphs(t *testing.T) {
	all, exact := 0, 0
	for _, style := range []string{"one indented", "one indented justified", "one spaced", "one spaced justified", "one bullets", "one numbered", "one headed",
		"two indented justified", "two spaced", "two spaced justified", "two bullets", "two headed justified", "table", "centred"} {
		n, same, ordered := 0, 0, 0
		for seed := range uint64(12) {
			l, truth := made(t, style, seed)
			var got []string
			for i := range l.Paragraphs {
				got = append(got, l.ParagraphText(&l.Paragraphs[i]))
			}
			at := map[string]int{}
			for i, g := range got {
				at[g] = i + 1
			}
			last := 0
			for _, want := range truth {
				n++
				if k := at[want]; k > 0 {
					same++
					if k > last {
						ordered++
					}
					last = k
				} else if testing.Verbose() && seed < 2 {
					t.Logf("%s %d: lost %q", style, seed, want)
				}
			}
			if testing.Verbose() && same < n && seed < 2 {
				for _, g := range got {
					t.Logf("   got %q", g)
				}
			}
		}
		t.Logf("%-24s %4d paragraphs, %.1f %% exact, %.1f %% in order", style, n, 100*float64(same)/float64(n), 100*float64(ordered)/float64(n))
		all += n
		exact += same
		assert.GreaterOrEqual(t, float64(same)/float64(n), 0.9, style)
		assert.GreaterOrEqual(t, float64(ordered)/float64(n), 0.9, style)
	}
	assert.GreaterOrEqual(t, float64(exact)/float64(all), 0.95)
}
