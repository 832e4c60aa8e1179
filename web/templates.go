package web

import (
	"bytes"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"html/template"
	"io/fs"
	"strings"
	"time"

	"glenrain/core/step"
)

// templates are all screens and the parts of them that are swapped alone; a part is the
// same template in both uses.
type templates struct{ all *template.Template }

func parseTemplates() (*templates, string, error) {
	sum := sha256.New()
	err := fs.WalkDir(files, "static", func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		b, err := files.ReadFile(path)
		sum.Write(b)
		return err
	})
	if err != nil {
		return nil, "", err
	}
	t, err := template.New("").Funcs(template.FuncMap{
		"icon":    icon,
		"bytes":   weight,
		"when":    when,
		"clock":   func(t time.Time) string { return t.Local().Format("15:04") },
		"count":   step.Count,
		"number":  step.Thousands,
		"json":    asJSON,
		"request": newRequestID,
		"part":    part,
		"hows":    func() []string { return []string{"highlight", "underline", "strike out"} },

		"deskKeys":     deskKeys,
		"documentKeys": documentKeys,
	}).ParseFS(files, "templates/*.html", "templates/*/*.html")
	if err != nil {
		return nil, "", fmt.Errorf("the templates: %w", err)
	}
	return &templates{t}, hex.EncodeToString(sum.Sum(nil))[:12], nil
}

func (t *templates) execute(name string, data any) ([]byte, error) {
	var b bytes.Buffer
	err := t.all.ExecuteTemplate(&b, name, data)
	return b.Bytes(), err
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

// weight writes bytes for people: "84 KB", "3.1 MB" (1 KB is 1,000 bytes, as mail programs count).
func weight(n int64) string {
	switch {
	case n < 1000:
		return fmt.Sprintf("%d bytes", n)
	case n < 999_500:
		return fmt.Sprintf("%.0f KB", float64(n)/1e3)
	case n < 999_500_000:
		return fmt.Sprintf("%.1f MB", float64(n)/1e6)
	}
	return fmt.Sprintf("%.2f GB", float64(n)/1e9)
}

// when writes a time as short as it can be told from now.
func when(t time.Time) string {
	t, now := t.Local(), time.Now()
	day := func(t time.Time) time.Time { y, m, d := t.Date(); return time.Date(y, m, d, 0, 0, 0, 0, t.Location()) }
	switch day(now).Sub(day(t)).Round(24*time.Hour) / (24 * time.Hour) {
	case 0:
		return "today " + t.Format("15:04")
	case 1:
		return "yesterday " + t.Format("15:04")
	}
	if t.Year() == now.Year() {
		return t.Format("2 Jan 15:04")
	}
	return t.Format("2 Jan 2006")
}

func asJSON(v any) (string, error) {
	b, err := json.Marshal(v)
	return string(b), err
}

// newRequestID makes the id of a request that changes a document: one for each form
// that is shown, so that sending it twice does nothing more.
func newRequestID() string { return rand.Text() }
