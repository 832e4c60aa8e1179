package page

import (
	"os"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/image/font/sfnt"
)

// Own are the office's own faces: files of TrueType and OpenType in a folder, by the names of their families.
type Own struct{ families map[string][4]string } // paths: regular, bold, italic, bold italic

// Limits of the office's own faces.
const (
	maxOwn     = 400
	maxOwnSize = 40 << 20 // bytes of one
)

// ReadOwn lists the faces in a folder; none where there is no folder. What is no face is passed over.
func ReadOwn(dir string) *Own {
	o := &Own{families: map[string][4]string{}}
	if dir == "" {
		return o
	}
	list, err := os.ReadDir(dir)
	if err != nil {
		return o
	}
	for _, e := range list[:min(len(list), maxOwn)] {
		ext := strings.ToLower(filepath.Ext(e.Name()))
		info, err := e.Info()
		if err != nil || !info.Mode().IsRegular() || info.Size() > maxOwnSize || ext != ".ttf" && ext != ".otf" {
			continue
		}
		path := filepath.Join(dir, e.Name())
		data, err := os.ReadFile(path)
		if err != nil {
			continue
		}
		f, err := sfnt.Parse(data)
		if err != nil {
			continue
		}
		family, err := f.Name(nil, sfnt.NameIDFamily)
		if err != nil || family == "" {
			continue
		}
		sub, _ := f.Name(nil, sfnt.NameIDSubfamily)
		sub = strings.ToLower(sub)
		i := 0
		if strings.Contains(sub, "bold") {
			i |= 1
		}
		if strings.Contains(sub, "italic") || strings.Contains(sub, "oblique") {
			i |= 2
		}
		cuts := o.families[strings.ToLower(family)]
		cuts[i] = path
		o.families[strings.ToLower(family)] = cuts
	}
	return o
}

// has gives the office's own family of that name.
func (o *Own) has(font string) (name string, ok bool) {
	if o == nil {
		return "", false
	}
	name = strings.ToLower(strings.TrimSpace(font))
	_, ok = o.families[name]
	return name, ok
}

// data reads the faces of a family.
func (o *Own) data(name string) (out [4][]byte) {
	for i, path := range o.families[name] {
		if path != "" {
			out[i], _ = os.ReadFile(path) // what is not there any more is done without
		}
	}
	return out
}

// Stand gives the family that stands in for a font, and the factor for its size: the office's own family of that name, where it has one.
func (s *Sheet) Stand(font string) (family string, factor float64) {
	if name, ok := s.own.has(font); ok {
		return ownMark + name, 1
	}
	return stand(font)
}

// ownMark begins the names of the office's own families.
const ownMark = "own "

// ownNumber numbers the office's own families that a sheet uses.
func (s *Sheet) ownNumber(name string) int {
	i := slices.Index(s.owned, name)
	if i < 0 {
		s.owned = append(s.owned, name)
		i = len(s.owned) - 1
	}
	return i
}
