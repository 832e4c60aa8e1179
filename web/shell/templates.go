package shell

import (
	"bytes"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"hash"
	"html/template"
	"io/fs"
	"mime"
	"net/http"
	"path"
	"slices"
	"strings"
	"time"

	"glenrain/core/step"
	"glenrain/desk"
	"glenrain/web/station"
)

// templates are all screens and the parts of them that are swapped alone; a part is the same template in both uses. The shell's own set
// is the frame. Each job parses a clone of it with the templates of its own, each screen likewise.
type templates struct {
	sets    map[string]*template.Template // "shell", "station PATH" with all its parts, "job PATH/PATH", "screen NAME"
	assets  string                        // changes when a static file does, and is part of its address
	scripts map[string]fs.FS              // by the folder in addresses; the shell's own is ""
}

func parseTemplates(stations []station.Station, screens []station.Screen) (*templates, error) {
	own, err := fs.Sub(files, "static")
	if err != nil {
		return nil, err
	}
	t := &templates{sets: map[string]*template.Template{}, scripts: map[string]fs.FS{"": own}}
	sum := sha256.New()
	if err := addFiles(sum, own); err != nil {
		return nil, err
	}
	for _, st := range stations {
		t.scripts[st.Path] = st.Files
		if err := addFiles(sum, st.Files); err != nil {
			return nil, err
		}
	}
	for _, sc := range screens {
		t.scripts[sc.Name] = sc.Files
		if err := addFiles(sum, sc.Files); err != nil {
			return nil, err
		}
	}
	t.assets = hex.EncodeToString(sum.Sum(nil))[:12]
	shell, err := template.New("").Funcs(template.FuncMap{
		"icon":    icon,
		"bytes":   station.Weight,
		"when":    station.When,
		"moment":  station.Moment,
		"day":     station.Day,
		"paper":   desk.Paper,
		"papers":  func() []string { return []string{"A3", "A4", "A5", "Letter", "Legal"} },
		"add":     func(a, b float64) float64 { return a + b },
		"sub":     func(a, b float64) float64 { return a - b },
		"count":   step.Count,
		"number":  step.Thousands,
		"json":    asJSON,
		"request": newRequestID,
		"asset":   t.asset,
		"do":      do,
		// Of the screen that is shown; the desk's come with its frame.
		"screenKeys": func() []keyGroup { return shown([]keyGroup{everywhereKeys}) },
	}).ParseFS(files, "html/*.html")
	if err != nil {
		return nil, fmt.Errorf("the templates: %w", err)
	}
	t.sets["shell"] = shell
	with := func(files fs.FS, patterns ...string) (*template.Template, error) {
		set, err := shell.Clone()
		if err != nil {
			return nil, err
		}
		return set.ParseFS(files, patterns...)
	}
	for _, st := range stations {
		slips := make([]string, len(st.Jobs))
		for i, j := range st.Jobs {
			slips[i] = j.Slip
		}
		parts := []string{} // what is no job's slip is shared by all of them
		all, err := fs.Glob(st.Files, "*.html")
		if err != nil {
			return nil, err
		}
		for _, f := range all {
			if !slices.Contains(slips, f) {
				parts = append(parts, f)
			}
		}
		for i, j := range st.Jobs {
			set, err := with(st.Files, append(slices.Clone(parts), j.Slip)...)
			if err != nil {
				return nil, fmt.Errorf("the templates of %s: %w", st.Path, err)
			}
			t.sets["job "+st.Path+"/"+j.Path] = set
			if i == 0 {
				t.sets["station "+st.Path] = set
			}
		}
	}
	for _, sc := range screens {
		set, err := with(sc.Files, "*.html")
		if err != nil {
			return nil, fmt.Errorf("the templates of %s: %w", sc.Name, err)
		}
		keys := shown([]keyGroup{{sc.Title, sc.Keys}, everywhereKeys})
		t.sets["screen "+sc.Name] = set.Funcs(template.FuncMap{"screenKeys": func() []keyGroup { return keys }})
	}
	return t, nil
}

func addFiles(sum hash.Hash, files fs.FS) error {
	return fs.WalkDir(files, ".", func(name string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		b, err := fs.ReadFile(files, name)
		fmt.Fprintf(sum, "%s %d ", name, len(b))
		sum.Write(b)
		return err
	})
}

func (t *templates) execute(set, name string, data any) ([]byte, error) {
	all, ok := t.sets[set]
	if !ok {
		return nil, fmt.Errorf("there are no templates of %s", set)
	}
	var b bytes.Buffer
	err := all.ExecuteTemplate(&b, name, data)
	return b.Bytes(), err
}

// asset gives the address of a static file. The version is a part of its folder, so that what it names beside itself is of the same.
func (t *templates) asset(name string) string { return "/static/" + t.assets + "/" + name }

// static serves the files of the shell, and below a folder for each those of stations and screens.
func (t *templates) static() http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		version, name, _ := strings.Cut(r.URL.Path, "/")
		folder, inner, _ := strings.Cut(name, "/")
		from, ok := t.scripts[folder]
		if !ok || folder == "" {
			from, inner = t.scripts[""], name
		}
		if ext := path.Ext(inner); ext == ".html" || ext == ".go" {
			http.NotFound(w, r)
			return
		}
		b, err := fs.ReadFile(from, inner)
		if err != nil {
			http.NotFound(w, r)
			return
		}
		if version == t.assets {
			w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
		} else {
			w.Header().Set("Cache-Control", "no-cache")
		}
		kind := mime.TypeByExtension(path.Ext(inner))
		switch path.Ext(inner) { // whatever this machine's table says
		case ".js":
			kind = "text/javascript; charset=utf-8"
		case ".woff2":
			kind = "font/woff2"
		}
		if kind != "" {
			w.Header().Set("Content-Type", kind)
		}
		http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(b))
	})
}

// do gives the attributes of a form that does a step on the document.
func do(document uint, name string) template.HTMLAttr {
	return template.HTMLAttr(fmt.Sprintf(`data-step="%[2]s" hx-post="/desk/%[1]d/do/%[2]s" hx-target="#swap" hx-swap="outerHTML"`, document, template.HTMLEscapeString(name)))
}

// icon gives an icon as SVG that takes the colour of the text around it.
func icon(name string) (template.HTML, error) {
	b, err := files.ReadFile("static/icons/" + name + ".svg")
	if err != nil {
		return "", err
	}
	s := strings.Replace(string(b), "<svg ", `<svg aria-hidden="true" focusable="false" `, 1)
	return template.HTML(s), nil // our own file
}

func asJSON(v any) (string, error) {
	b, err := json.Marshal(v)
	return string(b), err
}

// newRequestID makes the id of a request that changes a document: one for each form
// that is shown, so that sending it twice does nothing more.
func newRequestID() string { return rand.Text() }
