package desk

import (
	"archive/zip"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"gorm.io/gorm"

	"glenrain/core/arrange"
	"glenrain/core/finding"
	"glenrain/core/naming"
	"glenrain/core/outgoing"
	"glenrain/core/pdf"
	"glenrain/core/step"
	"glenrain/desk/background"
	"glenrain/desk/people"
)

// Splitting asks for the parts of a document as documents of their own, or as files in a zip.
type Splitting struct {
	Document, Seen uint
	Person         uint
	RequestID      string
	Cuts           []step.Key // the pages ahead of which it is cut, in their order
	Names          []string   // of the parts, one more than cuts
	Skip           []bool     // parts that are left out; none if nil
	Folder         uint       // where the parts come to stand
	Zip            string     // or the name of a zip that is handed out
}

// mostParts is how many parts a document is split into.
const mostParts = 5000

// Part is a part of a document, before it is split.
type Part struct {
	From, To int // indexes; To is not in it
	Weight   int64
}

// Parts gives the parts that cuts make, with what each weighs about as a file.
func (d *Desk) Parts(ctx context.Context, s *Snapshot, cuts []step.Key) ([]Part, error) {
	at, err := s.cuts(cuts)
	if err != nil {
		return nil, err
	}
	w, err := pdf.NewWeigher(s.PDF.In(ctx))
	if err != nil {
		return nil, err
	}
	out := make([]Part, 0, len(at)+1)
	from := 0
	for _, to := range append(at, s.Document.Pages) {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		out = append(out, Part{from, to, w.Part(from, to)})
		from = to
	}
	return out, nil
}

// cuts gives the indexes at which parts begin, without the first.
func (s *Snapshot) cuts(keys []step.Key) ([]int, error) {
	if len(keys)+1 > mostParts {
		return nil, step.Refuse("you can split a document into up to %s", step.Count(mostParts, "part"))
	}
	at := s.Indexes(keys)
	slices.Sort(at)
	for i, n := range at {
		switch {
		case n < 0:
			return nil, step.Refuse("a page where you split has been removed: check the cuts; nothing was split")
		case n == 0:
			return nil, step.Refuse("a cut before the first page leaves an empty part: remove it")
		case i > 0 && n <= at[i-1]:
			return nil, step.Refuse("two cuts before page %d leave an empty part: remove one", n+1)
		}
	}
	return at, nil
}

// SplitDone is what came of splitting.
type SplitDone struct {
	Documents []uint
	Zip       *HandOut
}

