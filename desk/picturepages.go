package desk

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"glenrain/core/draw"
	"glenrain/core/step"
	"glenrain/desk/background"
	"glenrain/desk/people"
	"glenrain/desk/store"
	"glenrain/porter"
)

// PicturePages asks for pages of pictures, placed on paper or as large as they are.
type PicturePages struct {
	Person    uint
	Documents []uint // made of pictures, in their order
	Placement draw.Placement
	Each      bool   // a document for each, instead of one for all
	Name      string // of the one
	RequestID string
}

// PlacedOn is a picture with what its page will be.
type PlacedOn struct {
	Document Document
	Page     int // of a picture file of several
	draw.PlacedPicture
	Err error
}

// maxPictures is how many pictures are placed at once.
const maxPicturesAtOnce = 500

// pictureFiles gives the files that documents were made of.
func (d *Desk) pictureFiles(ctx context.Context, person uint, ids []uint) (rows []*Document, files []porter.PictureFile, err error) {
	if len(ids) > maxPicturesAtOnce {
		return nil, nil, step.Refuse("up to %d pictures are placed at once", maxPicturesAtOnce)
	}
	for _, id := range ids {
		row, err := d.row(ctx, id)
		if err == nil {
			err = d.may(ctx, person, people.ActLook, row)
		}
		if err != nil {
			return nil, nil, err
		}
		if row.Made.Of != "picture" {
			return nil, nil, step.Refuse("“%s” is not a picture", row.Name)
		}
		st, err := os.Stat(d.Store.Path(row.OriginalSHA))
		if err != nil {
			return nil, nil, store.ErrMissing
		}
		rows = append(rows, row)
		files = append(files, porter.PictureFile{Path: d.Store.Path(row.OriginalSHA), Size: st.Size(), Name: row.Name})
	}
	return rows, files, nil
}

// PlacePictures tells how pictures will stand on their pages, before it is done. Sizes are taken from the pages that the pictures have
// now, which are of their own size.
func (d *Desk) PlacePictures(ctx context.Context, in PicturePages) (out []PlacedOn, err error) {
	if len(in.Documents) > maxPicturesAtOnce {
		return nil, step.Refuse("up to %d pictures are placed at once", maxPicturesAtOnce)
	}
	for _, id := range in.Documents {
		row, err := d.Document(ctx, in.Person, id)
		if err != nil {
			return nil, err
		}
		if row.Made.Of != "picture" {
			return nil, step.Refuse("“%s” is not a picture", row.Name)
		}
		st, err := d.first(ctx, id)
		if err != nil {
			return nil, err
		}
		pages := st.Pages()
		for i, p := range pages {
			ref, _ := st.Keys.Ref(p.Key)
			w, h := st.PDF.Geometry(ref).Seen()
			at, err := in.Placement.Place(w, h)
			out = append(out, PlacedOn{Document: *row, Page: i + 1, PlacedPicture: at, Err: err})
			if len(out) > 5*maxPicturesAtOnce {
				return out, nil
			}
		}
	}
	return out, nil
}

// first gives a document as it was before its first step.
func (d *Desk) first(ctx context.Context, id uint) (*Snapshot, error) {
	var st State
	if err := d.db.WithContext(ctx).Where("document_id = ? and parent_id = 0", id).Order("id").First(&st).Error; err != nil {
		return nil, store.Missing(err)
	}
	return d.At(ctx, st.ID)
}

// MakePicturePages makes a document of pictures, or one of each.
func (d *Desk) MakePicturePages(ctx context.Context, w *background.Work, in PicturePages) ([]Document, error) {
	if len(in.Documents) == 0 {
		return nil, step.Refuse("no picture is selected")
	}
	if err := d.may(ctx, in.Person, people.ActAdd, nil); err != nil {
		return nil, err
	}
	rows, files, err := d.pictureFiles(ctx, in.Person, in.Documents)
	if err != nil {
		return nil, err
	}
	w.Set(0, len(files))
	defer d.wakeReading()
	if !in.Each {
		name := strings.TrimSpace(in.Name)
		if name == "" {
			name = rows[0].Name
			if len(rows) > 1 {
				name += " and others"
			}
		}
		row, err := d.placed(ctx, in, rows[0], files, name, in.RequestID, func(done int) { w.Set(done, len(files)) })
		if err != nil {
			return nil, err
		}
		return []Document{*row}, nil
	}
	var out []Document
	for i := range files {
		request := ""
		if in.RequestID != "" {
			request = fmt.Sprintf("%s/%d", in.RequestID, i)
		}
		row, err := d.placed(ctx, in, rows[i], files[i:i+1], rows[i].Name+placedName(in.Placement), request, nil)
		if err != nil {
			return out, err
		}
		out = append(out, *row)
		w.Set(i+1, len(files))
	}
	return out, nil
}

// placedName tells a document of a picture on paper from that of the picture itself.
func placedName(p draw.Placement) string {
	if p.Width == 0 {
		return ", with a margin"
	}
	return " on " + Paper(p.Width, p.Height)
}

// placed makes one document of pictures.
func (d *Desk) placed(ctx context.Context, in PicturePages, like *Document, files []porter.PictureFile, name, request string, each func(int)) (*Document, error) {
	if was, err := d.asked(ctx, in.Person, request); err != nil {
		return nil, err
	} else if was != nil {
		return d.row(ctx, was.DocumentID)
	}
	made, err := d.Store.Create()
	if err != nil {
		return nil, err
	}
	defer made.Drop()
	err = porter.PlacePictures(ctx, porter.Pictures{Files: files, Placement: in.Placement, Working: made.Path()}, each)
	var not *porter.NotConverted
	var stopped *porter.Stopped
	switch {
	case errors.As(err, &not):
		return nil, step.Refuse("%s", not.Sentence)
	case errors.As(err, &stopped):
		return nil, step.Refuse("the pictures could not be placed on pages: %s", stopped.Sentence)
	case err != nil:
		return nil, err
	}
	sha, err := made.KeepWritten()
	if err != nil {
		return nil, err
	}
	name = cleanName(name)
	row := &Document{FolderID: like.FolderID, Name: name, OriginalSHA: sha, OriginalName: name + ".pdf", Made: Made{Of: "pictures", Count: len(files)}, ChangedBy: in.Person, OwnerID: in.Person}
	return d.addDocument(ctx, &newDocument{row, sha, request, nil})
}
