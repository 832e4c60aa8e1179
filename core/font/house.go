package font

import (
	"fmt"
	"maps"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
)

// own are the faces that the house has besides those that ship with the program, by name.
var own = struct {
	sync.RWMutex
	faces map[string]*TrueType
}{faces: map[string]*TrueType{}}

// Bounds of the house's own faces.
const (
	mostOwn     = 500
	mostOwnFile = 32 << 20 // bytes
)

// UseFolder reads the faces that somebody put into a folder: TrueType files that may be embedded. bad says of files that can't be
// used why; a folder that is not there has none.
func UseFolder(dir string) (bad []string) {
	list, err := os.ReadDir(dir)
	if err != nil {
		return nil
	}
	faces := map[string]*TrueType{}
	for _, e := range list {
		ext := strings.ToLower(filepath.Ext(e.Name()))
		if e.IsDir() || ext != ".ttf" && ext != ".otf" || len(faces) >= mostOwn {
			continue
		}
		face, err := readOwn(filepath.Join(dir, e.Name()))
		if err != nil {
			bad = append(bad, fmt.Sprintf("%s: %v", e.Name(), err))
			continue
		}
		faces[face.Name] = face
	}
	own.Lock()
	own.faces = faces
	own.Unlock()
	return bad
}

func readOwn(path string) (*TrueType, error) {
	if st, err := os.Stat(path); err != nil || st.Size() > mostOwnFile {
		return nil, fmt.Errorf("it is larger than %d MB, or can't be read", mostOwnFile>>20)
	}
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	face, err := ParseTrueType(data)
	if err != nil {
		return nil, err
	}
	if face.Name == "" {
		return nil, fmt.Errorf("it has no name")
	}
	if face.closed() {
		return nil, fmt.Errorf("its licence does not allow it to be embedded")
	}
	return face, nil
}

// closed reports whether the face says that it must not be embedded (OpenType, OS/2, fsType: restricted, or bitmaps only).
func (t *TrueType) closed() bool {
	os2 := t.tables["OS/2"]
	if len(os2) < 10 {
		return false
	}
	fs := int(os2[8])<<8 | int(os2[9])
	return fs&0xf == 2 || fs&0x200 != 0
}

// OwnFaces names the house's own faces.
func OwnFaces() []string {
	own.RLock()
	defer own.RUnlock()
	return slices.Sorted(maps.Keys(own.faces))
}

func ownFace(name string) *TrueType {
	own.RLock()
	defer own.RUnlock()
	return own.faces[name]
}

// sameName compares the names of fonts as programs write them: "ABCDEF+Name-Bold", "Name,Bold", "Name Bold".
func sameName(s string) string {
	if len(s) > 7 && s[6] == '+' {
		s = s[7:]
	}
	return strings.ToLower(strings.NewReplacer(" ", "", "-", "", ",", "", "_", "").Replace(s))
}

// offAdvance is how much the widths of letters may differ from those of a face for it to be the same one, in em.
const offAdvance = 0.0035

// Whole gives the face of the house that a document's font is cut from: of the same name, and with the same widths for all its letters that tell.
func (f *Font) Whole() (name string, face *TrueType) {
	own.RLock()
	for _, n := range slices.Sorted(maps.Keys(own.faces)) {
		if sameName(n) == sameName(f.Name) {
			name, face = n, own.faces[n]
			break
		}
	}
	own.RUnlock()
	if face == nil {
		return "", nil
	}
	told := 0
	for _, text := range f.Letters() {
		r := []rune(text)
		if len(r) != 1 {
			continue
		}
		g := face.Glyph(r[0])
		code, _ := f.CodeOf(text)
		c, _ := f.Next(code.Append(nil))
		if g == 0 || c == nil {
			continue
		}
		if math.Abs(float64(face.Advance(g))/float64(face.UnitsPerEm)-c.Width) > offAdvance {
			return "", nil
		}
		told++
	}
	if told < 3 {
		return "", nil
	}
	return name, face
}

// Letters gives what the font can set, in order.
func (f *Font) Letters() []string {
	f.CodeOf(" ")
	return slices.Sorted(maps.Keys(f.codes))
}

// XHeight is how high small letters of the font are, in em, as its descriptor says (9.8.1); 0 where it does not.
func (f *Font) XHeight() float64 {
	v := f.number(f.descriptor.Get("XHeight"), 0) / 1000
	if v < 0 || math.IsNaN(v) {
		return 0
	}
	return v
}
