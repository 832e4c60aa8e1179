// Package scanner is a small scanner that ships with the program, to try scanning with: it speaks eSCL, has a glass and a feeder, and "scans" sheets that are made.
// What lies in it, and what goes wrong with it, is chosen at its own page.
package scanner

import (
	"bytes"
	"embed"
	"encoding/xml"
	"fmt"
	"html/template"
	"image"
	"image/color"
	"image/jpeg"
	"io"
	"math"
	"net"
	"net/http"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

//go:embed page.html
var files embed.FS

// Faults that it can have.
var Faults = []string{"", "jam", "cover open", "busy", "unplugged", "stops in mid-page", "speaks nonsense", "sends too much", "leads elsewhere"}

// Sheet is one that lies in it.
type Sheet struct {
	Front, Back string // kinds; a back may be empty
}

// Scanner is the scanner.
type Scanner struct {
	mu     sync.Mutex
	Pace   time.Duration // how long a page takes at least
	glass  string
	feeder []Sheet
	fault  string
	after  int // pages until the fault comes
	jobs   map[string]*job
	next   int
	count  int // sheets that were scanned
}

type job struct {
	feeder, duplex bool
	colour         string
	dpi            int
	w, h           float64 // points
	left           []side  // of the sheet that is in it
	given          int
	over           bool
}

type side struct {
	kind string
	n    int
}

// New gives a scanner with a pile in its feeder and a letter on its glass.
func New() *Scanner {
	s := &Scanner{jobs: map[string]*job{}}
	s.glass = "letter"
	s.feeder = Usual()
	return s
}

// Listen listens on this machine at a port where scanners may be.
func Listen() (l net.Listener, err error) {
	for port := 9300; port < 9600; port++ {
		if l, err = net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port)); err == nil {
			return l, nil
		}
	}
	return nil, err
}

// Usual is the pile that lies in the feeder at first.
func Usual() []Sheet {
	return []Sheet{{"letter", "blank"}, {"form", "table"}, {"photograph", "blank"}, {"upside down", "blank"}}
}

// Load puts sheets into the feeder, and one on the glass.
func (s *Scanner) Load(glass string, pile ...Sheet) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.glass, s.feeder = glass, slices.Clone(pile)
}

// Break gives it a fault, which comes after so many pages; "" mends it.
func (s *Scanner) Break(fault string, after int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.fault, s.after = fault, after
}

// Left is how many sheets lie in the feeder.
func (s *Scanner) Left() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.feeder)
}

func (s *Scanner) wrong() string {
	if s.after > 0 {
		return ""
	}
	return s.fault
}

// ServeHTTP speaks eSCL below /eSCL, and shows its own page.
func (s *Scanner) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	wrong := s.wrong()
	s.mu.Unlock()
	where, ours := strings.CutPrefix(path.Clean(r.URL.Path), "/eSCL")
	if ours {
		switch wrong {
		case "unplugged":
			if h, ok := w.(http.Hijacker); ok {
				if c, _, err := h.Hijack(); err == nil {
					_ = c.Close()
					return
				}
			}
		case "speaks nonsense":
			_, _ = io.WriteString(w, "<html><body>Welcome</body>")
			return
		case "leads elsewhere":
			http.Redirect(w, r, "http://127.0.0.1:1/eSCL"+where, http.StatusFound)
			return
		}
	}
	switch {
	case ours && where == "/ScannerCapabilities" && r.Method == http.MethodGet:
		reply(w, capabilities)
	case ours && where == "/ScannerStatus" && r.Method == http.MethodGet:
		reply(w, s.status())
	case ours && where == "/ScanJobs" && r.Method == http.MethodPost:
		s.start(w, r)
	case ours && strings.HasPrefix(where, "/ScanJobs/") && strings.HasSuffix(where, "/NextDocument") && r.Method == http.MethodGet:
		s.nextPage(w, strings.TrimSuffix(strings.TrimPrefix(where, "/ScanJobs/"), "/NextDocument"))
	case ours && strings.HasPrefix(where, "/ScanJobs/") && r.Method == http.MethodDelete:
		s.mu.Lock()
		if j := s.jobs[path.Base(where)]; j != nil {
			j.over = true
		}
		s.mu.Unlock()
		w.WriteHeader(http.StatusOK)
	case where == "/" || r.URL.Path == "/":
		s.page(w, r)
	default:
		http.NotFound(w, r)
	}
}

