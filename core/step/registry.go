package step

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"reflect"
	"strconv"
	"strings"
)

// Kind is a sort of step: its name, what it means, and its parameters with their
// usual values.
type Kind struct {
	Name    string
	Meaning string // one sentence
	New     func() Step
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
		if seen[k.Name] {
			panic("two kinds of steps are named " + k.Name)
		}
		seen[k.Name] = true
	}
	return &Registry{kinds, hooks}
}

// Kinds gives all kinds, in the order they were registered.
func (g *Registry) Kinds() []Kind { return g.kinds }

// New reads the parameters of the step of that name. Unknown fields are refused.
func (g *Registry) New(name string, params json.RawMessage) (Step, error) {
	for _, k := range g.kinds {
		if k.Name != name {
			continue
		}
		s := k.New()
		if len(params) == 0 {
			params = json.RawMessage("{}")
		}
		dec := json.NewDecoder(bytes.NewReader(params))
		dec.DisallowUnknownFields()
		if err := dec.Decode(s); err != nil {
			return nil, badParams(name, err)
		}
		if _, err := dec.Token(); !errors.Is(err, io.EOF) {
			return nil, Refuse("step %q: something stands after its parameters", name)
		}
		if err := check(name, s); err != nil {
			return nil, err
		}
		return s, nil
	}
	return nil, Refuse("there is no step named %q", name)
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
	Name     string   `json:"name"`
	Type     string   `json:"type"`
	Meaning  string   `json:"meaning"`
	Default  any      `json:"default,omitempty"`
	OneOf    []string `json:"one_of,omitempty"`
	Min      *float64 `json:"min,omitempty"`
	Max      *float64 `json:"max,omitempty"`
	Required bool     `json:"required,omitempty"`
}

// Description describes a kind for those who write steps.
type Description struct {
	Name    string  `json:"name"`
	Meaning string  `json:"meaning"`
	Fields  []Field `json:"params"`
}

// Describe reads a kind's parameters off its Go struct: the tags json (name), help,
// enum ("a,b"), min, max and required; usual values are those that New sets.
func (k Kind) Describe() Description {
	d := Description{Name: k.Name, Meaning: k.Meaning, Fields: []Field{}}
	eachParam(k.New(), func(name string, f reflect.StructField, v reflect.Value) bool {
		out := Field{Name: name, Type: typeName(f.Type), Meaning: f.Tag.Get("help"), Required: f.Tag.Get("required") != ""}
		if e := f.Tag.Get("enum"); e != "" {
			out.OneOf = strings.Split(e, ",")
		}
		out.Min, out.Max = bound(f.Tag.Get("min")), bound(f.Tag.Get("max"))
		if !v.IsZero() {
			out.Default = v.Interface()
		}
		d.Fields = append(d.Fields, out)
		return true
	})
	return d
}

// eachParam calls f for each parameter of s, those of embedded structs too, until f
// gives false.
func eachParam(s Step, f func(name string, field reflect.StructField, v reflect.Value) bool) {
	var walk func(v reflect.Value) bool
	walk = func(v reflect.Value) bool {
		for i := range v.NumField() {
			field := v.Type().Field(i)
			if field.Anonymous {
				if !walk(v.Field(i)) {
					return false
				}
				continue
			}
			name, _, _ := strings.Cut(field.Tag.Get("json"), ",")
			if name != "" && name != "-" && !f(name, field, v.Field(i)) {
				return false
			}
		}
		return true
	}
	walk(reflect.ValueOf(s).Elem())
}

func bound(s string) *float64 {
	if s == "" {
		return nil
	}
	v, err := strconv.ParseFloat(s, 64)
	if err != nil {
		panic(err) // a wrong tag in the program
	}
	return &v
}

func typeName(t reflect.Type) string {
	switch t {
	case reflect.TypeFor[Pages]():
		return "pages: a page set (\"3-8, last\") or an array of page keys"
	case reflect.TypeFor[Place]():
		return "place: a page number or key to stand before, or \"end\""
	case reflect.TypeFor[Length]():
		return "length: points, or a string with its unit (\"12mm\")"
	case reflect.TypeFor[Colour]():
		return "colour: \"#rrggbb\" or the name of a house colour"
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

// check holds the values against the ranges that the struct states.
func check(name string, s Step) (err error) {
	eachParam(s, func(param string, f reflect.StructField, v reflect.Value) bool {
		err = checkParam(name, param, f, v)
		return err == nil
	})
	return err
}

func checkParam(name, param string, f reflect.StructField, v reflect.Value) error {
	if f.Tag.Get("required") != "" && v.IsZero() {
		return Refuse("step %q: %q is missing", name, param)
	}
	if e := f.Tag.Get("enum"); e != "" {
		if got := fmt.Sprint(v.Interface()); !strings.Contains(","+e+",", ","+got+",") {
			return Refuse("step %q: %q is %q; it can be %s", name, param, got, strings.ReplaceAll(e, ",", ", "))
		}
	}
	var n float64
	switch {
	case v.CanInt():
		n = float64(v.Int())
	case v.CanFloat():
		n = v.Float()
	default:
		return nil
	}
	if lo := bound(f.Tag.Get("min")); lo != nil && n < *lo {
		return Refuse("step %q: %q is %v; it can't be under %v", name, param, n, *lo)
	}
	if hi := bound(f.Tag.Get("max")); hi != nil && n > *hi {
		return Refuse("step %q: %q is %v; it can't be over %v", name, param, n, *hi)
	}
	return nil
}

// NamedPages gives the keys that a step's parameters name, and whether it also has
// rules or numbers, whose meaning depends on the state of the document.
func NamedPages(s Step) (keys []Key, rules bool) {
	eachParam(s, func(_ string, _ reflect.StructField, v reflect.Value) bool {
		switch p := v.Interface().(type) {
		case Pages:
			keys = append(keys, p.Keys...)
			rules = rules || p.Rule != ""
		case Place:
			if !p.Before.IsZero() {
				keys = append(keys, p.Before)
			}
			rules = rules || p.Number > 0
		}
		return true
	})
	return
}

// NamedSources gives the sources that a step's parameters name.
func NamedSources(s Step) []string {
	if n, ok := s.(interface{ SourceRefs() []string }); ok {
		return n.SourceRefs()
	}
	return nil
}
