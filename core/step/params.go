package step

import (
	"bytes"
	"encoding"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"reflect"
	"slices"
	"strconv"
	"strings"
)

// The parameters of a step are the fields of its struct that have a json tag, those of embedded structs too. Tags say what a
// parameter takes: help (what it means), enum ("a,b"), labels of its values where people read others ("a=first,..."), min, max, required ("yes", or what to say where it is missing), names ("yes": it says what the step is done to); and what it was called before: was ("old,older") for
// its name, wasvalue ("old=new,...") for the values of an enum.

// param is one parameter of a step that is at hand.
type param struct {
	name  string
	field reflect.StructField
	value reflect.Value
}

func (p *param) enum() []string {
	if e := p.field.Tag.Get("enum"); e != "" {
		return strings.Split(e, ",")
	}
	return nil
}

// labels gives what people read for each value of the enum.
func (p *param) labels() map[string]string {
	out := map[string]string{}
	for _, v := range p.enum() {
		out[v] = v
	}
	for pair := range strings.SplitSeq(p.field.Tag.Get("labels"), ",") {
		if v, label, ok := strings.Cut(pair, "="); ok {
			out[v] = label
		}
	}
	return out
}

// eachParam calls f for each parameter of the struct that s points to, until f gives false.
func eachParam(s any, f func(p param) bool) {
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
			if name != "" && name != "-" && !f(param{name, field, v.Field(i)}) {
				return false
			}
		}
		return true
	}
	walk(reflect.ValueOf(s).Elem())
}

// Decode reads parameters from JSON into the struct that s points to, under their names of today or of before. What the struct
// does not have is refused where strict.
func Decode(data []byte, s any, strict bool) error {
	now := map[string]string{} // by the name of before
	eachParam(s, func(p param) bool {
		for old := range strings.SplitSeq(p.field.Tag.Get("was"), ",") {
			if old != "" {
				now[old] = p.name
			}
		}
		return true
	})
	if len(now) > 0 {
		var all map[string]json.RawMessage
		if json.Unmarshal(data, &all) == nil && renamed(all, now) {
			data, _ = json.Marshal(all) // of raw messages: it can't fail
		}
	}
	dec := json.NewDecoder(bytes.NewReader(data))
	if strict {
		dec.DisallowUnknownFields()
	}
	if err := dec.Decode(s); err != nil {
		return err
	}
	if _, err := dec.Token(); !errors.Is(err, io.EOF) {
		return Refuse("there is extra text after the parameters")
	}
	eachParam(s, func(p param) bool {
		for pair := range strings.SplitSeq(p.field.Tag.Get("wasvalue"), ",") {
			if old, value, ok := strings.Cut(pair, "="); ok && p.value.Kind() == reflect.String && p.value.String() == old {
				p.value.SetString(value)
				break
			}
		}
		return true
	})
	return nil
}

// renamed moves values from the names of before to those of today, and tells whether there were any.
func renamed(all map[string]json.RawMessage, now map[string]string) bool {
	any := false
	for _, old := range slices.Sorted(maps.Keys(now)) {
		v, ok := all[old]
		if _, taken := all[now[old]]; ok && !taken {
			any, all[now[old]] = true, v
			delete(all, old)
		}
	}
	return any
}

// Invalid are parameters that can't be what they were given as.
type Invalid struct{ Fields []FieldError }

// FieldError says in a sentence what is wrong with one parameter.
type FieldError struct {
	Field    string `json:"field"`
	Sentence string `json:"sentence"`
}

func (i *Invalid) Error() string { return i.Fields[0].Sentence }

// Read makes the step of that name from what people wrote: for each parameter the values of a form's fields of its name. A list
// of structs has a field for each column, "name.column". What is not there keeps its usual value; fill, where given, adds what no
// field can say, before the values are held against their ranges. Parameters that can't be read, or are out of range, are all
// told at once, as *Invalid.
func (g *Registry) Read(name string, values map[string][]string, fill func(Step) error) (Step, error) {
	k, ok := g.Kind(name)
	if !ok {
		return nil, Refuse("there is no step named %q", name)
	}
	s := k.New()
	bad := &Invalid{}
	wrong := map[string]bool{}
	note := func(p param, err error) {
		if err != nil {
			bad.Fields = append(bad.Fields, FieldError{p.name, sentenceOf(err)})
			wrong[p.name] = true
		}
	}
	eachParam(s, func(p param) bool {
		note(p, readParam(p, values))
		return true
	})
	if fill != nil && len(bad.Fields) == 0 {
		if err := fill(s); err != nil {
			return nil, err
		}
	}
	eachParam(s, func(p param) bool {
		if !wrong[p.name] && (fill == nil || len(wrong) == 0) {
			note(p, p.check())
		}
		return true
	})
	if len(bad.Fields) > 0 {
		return nil, bad
	}
	return s, nil
}

func sentenceOf(err error) string {
	var refusal *Refusal
	if errors.As(err, &refusal) {
		return refusal.Sentence
	}
	return "this can't be read"
}

func readParam(p param, values map[string][]string) error {
	if list := p.value; list.Kind() == reflect.Slice && list.Type().Elem().Kind() == reflect.Struct && !textual(list.Type().Elem()) {
		return readRows(p, values)
	}
	given, ok := values[p.name]
	if !ok {
		return nil
	}
	if p.value.Kind() == reflect.Slice && !textual(p.value.Type()) {
		if elem := p.value.Type().Elem(); elem.Kind() == reflect.Slice || elem.Kind() == reflect.Array {
			return json.Unmarshal([]byte(given[len(given)-1]), p.value.Addr().Interface())
		}
		list := reflect.MakeSlice(p.value.Type(), 0, len(given))
		for _, text := range given {
			v := reflect.New(p.value.Type().Elem()).Elem()
			if err := setText(v, text); err != nil {
				return err
			}
			list = reflect.Append(list, v)
		}
		p.value.Set(list)
		return nil
	}
	return setText(p.value, given[len(given)-1])
}

