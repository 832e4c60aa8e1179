package documents

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"

	"glenrain/core/intake"
	"glenrain/core/intake/encoded"
	"glenrain/core/step"
	"glenrain/desk"
	"glenrain/web/station"
)

// arrived is what is told of a file that was added: one of those in a zip file, of a mail, or the only one.
type arrived struct {
	Name     string   `json:"name"`
	ID       uint     `json:"id,omitempty"`
	Sentence string   `json:"sentence"`       // figures, or the reason why it did not come in
	Told     []string `json:"told,omitempty"` // what was left out when it was turned into pages
	Encoding string   `json:"encoding,omitempty"`
	Kind     string   `json:"kind,omitempty"` // of a file that can be turned into pages in another way
	Same     string   `json:"same,omitempty"` // the name of a document on the same bytes
	SameID   uint     `json:"sameId,omitempty"`
	Look     string   `json:"look,omitempty"`   // what one would act on
	Locked   bool     `json:"locked,omitempty"` // it needs a password
	Refused  bool     `json:"refused,omitempty"`
}

func told(a desk.Arrived) arrived {
	out := arrived{Name: a.Name}
	if a.Err != nil {
		out.Refused = true
		out.Sentence = a.Err.Error()
		var refused *desk.Refused
		var password *desk.NeedsPassword
		switch {
		case errors.As(a.Err, &password):
			out.Locked, out.Refused, out.Sentence = true, false, password.Sentence
		case errors.As(a.Err, &refused):
			out.Sentence = refused.Sentence
		}
		out.Sentence = strings.TrimSuffix(out.Sentence, "; nothing was changed")
		return out
	}
	d := a.Document
	out.ID, out.Look = d.ID, d.Weightiest
	out.Sentence = fmt.Sprintf("%s, %s, %s", step.Count(d.Pages, "page"), d.Paper, station.Weight(d.Weight))
	if d.Made.Of == "file" {
		out.Kind, out.Told = string(d.Made.Kind), d.Made.Warnings
		if d.Made.Kind.Takes("encoding") {
			out.Encoding = d.Made.Encoding
		}
	}
	if a.Same != nil {
		out.Same, out.SameID = a.Same.Name, a.Same.ID
	}
	return out
}

// lines asks for one line for each file, as soon as it is there, instead of an answer at the end.
const lines = "application/x-ndjson"

// add takes one file as the body of the request; its name, with the folders it comes in, is in the address, the request's id in a header.
func (s *screen) add(w http.ResponseWriter, r *http.Request) error {
	name := r.URL.Query().Get("name")
	in, err := s.desk.Store.Create()
	if err != nil {
		return err
	}
	defer in.Drop()
	if _, err := io.Copy(in, r.Body); err != nil {
		var tooLarge *http.MaxBytesError
		if !errors.As(err, &tooLarge) && !desk.NoSpace(err) {
			err = step.Refuse("“%s” did not arrive completely; nothing was changed", name)
		}
		return err
	}
	folder := station.FormID(r, "folder")
	if folder == 0 {
		f, err := s.desk.EnsureFolder(r.Context(), "Documents")
		if err != nil {
			return err
		}
		folder = f.ID
	}
	// The password of a locked file comes in a header, percent-encoded: never in the address.
	password, err := url.PathUnescape(r.Header.Get("File-Password"))
	if err != nil {
		password = ""
	}
	a := desk.Arrival{Person: station.Person(r).ID, Folder: folder, Name: name, Password: password, RequestID: station.RequestID(r.Header.Get("Request-Id"), name, fmt.Sprint(in.Size))}
	streams := r.Header.Get("Accept") == lines
	var all []arrived
	var first error
	begun := false
	enc := json.NewEncoder(w)
	err = s.desk.ArriveEach(r.Context(), a, in, func(one desk.Arrived) {
		t := told(one)
		all = append(all, t)
		if first == nil {
			first = one.Err
		}
		if streams {
			if !begun {
				w.Header().Set("Content-Type", lines)
				begun = true
			}
			_ = enc.Encode(t) // whoever went away is told nothing
			_ = http.NewResponseController(w).Flush()
		}
	})
	switch {
	case begun && err != nil:
		_ = enc.Encode(arrived{Name: name, Refused: true, Sentence: "the rest was not added: " + s.Sentence(err)})
		return nil
	case err != nil:
		return err
	case begun:
		return nil
	case len(all) == 1 && first != nil:
		return first
	case len(all) == 0:
		return step.Refuse("nothing of “%s” was added", name)
	}
	return station.SendJSON(w, map[string]any{"id": all[0].ID, "name": all[0].Name, "sentence": all[0].Sentence, "files": all})
}

