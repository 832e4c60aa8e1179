package porter

import (
	"context"
	"errors"
	"fmt"
	"os"

	"glenrain/core/draw"
	"glenrain/core/pdf"
)

// PictureFile is an image file that pages are made of.
type PictureFile struct {
	Path string
	Size int64
	Name string // for sentences
}

// Pictures asks for pages of image files, one after another, in a PDF.
type Pictures struct {
	Files     []PictureFile
	Placement draw.Placement
	Working   string // the file that the PDF is written to
}

// PlacePictures makes a PDF of image files in a child; each is told how many are done. An error that a file is to blame for is a
// *NotConverted or *Stopped.
func PlacePictures(ctx context.Context, in Pictures, each func(done int)) error {
	cpu := base
	for _, f := range in.Files {
		cpu += readCPU(f.Path, f.Size)
	}
	return ask(ctx, question{Pictures: &in}, usual(cpu), func() {}, func(a answer) error {
		if a.Done > 0 && each != nil {
			each(a.Done)
		}
		if a.Refused != "" {
			return &NotConverted{Sentence: a.Refused}
		}
		return nil
	})
}

// place answers in the child.
func (s *server) place(p Pictures) error {
	ctx := context.Background()
	doc := pdf.New()
	var pages []pdf.Ref
	for i, in := range p.Files {
		f, err := os.Open(in.Path)
		if err != nil {
			return err
		}
		more, _, err := draw.PictureFile(doc, f, in.Size, p.Placement)
		_ = f.Close()
		if err != nil {
			return s.enc.Encode(answer{Refused: fmt.Sprintf("“%s”: %v", in.Name, err), End: true})
		}
		pages = append(pages, more...)
		if err := s.enc.Encode(answer{Done: i + 1}); err != nil {
			return err
		}
	}
	if err := doc.InsertPages(0, pages); err != nil {
		return err
	}
	draw.Tidy(doc)
	f, err := os.OpenFile(p.Working, os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	err = doc.WriteFull(ctx, f, pdf.FullOptions{Once: true})
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	return s.enc.Encode(answer{End: true})
}