// readRows reads a list of structs from its columns; a row without any value is left out.
func readRows(p param, values map[string][]string) error {
	elem := p.value.Type().Elem()
	rows := 0
	for i := range elem.NumField() {
		column, _, _ := strings.Cut(elem.Field(i).Tag.Get("json"), ",")
		rows = max(rows, len(values[p.name+"."+column]))
	}
	if _, there := values[p.name]; rows == 0 && !there {
		return nil
	}
	list := reflect.MakeSlice(p.value.Type(), 0, rows)
	for r := range rows {
		v := reflect.New(elem).Elem()
		for i := range elem.NumField() {
			column, _, _ := strings.Cut(elem.Field(i).Tag.Get("json"), ",")
			if given := values[p.name+"."+column]; r < len(given) {
				if err := setText(v.Field(i), given[r]); err != nil {
					return err
				}
			}
		}
		if !v.IsZero() {
			list = reflect.Append(list, v)
		}
	}
	p.value.Set(list)
	return nil
}

func textual(t reflect.Type) bool {
	return reflect.PointerTo(t).Implements(reflect.TypeFor[encoding.TextUnmarshaler]())
}

// setText sets a value from text: by its own reading where it has one.
func setText(v reflect.Value, text string) error {
	if t, ok := v.Addr().Interface().(encoding.TextUnmarshaler); ok {
		return t.UnmarshalText([]byte(text))
	}
	switch v.Kind() {
	case reflect.Pointer:
		if text == "" {
			v.SetZero()
			return nil
		}
		v.Set(reflect.New(v.Type().Elem()))
		return setText(v.Elem(), text)
	case reflect.String:
		v.SetString(text)
	case reflect.Bool:
		v.SetBool(text != "" && text != "no")
	case reflect.Int, reflect.Int64:
		n, err := strconv.ParseInt(strings.TrimSpace(text), 10, 64)
		if err != nil {
			return Refuse("%q is not a whole number", text)
		}
		v.SetInt(n)
	case reflect.Float64:
		n, err := number(text)
		if err != nil {
			return err
		}
		v.SetFloat(n)
	default:
		return json.Unmarshal([]byte(text), v.Addr().Interface())
	}
	return nil
}

// check holds a parameter against what its tags state.
func (p *param) check() error {
	v := p.value
	if p.field.Tag.Get("required") != "" && (v.IsZero() || v.Kind() == reflect.Slice && v.Len() == 0) {
		switch said := p.field.Tag.Get("required"); {
		case said != "yes":
			return Refuse("%s", said)
		case v.Type() == reflect.TypeFor[Pages]():
			return Refuse("no page is selected")
		}
		return Refuse("this is missing")
	}
	if list := p.enum(); list != nil {
		if got := fmt.Sprint(v.Interface()); !slices.Contains(list, got) {
			return Refuse("%q isn’t one of %s", got, strings.Join(list, ", "))
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
	unit := ""
	if _, length := v.Interface().(Length); length {
		unit = " pt"
	}
	if lo := bound(p.field.Tag.Get("min")); lo != nil && n < *lo {
		return Refuse("%v%s is too small: %v%s at least", n, unit, *lo, unit)
	}
	if hi := bound(p.field.Tag.Get("max")); hi != nil && n > *hi {
		return Refuse("%v%s is too large: %v%s at most", n, unit, *hi, unit)
	}
	return nil
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

// eachValue calls f for each value in the parameters of s, however deep it stands in lists and structs, until f tells that a
// value is known: what is in that one is passed over.
func eachValue(s Step, f func(v any) (known bool)) {
	var walk func(v reflect.Value)
	walk = func(v reflect.Value) {
		if !v.CanInterface() || f(v.Interface()) {
			return
		}
		switch v.Kind() {
		case reflect.Pointer, reflect.Interface:
			if !v.IsNil() {
				walk(v.Elem())
			}
		case reflect.Slice, reflect.Array:
			for i := range v.Len() {
				walk(v.Index(i))
			}
		case reflect.Struct:
			for i := range v.NumField() {
				walk(v.Field(i))
			}
		case reflect.Map:
			keys := v.MapKeys()
			slices.SortFunc(keys, func(a, b reflect.Value) int { return strings.Compare(fmt.Sprint(a), fmt.Sprint(b)) })
			for _, k := range keys {
				walk(v.MapIndex(k))
			}
		}
	}
	eachParam(s, func(p param) bool {
		walk(p.value)
		return true
	})
}

// NamedPages gives the keys that a step's parameters name, and whether it also has
// rules or numbers, whose meaning depends on the state of the document.
func NamedPages(s Step) (keys []Key, rules bool) {
	eachValue(s, func(v any) bool {
		switch p := v.(type) {
		case Pages:
			keys = append(keys, p.Keys...)
			rules = rules || p.Rule != ""
		case Place:
			if !p.Before.IsZero() {
				keys = append(keys, p.Before)
			}
			rules = rules || p.Number > 0
		case Key:
			if !p.IsZero() {
				keys = append(keys, p)
			}
		default:
			return false
		}
		return true
	})
	return
}

// NamedSources gives the sources that a step's parameters name.
func NamedSources(s Step) (refs []string) {
	eachValue(s, func(v any) bool {
		r, ok := v.(SourceRef)
		if ok && r != "" && !slices.Contains(refs, string(r)) {
			refs = append(refs, string(r))
		}
		return ok
	})
	return refs
}
