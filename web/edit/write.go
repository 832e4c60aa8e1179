package edit

import (
	"cmp"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"image"
	"math"
	"net/http"
	"slices"
	"sync"

	"glenrain/core/draw"
	editing "glenrain/core/edit"
	"glenrain/core/layout"
	"glenrain/core/pdf"
	"glenrain/core/raster"
	"glenrain/core/step"
	"glenrain/desk"
	"glenrain/web/station"
)

// writing is the job in which text is changed where it stands.
func writing() station.Job {
	return station.Job{
		Words: "text", Slip: "text.html", Module: "text.js", View: writingView,
		Steps: []station.Form{{Step: "edit-paragraph", Fill: fillParagraph}, {Step: "add-text", Fill: fillText}},
		Finds: []station.Find{
			{Text: "Change the text of a paragraph", Words: "edit text typo correct word paragraph edit write change font size bold"},
			{Text: "Write new text on a page", Words: "add text write new note type", Query: "new=1"},
		},
		Keys: []station.Key{
			{Keys: []string{"."}, Act: "block-next", What: "next paragraph"},
			{Keys: []string{","}, Act: "block-back", What: "previous paragraph"},
			{Keys: []string{"Enter"}, Act: "block-write", What: "edit it"},
			{Keys: []string{"t"}, Act: "block-new", What: "new text in the centre of the view"},
			{Keys: []string{"Escape"}, Act: "block-none", What: "cancel"},
		},
	}
}

type writingSlip struct {
	Families []string
	Colours  []string
	New      bool
}

func writingView(v *station.Visit) (any, error) {
	return &writingSlip{Families: editing.Families(), Colours: []string{"black", "ink", "slate", "moss", "ochre", "white"}, New: v.Request.URL.Query().Get("new") != ""}, nil
}

// fillParagraph reads what the script has gathered.
func fillParagraph(v *station.Visit, s step.Step) error {
	p, ok := s.(*editing.Paragraph)
	if !ok {
		return step.Refuse("no paragraph is selected to edit")
	}
	edits, err := edits(v.Request)
	p.Edits = edits
	return err
}

func fillText(v *station.Visit, s step.Step) error {
	t, ok := s.(*editing.AddText)
	if !ok {
		return step.Refuse("there is no text to add")
	}
	edits, err := edits(v.Request)
	t.Edits = edits
	return err
}

func edits(r *http.Request) (out []editing.Edit, err error) {
	text := r.FormValue("_edits")
	if text == "" {
		return nil, nil
	}
	if err := json.Unmarshal([]byte(text), &out); err != nil {
		return nil, step.Refuse("the typed text can’t be read")
	}
	return out, nil
}

// sheets keeps the pages that are written on, by state and page.
type sheets struct {
	mu   sync.Mutex
	list []kept
}

type kept struct {
	document, state uint
	key             step.Key
	sheet           *editing.Sheet
}

// Bounds of what is kept: one page is kept however much it weighs.
const (
	mostSheets = 12
	mostWeight = 96 << 20 // bytes
)

func (s *sheets) of(ctx context.Context, d *desk.Desk, snap *desk.Snapshot, key step.Key) (*editing.Sheet, error) {
	if sheet := s.use(snap.State.ID, key); sheet != nil {
		return sheet, nil
	}
	ref, ok := snap.Keys.Ref(key)
	if !ok || snap.PDF.PageIndex(ref) < 0 {
		return nil, desk.ErrMissing
	}
	var sheet *editing.Sheet
	err := d.ForSomebody(ctx, "reading a page", func(ctx context.Context) (err error) {
		sheet, err = editing.Open(ctx, snap.PDF, ref)
		return err
	})
	if err != nil {
		return nil, err
	}
	return s.keep(d, kept{snap.Document.ID, snap.State.ID, key, sheet})
}

// use gives a page that is kept, which is then the last to go; nil where it is not.
func (s *sheets) use(state uint, key step.Key) *editing.Sheet {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.used(state, key)
}

func (s *sheets) used(state uint, key step.Key) *editing.Sheet {
	at := slices.IndexFunc(s.list, func(k kept) bool { return k.state == state && k.key == key })
	if at < 0 {
		return nil
	}
	k := s.list[at]
	s.list = append(slices.Delete(s.list, at, at+1), k)
	return k.sheet
}

