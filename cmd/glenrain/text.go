package main

import (
	"bufio"
	"context"
	"os"

	"glenrain/core/content"
	"glenrain/core/layout"
	"glenrain/core/pdf"
	"glenrain/core/step"
)

type textCommand struct {
	File     string `arg:"" help:"The PDF."`
	Pages    string `help:"Pages, such as 3-8 or last." default:"all"`
	JSON     bool   `name:"json" help:"One line of JSON for each page: its boxes, glyphs, words and paragraphs with positions."`
	Body     bool   `help:"Leave out headers and footers that repeat from page to page."`
	Password string `help:"Password of a locked file."`
}

// Run writes the text of pages in the order in which it is read: a paragraph a line, an empty line between two, the cells of a row
// with tabs between them, a form feed behind each page.
func (c *textCommand) Run(ctx context.Context) error {
	doc, err := openFile(ctx, c.File, []string{c.Password}, false)
	if err != nil {
		return err
	}
	defer doc.close()
	which, err := step.EvalRule(c.Pages, len(doc.pages))
	if err != nil {
		return err
	}
	if len(which) == 0 {
		return step.Refuse("no page is selected")
	}
	refs := make([]pdf.Ref, len(which))
	for i, n := range which {
		refs[i] = doc.pages[n].Ref
	}
	var skip []map[int]bool
	if c.Body && !c.JSON {
		edges := make([][]layout.Edge, len(refs))
		err := layout.Pages(ctx, doc.Document, refs, content.Options{}, 0, func(i int, l *layout.Page, b []byte) []byte {
			edges[i] = l.Edges(doc.Geometry(refs[i]).Visible)
			return b
		}, func(int, []byte) error { return nil })
		if err != nil {
			return err
		}
		skip = layout.Repeats(edges)
	}
	out := bufio.NewWriterSize(os.Stdout, 1<<16)
	err = layout.Pages(ctx, doc.Document, refs, content.Options{}, 0, func(i int, l *layout.Page, b []byte) []byte {
		if c.JSON {
			return l.AppendJSON(b, which[i]+1, doc.Geometry(refs[i]))
		}
		if skip != nil {
			l.Leave(skip[i])
		}
		return append(l.AppendPage(b), '\f')
	}, func(_ int, b []byte) error {
		_, err := out.Write(b)
		return err
	})
	if err != nil {
		return err
	}
	return out.Flush()
}
