package desk

import (
	"context"
	"fmt"
	"io"
	"strings"

	"glenrain/core/outgoing"
	"glenrain/core/pdf"
	"glenrain/core/step"
	"glenrain/desk/people"
)

// Apart asks for a step whose outcome is a document of its own (step.Kind.Apart): written anew, without anything that is not reached any more, and without a trail that
// leads back to what was there.
type Apart struct {
	Change
	New  string // the name of the new document; that of the old one if empty
	Sure func(ctx context.Context, doc *pdf.Document) error
}

// DoApart does such a step. The document that it is done on stays as it is. Sure, where it is set, looks through the file that was written, as it is read back; where it
// gives an error, no document is made. warnings are the step's.
func (d *Desk) DoApart(ctx context.Context, a Apart) (made *Document, warnings []string, err error) {
	if err := d.seen(ctx, a.Person, a.Document, d.actOf(a.Name)); err != nil {
		return nil, nil, err
	}
	if err := d.may(ctx, a.Person, people.ActAdd, nil); err != nil {
		return nil, nil, err
	}
	if was, err := d.asked(ctx, a.Person, a.RequestID); err != nil {
		return nil, nil, err
	} else if was != nil {
		made, err = d.row(ctx, was.DocumentID)
		return made, nil, err
	}
	head, s, err := d.toTry(ctx, a.Change)
	if err != nil {
		return nil, nil, err
	}
	if !d.registry.Apart(a.Name) {
		return nil, nil, step.Refuse("this step changes the document itself")
	}
	timed, cancel := d.limited(ctx)
	defer cancel()
	type outcome struct {
		sha   string
		pages int
		res   *step.Result
	}
	out, err := bounded(timed, d, a.Name, func(ctx context.Context) (o outcome, err error) {
		src := &sources{desk: d, person: a.Person}
		defer src.close()
		way := &outgoing.Way{At: d.now()}
		copy(way.ID[:], people.NewToken())
		env := &step.Env{Now: way.At, Name: head.Document.Name, Seed: way.ID, Step: head.Document.NextNo, Keys: head.Keys, Sources: src}
		defer d.tools(env, "apart")()
		doc, res, err := d.registry.Run(ctx, head.PDF, s, env)
		if err != nil {
			return o, err
		}
		pages, err := doc.Pages()
		if err != nil {
			return o, err
		}
		o.res, o.pages = res, len(pages)
		o.sha, _, err = d.Store.Put(func(to io.Writer) error { return way.Write(ctx, doc.Fork(), to) })
		return o, err
	}, func(o outcome) { d.tidy(o.sha) })
	if err != nil {
		return nil, nil, err
	}
	if a.Sure != nil {
		b, err := d.base(out.sha)
		if err == nil {
			err = a.Sure(ctx, b.doc.In(ctx))
		}
		if err != nil {
			d.tidy(out.sha)
			return nil, nil, err
		}
	}
	name := cleanName(a.New)
	if strings.TrimSpace(a.New) == "" {
		name = head.Document.Name
	}
	row := &Document{FolderID: head.Document.FolderID, Name: name, OriginalSHA: out.sha, OriginalName: name + ".pdf", ChangedBy: a.Person, OwnerID: a.Person,
		Made: Made{Of: "step", Name: fmt.Sprintf("“%s”: %s", head.Document.Name, step.Within(out.res.Sentence)), Warnings: out.res.Warnings}}
	n, err := d.madeHere(ctx, row, out.sha, out.pages, a.RequestID)
	if err != nil {
		return nil, nil, err
	}
	made, err = d.addDocument(ctx, n)
	return made, out.res.Warnings, err
}
