package arrange

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"

	"glenrain/core/pdf"
	"glenrain/core/step"
)

// attached is a file that a document carries: its entry in the name tree EmbeddedFiles (ISO 32000-2, 7.7.4, 7.11.4).
type attached struct {
	name pdf.String
	spec pdf.Object
}

const (
	maxNameTree = 32     // levels of a name tree
	maxAttached = 10_000 // files of one document
)

// attachedTo lists the files that a document carries, in the order of its name tree.
func attachedTo(doc *pdf.Document) (out []attached) {
	seen := map[pdf.Ref]bool{}
	var walk func(o pdf.Object, depth int)
	walk = func(o pdf.Object, depth int) {
		if r, ok := o.(pdf.Ref); ok {
			if seen[r] {
				return
			}
			seen[r] = true
		}
		node := doc.Dict(o)
		if node == nil || depth > maxNameTree {
			return
		}
		names := doc.Array(node.Get("Names"))
		for i := 0; i+1 < len(names) && len(out) < maxAttached; i += 2 {
			if name, ok := doc.Resolve(names[i]).(pdf.String); ok && doc.Dict(names[i+1]) != nil {
				out = append(out, attached{name, names[i+1]})
			}
		}
		for _, k := range doc.Array(node.Get("Kids")) {
			walk(k, depth+1)
		}
	}
	walk(doc.Dict(doc.Catalog().Get("Names")).Get("EmbeddedFiles"), 0)
	return out
}

// bringFiles attaches to dst what is attached to src, which is called name in the sentences that it gives. A file whose name dst has
// already gets another one in the list; its own file name stays.
func bringFiles(dst, src *pdf.Document, c *pdf.Copier, name string) (told []string, err error) {
	files := attachedTo(src)
	switch {
	case len(files) == 0:
		return nil, nil
	case src.FilesLocked():
		return []string{fmt.Sprintf("Files attached to “%s” are locked and were not included.", name)}, nil
	}
	have := attachedTo(dst)
	taken := make(map[string]bool, len(have)+len(files))
	for _, f := range have {
		taken[pdf.Text(f.name)] = true
	}
	renamed := 0
	for _, f := range files {
		spec, err := c.Object(f.spec)
		if err != nil {
			return nil, err
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
	names.Set("EmbeddedFiles", dst.Add(pdf.NewDict("Names", list)))
	dst.Edit(dst.Root()).Set("Names", names)
	words := fmt.Sprintf("Includes %s of “%s”", step.Count(len(files), "attached file"), name)
	if renamed > 0 {
		words += fmt.Sprintf(", %d under another name, since that name is taken", renamed)
	}
	return []string{words + "."}, nil
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
