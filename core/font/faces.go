package font

import (
	"fmt"
	"sync"

	"github.com/go-fonts/liberation/liberationmonoregular"
	"github.com/go-fonts/liberation/liberationsansbold"
	"github.com/go-fonts/liberation/liberationsansitalic"
	"github.com/go-fonts/liberation/liberationsansregular"
	"github.com/go-fonts/liberation/liberationserifbold"
	"github.com/go-fonts/liberation/liberationserifitalic"
	"github.com/go-fonts/liberation/liberationserifregular"
)

var shipped = map[string]func() (*TrueType, error){
	"Sans":         face(liberationsansregular.TTF),
	"Sans Bold":    face(liberationsansbold.TTF),
	"Sans Italic":  face(liberationsansitalic.TTF),
	"Serif":        face(liberationserifregular.TTF),
	"Serif Bold":   face(liberationserifbold.TTF),
	"Serif Italic": face(liberationserifitalic.TTF),
	"Mono":         face(liberationmonoregular.TTF),
}

func face(ttf []byte) func() (*TrueType, error) {
	return sync.OnceValues(func() (*TrueType, error) { return ParseTrueType(ttf) })
}

// Face gives a shipped face by its name.
func Face(name string) (*TrueType, error) {
	f, ok := shipped[name]
	if !ok {
		return nil, fmt.Errorf("there is no face named %q", name)
	}
	return f()
}
