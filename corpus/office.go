package main

import (
	"archive/zip"
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"html"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode"

	"golang.org/x/text/unicode/norm"

	"glenrain/core/intake"
	"glenrain/porter"
)

// office is a file of another kind, and what came of it.
type office struct {
	kind        string
	path        string
	refused     string
	pages       int
	took        time.Duration
	words, lost int      // of the source's words, how many are not in the pages' text
	missing     []string // the first of them
	heads, h    int      // headings in the source, and tags H1 to H6
	tables, t   int
	lists, l    int      // items, and tags LI
	loose       []string // fonts that are not embedded
	told        []string
	sourceless  bool
	wrong       string
}

// offices converts each file in a folder, and holds the pages against what a plain scan of the source finds.
func offices(dir, only string) ([]*office, error) {
	var all []*office
	err := filepath.WalkDir(dir, func(p string, e fs.DirEntry, err error) error {
		if err == nil && !e.IsDir() && strings.Contains(p, only) {
			if ext := strings.TrimPrefix(strings.ToLower(path.Ext(p)), "."); slices.Contains([]string{"docx", "odt", "ods", "xlsx"}, ext) {
				all = append(all, &office{kind: ext, path: p})
			}
		}
		return err
	})
	if err != nil || len(all) == 0 {
		return nil, errors.Join(err, fmt.Errorf("%d office files in %s", len(all), dir))
	}
	next := make(chan *office)
	done := make(chan bool)
	for range 2 {
		go func() {
			for o := range next {
				o.look()
			}
			done <- true
		}()
	}
	for i, o := range all {
		if i%50 == 0 {
			fmt.Fprintf(os.Stderr, "%d of %d\n", i, len(all))
		}
		next <- o
	}
	close(next)
	<-done
	<-done
	return all, nil
}

func (o *office) look() {
	f, err := os.Open(o.path)
	if err != nil {
		o.wrong = err.Error()
		return
	}
	defer f.Close()
	st, _ := f.Stat()
	ctx := context.Background()
	kind := intake.Find(ctx, o.path, f, st.Size())
	tmp, err := os.CreateTemp("", "office-*.pdf")
	if err != nil {
		o.wrong = err.Error()
		return
	}
	defer os.Remove(tmp.Name())
	at := time.Now()
	out, err := porter.Convert(ctx, porter.Conversion{Path: o.path, Size: st.Size(), Name: path.Base(o.path), Kind: kind, Out: tmp.Name()})
	o.took = time.Since(at)
	_ = tmp.Close()
	var not *porter.NotConverted
	if errors.As(err, &not) {
		o.refused = not.Sentence
		return
	}
	if err != nil {
		o.wrong = err.Error()
		return
	}
	if keepOut != "" {
		b, _ := os.ReadFile(tmp.Name())
		_ = os.WriteFile(filepath.Join(keepOut, path.Base(o.path)+".pdf"), b, 0o644)
	}
	o.told = out.Told
	o.pages = popplerPages(tmp.Name())
	text := run1("pdftotext", "-q", tmp.Name(), "-")
	tags := run1("pdfinfo", "-struct", tmp.Name())
	for line := range strings.Lines(run1("pdffonts", tmp.Name())) {
		if c := strings.Fields(line); len(c) > 5 && !strings.HasPrefix(line, "name") && !strings.HasPrefix(line, "---") && c[len(c)-5] != "yes" {
			o.loose = append(o.loose, c[0])
		}
	}
	s, err := scan(o.kind, o.path)
	if err != nil {
		o.sourceless = true
		return
	}
	o.heads, o.tables, o.lists = s.heads, s.tables, s.items
	o.h, o.t, o.l = count(tags, `(?m)^\s*H[1-6]\b`), count(tags, `(?m)^\s*Table\b`), count(tags, `(?m)^\s*LI\b`)
	o.compare(s.text, text)
}

func count(s, re string) int { return len(regexp.MustCompile(re).FindAllString(s, -1)) }

func run1(name string, args ...string) string {
	out, _ := exec.Command(name, args...).Output()
	return string(out)
}

// letters reduces text to what two readers agree on: letters and digits, composed the same way, without spaces.
func letters(s string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			return unicode.ToLower(r)
		}
		return -1
	}, norm.NFKC.String(s))
}