func reply(w http.ResponseWriter, body string) {
	w.Header().Set("Content-Type", "text/xml; charset=utf-8")
	_, _ = io.WriteString(w, body)
}

const head = `<?xml version="1.0" encoding="UTF-8"?>` + "\n"

const spaces = ` xmlns:scan="http://schemas.hp.com/imaging/escl/2011/05/03" xmlns:pwg="http://www.pwg.org/schemas/2010/12/sm"`

var capabilities = func() string {
	profile := `<scan:SettingProfiles><scan:SettingProfile><scan:ColorModes><scan:ColorMode>BlackAndWhite1</scan:ColorMode><scan:ColorMode>Grayscale8</scan:ColorMode><scan:ColorMode>RGB24</scan:ColorMode></scan:ColorModes>` +
		`<scan:ContentTypes><pwg:ContentType>TextAndPhoto</pwg:ContentType></scan:ContentTypes><scan:DocumentFormats><pwg:DocumentFormat>image/jpeg</pwg:DocumentFormat><scan:DocumentFormatExt>image/jpeg</scan:DocumentFormatExt></scan:DocumentFormats><scan:SupportedResolutions><scan:DiscreteResolutions>`
	for _, r := range []int{75, 100, 150, 200, 300, 600} {
		profile += fmt.Sprintf("<scan:DiscreteResolution><scan:XResolution>%d</scan:XResolution><scan:YResolution>%d</scan:YResolution></scan:DiscreteResolution>", r, r)
	}
	profile += `</scan:DiscreteResolutions></scan:SupportedResolutions></scan:SettingProfile></scan:SettingProfiles>`
	caps := func(name string, w, h int) string {
		return fmt.Sprintf("<scan:%s><scan:MinWidth>16</scan:MinWidth><scan:MaxWidth>%d</scan:MaxWidth><scan:MinHeight>16</scan:MinHeight><scan:MaxHeight>%d</scan:MaxHeight><scan:MaxScanRegions>1</scan:MaxScanRegions>%s<scan:SupportedIntents><scan:Intent>Document</scan:Intent></scan:SupportedIntents><scan:MaxOpticalXResolution>600</scan:MaxOpticalXResolution><scan:MaxOpticalYResolution>600</scan:MaxOpticalYResolution></scan:%s>", name, w, h, profile, name)
	}
	return head + "<scan:ScannerCapabilities" + spaces + "><pwg:Version>2.63</pwg:Version><pwg:MakeAndModel>Quay Office Scanner</pwg:MakeAndModel><pwg:SerialNumber>OQ-0001</pwg:SerialNumber><scan:UUID>1b8ee0a6-6f1e-4a1b-9f4c-0e9f0a61c001</scan:UUID>" +
		"<scan:Platen>" + caps("PlatenInputCaps", 2550, 3508) + "</scan:Platen><scan:Adf>" + caps("AdfSimplexInputCaps", 2550, 4200) + caps("AdfDuplexInputCaps", 2550, 4200) +
		"<scan:FeederCapacity>50</scan:FeederCapacity><scan:AdfOptions><scan:AdfOption>DetectPaperLoaded</scan:AdfOption><scan:AdfOption>Duplex</scan:AdfOption></scan:AdfOptions></scan:Adf></scan:ScannerCapabilities>"
}()

func (s *Scanner) status() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	state, feeder := "Idle", "ScannerAdfLoaded"
	if len(s.feeder) == 0 {
		feeder = "ScannerAdfEmpty"
	}
	switch s.wrong() {
	case "busy":
		state = "Processing"
	case "jam":
		state, feeder = "Stopped", "ScannerAdfJam"
	case "cover open":
		state, feeder = "Stopped", "ScannerAdfHatchOpen"
	}
	return head + "<scan:ScannerStatus" + spaces + "><pwg:Version>2.63</pwg:Version><pwg:State>" + state + "</pwg:State><scan:AdfState>" + feeder + "</scan:AdfState></scan:ScannerStatus>"
}

