package desk

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"unicode/utf8"

	"gorm.io/gorm"

	"glenrain/core/child"
	"glenrain/core/finding"
	"glenrain/core/intake"
	"glenrain/core/naming"
	"glenrain/core/pdf"
	"glenrain/core/raster"
	"glenrain/core/step"
	"glenrain/desk/people"
	"glenrain/desk/store"
	"glenrain/porter"
)

// Refused is a file that could not be added, with the reason.
type Refused struct {
	Name     string
	Sentence string
}

func (r *Refused) Error() string { return fmt.Sprintf("“%s”: %s", r.Name, r.Sentence) }

// NeedsPassword is a locked file that did not open with the password that was given.
type NeedsPassword struct {
	Name     string
	Sentence string
}

func (n *NeedsPassword) Error() string { return fmt.Sprintf("“%s”: %s", n.Name, n.Sentence) }

func lockedSentence(password string) string {
	if password == "" {
		return "this file is locked: enter its password"
	}
	return "that password is wrong"
}

// Arrival is a file that is added.
type Arrival struct {
	Person, Folder uint
	Name           string         // of the file
	Password       string         // of a locked one
	RequestID      string         // of this request alone: a second one of the same id adds nothing more
	Options        intake.Options // how a file of another kind is turned into pages
}

// Arrive makes a document of a file that was written into the store: a PDF, a picture, whose pages are of its own size, or a file of another kind
// that is turned into pages. in is kept or dropped. What can't be
// added is a *Refused; one that needs a password, or another one, is a *NeedsPassword.
func (d *Desk) Arrive(ctx context.Context, a Arrival, in *store.Incoming) (*Document, error) {
	defer in.Drop()
	if err := d.may(ctx, a.Person, people.ActAdd, nil); err != nil {
		return nil, err
	}
	if a.Folder != 0 {
		if f, err := d.Folder(ctx, a.Person, a.Folder); err != nil || f.ID == 0 {
			return nil, errors.Join(err, step.Refuse("this folder has been deleted"))
		}
	}
	if was, err := d.asked(ctx, a.Person, a.RequestID); err != nil {
		return nil, err
	} else if was != nil {
		return d.row(ctx, was.DocumentID)
	}
	ctx, cancel := d.limited(ctx)
	defer cancel()
	row, err := d.arrive(ctx, a, in)
	return row, overran(ctx, err)
}

func (d *Desk) arrive(ctx context.Context, a Arrival, in *store.Incoming) (*Document, error) {
	fileName, password := a.Name, a.Password
	fileName = cleanName(filepath.Base(strings.ReplaceAll(fileName, "\\", "/")))
	row := &Document{FolderID: a.Folder, Name: trimExt(fileName), OriginalName: fileName, ChangedBy: a.Person, OwnerID: a.Person}
	copied, err := d.Store.Create()
	if err != nil {
		return nil, err
	}
	defer copied.Drop()
	pages := in // the PDF, where the file itself is none
	if kind := intake.Find(ctx, fileName, in, in.Size); kind != intake.None {
		if pages, err = d.Store.Create(); err != nil {
			return nil, err
		}
		defer pages.Drop()
		if row.Made, err = d.convert(ctx, kind, fileName, a.Options, in, pages); err != nil {
			return nil, err
		}
		if kind == intake.Source { // whose names differ by their endings alone
			row.Name = fileName
		}
	}
	r, err := d.read(ctx, pages, copied, password)
	if err != nil {
		return nil, err
	}
	switch r.Problem {
	case porter.NeedsPassword:
		return nil, &NeedsPassword{fileName, lockedSentence(password)}
	case porter.NeedsOwner:
		return nil, &NeedsPassword{fileName, "its owner allows no changes: give the owner's password to work on it"}
	case porter.NeedsFiles:
		return nil, &NeedsPassword{fileName, "the files attached to it are locked: give their password to work on it"}
	case "":
	default:
		return nil, &Refused{fileName, r.Sentence + "; nothing was changed"}
	}
	row.Working, row.Locked, row.Mended = r.Working, r.Locked, strings.Join(r.Wrong, "; ")
	if r.Kept != nil {
		row.Lock = toJSON(r.Kept)
	}
	if r.Picture != "" {
		row.Made = Made{Of: "picture", Picture: r.Picture}
	}
	base := ""
	switch {
	case r.Working:
		base, err = copied.KeepWritten()
	case pages != in:
		base, err = pages.KeepWritten()
	}
	if err != nil {
		return nil, err
	}
	if r.About != nil {
		row.About = toJSON(r.About)
	}
	if row.OriginalSHA, err = in.Keep(); err != nil {
		if base != "" {
			d.tidy(base)
		}
		return nil, err
	}
	out, err := d.addDocument(ctx, &newDocument{row, cmp.Or(base, row.OriginalSHA), a.RequestID, r.Found})
	if err == nil && !r.Partial {
		d.keepTexts(ctx, out, r.Texts)
	}
	d.wakeReading()
	return out, err
}

