package step

import (
	"cmp"
	"encoding/json"
	"errors"
	"reflect"
	"slices"
	"strings"
)

// Kind is a sort of step: its name, what it means, and its parameters with their
// usual values.
type Kind struct {
	Name    string
	Meaning string // one sentence
	New     func() Step
	Title   string   // what people call it; its name if empty
	Was     []string // its names of before, still read in stored trails and lists of steps
	Slow    bool     // it is run in the background, with progress, and reserves the document meanwhile
	Parts   bool     // its work is done in parts: it can be stopped, and what is done is kept
	Comment bool     // it comments on a document, which readers do who change nothing
	// Annotates says that it only adds, changes or removes annotations: it never conflicts with another such step, and is done on top of it.
	Annotates bool
	// Apart says that its outcome is a document of its own, written anew: nothing of what was there before may be left in it.
	Apart bool
}

// Registry knows the kinds of steps by name, and the hooks.
type Registry struct {
	kinds []Kind
	hooks []Hook
}

// NewRegistry gives a registry of the kinds. Two of one name are a mistake in the program.
func NewRegistry(hooks []Hook, kinds ...Kind) *Registry {
	seen := map[string]bool{}
	for _, k := range kinds {
		for _, name := range append([]string{k.Name}, k.Was...) {
			if seen[name] {
				panic("two kinds of steps are named " + name)
			}
			seen[name] = true
		}
	}
	return &Registry{kinds, hooks}
}

// Kinds gives all kinds, in the order they were registered.
func (g *Registry) Kinds() []Kind { return g.kinds }

// Kind gives the kind of that name, of today or of before.
func (g *Registry) Kind(name string) (Kind, bool) {
	for _, k := range g.kinds {
		if k.Name == name || slices.Contains(k.Was, name) {
			return k, true
		}
	}
	return Kind{}, false
}

// Slow reports whether the step of that name is to be run in the background.
func (g *Registry) Slow(name string) bool {
	k, _ := g.Kind(name)
	return k.Slow
}

// Parts reports whether the work of the step of that name can be stopped with what is done kept.
func (g *Registry) Parts(name string) bool {
	k, _ := g.Kind(name)
	return k.Parts
}

// Apart reports whether the outcome of a kind of step is a document of its own.
func (g *Registry) Apart(name string) bool {
	k, ok := g.Kind(name)
	return ok && k.Apart
}

// Annotates reports whether a kind of step only adds, changes or removes annotations.
func (g *Registry) Annotates(name string) bool {
	k, ok := g.Kind(name)
	return ok && k.Annotates
}

// Comments reports whether the step of that name comments on a document.
func (g *Registry) Comments(name string) bool {
	k, _ := g.Kind(name)
	return k.Comment
}

// Title is what people call the step of that name.
func (g *Registry) Title(name string) string {
	k, _ := g.Kind(name)
	return cmp.Or(k.Title, Sentence(strings.ReplaceAll(name, "-", " ")))
}

// Has reports whether there is a step of that name.
func (g *Registry) Has(name string) bool {
	_, ok := g.Kind(name)
	return ok
}

// New reads the parameters of the step of that name. Unknown fields are refused.
func (g *Registry) New(name string, params json.RawMessage) (Step, error) {
	k, ok := g.Kind(name)
	if !ok {
		return nil, Refuse("there is no step named %q", name)
	}
	s := k.New()
	if len(params) == 0 {
		params = json.RawMessage("{}")
	}
	err := Decode(params, s, true)
	if err != nil {
		return nil, badParams(name, err)
	}
	eachParam(s, func(p param) bool {
		if err = p.check(); err != nil {
			err = Refuse("step %q: %q: %s", name, p.name, sentenceOf(err))
		}
		return err == nil
	})
	if err != nil {
		return nil, err
	}
	return s, nil
}

func badParams(name string, err error) error {
	var refusal *Refusal
	if errors.As(err, &refusal) {
		return Refuse("step %q: %s", name, refusal.Sentence)
	}
	var wrong *json.UnmarshalTypeError
	if errors.As(err, &wrong) {
		return Refuse("step %q: %q can't be %s", name, wrong.Field, wrong.Value)
	}
	return Refuse("step %q: %s", name, strings.TrimPrefix(err.Error(), "json: "))
}

// Field describes one parameter.
type Field struct {
	Name     string            `json:"name"`
	Type     string            `json:"type"`
	Meaning  string            `json:"meaning"`
	Default  any               `json:"default,omitempty"`
	OneOf    []string          `json:"one_of,omitempty"`
	Labels   map[string]string `json:"-"` // what people read for each of them
	Min      *float64          `json:"min,omitempty"`
	Max      *float64          `json:"max,omitempty"`
	Required bool              `json:"required,omitempty"`
	// Names says that it names what the step is done to, which is not a value that is changed later.
	Names bool `json:"-"`
}

// Description describes a kind for those who write steps.
type Description struct {
	Name    string  `json:"name"`
	Meaning string  `json:"meaning"`
	Fields  []Field `json:"params"`
}

// Describe reads a kind's parameters off its Go struct: the tags json (name), help,
// enum ("a,b"), labels, min, max and required; usual values are those that New sets.
func (k Kind) Describe() Description {
	d := Description{Name: k.Name, Meaning: k.Meaning, Fields: []Field{}}
	eachParam(k.New(), func(p param) bool {
		out := Field{Name: p.name, Type: typeName(p.field.Type), Meaning: p.field.Tag.Get("help"), Required: p.field.Tag.Get("required") != "", OneOf: p.enum(), Labels: p.labels(), Names: p.field.Tag.Get("names") != ""}
		out.Min, out.Max = bound(p.field.Tag.Get("min")), bound(p.field.Tag.Get("max"))
		if !p.value.IsZero() {
			out.Default = p.value.Interface()
		}
		d.Fields = append(d.Fields, out)
		return true
	})
	return d
}

func typeName(t reflect.Type) string {
	switch t {
	case reflect.TypeFor[Pages]():
		return "pages: a page set (\"3-8, last\") or an array of page keys"
	case reflect.TypeFor[Place]():
		return "place: the page number or key to place them before, or \"end\""
	case reflect.TypeFor[Length]():
		return "length: points, or a string with its unit (\"12 mm\")"
	case reflect.TypeFor[Colour]():
		return "colour: \"#rrggbb\" or the name of an office colour"
	case reflect.TypeFor[SourceRef]():
		return "source: \"path:FILE\", \"sha256:HASH\" or \"state:ID\""
	}
	switch t.Kind() {
	case reflect.Pointer:
		return typeName(t.Elem())
	case reflect.String:
		return "text"
	case reflect.Bool:
		return "yes or no"
	case reflect.Int, reflect.Int64:
		return "whole number"
	case reflect.Float64:
		return "number"
	case reflect.Slice:
		if named, ok := reflect.New(t.Elem()).Interface().(interface{ TypeName() string }); ok {
			return "list of " + named.TypeName()
		}
		return "list of " + typeName(t.Elem())
	}
	return t.Name()
}