// compare looks for each word of the source in the pages' text, as often as the source has it; words may be parted in the pages.
func (o *office) compare(source, text string) {
	whole := letters(text)
	have := map[string]int{}
	for w := range strings.FieldsSeq(text) {
		have[letters(w)]++
	}
	for w := range strings.FieldsSeq(source) {
		l := letters(w)
		if l == "" {
			continue
		}
		o.words++
		if have[l] > 0 {
			have[l]--
			continue
		}
		if strings.Contains(whole, l) {
			continue
		}
		o.lost++
		if strings.Contains(w, "@") { // nobody's address stands in the document
			w = "an address"
		}
		if len(o.missing) < 6 {
			o.missing = append(o.missing, w)
		}
	}
}

// source is what a plain scan of a file's XML finds: with patterns, and none of our readers.
type source struct {
	text                 string
	heads, tables, items int
}

func scan(kind, file string) (s source, err error) {
	b, err := os.ReadFile(file)
	if err != nil {
		return s, err
	}
	z, err := zip.NewReader(bytes.NewReader(b), int64(len(b)))
	if err != nil {
		return s, err
	}
	part := func(name string) string {
		f, err := z.Open(name)
		if err != nil {
			return ""
		}
		defer f.Close()
		b, _ := io.ReadAll(f)
		return string(b)
	}
	switch kind {
	case "docx":
		doc := part("word/document.xml")
		if doc == "" {
			return s, fs.ErrNotExist
		}
		for _, gone := range []string{`(?s)<w:del\b.*?</w:del>`, `(?s)<w:moveFrom\b.*?</w:moveFrom>`, `(?s)<mc:Fallback.*?</mc:Fallback>`, `(?s)<w:instrText.*?</w:instrText>`} {
			doc = regexp.MustCompile(gone).ReplaceAllString(doc, "")
		}
		styles := part("word/styles.xml")
		heading := map[string]bool{}
		for _, st := range regexp.MustCompile(`(?s)<w:style [^>]*w:styleId="([^"]+)".*?</w:style>`).FindAllStringSubmatch(styles, -1) {
			heading[st[1]] = regexp.MustCompile(`<w:name w:val="(?i:heading [1-9])"`).MatchString(st[0])
		}
		for _, p := range regexp.MustCompile(`<w:pStyle w:val="([^"]+)"`).FindAllStringSubmatch(doc, -1) {
			if heading[p[1]] {
				s.heads++
			}
		}
		s.tables = count(doc, `<w:tbl[ >]`)
		s.text = stripped(doc, `<w:(p|tab|br|cr)[ />]`, `<w:t(?: [^>]*)?>([^<]*)</w:t>`)
	case "odt":
		doc := part("content.xml")
		i := strings.Index(doc, "<office:text")
		if i < 0 {
			return s, fs.ErrNotExist
		}
		doc = doc[i:]
		for _, gone := range []string{`(?s)<text:tracked-changes.*?</text:tracked-changes>`, `(?s)<office:annotation .*?</office:annotation>`, `(?s)<svg:(title|desc)>.*?</svg:(title|desc)>`, `(?s)<text:note-citation.*?</text:note-citation>`, `(?s)<math.*?</math>`, `(?s)<draw:object.*?</draw:object>`} {
			doc = regexp.MustCompile(gone).ReplaceAllString(doc, "")
		}
		s.heads, s.tables, s.items = count(doc, `<text:h[ >]`), count(doc, `<table:table[ >]`), count(doc, `<text:list-item[ >]`)
		s.text = stripped(doc, `<(text:p|text:h|text:tab|text:s|text:line-break|text:note)[ />]`, `>([^<]+)<`)
	case "ods":
		doc := regexp.MustCompile(`(?s)<office:annotation .*?</office:annotation>|<table:covered-table-cell.*?</table:covered-table-cell>`).ReplaceAllString(part("content.xml"), "")
		s.text = stripped(doc[max(0, strings.Index(doc, "<office:spreadsheet")):], `<(text:p|table:table-cell)[ />]`, `>([^<]+)<`)
	case "xlsx":
		// Strings that visible cells show; numbers are held against another writer's values in a test of their own.
		var shared []string
		for _, si := range regexp.MustCompile(`(?s)<si\b[^>]*>(.*?)</si>|<si\b[^>]*/>`).FindAllStringSubmatch(part("xl/sharedStrings.xml"), -1) {
			si[1] = regexp.MustCompile(`(?s)<rPh.*?</rPh>`).ReplaceAllString(si[1], "")
			shared = append(shared, stripped(si[1], `<r>`, `<t(?: [^>]*)?>([^<]*)</t>`))
		}
		wb := part("xl/workbook.xml")
		if wb == "" || strings.Contains(wb, `state="hidden"`) || strings.Contains(wb, "Print_Area") {
			return s, fs.ErrNotExist
		}
		var b strings.Builder
		for _, f := range z.File {
			if !strings.HasPrefix(f.Name, "xl/worksheets/sheet") {
				continue
			}
			ws := part(f.Name)
			if strings.Contains(ws, `hidden="1"`) || strings.Contains(ws, `hidden="true"`) {
				return s, fs.ErrNotExist
			}
			for _, c := range regexp.MustCompile(`<c [^>]*t="s"[^>]*><v>(\d+)</v>`).FindAllStringSubmatch(ws, -1) {
				var i int
				_, _ = fmt.Sscan(c[1], &i)
				if i < len(shared) {
					b.WriteString(shared[i] + " ")
				}
			}
			for _, c := range regexp.MustCompile(`<c [^>]*t="(?:str|inlineStr)"[^>]*>.*?<(?:v|t)>([^<]*)</(?:v|t)>`).FindAllStringSubmatch(ws, -1) {
				b.WriteString(html.UnescapeString(c[1]) + " ")
			}
		}
		s.text = b.String()
	}
	return s, nil
}