// convert turns a file of another kind into pages, in a file of their own.
func (d *Desk) convert(ctx context.Context, kind intake.Kind, name string, o intake.Options, in, pages *store.Incoming) (Made, error) {
	if kind == intake.Zip {
		return Made{}, &Refused{name, "this is a zip file or an unknown kind of package: its contents were not added"}
	}
	c := porter.Conversion{Path: in.Path(), Size: in.Size, Name: name, Kind: kind, Options: o, Folder: d.workFolder(), Out: pages.Path()}
	c.Options.Fonts = filepath.Join(d.dir, "fonts")
	out, err := porter.Convert(ctx, c)
	var not *porter.NotConverted
	var stopped *porter.Stopped
	switch {
	case errors.As(err, &not):
		if not.Cause != nil && ctx.Err() == nil {
			d.log.Warn("a file was not turned into pages", "bytes", in.Size, "kind", kind, "why", not.Cause)
		}
		return Made{}, &Refused{name, not.Sentence + "; nothing was changed"}
	case errors.As(err, &stopped):
		d.log.Warn("a file stopped what turns it into pages", "bytes", in.Size, "kind", kind, "why", stopped.Sentence)
		return Made{}, &Refused{name, stopped.Sentence + "; nothing was changed"}
	case err != nil:
		return Made{}, err
	}
	st, err := os.Stat(pages.Path())
	if err != nil {
		return Made{}, err
	}
	pages.Size = st.Size()
	return Made{Of: "file", Kind: kind, Options: o, Encoding: out.Encoding, Warnings: out.Told}, nil
}

// read has the porter read a file through, and the renderer look whether it finds the same in it. What our reader can't make a
// document of comes in as the renderer saves it, where it can. What stops the porter is not given to others.
func (d *Desk) read(ctx context.Context, in, copied *store.Incoming, password string) (*porter.Report, error) {
	arrival := porter.Arrival{Path: in.Path(), Size: in.Size, Password: password, Working: copied.Path()}
	r, err := porter.Arrive(ctx, arrival)
	var stopped *porter.Stopped
	if errors.As(err, &stopped) {
		d.log.Warn("a file stopped what reads it", "bytes", in.Size, "why", stopped.Sentence)
		r, err = &porter.Report{Problem: porter.Refused, Sentence: stopped.Sentence}, nil
	}
	if err != nil {
		return nil, err
	}
	if r.Problem == porter.Damaged {
		if saved, err := d.saved(ctx, in, copied); err == nil {
			saved.Wrong = []string{"only part of it could be recovered"}
			return saved, nil
		} else if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return r, nil
	}
	if r.Problem != "" || r.Picture != "" || r.Working {
		return r, nil
	}
	same, err := d.drawsAll(ctx, r.Pages, in)
	if err != nil || same {
		return r, err
	}
	// What is shown is to be what there is: a copy that both read in the same way.
	err = copyWhole(ctx, in, copied)
	r.Working = err == nil
	return r, err
}

