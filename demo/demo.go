// Package demo makes the papers of the Orrin Quay Harbour Trust, an invented small port
// office, so that everything can be tried on real files. All is made by code: letters,
// a survey, tide tables, byelaws, photographs and a scanned sheet.
package demo

import (
	"bytes"
	"context"
	"fmt"

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
	empty, err := d.Empty(ctx)
	if err != nil {
		return nil, err
	}
	if !empty {
		return d.SignIn(ctx, "isla", Password)
	}
	files, err := Files()
	if err != nil {
		return nil, err
	}
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
		if _, err := d.Arrive(ctx, desk.Arrival{Person: p.ID, Folder: folder.ID, Name: f.Name}, in); err != nil {
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
	var out []File
	for _, make := range []func() (File, error){
		byelaws, tideTable, scannedSheet, harbourMark, photoUpright, photoRamp, photoKnuckle, survey, letter,
	} {
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