type settings struct {
	XMLName xml.Name `xml:"ScanSettings"`
	Width   float64  `xml:"ScanRegions>ScanRegion>Width"`
	Height  float64  `xml:"ScanRegions>ScanRegion>Height"`
	Source  string   `xml:"InputSource"`
	Colour  string   `xml:"ColorMode"`
	X       int      `xml:"XResolution"`
	Duplex  bool     `xml:"Duplex"`
	Format  string   `xml:"DocumentFormat"`
	FormatX string   `xml:"DocumentFormatExt"`
}

func (s *Scanner) start(w http.ResponseWriter, r *http.Request) {
	var x settings
	if err := xml.NewDecoder(io.LimitReader(r.Body, 1<<20)).Decode(&x); err != nil {
		http.Error(w, "not understood", http.StatusBadRequest)
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	switch s.wrong() {
	case "busy":
		w.WriteHeader(http.StatusServiceUnavailable)
		return
	case "jam", "cover open":
		w.WriteHeader(http.StatusConflict)
		return
	}
	j := &job{feeder: x.Source == "Feeder", duplex: x.Duplex, colour: x.Colour, dpi: x.X, w: x.Width / 300 * 72, h: x.Height / 300 * 72}
	if x.Width == 0 {
		j.w, j.h = wide, high
	}
	if !slices.Contains([]int{75, 100, 150, 200, 300, 600}, j.dpi) || !slices.Contains([]string{"RGB24", "Grayscale8", "BlackAndWhite1"}, j.colour) || j.w < 10 || j.h < 10 || j.w > 2550.0/300*72+1 || j.h > 4200.0/300*72+1 {
		w.WriteHeader(http.StatusBadRequest)
		return
	}
	if j.feeder && len(s.feeder) == 0 {
		w.WriteHeader(http.StatusConflict)
		return
	}
	s.next++
	id := fmt.Sprintf("job-%d", s.next)
	s.jobs[id] = j
	if len(s.jobs) > 50 {
		delete(s.jobs, fmt.Sprintf("job-%d", s.next-50))
	}
	w.Header().Set("Location", "http://"+r.Host+"/eSCL/ScanJobs/"+id)
	w.WriteHeader(http.StatusCreated)
}

// nextSide takes the next side that is to be scanned; done says that there is none.
func (s *Scanner) nextSide(j *job) (at side, done bool) {
	if j.over {
		return side{}, true
	}
	if !j.feeder {
		if j.given > 0 {
			return side{}, true
		}
		s.count++
		return side{s.glass, s.count}, false
	}
	if len(j.left) == 0 {
		if len(s.feeder) == 0 {
			return side{}, true
		}
		sheet := s.feeder[0]
		s.feeder = s.feeder[1:]
		s.count++
		j.left = []side{{sheet.Front, s.count}}
		if j.duplex {
			back := sheet.Back
			if back == "" {
				back = "blank"
			}
			j.left = append(j.left, side{back, s.count})
		}
	}
	at = j.left[0]
	j.left = j.left[1:]
	return at, false
}

func (s *Scanner) nextPage(w http.ResponseWriter, id string) {
	s.mu.Lock()
	j := s.jobs[id]
	if j == nil {
		s.mu.Unlock()
		w.WriteHeader(http.StatusNotFound)
		return
	}
	wrong := s.wrong()
	switch wrong {
	case "jam", "cover open":
		j.over = true
		s.mu.Unlock()
		w.WriteHeader(http.StatusConflict)
		return
	case "busy":
		s.mu.Unlock()
		w.WriteHeader(http.StatusServiceUnavailable)
		return
	}
	at, done := s.nextSide(j)
	if done {
		j.over = true
		s.mu.Unlock()
		w.WriteHeader(http.StatusNotFound)
		return
	}
	j.given++
	if s.after > 0 {
		s.after--
	}
	pace, dpi, colour := s.Pace, j.dpi, j.colour
	s.mu.Unlock()
	time.Sleep(pace)
	data := scanned(at, colour, dpi, j.w, j.h)
	w.Header().Set("Content-Type", "image/jpeg")
	switch wrong {
	case "stops in mid-page":
		w.Header().Set("Content-Length", strconv.Itoa(len(data)))
		_, _ = w.Write(data[:len(data)/2])
		return
	case "sends too much":
		for range 300 << 20 / len(data) {
			if _, err := w.Write(data); err != nil {
				return
			}
		}
		return
	}
	_, _ = w.Write(data)
}

// scanned gives the JPEG of a side as the scanner sees it.
func scanned(at side, colour string, dpi int, w, h float64) []byte {
	img := draw(at.kind, at.n, float64(dpi))
	angle := math.Mod(float64(at.n)*1.37, 4) - 1.9
	lid, fold := 0.0, 0.0
	if at.n%3 == 1 {
		lid = 1.6
	}
	if at.n%4 == 2 {
		fold = 0.47
	}
	img = seen(img, angle, lid, fold, at.kind == "upside down", uint64(at.n)+9)
	img = cut(img, int(w/72*float64(dpi)+0.5), int(h/72*float64(dpi)+0.5))
	var out image.Image = img
	if colour != "RGB24" {
		g := image.NewGray(img.Rect)
		for y := range img.Rect.Dy() {
			for x := range img.Rect.Dx() {
				v := color.GrayModel.Convert(img.RGBAAt(x, y)).(color.Gray)
				if colour == "BlackAndWhite1" {
					if v.Y < 140 {
						v.Y = 0
					} else {
						v.Y = 255
					}
				}
				g.SetGray(x, y, v)
			}
		}
		out = g
	}
	var b bytes.Buffer
	if err := jpeg.Encode(&b, out, &jpeg.Options{Quality: 82}); err != nil {
		return nil
	}
	data := b.Bytes()
	// the resolution stands in a JFIF header
	jfif := []byte{0xff, 0xe0, 0, 16, 'J', 'F', 'I', 'F', 0, 1, 1, 1, byte(dpi >> 8), byte(dpi), byte(dpi >> 8), byte(dpi), 0, 0}
	return slices.Concat(data[:2], jfif, data[2:])
}

// cut gives the part of a picture that a region takes; what lies beyond the sheet is the scanner's ground.
func cut(img *image.RGBA, w, h int) *image.RGBA {
	if w == img.Rect.Dx() && h == img.Rect.Dy() {
		return img
	}
	out := image.NewRGBA(image.Rect(0, 0, max(1, w), max(1, h)))
	for i := range out.Pix {
		out.Pix[i] = 236
	}
	for y := range min(h, img.Rect.Dy()) {
		copy(out.Pix[y*out.Stride:][:4*min(w, img.Rect.Dx())], img.Pix[y*img.Stride:])
	}
	return out
}

// page is the scanner's own page: what lies in it, and what is wrong with it.
func (s *Scanner) page(w http.ResponseWriter, r *http.Request) {
	if r.Method == http.MethodPost {
		if site := r.Header.Get("Sec-Fetch-Site"); site != "" && site != "same-origin" && site != "none" {
			http.Error(w, "from another page", http.StatusForbidden)
			return
		}
		if err := r.ParseForm(); err != nil {
			http.Error(w, "not understood", http.StatusBadRequest)
			return
		}
		var pile []Sheet
		for line := range strings.Lines(r.PostFormValue("pile")) {
			front, back, _ := strings.Cut(strings.TrimSpace(line), "/")
			front, back = strings.TrimSpace(front), strings.TrimSpace(back)
			if slices.Contains(Kinds, front) && (back == "" || slices.Contains(Kinds, back)) && len(pile) < 200 {
				pile = append(pile, Sheet{front, back})
			}
		}
		glass := r.PostFormValue("glass")
		if !slices.Contains(Kinds, glass) {
			glass = "blank"
		}
		s.Load(glass, pile...)
		after, _ := strconv.Atoi(r.PostFormValue("after"))
		if fault := r.PostFormValue("fault"); slices.Contains(Faults, fault) {
			s.Break(fault, max(0, min(200, after)))
		}
		http.Redirect(w, r, "/", http.StatusSeeOther)
		return
	}
	s.mu.Lock()
	v := struct {
		Kinds, Faults []string
		Glass, Fault  string
		After         int
		Pile          []Sheet
	}{Kinds, Faults, s.glass, s.fault, s.after, slices.Clone(s.feeder)}
	s.mu.Unlock()
	w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; form-action 'self'")
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_ = pageTemplate.Execute(w, v)
}

var pageTemplate = template.Must(template.ParseFS(files, "page.html"))

// Picture gives the JPEG of a sheet of a kind, as the scanner sees it.
func Picture(kind, colour string, dpi int) []byte {
	return scanned(side{kind, 2}, colour, dpi, wide, high)
}