// keep keeps a page that was read, and gives it; where somebody else read the same meanwhile, theirs.
func (s *sheets) keep(d *desk.Desk, k kept) (*editing.Sheet, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if d.Purged(k.document) {
		return nil, desk.ErrMissing
	}
	if theirs := s.used(k.state, k.key); theirs != nil {
		return theirs, nil
	}
	s.list = append(s.list, k)
	weight := 0
	for _, k := range s.list {
		weight += k.sheet.Weight()
	}
	for len(s.list) > 1 && (len(s.list) > mostSheets || weight > mostWeight) {
		weight -= s.list[0].sheet.Weight()
		s.list = slices.Delete(s.list, 0, 1)
	}
	return k.sheet, nil
}

// forget drops the pages of a document.
func (s *sheets) forget(document uint) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.list = slices.DeleteFunc(s.list, func(k kept) bool { return k.document == document })
}

// place is where somebody is: a page of a document as they see it.
type place struct {
	snap  *desk.Snapshot
	key   step.Key
	sheet *editing.Sheet
	g     pdf.Geometry
}

func (s *sheets) place(d *desk.Desk, r *http.Request) (p place, err error) {
	if p.key, err = station.PageKey(r, "key"); err != nil {
		return p, err
	}
	if p.snap, err = d.Look(r.Context(), station.Person(r).ID, station.ID(r, "id")); err != nil {
		return p, err
	}
	if p.sheet, err = s.of(r.Context(), d, p.snap, p.key); err != nil {
		return p, err
	}
	p.g = p.snap.PDF.Geometry(p.sheet.Ref)
	return p, nil
}

// corners writes a quad that begins at the lower left corner.
func (p *place) corners(q layout.Quad) [8]float64 { return station.Corners(p.g, q) }

type blockView struct {
	Q     [8]float64   `json:"q"`
	Lines [][8]float64 `json:"lines"`
	Text  string       `json:"text"`
	Cell  bool         `json:"cell,omitempty"`
}

// blocks lists the paragraphs of a page.
func blocks(s *sheets, d *desk.Desk, w http.ResponseWriter, r *http.Request) error {
	p, err := s.place(d, r)
	if err != nil {
		return err
	}
	out := struct {
		Blocks []blockView `json:"blocks"`
		Scan   bool        `json:"scan,omitempty"` // the page is a picture of text
	}{Blocks: []blockView{}}
	var list []editing.Block
	err = d.ForSomebody(r.Context(), "reading a page", func(context.Context) error {
		list, out.Scan = p.sheet.Blocks(), p.sheet.Pictured()
		return nil
	})
	if err != nil {
		return err
	}
	for _, b := range list {
		v := blockView{Text: b.Text, Cell: b.Cell, Lines: [][8]float64{}}
		if len(b.Lines) > 0 {
			v.Q = p.corners(b.Quad)
			for _, l := range b.Lines {
				v.Lines = append(v.Lines, p.corners(l))
			}
		}
		out.Blocks = append(out.Blocks, v)
	}
	return station.SendJSON(w, out)
}

// asked is what the script asks to be tried.
type asked struct {
	editing.Paragraph
	New  *editing.AddText `json:"new,omitempty"`
	Seen uint             `json:"seen"`
	Box  int              `json:"box"`  // the longest side of the page's picture, in pixels
	Clip [4]int           `json:"clip"` // what of it is in sight: left, top, right, bottom
}

type runView struct {
	From   int     `json:"from"`
	To     int     `json:"to"`
	Font   string  `json:"font"`
	Size   float64 `json:"size"`
	Bold   bool    `json:"bold,omitempty"`
	Italic bool    `json:"italic,omitempty"`
	Colour string  `json:"colour,omitempty"`
	Other  string  `json:"other,omitempty"`
}

// triedView is a paragraph as it is set.
type triedView struct {
	Text    string              `json:"text"`
	Carets  []float64           `json:"carets"` // of each place between letters: foot and top, and the line
	Runs    []runView           `json:"runs"`
	Fonts   []fontView          `json:"fonts,omitempty"`
	Lines   int                 `json:"lines"`
	Moved   float64             `json:"moved"`
	Tight   bool                `json:"tight,omitempty"`
	Lack    map[string][]string `json:"lack,omitempty"`
	Align   string              `json:"align"`
	Lead    float64             `json:"leading"`
	Width   float64             `json:"width"`
	Picture string              `json:"picture,omitempty"`
	At      [4]int              `json:"at"` // where the picture lies: left, top, width, height in pixels of the page's picture
}

type fontView struct {
	Name  string `json:"name"`
	State string `json:"state"`
	Lacks string `json:"lacks"`
	Near  string `json:"near"`
}

var aligns = [...]string{layout.Left: "left", layout.Right: "right", layout.Centred: "centred", layout.Justified: "justified"}

