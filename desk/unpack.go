package desk

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"
	"time"

	"glenrain/core/intake"
	"glenrain/core/intake/pack"
	"glenrain/core/step"
	"glenrain/desk/people"
	"glenrain/desk/store"
	"glenrain/porter"
)

// Arrived is what came of one file: a document, or the reason why there is none.
type Arrived struct {
	Name     string // of the file, with the folders it came in
	Document *Document
	Same     *Document // a document that stands on the same bytes and was there before
	Err      error     // *Refused, *NeedsPassword, or another
}

// Limits of one upload: of all that is in it, however deep.
const (
	maxUnpacked = 2000             // documents
	maxInside   = 600 << 20        // bytes of one file in another
	maxTogether = 2048 << 20       // and of all that are unpacked
	maxNested   = 3                // zips and mails in one another
	maxArriving = 40 * time.Minute // how long it may take
)

// upload is what is left of the limits of an upload.
type upload struct {
	documents int
	bytes     int64
	depth     int // of the file that arrives in others
}

var errLongUpload = errors.New("took longer than 40 minutes and was stopped")

// ArriveEach makes documents of a file: of what is in a zip file, with its folders; of a mail and, one by one, of what is attached to it; of
// any other one itself. each is told of every one of them. An error is none of a file's.
func (d *Desk) ArriveEach(ctx context.Context, a Arrival, in *store.Incoming, each func(Arrived)) error {
	u := &upload{documents: maxUnpacked, bytes: maxTogether}
	ctx, cancel := context.WithTimeoutCause(ctx, maxArriving, errLongUpload)
	defer cancel()
	err := d.arriveEach(ctx, a, in, path.Dir(strings.ReplaceAll(a.Name, "\\", "/")), u, each)
	if errors.Is(err, errEnough) {
		return nil
	}
	if err != nil && errors.Is(context.Cause(ctx), errLongUpload) {
		return &step.Refusal{Sentence: "the upload " + errLongUpload.Error() + ": the files before were added, the others were not", Cause: err}
	}
	return err
}

func (d *Desk) arriveEach(ctx context.Context, a Arrival, in *store.Incoming, dir string, u *upload, each func(Arrived)) error {
	defer in.Drop()
	shown := a.Name
	if dir != "." && dir != "/" {
		f, err := d.EnsurePath(ctx, a.Person, a.Folder, strings.Split(strings.Trim(dir, "/"), "/"))
		if err != nil {
			return refusedOr(err, shown, each)
		}
		a.Folder = f
	}
	kind := intake.Find(ctx, a.Name, in, in.Size)
	if kind == intake.Zip {
		if err := d.may(ctx, a.Person, people.ActAdd, nil); err != nil {
			return err
		}
		return d.unpack(ctx, a, in, kind, u, each)
	}
	if u.documents <= 0 {
		each(Arrived{Name: shown, Err: &Refused{path.Base(shown), "over " + step.Thousands(maxUnpacked) + " files in one upload, the most that can be added: the others were not added"}})
		return errEnough
	}
	u.documents--
	mail := in // it is read once more for what is attached to it
	if kind == intake.Mail {
		var err error
		if mail, err = d.Store.CopyOf(in); err != nil {
			return err
		}
		defer mail.Drop()
	}
	row, err := d.Arrive(ctx, a, in)
	if err != nil {
		return refusedOr(err, shown, each)
	}
	same, err := d.same(ctx, a.Person, row)
	if err != nil {
		return err
	}
	each(Arrived{Name: shown, Document: row, Same: same})
	if kind != intake.Mail {
		return nil
	}
	return d.unpack(ctx, a, mail, kind, u, each)
}

// errEnough ends an upload whose limits are reached, which was told.
var errEnough = errors.New("the limits of an upload are reached")

// refusedOr tells of an error that is a file's, and gives any other.
func refusedOr(err error, name string, each func(Arrived)) error {
	var refused *Refused
	var password *NeedsPassword
	var refusal *step.Refusal
	if errors.As(err, &refused) || errors.As(err, &password) || errors.As(err, &refusal) {
		each(Arrived{Name: name, Err: err})
		return nil
	}
	return err
}

