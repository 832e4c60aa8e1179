// Package people is the administrator's screen: who works here and may do what, a person's page, and the record.
package people

import (
	"embed"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"glenrain/core/step"
	"glenrain/desk"
	"glenrain/web/station"
)

//go:embed *.html
var files embed.FS

// Screen is the value that the list of screens has.
func Screen() station.Screen {
	return station.Screen{
		Name: "people", Title: "People", Files: files,
		Routes: func(r station.Router, h station.Host) { (&screen{h, h.Desk()}).routes(r) },
		Places: []station.Place{
			{Text: "People", Words: "people users team invite roles administrator member reader password", URL: "/people", Act: desk.ActAdminister},
			{Text: "Activity log", Words: "record log audit history who did what", URL: "/people/record", Act: desk.ActAdminister},
		},
	}
}

type screen struct {
	station.Host
	desk *desk.Desk
}

func (s *screen) routes(r station.Router) {
	r = admins{r, s.desk}
	r.Get("/people", func(w http.ResponseWriter, r *http.Request) error { return s.list(w, r, nil, "") })
	r.Post("/people/invite", s.invite)
	r.Post("/people/void", s.void)
	r.Get("/people/record", s.record)
	r.Get("/people/record/export", s.export)
	r.Post("/people/keep", s.keep)
	r.Get("/people/{id}", func(w http.ResponseWriter, r *http.Request) error { return s.person(w, r, nil, "") })
	r.Post("/people/{id}/role", s.setRole)
	r.Post("/people/{id}/reset", s.reset)
	r.Post("/people/{id}/sessions", s.endSession)
	r.Post("/people/{id}/remove", s.remove)
}

// admins lets only administrators through, whatever a route then asks of the desk.
type admins struct {
	station.Router
	desk *desk.Desk
}

func (a admins) only(h station.Handler) station.Handler {
	return func(w http.ResponseWriter, r *http.Request) error {
		if err := a.desk.May(r.Context(), station.Person(r).ID, desk.ActAdminister, 0); err != nil {
			return err
		}
		return h(w, r)
	}
}

func (a admins) Get(pattern string, h station.Handler)  { a.Router.Get(pattern, a.only(h)) }
func (a admins) Post(pattern string, h station.Handler) { a.Router.Post(pattern, a.only(h)) }

// around is what each of the screens has.
type around struct {
	station.Around
	View    string // "people", "person" or "record"
	Message *station.Message
	Address string // a one-time address, shown once
	Roles   []desk.Role
}

func (s *screen) around(r *http.Request, title, view string, m *station.Message, address string) around {
	return around{s.Host.Screen(r, title), view, m, address, desk.Roles}
}

type listView struct {
	around
	People  []desk.PersonView
	Invites []desk.Invite
}

func (s *screen) list(w http.ResponseWriter, r *http.Request, m *station.Message, address string) error {
	me := station.Person(r).ID
	v := listView{around: s.around(r, "People", "people", m, address)}
	var err error
	if v.People, err = s.desk.AllPeople(r.Context(), me); err != nil {
		return err
	}
	if v.Invites, err = s.desk.Invites(r.Context(), me); err != nil {
		return err
	}
	return s.Render(w, http.StatusOK, "people", v)
}

// address writes a one-time address as whoever gets it opens it.
func address(r *http.Request, token string) string {
	scheme := "http"
	if r.TLS != nil || r.Header.Get("X-Forwarded-Proto") == "https" {
		scheme = "https"
	}
	return scheme + "://" + r.Host + "/enter/" + token
}

func (s *screen) invite(w http.ResponseWriter, r *http.Request) error {
	token, err := s.desk.Join(r.Context(), station.Person(r).ID, desk.Role(r.FormValue("role")), r.FormValue("for"))
	if err != nil {
		return err
	}
	return s.list(w, r, &station.Message{Text: "Copy the link below and give it to " + who(r.FormValue("for")) + ". It is shown only once, and works once within three days."}, address(r, token))
}

func who(name string) string {
	if strings.TrimSpace(name) == "" {
		return "the person"
	}
	return strings.TrimSpace(name)
}

func (s *screen) void(w http.ResponseWriter, r *http.Request) error {
	if err := s.desk.Void(r.Context(), station.Person(r).ID, r.FormValue("number")); err != nil {
		return err
	}
	return s.list(w, r, &station.Message{Text: "That link no longer works."}, "")
}

type personView struct {
	around
	Who      desk.PersonView
	Sessions []desk.SessionView
	Heirs    []desk.Person
	Records  []desk.Record
	Me       bool
}

// shortRecord is how many lines of the record a person's page has.
const shortRecord = 12

func (s *screen) person(w http.ResponseWriter, r *http.Request, m *station.Message, address string) error {
	me, id := station.Person(r).ID, station.ID(r, "id")
	all, err := s.desk.AllPeople(r.Context(), me)
	if err != nil {
		return err
	}
	v := personView{Me: me == id}
	for _, p := range all {
		if p.ID == id {
			v.Who = p
		} else {
			v.Heirs = append(v.Heirs, p.Person)
		}
	}
	if v.Who.ID == 0 {
		return desk.ErrMissing
	}
	v.around = s.around(r, v.Who.Name, "person", m, address)
	if v.Sessions, err = s.desk.SessionsOf(r.Context(), me, id, ""); err != nil {
		return err
	}
	if v.Records, err = s.desk.Records(r.Context(), me, desk.RecordQuery{Person: id, Most: shortRecord}); err != nil {
		return err
	}
	return s.Render(w, http.StatusOK, "person", v)
}