// Split makes documents, or a zip of files, of the parts of a document, which stays as it is. All of them are made, or none.
func (d *Desk) Split(ctx context.Context, w *background.Work, p Splitting) (*SplitDone, error) {
	s, err := d.Look(ctx, p.Person, p.Document)
	if err != nil {
		return nil, err
	}
	act := people.ActAdd
	if p.Zip != "" {
		act = people.ActHandOut
	}
	if err := d.may(ctx, p.Person, act, &s.Document); err != nil {
		return nil, err
	}
	if was, err := d.asked(ctx, p.Person, p.RequestID); err != nil {
		return nil, err
	} else if was != nil && was.HandOutID != 0 {
		h, err := d.handedOut(ctx, was.HandOutID)
		return &SplitDone{Zip: h}, err
	}
	if s.State.ID != p.Seen {
		return nil, &Conflict{s}
	}
	at, err := s.cuts(p.Cuts)
	if err != nil {
		return nil, err
	}
	if len(at) == 0 {
		return nil, step.Refuse("there are no cuts yet: add one between two pages")
	}
	if len(p.Names) != len(at)+1 {
		return nil, step.Refuse("the cuts have changed: check the parts again")
	}
	var parts []part
	names := make([]string, 0, len(p.Names))
	from := 0
	for i, to := range append(at, s.Document.Pages) {
		if i >= len(p.Skip) || !p.Skip[i] {
			if strings.TrimSpace(p.Names[i]) == "" {
				return nil, step.Refuse("part %d has no name", i+1)
			}
			pages := make([]int, 0, to-from)
			for n := from; n < to; n++ {
				pages = append(pages, n)
			}
			name := trimPDF(cleanName(p.Names[i]))
			names = append(names, name)
			parts = append(parts, part{snap: s, at: pages, name: name, folder: p.Folder, person: p.Person, request: subRequest(p.RequestID, i)})
		}
		from = to
	}
	if len(parts) == 0 {
		return nil, step.Refuse("every part is left out: select at least one")
	}
	if a, b, twice := naming.Twice(names); twice {
		return nil, step.Refuse("two parts would be called “%s” (pages %s and %s): change a name, or add the counter to the pattern", names[b], step.WriteSet(parts[a].at), step.WriteSet(parts[b].at))
	}
	if p.Zip != "" {
		h, err := d.zipParts(ctx, w, s, parts, p)
		if err != nil {
			return nil, err
		}
		return &SplitDone{Zip: h}, nil
	}
	if p.Folder != 0 {
		if f, err := d.Folder(ctx, p.Person, p.Folder); err != nil || f.ID == 0 {
			return nil, errors.Join(err, step.Refuse("this folder has been deleted"))
		}
	}
	if was, err := d.splitBefore(ctx, parts); was != nil || err != nil {
		return was, err
	}
	out := &SplitDone{}
	made := make([]*newDocument, 0, len(parts))
	tidy := func() {
		for _, n := range made {
			d.tidy(n.files()...)
		}
	}
	for i := range parts {
		w.Set(i, len(parts))
		n, err := d.newPart(ctx, parts[i])
		if err != nil {
			tidy()
			return nil, err
		}
		made = append(made, n)
	}
	if err := d.addDocuments(ctx, func(tx *gorm.DB) error { return present(tx, p.Document) }, made...); err != nil {
		if was, aerr := d.splitBefore(ctx, parts); aerr == nil && was != nil { // the same request, twice at once
			return was, nil
		}
		return nil, err
	}
	for _, n := range made {
		out.Documents = append(out.Documents, n.row.ID)
	}
	w.Set(len(parts), len(parts))
	return out, nil
}

// splitBefore gives what came of the same request before; nothing where it was not carried out.
func (d *Desk) splitBefore(ctx context.Context, parts []part) (*SplitDone, error) {
	out := &SplitDone{}
	for _, p := range parts {
		was, err := d.asked(ctx, p.person, p.request)
		if err != nil || was == nil { // all of them were made at once, or none
			return nil, err
		}
		out.Documents = append(out.Documents, was.DocumentID)
	}
	return out, nil
}

func subRequest(id string, i int) string {
	if id == "" {
		return ""
	}
	return fmt.Sprintf("%s-%d", id, i+1)
}

// writePart writes pages of a document as a file: to go on working on, or to hand out.
func (d *Desk) writePart(ctx context.Context, p part, out bool) (sha string, pages int, warnings []string, err error) {
	sha, _, err = d.Store.Put(func(to io.Writer) error {
		pages, warnings, err = d.writePartTo(ctx, p, out, to)
		return err
	})
	return sha, pages, warnings, err
}

func (d *Desk) writePartTo(ctx context.Context, p part, out bool, to io.Writer) (int, []string, error) {
	src := &sources{desk: d, person: p.person}
	defer src.close()
	env := &step.Env{Now: d.now(), Sources: src}
	_, _ = rand.Read(env.Seed[:]) // never fails
	in := arrange.Insert{From: step.SourceRef(fmt.Sprintf("state:%d", p.snap.State.ID)), Name: p.snap.Document.Name, Marks: "as they are", Moves: "keep"}
	in.Pages.Rule = step.WriteSet(p.at)
	doc, warnings, err := arrange.Part(ctx, env, in)
	if err != nil {
		return 0, nil, err
	}
	opt := pdf.FullOptions{Once: true}
	if out {
		opt = outgoing.Prepare(doc, d.now())
	}
	opt.ID = env.NewID()
	return len(p.at), warnings, doc.WriteFull(ctx, to, opt)
}

