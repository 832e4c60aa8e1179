// Package demo makes the papers of the Orrin Quay Harbour Trust, an invented small port
// office, so that everything can be tried on real files. All is made by code: letters,
// a survey, tide tables, byelaws, photographs and a scanned sheet.
package demo

import (
	"bytes"
	"context"
	"errors"
	"fmt"

	"glenrain/core/typeset"
	"glenrain/desk"
)

// House is the office's name, Password what its people sign in with.
const (
	House    = "Orrin Quay Harbour Trust"
	Password = "low water springs"
)

// File is one of the papers, as it would come from outside.
type File struct {
	Name string
	Data []byte
}

// Fill puts the office's people and papers into an empty desk, and gives the person to
// sign in as. A desk that has people already stays as it is.
func Fill(ctx context.Context, d *desk.Desk) (*desk.Person, error) {
	return fill(ctx, d, Others)
}

// FillPapers is Fill without the files that have to be turned into pages first.
func FillPapers(ctx context.Context, d *desk.Desk) (*desk.Person, error) {
	return fill(ctx, d, func() ([]File, error) { return nil, nil })
}

func fill(ctx context.Context, d *desk.Desk, others func() ([]File, error)) (*desk.Person, error) {
	empty, err := d.Empty(ctx)
	if err != nil {
		return nil, err
	}
	if !empty {
		return d.SignIn(ctx, "isla", Password)
	}
	files, err := others()
	if err != nil {
		return nil, err
	}
	papers, err := Files()
	if err != nil {
		return nil, err
	}
	files = append(files, papers...)
	p, err := d.AddPerson(ctx, "Isla Merrow", "isla", Password)
	if err != nil {
		return nil, err
	}
	tomas, err := d.AddPerson(ctx, "Tomas Quill", "tomas", Password)
	if err != nil {
		return nil, err
	}
	if _, err := d.AddPersonAs(ctx, desk.Reader, "Rona Skerry", "rona", Password); err != nil {
		return nil, err
	}
	folder, err := d.EnsureFolder(ctx, "Documents")
	if err != nil {
		return nil, err
	}
	for _, f := range files {
		in, err := d.Store.Create()
		if err != nil {
			return nil, err
		}
		if _, err := in.Write(f.Data); err != nil {
			in.Drop()
			return nil, err
		}
		_, err = d.Arrive(ctx, desk.Arrival{Person: p.ID, Folder: folder.ID, Name: f.Name}, in)
		var refused *desk.Refused
		if errors.As(err, &refused) && errors.Is(typeset.Here(), typeset.ErrAbsent) { // the demo does without what needs it
			continue
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", f.Name, err)
		}
	}
	return p, licences(ctx, d, p.ID, tomas.ID)
}

// licences puts the signed licence into a folder that only those see who deal with licences.
func licences(ctx context.Context, d *desk.Desk, isla, tomas uint) error {
	folder, err := d.MakeFolder(ctx, isla, "Licences")
	if err != nil {
		return err
	}
	if err := d.OpenFolder(ctx, isla, folder.ID, true, []uint{tomas}); err != nil {
		return err
	}
	found, err := d.Search(ctx, isla, "mooring licence", 1)
	if err != nil || len(found) == 0 {
		return err
	}
	_, err = d.MoveTo(ctx, isla, []uint{found[0].ID}, folder.ID)
	return err
}

// Files makes the papers, the ones that people open first last.
func Files() ([]File, error) {
	return made(byelaws, tideTable, scannedSheet, harbourMark, photoUpright, photoRamp, photoKnuckle, survey, letter)
}

// Others makes the files of other kinds: one of each, as an office has them.
func Others() ([]File, error) {
	return made(gaugeLog, closureNotice, photographersTIFF, berthApplications, pilotLetter)
}

func made(makers ...func() (File, error)) ([]File, error) {
	var out []File
	for _, make := range makers {
		f, err := make()
		if err != nil {
			return nil, err
		}
		out = append(out, f)
	}
	return out, nil
}

func (s *sheet) file(name string) (File, error) {
	var b bytes.Buffer
	err := s.write(&b)
	return File{name, b.Bytes()}, err
}
