package station

import (
	"io/fs"
	"slices"
	"strings"
)

// Files puts the files of several folders into one: those of a station, and those of jobs that stand in folders of their own.
func Files(list ...fs.FS) fs.FS { return together(list) }

type together []fs.FS

// Open opens a file of the first folder that has it.
func (t together) Open(name string) (f fs.File, err error) {
	for _, files := range t {
		if f, err = files.Open(name); err == nil {
			return f, nil
		}
	}
	return nil, err
}

// ReadDir lists the files of all of them, each name once.
func (t together) ReadDir(name string) (out []fs.DirEntry, err error) {
	for _, files := range t {
		list, err := fs.ReadDir(files, name)
		if err != nil {
			return nil, err
		}
		for _, e := range list {
			if !slices.ContainsFunc(out, func(o fs.DirEntry) bool { return o.Name() == e.Name() }) {
				out = append(out, e)
			}
		}
	}
	slices.SortFunc(out, func(a, b fs.DirEntry) int { return strings.Compare(a.Name(), b.Name()) })
	return out, nil
}

// Lent is a job that stands in a folder of its own, with its files, and is done at a station.
type Lent struct {
	Job   Job
	Files fs.FS
}

// Lend puts jobs behind those that the station has.
func (s *Station) Lend(lent ...Lent) {
	for _, l := range lent {
		s.Jobs = append(s.Jobs, l.Job)
		s.Files = Files(s.Files, l.Files)
	}
}
