// Package help is the page that says how to do each job. Its text is docs/HOWTO.md.
package help

import (
	"embed"
	"html/template"
	"net/http"
	"regexp"
	"strings"
	"sync"

	"glenrain/docs"
	"glenrain/web/station"
)

//go:embed *.html
var files embed.FS

// Screen is the value that the list of screens has.
func Screen() station.Screen {
	s := station.Screen{Name: "help", Title: "How to", Files: files, Routes: routes}
	for _, part := range parts() {
		for _, j := range part.Jobs {
			s.Places = append(s.Places, station.Place{Kind: "How to", Text: j.Title, Words: "how to help " + strings.ToLower(part.Title+" "+j.plain), URL: "/help#" + j.Anchor})
		}
	}
	return s
}

// part is a station with its jobs, as the text has them.
type part struct {
	Title, Anchor string
	Jobs          []job
}

type job struct {
	Title, Anchor string
	Place         string // the address of its settings, below a document; empty where it has none of its own
	Text          template.HTML
	plain         string
}

// parts are those of the text, read when they are first asked for.
var parts = sync.OnceValue(func() []part { return read(docs.Howto) })

var (
	place  = regexp.MustCompile(`^<!-- (\S+) -->$`)
	marked = regexp.MustCompile("`[^`]+`|\\*[^*]+\\*")
	others = regexp.MustCompile(`[^a-z0-9]+`)
)

// read parses the text: headings, the comment with an address, and paragraphs with *names* and `keys`.
func read(text string) (out []part) {
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		if title, ok := strings.CutPrefix(line, "## "); ok {
			out = append(out, part{Title: title, Anchor: "part-" + anchored(title)})
			continue
		}
		if len(out) == 0 || line == "" {
			continue
		}
		p := &out[len(out)-1]
		if title, ok := strings.CutPrefix(line, "### "); ok {
			p.Jobs = append(p.Jobs, job{Title: title, Anchor: anchored(title)})
			continue
		}
		if len(p.Jobs) == 0 {
			continue
		}
		j := &p.Jobs[len(p.Jobs)-1]
		if m := place.FindStringSubmatch(line); m != nil {
			j.Place = m[1]
			continue
		}
		j.plain += line + " "
		j.Text += template.HTML(marked.ReplaceAllStringFunc(template.HTMLEscapeString(line), func(s string) string { //nolint:gosec // the text is the program's own, and escaped
			name := "em"
			if s[0] == '`' {
				name = "kbd"
			}
			return "<" + name + ">" + s[1:len(s)-1] + "</" + name + ">"
		}) + " ")
	}
	return out
}

func anchored(title string) string {
	return strings.Trim(others.ReplaceAllString(strings.ToLower(title), "-"), "-")
}

// Anchor gives the place in the text of the job whose settings are at an address: its own, or the first of its station's.
func Anchor(place string) string {
	for {
		for _, p := range parts() {
			for _, j := range p.Jobs {
				if j.Place == place && place != "" {
					return j.Anchor
				}
			}
		}
		i := strings.LastIndexByte(place, '/')
		if i < 0 {
			return ""
		}
		place = place[:i]
	}
}

func routes(r station.Router, h station.Host) {
	r.Get("/help", func(w http.ResponseWriter, r *http.Request) error {
		return h.Render(w, http.StatusOK, "help", struct {
			station.Around
			Parts []part
		}{h.Screen(r, "How to"), parts()})
	})
	r.Get("/help/*", func(w http.ResponseWriter, r *http.Request) error {
		to := "/help"
		if a := Anchor(strings.TrimPrefix(r.URL.Path, "/help/")); a != "" {
			to += "#" + a
		}
		http.Redirect(w, r, to, http.StatusSeeOther)
		return nil
	})
}