// copyWhole writes a working copy of a file that was read through.
func copyWhole(ctx context.Context, in, copied *store.Incoming) error {
	doc, _, _, err := pdf.OpenVerified(ctx, in, in.Size, "")
	if err != nil {
		return err
	}
	return doc.WriteFull(ctx, copied.File(), pdf.FullOptions{KeepNumbers: true})
}

// drawsAll tells whether the renderer opens the file and finds the same pages in it: what is shown is to be what there is.
func (d *Desk) drawsAll(ctx context.Context, pages int, in *store.Incoming) (bool, error) {
	key := people.NewToken()
	ctx = child.For(ctx, key) // in a lane of its own, not behind the pictures that somebody waits for
	pic, err := d.pool.Render(ctx, raster.Request{Count: true, Source: raster.Source{Key: key, Parts: []raster.Part{{Path: in.Path(), Size: in.Size}}}})
	if ctx.Err() != nil {
		return false, ctx.Err()
	}
	if errors.Is(err, raster.ErrBusy) { // it is found out when the first picture is drawn
		return true, nil
	}
	return err == nil && pic.Pages == pages, nil
}

// saved is the last resort for a damaged file: what PDFium makes of it, read through in its turn.
func (d *Desk) saved(ctx context.Context, in, copied *store.Incoming) (*porter.Report, error) {
	if in.Size > maxSaved {
		return nil, pdf.ErrTooLarge
	}
	pic, err := d.pool.Render(ctx, raster.Request{Save: true, Source: raster.Source{Key: people.NewToken(), Parts: []raster.Part{{Path: in.Path(), Size: in.Size}}}})
	if err != nil {
		return nil, err
	}
	again, err := d.Store.Create()
	if err != nil {
		return nil, err
	}
	defer again.Drop()
	if _, err := again.Write(pic.Data); err != nil {
		return nil, err
	}
	r, err := porter.Arrive(ctx, porter.Arrival{Path: again.Path(), Size: again.Size, Working: copied.Path()})
	if err != nil {
		return nil, err
	}
	if r.Problem != "" || r.Pages == 0 {
		return nil, pdf.ErrNoPages
	}
	if !r.Working {
		r.Working = true
		_, err = copied.File().Write(pic.Data)
	}
	return r, err
}

// maxSaved is the largest file that PDFium is asked to save, which it does in memory.
const maxSaved = 64 << 20

// newDocument is a document that is going to be stored, with its first state.
type newDocument struct {
	row     *Document
	base    string // the file that it stands on
	request string // that asked for it
	found   []finding.Finding
}

// files are those that were kept for it.
func (n *newDocument) files() []string {
	if n.base == n.row.OriginalSHA {
		return []string{n.base}
	}
	return []string{n.row.OriginalSHA, n.base}
}

// addDocument stores a new document. What was kept for it goes if that fails; where the same request was carried out meanwhile, the document that
// came of it is given.
func (d *Desk) addDocument(ctx context.Context, n *newDocument) (*Document, error) {
	err := d.addDocuments(ctx, nil, n)
	if err == nil {
		return n.row, nil
	}
	if was, aerr := d.asked(ctx, n.row.ChangedBy, n.request); aerr == nil && was != nil {
		return d.row(ctx, was.DocumentID)
	}
	return nil, err
}

// addDocuments stores new documents, all in one transaction, in which first may look whether that may be: all of them are there then, or none. What was kept for them goes
// if it fails.
func (d *Desk) addDocuments(ctx context.Context, first func(tx *gorm.DB) error, list ...*newDocument) (err error) {
	var files []string
	for _, n := range list {
		files = append(files, n.files()...)
	}
	defer func() {
		if err != nil {
			d.tidy(files...)
		}
	}()
	for _, n := range list {
		if err := d.describeNew(n); err != nil {
			return err
		}
	}
	err = d.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if first != nil {
			if err := first(tx); err != nil {
				return err
			}
		}
		for _, n := range list {
			if err := d.createIn(ctx, tx, n); err != nil {
				return err
			}
		}
		return nil
	})
	if err == nil {
		d.Store.Unpin(files...)
		d.wakeReading()
	}
	return err
}

