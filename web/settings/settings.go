// Package settings is the administrator's screen of the office's settings: sections that capabilities add.
package settings

import (
	"embed"
	"net/http"
	"slices"
	"strings"

	"glenrain/core/step"
	"glenrain/desk"
	"glenrain/web/station"
)

//go:embed *.html
var files embed.FS

// Screen is the value that the list of screens has; sections are those of others, below the office's own.
func Screen(sections ...station.Section) station.Screen {
	all := append([]station.Section{office}, sections...)
	return station.Screen{
		Name: "settings", Title: "Office settings", Files: files,
		Routes: func(r station.Router, h station.Host) { (&screen{h, all}).routes(r) },
		Places: []station.Place{{Text: "Office settings", Words: "settings office name preferences options administrator " + words(all), URL: "/settings", Act: desk.ActAdminister}},
	}
}

func words(all []station.Section) string {
	var out []string
	for _, s := range all {
		out = append(out, strings.ToLower(s.Title))
	}
	return strings.Join(out, " ")
}

// office is the section that every office has.
var office = station.Section{
	Name: "office", Title: "Office",
	Fields: []station.Setting{{Key: desk.OfficeName, Label: "Name", Help: "Shown at the top of every screen. Leave it empty to use the name the server was started with.", Most: 60}},
}

type screen struct {
	station.Host
	sections []station.Section
}

func (s *screen) routes(r station.Router) {
	r.Get("/settings", func(w http.ResponseWriter, r *http.Request) error { return s.show(w, r, http.StatusOK, "", nil) })
	r.Post("/settings/{section}", s.save)
}

// field is a setting with its value.
type field struct {
	station.Setting
	Value string
	Set   bool // a secret is set
}

type section struct {
	Name, Title, About string
	Fields             []field
}

type view struct {
	station.Around
	Sections []section
	Message  *station.Message
}

func (s *screen) show(w http.ResponseWriter, r *http.Request, code int, changed string, m *station.Message) error {
	if err := s.Desk().May(r.Context(), station.Person(r).ID, desk.ActAdminister, 0); err != nil {
		return err
	}
	v := view{Around: s.Screen(r, "Office settings"), Message: m}
	for _, of := range s.sections {
		part := section{Name: of.Name, Title: of.Title, About: of.About}
		for _, set := range of.Fields {
			f := field{Setting: set}
			var err error
			if set.Secret {
				_, f.Set, err = s.Desk().Unseal(r.Context(), set.Key)
			} else {
				_, err = s.Desk().Setting(r.Context(), set.Key, &f.Value)
			}
			if err != nil && !set.Secret { // a secret that can't be read is entered again
				return err
			}
			if of.Name == changed { // what was refused stays typed
				f.Value = r.FormValue(set.Key)
			}
			part.Fields = append(part.Fields, f)
		}
		v.Sections = append(v.Sections, part)
	}
	return s.Render(w, code, "settings", v)
}

// save sets what a section's form says. All of it is looked at before any is set.
func (s *screen) save(w http.ResponseWriter, r *http.Request) error {
	me := station.Person(r).ID
	if err := s.Desk().May(r.Context(), me, desk.ActAdminister, 0); err != nil {
		return err
	}
	i := slices.IndexFunc(s.sections, func(of station.Section) bool { return of.Name == station.Param(r, "section") })
	if i < 0 {
		return desk.ErrMissing
	}
	of := s.sections[i]
	for _, set := range of.Fields {
		if wrong := check(set, r.FormValue(set.Key)); wrong != "" {
			return s.show(w, r, http.StatusUnprocessableEntity, of.Name, &station.Message{Text: step.Sentence(wrong) + ".", Problem: true})
		}
	}
	for _, set := range of.Fields {
		value := strings.TrimSpace(r.FormValue(set.Key))
		label := of.Title + ": " + step.Within(set.Label)
		var err error
		switch {
		case set.Secret && value != "": // an empty one leaves what is set
			err = s.Desk().Seal(r.Context(), me, set.Key, label, value)
		case !set.Secret:
			was := ""
			if _, err = s.Desk().Setting(r.Context(), set.Key, &was); err == nil && was != value {
				err = s.Desk().Set(r.Context(), me, set.Key, label, value)
			}
		}
		if err != nil {
			return err
		}
	}
	return s.show(w, r, http.StatusOK, "", &station.Message{Text: of.Title + ": saved."})
}

// check says what is wrong with a value; "" for nothing.
func check(set station.Setting, value string) string {
	value = strings.TrimSpace(value)
	if set.Most > 0 && len([]rune(value)) > set.Most {
		return step.Within(set.Label) + " can have up to " + step.Count(set.Most, "character")
	}
	if set.Choices != nil && !slices.ContainsFunc(set.Choices, func(c [2]string) bool { return c[0] == value }) {
		return "choose one of the values for " + step.Within(set.Label)
	}
	if set.Check != nil {
		if err := set.Check(value); err != nil {
			return err.Error()
		}
	}
	return ""
}