func (s *screen) setRole(w http.ResponseWriter, r *http.Request) error {
	role := desk.Role(r.FormValue("role"))
	if err := s.desk.SetRole(r.Context(), station.Person(r).ID, station.ID(r, "id"), role); err != nil {
		return err
	}
	if station.ID(r, "id") == station.Person(r).ID && role != desk.Administrator { // this screen is not theirs any more
		http.Redirect(w, r, "/", http.StatusSeeOther)
		return nil
	}
	return s.person(w, r, &station.Message{Text: "Role changed to " + string(role) + "."}, "")
}

func (s *screen) reset(w http.ResponseWriter, r *http.Request) error {
	token, err := s.desk.Reset(r.Context(), station.Person(r).ID, station.ID(r, "id"))
	if err != nil {
		return err
	}
	return s.person(w, r, &station.Message{Text: "Copy the link below. It is shown only once, and works once within three days to set a new password. Until then the old password works."}, address(r, token))
}

func (s *screen) endSession(w http.ResponseWriter, r *http.Request) error {
	if err := s.desk.EndSession(r.Context(), station.Person(r).ID, station.ID(r, "id"), r.FormValue("number"), ""); err != nil {
		return err
	}
	return s.person(w, r, &station.Message{Text: "Signed out there."}, "")
}

func (s *screen) remove(w http.ResponseWriter, r *http.Request) error {
	id := station.ID(r, "id")
	people, err := s.desk.People(r.Context())
	if err != nil {
		return err
	}
	if err := s.desk.RemovePerson(r.Context(), station.Person(r).ID, id, station.FormID(r, "heir")); err != nil {
		return err
	}
	return s.list(w, r, &station.Message{Text: people[id] + " was removed, and is signed out everywhere."}, "")
}

type recordView struct {
	around
	Records []desk.Record
	People  []desk.PersonView
	Whats   []whatView
	Kept    desk.House
	Asked   asked
	More    string // the address of earlier lines
	Export  string
}

// asked is the filter as it was typed.
type asked struct {
	Person   uint
	What     string
	Words    string
	From, To string
}

// whatView is a kind of line that can be asked for.
type whatView struct{ Value, Name string }

func whats() (out []whatView) {
	for _, w := range desk.Whats {
		out = append(out, whatView{w, desk.WhatName(w)})
	}
	return out
}

// recordPart is how many lines are shown at a time.
const recordPart = 60

func readAsked(r *http.Request) (asked, desk.RecordQuery, error) {
	a := asked{station.FormID(r, "person"), r.FormValue("what"), strings.TrimSpace(r.FormValue("words")), r.FormValue("from"), r.FormValue("to")}
	q := desk.RecordQuery{Person: a.Person, What: a.What, Words: a.Words, After: station.FormID(r, "after"), Most: recordPart + 1}
	for _, d := range []struct {
		text string
		at   *time.Time
		days int
	}{{a.From, &q.From, 0}, {a.To, &q.To, 1}} {
		if d.text == "" {
			continue
		}
		t, err := time.ParseInLocation("2006-01-02", d.text, time.Local)
		if err != nil {
			return a, q, step.Refuse("%q isn’t a date: type it like 2026-11-26", d.text)
		}
		*d.at = t.AddDate(0, 0, d.days)
	}
	if len(a.Words) > 200 {
		return a, q, step.Refuse("the search text is longer than 200 characters")
	}
	return a, q, nil
}

func (s *screen) record(w http.ResponseWriter, r *http.Request) error { return s.showRecord(w, r, nil) }

func (s *screen) showRecord(w http.ResponseWriter, r *http.Request, m *station.Message) error {
	a, q, err := readAsked(r)
	if err != nil {
		return err
	}
	me := station.Person(r).ID
	v := recordView{around: s.around(r, "Activity log", "record", m, ""), Whats: whats(), Asked: a}
	if v.Records, err = s.desk.Records(r.Context(), me, q); err != nil {
		return err
	}
	if v.People, err = s.desk.AllPeople(r.Context(), me); err != nil {
		return err
	}
	if v.Kept, err = s.desk.House(r.Context()); err != nil {
		return err
	}
	form := r.URL.Query()
	form.Del("after")
	v.Export = "/people/record/export?" + form.Encode()
	if len(v.Records) > recordPart {
		v.Records = v.Records[:recordPart]
		form.Set("after", strconv.Itoa(int(v.Records[recordPart-1].ID)))
		v.More = "/people/record?" + form.Encode()
	}
	return s.Render(w, http.StatusOK, "record", v)
}

func (s *screen) export(w http.ResponseWriter, r *http.Request) error {
	_, q, err := readAsked(r)
	if err != nil {
		return err
	}
	if _, err := s.desk.Records(r.Context(), station.Person(r).ID, desk.RecordQuery{Most: 1}); err != nil { // before an answer is begun
		return err
	}
	w.Header().Set("Content-Type", "text/csv; charset=utf-8")
	w.Header().Set("Content-Disposition", fmt.Sprintf(`attachment; filename="activity log %s.csv"`, time.Now().Format("2006-01-02")))
	return s.desk.ExportRecords(r.Context(), station.Person(r).ID, q, w)
}

// keep sets how long the record and the Bin are kept.
func (s *screen) keep(w http.ResponseWriter, r *http.Request) error {
	days := func(name string) int {
		n, err := strconv.Atoi(strings.TrimSpace(r.FormValue(name)))
		if err != nil {
			return -1
		}
		return n
	}
	if err := s.desk.Keep(r.Context(), station.Person(r).ID, desk.House{RecordDays: days("record"), BinDays: days("bin")}); err != nil {
		return err
	}
	return s.showRecord(w, r, &station.Message{Text: "Saved."})
}
