package font

import (
	"fmt"
	"maps"
	"slices"
	"sync"

	"github.com/go-fonts/liberation/liberationmonobold"
	"github.com/go-fonts/liberation/liberationmonobolditalic"
	"github.com/go-fonts/liberation/liberationmonoitalic"
	"github.com/go-fonts/liberation/liberationmonoregular"
	"github.com/go-fonts/liberation/liberationsansbold"
	"github.com/go-fonts/liberation/liberationsansbolditalic"
	"github.com/go-fonts/liberation/liberationsansitalic"
	"github.com/go-fonts/liberation/liberationsansregular"
	"github.com/go-fonts/liberation/liberationserifbold"
	"github.com/go-fonts/liberation/liberationserifbolditalic"
	"github.com/go-fonts/liberation/liberationserifitalic"
	"github.com/go-fonts/liberation/liberationserifregular"
)

// shippedFace is a face that ships with the program.
type shippedFace struct {
	ttf  []byte
	read func() (*TrueType, error)
}

var shipped = map[string]shippedFace{
	"Sans":              face(liberationsansregular.TTF),
	"Sans Bold":         face(liberationsansbold.TTF),
	"Sans Italic":       face(liberationsansitalic.TTF),
	"Sans Bold Italic":  face(liberationsansbolditalic.TTF),
	"Serif":             face(liberationserifregular.TTF),
	"Serif Bold":        face(liberationserifbold.TTF),
	"Serif Italic":      face(liberationserifitalic.TTF),
	"Serif Bold Italic": face(liberationserifbolditalic.TTF),
	"Mono":              face(liberationmonoregular.TTF),
	"Mono Bold":         face(liberationmonobold.TTF),
	"Mono Italic":       face(liberationmonoitalic.TTF),
	"Mono Bold Italic":  face(liberationmonobolditalic.TTF),
}

func face(ttf []byte) shippedFace {
	return shippedFace{ttf, sync.OnceValues(func() (*TrueType, error) { return ParseTrueType(ttf) })}
}

// Face gives a shipped face, or one of the house's own, by its name.
func Face(name string) (*TrueType, error) {
	if t := ownFace(name); t != nil {
		return t, nil
	}
	f, ok := shipped[name]
	if !ok {
		return nil, fmt.Errorf("there is no font named %q", name)
	}
	return f.read()
}

// Faces names the shipped faces.
func Faces() []string { return slices.Sorted(maps.Keys(shipped)) }

// File gives the font file of a shipped face; nothing where there is none of that name.
func File(name string) []byte { return shipped[name].ttf }
