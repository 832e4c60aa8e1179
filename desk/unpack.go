package desk

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"

	"glenrain/core/convert"
	"glenrain/core/convert/pack"
	"glenrain/core/step"
	"glenrain/porter"
)

// Arrived is what came of one file: a document, or the reason why there is none.
type Arrived struct {
	Name     string // of the file, with the folders it came in
	Document *Document
	Same     *Document // a document that stands on the same bytes and was there before
	Err      error     // *Refused, *NeedsPassword, or another
}

// Limits of a zip file that brings documents in.
const (
	maxUnpacked = 2000       // files
	maxInside   = 600 << 20  // bytes of one
	maxTogether = 2048 << 20 // bytes of all
	maxNested   = 3          // zips in zips
)

// ArriveEach makes documents of a file: of what is in a zip file, with its folders; of a mail and, one by one, of what is attached to it; of
// any other one itself. each is told of every one of them. An error is none of a file's.
func (d *Desk) ArriveEach(ctx context.Context, a Arrival, in *Incoming, each func(Arrived)) error {
	return d.arriveEach(ctx, a, in, path.Dir(strings.ReplaceAll(a.Name, "\\", "/")), 0, each)
}

func (d *Desk) arriveEach(ctx context.Context, a Arrival, in *Incoming, dir string, depth int, each func(Arrived)) error {
	defer in.Drop()
	shown := a.Name
	if dir != "." && dir != "/" {
		f, err := d.EnsurePath(ctx, a.Person, a.Folder, strings.Split(strings.Trim(dir, "/"), "/"))
		if err != nil {
			return refusedOr(err, shown, each)
		}
		a.Folder = f
	}
	kind := convert.Find(ctx, a.Name, in, in.Size)
	if kind == convert.Zip {
		if err := d.may(ctx, a.Person, ActAdd, nil); err != nil {
			return err
		}
		return d.unzip(ctx, a, in, depth, each)
	}
	var attached []namedFile
	if kind == convert.Mail {
		list, err := d.attachments(ctx, in, a.Name)
		if err != nil && ctx.Err() != nil {
			return ctx.Err()
		}
		attached = list // a mail whose parts can't be read is refused with its reason when it arrives itself
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
	for i, f := range attached {
		if err := d.arriveInside(ctx, a, f.name, fmt.Sprintf("%s/%d", a.RequestID, i), depth, each, func(w io.Writer) error {
			_, err := w.Write(f.data)
			return err
		}); err != nil {
			return err
		}
	}
	return nil
}

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

type namedFile struct {
	name string
	data []byte
}

func (d *Desk) attachments(ctx context.Context, in *Incoming, name string) (out []namedFile, err error) {
	err = porter.Attachments(ctx, porter.Conversion{Path: in.f.Name(), Size: in.Size, Name: name, Kind: convert.Mail}, func(name string, data []byte) error {
		out = append(out, namedFile{cleanName(name), data})
		return nil
	})
	return out, err
}

// arriveInside has a file arrive that was in another one.
func (d *Desk) arriveInside(ctx context.Context, a Arrival, name, request string, depth int, each func(Arrived), write func(io.Writer) error) error {
	in, err := d.Store.Create()
	if err != nil {
		return err
	}
	if err := write(in); err != nil {
		in.Drop()
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if NoSpace(err) {
			return err
		}
		each(Arrived{Name: name, Err: &Refused{path.Base(name), packSentence(err)}})
		return nil
	}
	inner := a
	inner.Name, inner.Password, inner.RequestID = name, "", request
	if a.RequestID == "" {
		inner.RequestID = ""
	}
	return d.arriveEach(ctx, inner, in, path.Dir(name), depth+1, each)
}

func packSentence(err error) string {
	for _, own := range []error{pack.ErrTooMuch, pack.ErrLocked, pack.ErrTooMany} {
		if errors.Is(err, own) {
			return own.Error() + "; nothing was changed"
		}
	}
	return "it is damaged inside the zip file and can't be unpacked; nothing was changed"
}

// passed are members of zips that are no documents: what systems put there for themselves.
func passed(name string) bool {
	base := path.Base(name)
	return strings.HasPrefix(name, "__MACOSX/") || strings.HasPrefix(base, ".") || strings.HasPrefix(base, "~$") || strings.EqualFold(base, "thumbs.db") || strings.EqualFold(base, "desktop.ini")
}

// unzip has each file of a zip arrive. One that can't be read never stops the others.
func (d *Desk) unzip(ctx context.Context, a Arrival, in *Incoming, depth int, each func(Arrived)) error {
	base := path.Base(a.Name)
	if depth >= maxNested {
		each(Arrived{Name: a.Name, Err: &Refused{base, "zip files are nested in it more deeply than is unpacked; nothing was changed"}})
		return nil
	}
	p, err := pack.Open(ctx, in, in.Size)
	if err != nil {
		why := "the zip file is damaged and can't be unpacked; nothing was changed"
		if !errors.Is(err, pack.ErrDamaged) {
			why = packSentence(err)
		}
		each(Arrived{Name: a.Name, Err: &Refused{base, why}})
		return nil
	}
	p.Allow(maxInside, maxTogether)
	n := 0
	for i, name := range p.Names() {
		if err := ctx.Err(); err != nil {
			return err
		}
		if passed(name) {
			continue
		}
		if n++; n > maxUnpacked {
			each(Arrived{Name: a.Name, Err: &Refused{base, "it holds over " + step.Thousands(maxUnpacked) + " files: those before were added, the others were not"}})
			return nil
		}
		err := d.arriveInside(ctx, a, name, fmt.Sprintf("%s/%d", a.RequestID, i), depth, each, func(w io.Writer) error {
			r, err := p.Reader(name)
			if err != nil || r == nil {
				return errors.Join(err, pack.ErrDamaged)
			}
			defer r.Close()
			_, err = io.Copy(w, r)
			return err
		})
		if err != nil {
			return err
		}
	}
	if n == 0 {
		each(Arrived{Name: a.Name, Err: &Refused{base, "there is no file in it; nothing was changed"}})
	}
	return nil
}

// same gives a document that was there before on the same bytes, and that the person sees.
func (d *Desk) same(ctx context.Context, person uint, row *Document) (*Document, error) {
	in, args, err := d.scoped(ctx, person, "documents")
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
func (d *Desk) Again(ctx context.Context, person, id uint, o convert.Options, request string) (*Document, error) {
	row, err := d.row(ctx, id)
	if err == nil {
		err = d.may(ctx, person, ActChange, row)
	}
	if err != nil {
		return nil, err
	}
	if row.Made.Of != "file" {
		return nil, step.Refuse("“%s” was not made of a file that can be turned into pages in another way", row.Name)
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