// again turns the file that a document was made of into pages in another way.
func (s *screen) again(w http.ResponseWriter, r *http.Request) error {
	id := station.FormID(r, "id")
	row, err := s.desk.Document(r.Context(), station.Person(r).ID, id)
	if err != nil {
		return err
	}
	o := row.Made.Options
	_ = r.ParseForm()
	for name, to := range map[string]*string{"encoding": &o.Encoding, "paper": &o.Paper, "separator": &o.Separator, "fit": &o.Fit} {
		if r.Form.Has(name) {
			*to = r.FormValue(name)
		}
	}
	for name, to := range map[string]*bool{"landscape": &o.Landscape, "numbers": &o.Numbers, "plain": &o.Plain} {
		if r.Form.Has(name) {
			*to = r.FormValue(name) == "yes"
		}
	}
	out, err := s.desk.Again(r.Context(), station.Person(r).ID, id, o, "")
	if err != nil {
		return err
	}
	if station.OnlyPart(r) {
		text := fmt.Sprintf("“%s” was created again. The previous pages are in the Bin.", out.Name)
		if out.ID == id {
			text = fmt.Sprintf("“%s” is unchanged.", out.Name)
		}
		return s.show(w, r, "here", &station.Message{Text: text})
	}
	return station.SendJSON(w, told(desk.Arrived{Name: row.OriginalName, Document: out}))
}

// aboutView is what is shown beside a document.
type aboutView struct {
	Document  *desk.Document
	About     *desk.About
	Findings  []finding
	Kind      intake.Kind
	Encodings [][2]string
	Changes   bool
	Width     int // of the table
}

// finding is something that one would act on, with the act that answers it.
type finding struct{ Text, Act, URL string }

// acts are what answers the traits of a document: words of a link, and where it leads behind the document's address.
var acts = map[string][2]string{
	"no-text": {"Recognize text", "collect/recognize"}, "part-text": {"Recognize text", "collect/recognize"},
	"signed": {"Export with or without its signature", "release"}, "locked": {"Export locked again, or unlocked", "release"},
	"comments": {"Show them", "review"}, "heavy": {"Show what takes up space", ""},
}

// about shows what a document is made of, below its row.
func (s *screen) about(w http.ResponseWriter, r *http.Request) error {
	me := station.Person(r)
	row, about, err := s.desk.About(r.Context(), me.ID, station.ID(r, "id"))
	if err != nil {
		return err
	}
	v := &aboutView{Document: row, About: about, Kind: row.Made.Kind, Encodings: encoded.Titles, Changes: me.Role.Allows(desk.ActChange), Width: 9}
	for _, kind := range s.desk.TraitsOf(row, about) {
		f := finding{Text: about.Say(kind.Kind, row)}
		if kind.Kind == "mended" && row.Mended != "" {
			f.Text += ": " + row.Mended
		}
		if !kind.Acts {
			continue
		}
		if a, ok := acts[kind.Kind]; ok && a[1] != "" && row.BinnedAt == nil {
			place := a[1]
			switch kind.Kind {
			case "no-text", "part-text":
				n := about.FirstPicture
				if kind.Kind == "part-text" {
					n = about.FirstPart
				}
				key, err := s.desk.PageAt(r.Context(), row.ID, n)
				if err != nil {
					continue
				}
				place += "?page=" + key
			}
			f.Act, f.URL = a[0], fmt.Sprintf("/desk/%d/%s", row.ID, place)
		}
		v.Findings = append(v.Findings, f)
	}
	return s.Render(w, http.StatusOK, "about", v)
}