// describeNew says in a new document's row what is known of it from its base.
func (d *Desk) describeNew(n *newDocument) error {
	b, err := d.base(n.base)
	if err != nil {
		return err
	}
	row, found := n.row, n.found
	if row.Mended != "" {
		found = append([]finding.Finding{{Kind: "mended", Sentence: "was damaged and has been repaired: " + row.Mended}}, found...)
	}
	if len(row.Made.Warnings) > 0 && row.Made.Of == "file" {
		found = append(found, finding.Finding{Kind: "left-out", Sentence: "some content was left out: " + strings.TrimSuffix(step.Within(row.Made.Warnings[0]), ".")})
	}
	if row.Locked {
		found = append([]finding.Finding{{Kind: "locked", Sentence: "was locked with a password"}}, found...)
	}
	row.Arrived = toJSON(found)
	row.Pages, row.Weight = len(b.pages), b.doc.Size()
	row.Paper = paperOf(b.doc)
	row.NextNo, row.NameKey, row.SortKey = 1, nameKey(row.Name), sortKey(row.Name)
	row.FirstKey = step.Key{Ordinal: 1}.String()
	row.CreatedAt, row.ChangedAt = d.now(), d.now()
	return nil
}

// createIn stores a new document that is described, within a transaction.
func (d *Desk) createIn(ctx context.Context, tx *gorm.DB, n *newDocument) error {
	row := n.row
	if err := tx.Create(row).Error; err != nil {
		return err
	}
	st := &State{DocumentID: row.ID, BaseSHA: n.base}
	if err := tx.Create(st).Error; err != nil {
		return err
	}
	row.HeadID, row.TipID = st.ID, st.ID
	if err := tx.Save(row).Error; err != nil {
		return err
	}
	if err := d.NoteIn(ctx, tx, people.Record{PersonID: row.ChangedBy, What: "added", DocumentID: row.ID, Document: row.Name}); err != nil {
		return err
	}
	return d.answer(tx, Request{ID: n.request, PersonID: row.ChangedBy, DocumentID: row.ID})
}

// cleanName makes a name that somebody typed or a browser sent fit for a file name.
func cleanName(s string) string {
	s = strings.Map(func(r rune) rune {
		if r < 32 || r == 127 || r == utf8.RuneError || strings.ContainsRune(`/\:*?"<>|`, r) {
			return -1
		}
		return r
	}, naming.Harmless(s))
	s = strings.Trim(s, " .")
	for len(s) > 180 {
		_, n := utf8.DecodeLastRuneInString(s)
		s = s[:len(s)-n]
	}
	if s == "" {
		s = "Untitled"
	}
	return s
}

func trimExt(name string) string {
	ext := filepath.Ext(name)
	if len(ext) > 1 && (len(ext) <= 5 || strings.EqualFold(ext, ".markdown") || strings.EqualFold(ext, ".xhtml")) && len(ext) < len(name) {
		return strings.TrimSuffix(name, ext)
	}
	return name
}

func toJSON(v any) string {
	b, err := json.Marshal(v)
	if err != nil {
		panic(err) // only plain values come here
	}
	return string(b)
}

// Found gives the findings that the document arrived with.
func (r *Document) Found() []finding.Finding {
	var out []finding.Finding
	_ = json.Unmarshal([]byte(r.Arrived), &out)
	return out
}

// Paper names a page size in points: "A4", "A4 landscape", or its millimetres.
func Paper(w, h float64) string {
	switch name, landscape := pdf.Paper(w, h); {
	case name == "":
		return fmt.Sprintf("%.0f × %.0f mm", w/pdf.MM, h/pdf.MM)
	case landscape:
		return name + " landscape"
	default:
		return name
	}
}

// paperPages is how many pages are looked at for the name of a document's paper.
const paperPages = 300

func paperOf(doc *pdf.Document) string {
	pages, err := doc.Pages()
	if err != nil {
		return ""
	}
	name := ""
	for i, l := range pages {
		p := Paper(doc.Geometry(l.Ref).Seen())
		if i > 0 && p != name {
			return "several sizes"
		}
		name = p
		if i >= paperPages {
			break
		}
	}
	return name
}