// stripped joins what a pattern finds between tags; a space stands for each tag that parts words.
func stripped(doc, parts, text string) string {
	re := regexp.MustCompile(parts + "|" + text)
	var b strings.Builder
	for _, m := range re.FindAllStringSubmatch(doc, -1) {
		if t := m[len(m)-1]; t != "" {
			b.WriteString(html.UnescapeString(t))
		} else {
			b.WriteByte(' ')
		}
	}
	return b.String()
}

// reportOffice writes the part of the document on office files.
func reportOffice(all []*office) []byte {
	var b bytes.Buffer
	b.WriteString("## Office files\n\nMade by `make corpus`: real files by other writers, turned into pages. Held against them: every word that a plain scan of the file's XML finds is looked for in the pages' text by pdftotext; headings, tables and items of lists in the source are counted beside the tags by pdfinfo; pdffonts says whether all fonts are embedded. Files are named by the hash of their content.\n\n| kind | files | turned into pages | refused | words | not in the pages | headings, tagged | tables, tagged | all fonts embedded |\n|---|---:|---:|---:|---:|---:|---:|---:|---:|\n")
	for _, kind := range []string{"docx", "odt", "xlsx", "ods"} {
		var n, ok, refused, words, lost, heads, h, tables, t, fonts int
		for _, o := range all {
			if o.kind != kind {
				continue
			}
			n++
			if o.refused != "" {
				refused++
				continue
			}
			if o.wrong != "" {
				continue
			}
			ok++
			words, lost, heads, h, tables, t = words+o.words, lost+o.lost, heads+o.heads, h+min(o.h, o.heads), tables+o.tables, t+min(o.t, o.tables)
			if len(o.loose) == 0 {
				fonts++
			}
		}
		structure := func(a, b int) string {
			if kind == "xlsx" || kind == "ods" {
				return ""
			}
			return fmt.Sprintf("%d, %d", a, b)
		}
		fmt.Fprintf(&b, "| %s | %d | %d | %d | %d | %d | %s | %s | %d of %d |\n", kind, n, ok, refused, words, lost, structure(heads, h), structure(tables, t), fonts, ok)
	}
	b.WriteString("\nEach file: pages, words of the source and those of them that were not found, what was told.\n\n")
	slices.SortFunc(all, func(x, y *office) int { return cmp.Or(cmp.Compare(x.kind, y.kind), cmp.Compare(x.path, y.path)) })
	for _, o := range all {
		fmt.Fprintf(&b, "- `%s`: ", path.Base(o.path))
		switch {
		case o.wrong != "":
			b.WriteString("FAILED: " + o.wrong + ".\n")
			continue
		case o.refused != "":
			b.WriteString("refused: " + o.refused + ".\n")
			continue
		}
		fmt.Fprintf(&b, "%d p.", o.pages)
		if !o.sourceless {
			fmt.Fprintf(&b, ", %d words", o.words)
		}
		if o.lost > 0 {
			fmt.Fprintf(&b, ", %d not found (%s)", o.lost, strings.Join(o.missing, ", "))
		}
		if len(o.loose) > 0 {
			fmt.Fprintf(&b, ", fonts not embedded: %s", strings.Join(o.loose, ", "))
		}
		if len(o.told) > 0 {
			b.WriteString("; told: " + strings.Join(o.told, " "))
		}
		b.WriteString("\n")
	}
	return b.Bytes()
}
