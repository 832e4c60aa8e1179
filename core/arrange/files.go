package arrange

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"

	"glenrain/core/nav"
	"glenrain/core/pdf"
	"glenrain/core/step"
)

// attached is a file that a document carries: its entry in the name tree EmbeddedFiles (ISO 32000-2, 7.7.4, 7.11.4).
type attached struct {
	name pdf.String
	spec pdf.Object
}

const maxAttached = 10_000 // files of one document

// attachedTo lists what stands in one of a document's name trees, in its order: EmbeddedFiles, or JavaScript.
func attachedTo(doc *pdf.Document, tree pdf.Name) (out []attached) {
	nav.Names(doc, doc.Dict(doc.Catalog().Get("Names")).Get(tree), func(name pdf.String, v pdf.Object) {
		if doc.Dict(v) != nil && len(out) < maxAttached {
			out = append(out, attached{name, v})
		}
	})
	return out
}

// bringScripts brings the scripts that a document runs when it is opened (12.6.4.17), which the scripts of its fields may call.
func bringScripts(dst, src *pdf.Document, c *pdf.Copier, name string) ([]string, error) {
	scripts := attachedTo(src, "JavaScript")
	if len(scripts) == 0 {
		return nil, nil
	}
	if _, err := merge(dst, c, "JavaScript", scripts); err != nil {
		return nil, err
	}
	return []string{fmt.Sprintf("%s of “%s” was added with its form, because the fields use it.", step.Count(len(scripts), "script"), name)}, nil
}

// bringFiles attaches to dst what is attached to src, which is called name in the sentences that it gives. A file whose name dst has
// already gets another one in the list; its own file name stays.
func bringFiles(dst, src *pdf.Document, c *pdf.Copier, name string) (told []string, err error) {
	files := attachedTo(src, "EmbeddedFiles")
	switch {
	case len(files) == 0:
		return nil, nil
	case src.FilesLocked():
		return []string{fmt.Sprintf("Files attached to “%s” are locked and were not included.", name)}, nil
	}
	renamed, err := merge(dst, c, "EmbeddedFiles", files)
	if err != nil {
		return nil, err
	}
	words := fmt.Sprintf("Includes %s of “%s”", step.Count(len(files), "attached file"), name)
	if renamed > 0 {
		words += fmt.Sprintf(", %d under another name, since that name is taken", renamed)
	}
	return []string{words + "."}, nil
}

// merge copies entries into a name tree of dst. One whose name is taken gets another; it tells how many did.
func merge(dst *pdf.Document, c *pdf.Copier, tree pdf.Name, files []attached) (renamed int, err error) {
	have := attachedTo(dst, tree)
	taken := make(map[string]bool, len(have)+len(files))
	for _, f := range have {
		taken[pdf.Text(f.name)] = true
	}
	for _, f := range files {
		spec, err := c.Object(f.spec)
		if err != nil {
			return 0, err
		}
		if spec == nil {
			continue
		}
		if was := pdf.Text(f.name); taken[was] {
			renamed++
			f.name = pdf.TextString(freeName(was, taken))
		}
		taken[pdf.Text(f.name)] = true
		have = append(have, attached{f.name, spec})
	}
	slices.SortStableFunc(have, func(a, b attached) int { return cmp.Compare(a.name, b.name) })
	list := make(pdf.Array, 0, 2*len(have))
	for _, f := range have {
		list = append(list, f.name, f.spec)
	}
	names := dst.Dict(dst.Catalog().Get("Names")).Clone()
	names.Set(tree, dst.Add(pdf.NewDict("Names", list)))
	dst.Edit(dst.Root()).Set("Names", names)
	return renamed, nil
}

// freeName puts a number behind a file's name, ahead of its ending: "levels 2.csv".
func freeName(name string, taken map[string]bool) string {
	ending := path.Ext(name)
	stem := strings.TrimSuffix(name, ending)
	for n := 2; ; n++ {
		if free := fmt.Sprintf("%s %d%s", stem, n, ending); !taken[free] {
			return free
		}
	}
}