// madeHere is a document of a file that was made here. The file goes if that can't be.
func (d *Desk) madeHere(ctx context.Context, row *Document, sha string, pages int, request string) (*newDocument, error) {
	b, err := d.base(sha)
	if err == nil && len(b.pages) != pages {
		err = fmt.Errorf("%d pages were split into %d", pages, len(b.pages))
	}
	var found []finding.Finding
	if err == nil {
		found, err = finding.Run(ctx, b.doc, finding.Arrival)
	}
	if err != nil {
		d.tidy(sha)
		return nil, err
	}
	return &newDocument{row, sha, request, found}, nil
}

// zipParts hands the parts out as one zip.
func (d *Desk) zipParts(ctx context.Context, w *background.Work, s *Snapshot, parts []part, p Splitting) (*HandOut, error) {
	name := strings.TrimSuffix(cleanName(p.Zip), ".zip") + ".zip"
	if err := d.nameTaken(ctx, d.db.WithContext(ctx), p.Person, name); err != nil {
		return nil, err
	}
	files := make([]zipped, len(parts))
	for i, part := range parts {
		files[i] = zipped{name: part.name + ".pdf", write: func(to io.Writer) error { _, _, err := d.writePartTo(ctx, part, true, to); return err }}
	}
	h := &HandOut{DocumentID: s.Document.ID, StateID: s.State.ID, Name: name, Pages: s.Document.Pages, Files: len(files), PersonID: p.Person, At: d.now()}
	return h, d.handZip(ctx, w, h, files, p.RequestID)
}

// zipped is a file that comes into a zip.
type zipped struct {
	name  string
	write func(io.Writer) error
}

// handZip writes files into a zip, keeps it as what was handed out, and notes that.
func (d *Desk) handZip(ctx context.Context, w *background.Work, h *HandOut, files []zipped, request string) error {
	var err error
	h.NameKey = nameKey(h.Name)
	h.SHA, h.Size, err = d.Store.Put(func(out io.Writer) error {
		z := zip.NewWriter(out)
		for i, f := range files {
			if err := ctx.Err(); err != nil {
				return err
			}
			w.Set(i, len(files))
			to, err := z.CreateHeader(&zip.FileHeader{Name: f.name, Method: zip.Store, Modified: h.At}) // a PDF is compressed already
			if err == nil {
				err = f.write(to)
			}
			if err != nil {
				return fmt.Errorf("“%s”: %w", f.name, err)
			}
		}
		return z.Close()
	})
	if err != nil {
		return err
	}
	err = d.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		var also []uint
		_ = json.Unmarshal([]byte(h.Also), &also) // empty for most
		for _, id := range append(also, h.DocumentID) {
			if err := present(tx, id); err != nil {
				return err
			}
		}
		if err := d.nameTaken(ctx, tx, h.PersonID, h.Name); err != nil {
			return err
		}
		if err := tx.Create(h).Error; err != nil {
			return err
		}
		if err := d.NoteIn(ctx, tx, people.Record{PersonID: h.PersonID, What: "handed out", DocumentID: h.DocumentID, Detail: h.Name}); err != nil {
			return err
		}
		return d.answer(tx, Request{ID: request, PersonID: h.PersonID, DocumentID: h.DocumentID, HandOutID: h.ID})
	})
	if err != nil {
		d.tidy(h.SHA)
		return err
	}
	d.Store.Unpin(h.SHA)
	return nil
}

// CutsAt gives the pages at which bookmarks of a level, or of those above it, lead, as places to cut, with their titles by page.
func (s *Snapshot) CutsAt(level int) (cuts []step.Key, titles map[step.Key]string) {
	starts, named := arrange.BookmarkStarts(s.PDF, level)
	pages := s.Pages()
	titles = map[step.Key]string{}
	for i, n := range starts {
		titles[pages[n].Key] = named[i]
		if n > 0 {
			cuts = append(cuts, pages[n].Key)
		}
	}
	return cuts, titles
}

// CutsBySize gives the pages at which parts begin that weigh no more than so many bytes each.
func (s *Snapshot) CutsBySize(ctx context.Context, most int64) ([]step.Key, error) {
	w, err := pdf.NewWeigher(s.PDF.In(ctx))
	if err != nil {
		return nil, err
	}
	pages := s.Pages()
	at := w.Fill(most)
	out := make([]step.Key, len(at))
	for i, n := range at {
		out[i] = pages[n].Key
	}
	return out, nil
}
