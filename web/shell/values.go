package shell

import (
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"glenrain/core/step"
	"glenrain/desk"
	"glenrain/web/station"
)

// valueField is a parameter of a step that was done, as it can be changed.
type valueField struct {
	Name    string
	Meaning string
	Value   string
	Options []string
	Labels  map[string]string // of the options
	YesNo   bool
}

// values gives the parameters of a step that can be written in a field; the others, lists of many things, stay as they are.
func (s *Server) values(row *desk.Step) (fields []valueField, rest map[string]json.RawMessage, err error) {
	kind, ok := s.desk.Registry().Kind(row.Name)
	if !ok {
		return nil, nil, step.Refuse("this kind of step no longer exists")
	}
	st, err := s.desk.Registry().New(row.Name, json.RawMessage(row.Params))
	if err != nil {
		return nil, nil, err
	}
	now, err := json.Marshal(st) // under the names of today, with usual values
	if err != nil {
		return nil, nil, err
	}
	rest = map[string]json.RawMessage{}
	if err := json.Unmarshal(now, &rest); err != nil {
		return nil, nil, err
	}
	for _, f := range kind.Describe().Fields {
		v := valueField{Name: f.Name, Meaning: f.Meaning, Options: f.OneOf, Labels: f.Labels, YesNo: f.Type == "yes or no"}
		simple := writable(f)
		raw, has := rest[f.Name]
		var value any
		if has && json.Unmarshal(raw, &value) != nil {
			simple = false
		}
		switch x := value.(type) {
		case nil:
		case string:
			v.Value = x
		case bool:
			v.Value = map[bool]string{true: "yes", false: "no"}[x]
		case float64:
			v.Value = strings.TrimSuffix(fmt.Sprintf("%.4f", x), ".0000")
			if strings.Contains(v.Value, ".") {
				v.Value = strings.TrimRight(v.Value, "0")
			}
			if strings.HasPrefix(f.Type, "length:") {
				v.Value += " pt"
			}
		default:
			simple = false
		}
		if !simple || f.Names {
			continue
		}
		delete(rest, f.Name)
		fields = append(fields, v)
	}
	return fields, rest, nil
}

// changeable reports whether steps of a kind have values that can be changed, as far as the kind tells.
func (s *Server) changeable(row *desk.Step) bool {
	if row.Together != "" {
		return false
	}
	if known, ok := s.hasValues.Load(row.Name); ok {
		return known.(bool)
	}
	kind, ok := s.desk.Registry().Kind(row.Name)
	has := ok && slices.ContainsFunc(kind.Describe().Fields, func(f step.Field) bool { return !f.Names && writable(f) })
	s.hasValues.Store(row.Name, has)
	return has
}

// writable reports whether a parameter can be written in one field.
func writable(f step.Field) bool {
	if f.Type == "yes or no" || len(f.OneOf) > 0 {
		return true
	}
	name, _, _ := strings.Cut(f.Type, ":")
	return slices.Contains([]string{"text", "whole number", "number", "length", "colour", "pages", "place"}, name)
}

// stepValues shows the values of an earlier step, to be changed.
func (s *Server) stepValues(w http.ResponseWriter, r *http.Request) error {
	row, err := s.desk.StepOf(r.Context(), station.Person(r).ID, station.ID(r, "id"), station.ID(r, "step"))
	if err != nil {
		return err
	}
	snap, err := s.desk.Look(r.Context(), station.Person(r).ID, station.ID(r, "id"))
	if err != nil {
		return err
	}
	fields, _, err := s.values(row)
	if err != nil {
		return err
	}
	return s.render(w, http.StatusOK, "shell", "step-values", struct {
		*desk.Step
		Title  string
		Fields []valueField
		Seen   uint
		Place  string
	}{row, s.desk.Registry().Title(row.Name), fields, snap.State.ID, r.FormValue("_place")})
}

// changeStep does an earlier step again with other values, and the later ones after it.
func (s *Server) changeStep(w http.ResponseWriter, r *http.Request) error {
	person := station.Person(r).ID
	row, err := s.desk.StepOf(r.Context(), person, station.ID(r, "id"), station.ID(r, "step"))
	if err != nil {
		return err
	}
	if err := s.desk.MayStep(r.Context(), person, row.DocumentID, row.Name); err != nil {
		return err
	}
	fields, rest, err := s.values(row)
	if err != nil {
		return err
	}
	if err := r.ParseForm(); err != nil {
		return step.Refuse("the form can't be read")
	}
	form := map[string][]string{}
	for _, f := range fields {
		if v, ok := r.Form[f.Name]; ok && (v[0] != "" || f.Value != "") {
			form[f.Name] = v
		}
	}
	st, err := s.desk.Registry().Read(row.Name, form, func(st step.Step) error {
		list, err := json.Marshal(rest)
		if err != nil {
			return err
		}
		return step.Decode(list, st, false)
	})
	if err != nil {
		return err
	}
	params, err := json.Marshal(st)
	if err != nil {
		return err
	}
	out, err := s.desk.Revise(r.Context(), desk.Revision{Document: row.DocumentID, Seen: station.FormID(r, "_seen"), Person: person, Step: row.ID, Params: params})
	if err != nil {
		return err
	}
	return s.answer(w, r, out, out.Undone+"; later steps were run again.", true)
}

// callState gives a state a name.
func (s *Server) callState(w http.ResponseWriter, r *http.Request) error {
	person := station.Person(r).ID
	name := r.FormValue("name")
	if err := s.desk.CallState(r.Context(), person, station.ID(r, "id"), station.ID(r, "state"), name); err != nil {
		return err
	}
	snap, err := s.desk.Look(r.Context(), person, station.ID(r, "id"))
	if err != nil {
		return err
	}
	text := fmt.Sprintf("Version named “%s”: you can return to it or compare with it.", strings.TrimSpace(name))
	if strings.TrimSpace(name) == "" {
		text = "Version name removed."
	}
	return s.show(w, r, station.Shown{Snapshot: snap, Place: r.FormValue("_place"), Message: &station.Message{Text: text}})
}

// goBack makes an earlier state the newest.
func (s *Server) goBack(w http.ResponseWriter, r *http.Request) error {
	out, err := s.desk.GoBack(r.Context(), station.ID(r, "id"), station.FormID(r, "_seen"), station.Person(r).ID, station.ID(r, "state"))
	if err != nil {
		return err
	}
	return s.answer(w, r, out, out.Undone+".", true)
}
