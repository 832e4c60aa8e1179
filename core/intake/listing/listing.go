// Package listing sets plain text and program source as a listing: in a face of one width, syntax coloured if wished, lines numbered if
// wished, long lines wrapped where the paper ends and the wrap marked with a drawn sign, so that the text stays the file's own.
package listing

import (
	"context"
	"fmt"
	"strings"

	"github.com/alecthomas/chroma/v2"
	"golang.org/x/text/width"

	"glenrain/core/intake/page"
)

// Options of a listing.
type Options struct {
	Numbers bool
	Plain   bool // without colours
	Paper   page.Paper
}

const (
	size    = 9.0  // points
	leading = 12.0 // points from line to line
	advance = 0.6  // of the size: Liberation Mono's glyphs are 1,229 of 2,048 units wide
	tab     = 8    // columns
	// maxColoured is how many bytes of source are coloured; maxLines how many lines are set, wrapped ones counted as often as they are wrapped.
	maxColoured = 2 << 20
	maxLines    = 120_000
	// atOnce is how many pages are set in one run.
	atOnce = 80
)

// Lexer gives the name of the language that a file name tells; "" for none.
func Lexer(name string) string {
	l := lexers().Match(name)
	if l == nil || l.Config().Name == "plaintext" {
		return ""
	}
	return l.Config().Name
}

// Write writes text as a listing.
func Write(ctx context.Context, s *page.Sheet, name, text string, o Options) error {
	p := o.Paper.Sane()
	w, height := p.Inner()
	lines := strings.Split(strings.TrimSuffix(text, "\n"), "\n")
	digits := 0
	if o.Numbers {
		digits = len(fmt.Sprint(len(lines))) + 2
	}
	columns := max(10, int(w/(size*advance))-digits)
	s.CSS(".p{break-before:page}pre{font:%s/%s %s;margin:0;white-space:pre;overflow-wrap:normal;font-variant-ligatures:none}", page.Pt(size), page.Pt(leading), s.Family(page.Mono))
	// The sign at a wrap is drawn: a corner that leads on, in the column that is kept free for it.
	s.CSS(".w{display:inline-block;width:1.2em;height:.5em;margin:0 0 .25em 0;border-left:.8pt solid #8a6a2f;border-bottom:.8pt solid #8a6a2f;transform:scaleX(.5);transform-origin:0 0}")
	s.CSS(".n{display:inline-block;width:%dch;padding-right:2ch;text-align:right;color:#777}", digits)
	s.CSS(".k{color:#1d5c8a;font-weight:700}.s{color:#7a3b10}.c{color:#5d6b5f;font-style:italic}.m{color:#6b2f80}.f{color:#20604a}")
	set := &setter{s: s, columns: columns, numbers: o.Numbers, perPage: max(1, int(height/leading))}
	tokens := plain(lines)
	if lexer := lexers().Match(name); lexer != nil && !o.Plain && len(text) < maxColoured {
		if it, err := chroma.Coalesce(lexer).Tokenise(&chroma.TokeniseOptions{State: "root", Nested: true, EnsureLF: true}, text); err == nil {
			tokens = chroma.SplitTokensIntoLines(it.Tokens())
			for len(tokens) > len(lines) { // lexers end what does not end with a line feed
				tokens = tokens[:len(tokens)-1]
			}
		}
	}
	for i, line := range tokens {
		if i%1000 == 0 {
			if err := ctx.Err(); err != nil {
				return err
			}
		}
		set.line(i+1, line)
		if set.lines > maxLines {
			return fmt.Errorf("it has over %d lines (wrapped lines included), the most that can be turned into pages", maxLines)
		}
	}
	s.Raw("</pre>")
	pages := (set.lines + set.perPage - 1) / set.perPage
	s.CSS("@page{%s;%s}", p.Rule(), page.Running{Left: []page.Piece{{Text: name}}, Right: []page.Piece{{Field: "page"}, {Text: fmt.Sprintf(" of %d", pages)}}}.
		Boxes("top", "font:8pt "+s.Family(page.Sans)+";color:#555"))
	return nil
}

func plain(lines []string) [][]chroma.Token {
	out := make([][]chroma.Token, len(lines))
	for i, l := range lines {
		out[i] = []chroma.Token{{Type: chroma.Text, Value: l}}
	}
	return out
}

type setter struct {
	s       *page.Sheet
	columns int
	numbers bool
	at      int // column
	perPage int // lines
	lines   int // that were begun
}

// begin begins a line: on the next page where one is full.
func (t *setter) begin() {
	switch {
	case t.lines == 0:
		t.s.Raw("<pre>")
	case t.lines%(t.perPage*atOnce) == 0:
		t.s.Raw("</pre>")
		t.s.Cut()
		t.s.Raw("<pre>")
	case t.lines%t.perPage == 0:
		t.s.Raw(`</pre><pre class="p">`)
	default:
		t.s.Raw("\n")
	}
	t.lines++
}

// wrapped is how many columns a line that goes on keeps free for the sign.
const wrapped = 2

func (t *setter) line(no int, tokens []chroma.Token) {
	t.begin()
	if t.numbers {
		t.s.Raw(`<span class="n">`, fmt.Sprint(no), `</span>`)
	}
	t.at = 0
	for _, k := range tokens {
		c := class(k.Type)
		t.run(c, strings.TrimRight(k.Value, "\n"))
	}
}

// run writes characters of one colour, with breaks where the line is full.
func (t *setter) run(class, text string) {
	var b strings.Builder
	flush := func() {
		if b.Len() == 0 {
			return
		}
		if class != "" {
			t.s.Raw(`<span class="`, class, `">`, page.Escape(b.String()), `</span>`)
		} else {
			t.s.Text(b.String())
		}
		b.Reset()
	}
	for _, r := range text {
		n := columnsOf(r)
		if r == '\t' {
			n = tab - t.at%tab
		}
		if t.at+n > t.columns {
			flush()
			t.begin()
			if t.numbers {
				t.s.Raw(`<span class="n"></span>`)
			}
			t.s.Raw(`<span class="w"></span>`)
			t.at = wrapped
			if r == '\t' {
				n = tab - t.at%tab
			}
		}
		t.at += n
		if r == '\t' {
			b.WriteString(strings.Repeat(" ", n))
		} else {
			b.WriteRune(r)
		}
	}
	flush()
}

// columnsOf is how many columns a character takes (UAX #11).
func columnsOf(r rune) int {
	switch width.LookupRune(r).Kind() {
	case width.EastAsianWide, width.EastAsianFullwidth:
		return 2
	}
	return 1
}

func class(t chroma.TokenType) string {
	switch {
	case t.InCategory(chroma.Comment):
		return "c"
	case t.InCategory(chroma.Keyword):
		return "k"
	case t.InSubCategory(chroma.LiteralString):
		return "s"
	case t.InCategory(chroma.Literal):
		return "m"
	case t.InSubCategory(chroma.NameFunction), t == chroma.NameClass, t == chroma.NameTag, t == chroma.NameBuiltin:
		return "f"
	}
	return ""
}