// unpack has each file arrive that is in a zip, or attached to a mail. One that can't be read never stops the others.
func (d *Desk) unpack(ctx context.Context, a Arrival, in *store.Incoming, kind intake.Kind, u *upload, each func(Arrived)) error {
	base := path.Base(a.Name)
	refuse := func(why string) { each(Arrived{Name: a.Name, Err: &Refused{base, why}}) }
	n := 0
	if u.depth >= maxNested {
		if kind == intake.Zip {
			refuse("its files are nested more than 3 levels deep, the most that can be unpacked; nothing was changed")
			return nil
		}
		err := porter.Unpack(ctx, porter.Packed{Path: in.Path(), Size: in.Size, Kind: kind, Folder: d.workFolder(), Files: 1, One: maxInside, All: max(1, u.bytes)}, func(porter.Member) error { n++; return nil })
		if n > 0 && err == nil {
			refuse("its attachments were not added: they are nested more than 3 levels deep, the most that can be unpacked")
		}
		return ctx.Err()
	}
	p := porter.Packed{Path: in.Path(), Size: in.Size, Kind: kind, Folder: d.workFolder(), Files: max(0, u.documents), One: maxInside, All: max(1, u.bytes)}
	inner := *u
	inner.depth++
	err := porter.Unpack(ctx, p, func(m porter.Member) error {
		n++
		if m.More {
			refuse("over " + step.Thousands(maxUnpacked) + " files in one upload, the most that can be added: the others were not added")
			return errEnough
		}
		if m.Refused() != nil {
			each(Arrived{Name: m.Name, Err: &Refused{path.Base(m.Name), packSentence(m.Refused())}})
			return nil
		}
		name := m.Name
		if kind == intake.Mail {
			name = cleanName(name)
		}
		file, err := d.Store.Take(m.Path)
		if err != nil {
			return err
		}
		next := a
		next.Name, next.Password, next.RequestID = name, "", fmt.Sprintf("%s/%d", a.RequestID, m.Number)
		if a.RequestID == "" {
			next.RequestID = ""
		}
		inner.bytes = u.bytes - m.Size
		err = d.arriveEach(ctx, next, file, path.Dir(name), &inner, each)
		u.documents, u.bytes = inner.documents, inner.bytes
		return err
	})
	var not *porter.NotConverted
	var stopped *porter.Stopped
	switch {
	case err == nil:
	case ctx.Err() != nil:
		return ctx.Err()
	case errors.Is(err, pack.ErrDamaged) && kind == intake.Zip:
		refuse("the zip file is damaged and can't be unpacked; nothing was changed")
		return nil
	case errors.Is(err, pack.ErrTooMuch), errors.Is(err, pack.ErrLocked), errors.Is(err, pack.ErrTooMany):
		refuse(packSentence(err))
		return nil
	case errors.As(err, &stopped):
		d.log.Warn("a file stopped what unpacks it", "bytes", in.Size, "kind", kind, "why", stopped.Sentence)
		if n > 0 {
			refuse(stopped.Sentence + ": the files before were added, the others were not")
		} else {
			refuse(stopped.Sentence + "; nothing was changed")
		}
		return nil
	case errors.As(err, &not), errors.Is(err, pack.ErrDamaged): // a mail whose parts can't be read was refused with its reason when it arrived itself
		return nil
	default:
		return err
	}
	if n == 0 && kind == intake.Zip {
		refuse("there is no file in it; nothing was changed")
	}
	return nil
}

func packSentence(err error) string {
	for _, own := range []error{pack.ErrTooMuch, pack.ErrLocked, pack.ErrTooMany} {
		if errors.Is(err, own) {
			return own.Error() + "; nothing was changed"
		}
	}
	return "it is damaged inside the zip file and can't be unpacked; nothing was changed"
}

// same gives a document that was there before on the same bytes, and that the person sees.
func (d *Desk) same(ctx context.Context, person uint, row *Document) (*Document, error) {
	in, args, err := d.Scoped(ctx, person, "documents")
	if err != nil {
		return nil, err
	}
	var list []Document
	err = d.db.WithContext(ctx).Where("original_sha = ? and id <> ? and id < ? and away_at is null", row.OriginalSHA, row.ID, row.ID).Where(in, args...).Order("id desc").Limit(1).Find(&list).Error
	if err != nil || len(list) == 0 {
		return nil, err
	}
	return &list[0], nil
}

// Again turns the file that a document was made of into pages once more, in another way: as a new document, whose place the old one leaves
// if nothing was done with it.
func (d *Desk) Again(ctx context.Context, person, id uint, o intake.Options, request string) (*Document, error) {
	row, err := d.row(ctx, id)
	if err == nil {
		err = d.may(ctx, person, people.ActChange, row)
	}
	if err != nil {
		return nil, err
	}
	if row.Made.Of != "file" {
		return nil, step.Refuse("“%s” was not created from a file that can be converted differently", row.Name)
	}
	if err := o.Check(); err != nil {
		return nil, step.Refuse("%v", err)
	}
	if row.Made.Options == o {
		return row, nil
	}
	f, err := d.openKept(row.OriginalSHA)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	in, err := d.Store.Create()
	if err != nil {
		return nil, err
	}
	defer in.Drop()
	if _, err := io.Copy(in, f); err != nil {
		return nil, err
	}
	out, err := d.Arrive(ctx, Arrival{Person: person, Folder: row.FolderID, Name: row.OriginalName, RequestID: request, Options: o}, in)
	if err != nil {
		return nil, err
	}
	if out.Name != row.Name {
		if out, err = d.Rename(ctx, person, out.ID, row.Name); err != nil {
			return nil, err
		}
	}
	if row.HeadID != row.TipID || row.NextNo > 1 {
		return out, nil
	}
	if err := d.db.WithContext(ctx).Model(&Gathered{}).Where("document_id = ?", id).Update("document_id", out.ID).Error; err != nil {
		return nil, err
	}
	return out, d.Bin(ctx, person, []uint{id})
}
