// Package station is the contract between the frame of a desk (web/shell) and what stands in it: stations with their jobs, and screens
// besides the desk. A station is a value: it names its steps, templates and scripts, and says where things are found; the shell
// gives it a place on the way, reads its forms into steps, previews and runs them. It knows no station.
package station

import (
	"io/fs"
	"math"
	"net/http"

	"glenrain/core/step"
	"glenrain/desk"
)

// Surface is what a station shows of a document.
type Surface string

// Paper is one page at a time with the strip of all below it; Board is all pages in a grid.
const (
	Paper Surface = "paper"
	Board Surface = "board"
)

// Station is one of the places of a desk.
type Station struct {
	Path    string // in addresses: "furnish"
	Name    string // as shown: "Furnish"
	Words   string // its jobs in trade words, for the way
	Surface Surface
	Zoom    string // of the page, until a person chooses another: "width", or all of it
	Jobs    []Job  // at least one; the first is the one that is come to
	// Routes adds routes of its own, below /desk/{id}.
	Routes func(Router, Host)
	Files  fs.FS // templates (*.html) and scripts (*.js) of the station and its jobs
}

// Job is one thing that is done at a station.
type Job struct {
	Path   string // behind the station's in addresses; may be empty for the first job
	Words  string // in trade words: the choice among the jobs of the station that one is in
	Slip   string // the file in Files that defines the template "slip"; it gets a *Frame
	Module string // the script in Files that is mounted with the slip; "" for none
	View   func(*Visit) (any, error)
	Steps  []Form
	Finds  []Find
	Keys   []Key
	Fixes  []string // kinds of findings that are fixed here
	Reads  bool     // text is read here: matches in it lead here
	// Surface is what is shown of the document, where that is not what the station shows.
	Surface Surface
}

// Shows gives what a job at a station shows of a document.
func (st *Station) Shows(j *Job) Surface {
	if j.Surface != "" {
		return j.Surface
	}
	return st.Surface
}

// Form is a step that a job's slip has a form for. The form's fields are the step's parameters: they are read into the step's own
// struct by its description.
type Form struct {
	Step string
	// Fill adds what no field can say: what is looked up in the document, who asks.
	Fill func(v *Visit, s step.Step) error
	// Spot tells where what the step puts on the page that is shown will be.
	Spot func(*desk.Preview) (Spot, bool)
}

// Spot is a place on a page, in points from the upper left corner of the page as it is seen, and a note beside it. With no width, there is
// only the note, at the height of Y.
type Spot struct {
	X     float64 `json:"x"`
	Y     float64 `json:"y"`
	W     float64 `json:"w"`
	H     float64 `json:"h"`
	Title string  `json:"title"`
	Text  string  `json:"text"`
}

// Find is an action that the finder knows: the words that find it besides its text, and where it is done.
type Find struct {
	Text  string
	Words string
	Query string // of the address, such as "new=1"
}

// Key is a line of the key map, which both the screen's "?" and the scripts are made of.
type Key struct {
	Keys   []string `json:"keys"` // as scripts name them: "r", "Shift+R", "ArrowLeft", "Ctrl+f"
	Act    string   `json:"act"`  // what the scripts that answer it call it; empty where the browser does it
	What   string   `json:"-"`    // for people
	Show   []string `json:"-"`    // how people see the keys; as they are named if empty
	Typing bool     `json:"typing,omitempty"`
}

// Screen is a screen besides the desk.
type Screen struct {
	Name   string // in addresses of its scripts
	Title  string // over its keys
	Routes func(Router, Host)
	Files  fs.FS
	Places []Place
	Keys   []Key
	Search string // the address that searches the text of all documents, with q; empty where it is not here
}

// PageView is a page as scripts get it: its key, the version of its picture, its width and height in points, and what it is called where that is not
// its place.
type PageView [5]any

// PageViews are the pages of a snapshot as scripts get them.
func PageViews(s *desk.Snapshot) []PageView {
	pages := s.Pages()
	labels := s.Labels()
	out := make([]PageView, len(pages))
	for i, p := range pages {
		label := ""
		if labels != nil {
			label = labels[i]
		}
		out[i] = PageView{p.Key.String(), p.Version, math.Round(p.W*100) / 100, math.Round(p.H*100) / 100, label}
	}
	return out
}

// Place is an address that the finder knows everywhere.
type Place struct {
	Kind             string // as the finder says it; "Place" if empty
	Text, Words, URL string
	Act              desk.Act // only for those whose role allows it; for everybody if empty
}

// Visit is somebody at a station of a document.
type Visit struct {
	Request  *http.Request
	Desk     *desk.Desk
	Person   *desk.Person
	Snapshot *desk.Snapshot
	Station  *Station
	Job      *Job
}

// Handler answers a request, or gives an error, which the shell turns into an answer.
type Handler func(w http.ResponseWriter, r *http.Request) error

// Router takes routes.
type Router interface {
	Get(pattern string, h Handler)
	Post(pattern string, h Handler)
	// PostLarge takes more than a form has: a body of up to so many bytes.
	PostLarge(pattern string, most int64, h Handler)
}

// Host is what the shell lends to stations and screens.
type Host interface {
	Desk() *desk.Desk
	// Show answers with the desk, at the station that it was given to.
	Show(w http.ResponseWriter, r *http.Request, s Shown) error
	// Render answers with a template of the station's or screen's own.
	Render(w http.ResponseWriter, code int, name string, data any) error
	// Screen gives what every screen shows around its own content.
	Screen(r *http.Request, title string) Around
	// Sentence says an error as an answer would.
	Sentence(err error) string
	// Work answers with how far background work is, or with where it led.
	Work(w http.ResponseWriter, r *http.Request, work *desk.Work) error
}

// Shown says what of a desk is shown.
type Shown struct {
	Snapshot *desk.Snapshot
	Place    string // "furnish" or "furnish/numbers"; the first job of the station if empty
	Code     int    // of the answer; 200 if zero
	Message  *Message
	Page     string // the key of the page to go to
	View     any    // instead of what the job's View gives
}

// Message is the line that says what was done, or what could not be.
type Message struct {
	Text     string
	Details  []string
	Problem  bool
	Undo     string            // the address that takes it back
	UndoWord string            // what the button says
	Go       string            // an address to go on at
	GoWord   string            // what its link says
	Values   map[string]string // sent along
	Fields   []step.FieldError // of a form that could not be read
}

// Around is what every screen shows around its own content.
type Around struct {
	Title  string
	House  string
	Person *desk.Person
}