func (p *place) view(t *editing.Tried) *triedView {
	scale := 1 / p.g.UserUnit
	if scale <= 0 {
		scale = 1
	}
	round := func(v float64) float64 { return math.Round(v*100) / 100 }
	v := &triedView{Text: t.Text, Lines: t.Lines, Moved: round(t.Moved), Tight: t.Tight, Lack: t.Lack, Align: aligns[t.Align], Lead: round(t.Lead), Width: round(t.Width), Carets: make([]float64, 0, 5*len(t.Carets))}
	for _, c := range t.Carets {
		x0, y0 := station.SeenPoint(p.g, c.X0, c.Y0)
		x1, y1 := station.SeenPoint(p.g, c.X1, c.Y1)
		v.Carets = append(v.Carets, x0, y0, x1, y1, float64(c.Row))
	}
	for _, r := range t.Runs {
		v.Runs = append(v.Runs, runView(r))
	}
	for _, f := range t.Fonts {
		v.Fonts = append(v.Fonts, fontView{f.Name, string(f.State), f.Lacks, f.Near})
	}
	return v
}

// begin takes a paragraph, to be written in.
func begin(s *sheets, d *desk.Desk, w http.ResponseWriter, r *http.Request) error {
	p, err := s.place(d, r)
	if err != nil {
		return err
	}
	var t *editing.Tried
	a := &editing.Paragraph{At: int(station.FormID(r, "paragraph")), Line: int(station.FormID(r, "line")), Last: int(station.FormID(r, "last_line")), Join: int(station.FormID(r, "join"))}
	err = d.ForSomebody(r.Context(), "taking a paragraph", func(context.Context) (err error) {
		t, err = p.sheet.Begin(a)
		return err
	})
	if err != nil {
		return err
	}
	return station.SendJSON(w, p.view(t))
}

// mostTyped is the largest body of what was typed, in bytes.
const mostTyped = 4 << 20

// set sets a paragraph while it is written, and draws what changes of the page.
func set(s *sheets, d *desk.Desk, w http.ResponseWriter, r *http.Request) error {
	if err := d.MayStep(r.Context(), station.Person(r).ID, station.ID(r, "id"), "edit-paragraph"); err != nil {
		return err
	}
	var a asked
	if err := json.NewDecoder(r.Body).Decode(&a); err != nil {
		var large *http.MaxBytesError
		if errors.As(err, &large) {
			return step.Refuse("a paragraph can have up to 50,000 characters")
		}
		return step.Refuse("the typed text can’t be read")
	}
	p, err := s.place(d, r)
	if err != nil {
		return err
	}
	if a.Seen != p.snap.State.ID {
		return &desk.Conflict{Head: p.snap}
	}
	var t *editing.Tried
	var pic raster.Picture
	var at image.Rectangle
	err = d.ForSomebody(r.Context(), "setting a paragraph", func(ctx context.Context) error {
		var err error
		if a.New != nil {
			t, err = p.sheet.TryNew(ctx, a.New)
		} else {
			t, err = p.sheet.Try(ctx, &a.Paragraph)
		}
		if err != nil {
			return err
		}
		at = p.pixels(t.Box, a.Box).Intersect(image.Rect(a.Clip[0], a.Clip[1], a.Clip[2], a.Clip[3]))
		if at.Empty() {
			return nil
		}
		pic, err = d.Trial(ctx, p.snap, t.Doc, raster.Request{Page: p.snap.PDF.PageIndex(p.sheet.Ref), Width: a.Box, Height: a.Box, Region: at, Format: raster.PNG})
		return err
	})
	if err != nil {
		return err
	}
	v := p.view(t)
	if len(pic.Data) > 0 {
		v.Picture = "data:" + cmp.Or(pic.Type, "image/png") + ";base64," + base64.StdEncoding.EncodeToString(pic.Data)
		v.At = [4]int{at.Min.X, at.Min.Y, at.Dx(), at.Dy()}
	}
	return station.SendJSON(w, v)
}

// pixels gives the part of the page's picture that a rectangle of the page takes.
func (p *place) pixels(b pdf.Rect, box int) image.Rectangle {
	w, h := p.g.Seen()
	scale := float64(box) / max(w, h, 1)
	if !boxed(box) || !(scale > 0) {
		return image.Rectangle{}
	}
	m := draw.Upright(p.g).Invert()
	r := m.Bounds(b)
	out := image.Rect(int(math.Floor(r.X0*scale))-2, int(math.Floor((h-r.Y1)*scale))-2, int(math.Ceil(r.X1*scale))+2, int(math.Ceil((h-r.Y0)*scale))+2)
	return out.Intersect(image.Rect(0, 0, int(w*scale+0.5), int(h*scale+0.5)))
}

// boxed reports whether a size of pictures is one that is drawn.
func boxed(n int) bool { return n >= 40 && n <= 4400 }
