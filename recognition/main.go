// Command recognition measures how well text is recognized: pages of known text are drawn, laid on a glass in many ways, recognized, and held against what they say,
// beside the plain engine on the same pictures. It writes docs/RECOGNITION.md to standard output.
package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"glenrain/core/child"
	"glenrain/core/typeset"
	"glenrain/standin/paper"
)

func main() {
	child.Main()
	only := ""
	if len(os.Args) > 1 {
		only = os.Args[1]
	}
	if err := run(context.Background(), only); err != nil {
		fmt.Fprintln(os.Stderr, "recognition:", err)
		os.Exit(1)
	}
}

// page is a page of known text.
type page struct {
	name, languages, style, html string
	pdf                          string // where it stands
	text                         string // what poppler reads of it
}

const english = `<h1>Dredging of the north berth</h1><p>The soundings of the north berth were taken at low water on the fourth of October and agree with those of
the spring within five centimetres. Between the ferry ramp and the knuckle the bottom lies 0.31 metres higher than a year ago; what has come down the river in three wet months
is soft and holds no stones larger than a fist. The contractor proposes to take it up with a grab, in two shifts, beginning on Monday, 11 January 2027.</p>
<p>Vessels of up to two metres draught can reach berths 4 to 9 while the work goes on. Those who lie further in are asked to move before the end of the year; the harbour
office (telephone 01632 960 417) finds them a place. Fenders, ladders and bollards of the wall were looked at on the same tide: ladder 14 hangs by its upper fixings only, and
was roped off.</p><h2>What it costs</h2><p>The offer of Messrs Quill &amp; Jagger comes to £48,250 for 6,400 cubic metres. It holds until 31 March; a fifth is due when the
work begins. Whoever has questions may put them to the committee, which meets every second Wednesday at half past six in the old customs house.</p>`

const german = `<h2>Für unsere Gäste</h2><p>Die Winterliegeplätze werden ab dem ersten Oktober vergeben. Wer sein Schiff länger als vier Wochen liegen lassen möchte, meldet sich
bitte im Hafenbüro und bringt die Papiere des Schiffes mit. Strom und Wasser werden nach Verbrauch abgerechnet; die Gebühren hängen am Eingang aus. Während der Baggerarbeiten bleibt
die Einfahrt nachts geschlossen.</p>`

const table = `<table><tr><th>Berth</th><th>Charted, m</th><th>Sounded, m</th><th>Change, m</th></tr><tr><td>North 1</td><td>4.00</td><td>3.55</td><td>0.45</td></tr>
<tr><td>North 2</td><td>4.40</td><td>4.06</td><td>0.34</td></tr><tr><td>North 3</td><td>3.30</td><td>3.20</td><td>0.10</td></tr><tr><td>North 4</td><td>3.80</td><td>3.74</td><td>0.06</td></tr>
<tr><td>Ferry ramp</td><td>3.70</td><td>3.42</td><td>0.28</td></tr><tr><td>Ice quay</td><td>4.30</td><td>4.06</td><td>0.24</td></tr></table>`

const css = `@page{size:A4;margin:24mm 22mm}body{font:11pt/1.4 "Liberation Serif",serif;margin:0}h1,h2{font-family:"Liberation Sans",sans-serif}h1{font-size:17pt}h2{font-size:13pt}
table{border-collapse:collapse;width:100%}td,th{padding:4pt 8pt;text-align:left;border-bottom:0.5pt solid #888}`

var pages = []*page{
	{name: "a letter", languages: "eng", html: english},
	{name: "two columns", languages: "eng", style: `body{columns:2;column-gap:9mm;font-size:10pt}h1{font-size:14pt}`, html: english + strings.ReplaceAll(english, "h1>", "h2>")},
	{name: "a table", languages: "eng", html: "<h1>Depths at the berths</h1>" + table + "<p>Depths are below chart datum, in metres, as sounded in October.</p>" + table},
	{name: "two languages", languages: "eng+deu", html: english + german},
}

// way is a way a page is scanned in.
type way struct {
	name  string
	dpi   int
	sheet paper.Sheet
	page  int
}

func ways() (out []way) {
	for _, dpi := range []int{150, 200, 300} {
		for i := range pages {
			out = append(out, way{fmt.Sprintf("%s, %d dpi", pages[i].name, dpi), dpi, paper.Sheet{}, i})
		}
	}
	for _, deg := range []float64{0.5, 1, -2, 3, -4, 5} {
		out = append(out, way{fmt.Sprintf("a letter, askew by %g°", deg), 200, paper.Sheet{Askew: deg}, 0})
	}
	out = append(out,
		way{"two columns, askew by 3°", 200, paper.Sheet{Askew: 3}, 1},
		way{"a table, askew by -2°", 300, paper.Sheet{Askew: -2}, 2},
		way{"turned by 90°", 200, paper.Sheet{Quarter: 1}, 0},
		way{"turned by 180°", 200, paper.Sheet{Quarter: 2}, 0},
		way{"turned by 270°", 200, paper.Sheet{Quarter: 3}, 0},
		way{"upside down and askew by 2°", 300, paper.Sheet{Quarter: 2, Askew: 2}, 1},
		way{"noisy", 200, paper.Sheet{Noise: 18, Seed: 3}, 0},
		way{"specks of dust", 200, paper.Sheet{Specks: 3, Seed: 4}, 0},
		way{"in shade", 200, paper.Sheet{Shade: 0.45}, 0},
		way{"with the shadow of a lid", 200, paper.Sheet{Lid: 3, Askew: 0.7}, 0},
		way{"folded, noisy, in shade, askew by 1.3°", 300, paper.Sheet{Fold: 0.4, Noise: 8, Shade: 0.25, Askew: 1.3, Lid: 2, Specks: 0.5, Seed: 5}, 1},
		way{"light on dark", 200, paper.Sheet{Dark: true}, 0},
		way{"light on dark, askew by 2°", 200, paper.Sheet{Dark: true, Askew: 2}, 0},
	)
	return out
}

func run(ctx context.Context, only string) error {
	dir, err := os.MkdirTemp("", "glenrain-recognition-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	program := filepath.Join(dir, "glenrain")
	if out, err := exec.CommandContext(ctx, "go", "build", "-o", program, "./cmd/glenrain").CombinedOutput(); err != nil {
		return fmt.Errorf("build: %w: %s", err, out)
	}
	for i, p := range pages {
		p.pdf = filepath.Join(dir, fmt.Sprintf("page%d.pdf", i))
		var b bytes.Buffer
		html := "<!DOCTYPE html><html lang=en><meta charset=utf-8><title>p</title><style>" + css + p.style + "</style><body>" + p.html + "</body></html>"
		if err := typeset.Set(ctx, typeset.Sheet{HTML: []byte(html), Sizes: [][2]float64{{595.28, 841.89}}}, typeset.Usual, &b); err != nil {
			return err
		}
		if err := os.WriteFile(p.pdf, b.Bytes(), 0o600); err != nil {
			return err
		}
		if p.text, err = tool("pdftotext", "-raw", p.pdf, "-"); err != nil {
			return err
		}
	}
	fmt.Println("# Recognition")
	fmt.Println()
	fmt.Println("Made by `make recognition`: pages of known text, drawn at a resolution and laid on the glass in a way, recognized by Glenrain and by the plain engine (`tesseract` with the same language and",
		"resolution) from the same picture. Letters: of the letters of the text, how many hundredths are right (edit distance; spaces and line ends alike, in the order of the layer). Boxes: of the words read right, how many hundredths lie within 1.5 pt, on all",
		"four sides, of where poppler has them in the born-digital page. Bytes: what the layer adds to the file.")
	fmt.Println()
	fmt.Println("| page | ours, letters | plain, letters | boxes | bytes |\n|---|---:|---:|---:|---:|")
	var worst float64
	var together []string
	boxesIn, boxesOf, bytesAll, n := 0, 0, 0, 0
	for _, w := range ways() {
		if only != "" && !strings.Contains(w.name, only) {
			continue
		}
		r, err := measure(ctx, program, dir, w)
		if err != nil {
			return fmt.Errorf("%s: %w", w.name, err)
		}
		fmt.Printf("| %s | %.1f | %.1f | %s | %d |\n", w.name, r.ours, r.plain, hundredths(r.near, r.right), r.bytes)
		if pages[w.page].languages == "eng" && w.sheet.Quarter == 0 && !w.sheet.Dark && r.plain > 90 { // what both read
			together = append(together, r.picture)
		}
		worst = max(worst, r.plain-r.ours)
		boxesIn, boxesOf, bytesAll, n = boxesIn+r.near, boxesOf+r.right, bytesAll+r.bytes, n+1
	}
	cpuOurs, cpuTheirs, err := all(ctx, program, dir, together)
	if err != nil {
		return err
	}
	fmt.Printf("\nAt worst %.1f points below the plain engine. Boxes of all pages: %s of %d words. CPU, the whole program over one document of the %d pages in English that both read, by the plain engine over the same pictures, as many at once: %.2f. Bytes a page: %d.\n", worst, hundredths(boxesIn, boxesOf), boxesOf, len(together), cpuOurs/max(1e-9, cpuTheirs), bytesAll/max(1, n))
	if papers := os.Getenv("GLENRAIN_PAPERS"); papers != "" && (only == "" || strings.Contains("real", only)) {
		return real(ctx, program, dir, papers)
	}
	return nil
}

// Bounds of what is read of real scans.
const (
	mostReal   = 12   // pages
	leastWide  = 1500 // pixels
	leastWords = 150
)

// real reads scans among the papers whose pages have invisible text by another program, which stands for what is known.
func real(ctx context.Context, program, dir, papers string) error {
	files, err := filepath.Glob(filepath.Join(papers, "module", "*.pdf"))
	if err != nil {
		return err
	}
	fmt.Println("\nReal scans with a text layer by another program, which stands for what is known (it has mistakes of its own):\n\n| scan | ours, letters | plain, letters |\n|---|---:|---:|")
	n := 0
	for _, file := range files {
		list, err := tool("pdfimages", "-list", file)
		if err != nil {
			continue
		}
		count := map[int]int{}
		wide := map[int]int{}
		for _, line := range strings.Split(list, "\n")[min(2, strings.Count(list, "\n")):] {
			f := strings.Fields(line)
			if len(f) < 6 {
				continue
			}
			page, _ := strconv.Atoi(f[0])
			count[page]++
			wide[page], _ = strconv.Atoi(f[3])
		}
		for page := 1; page <= 6 && n < mostReal; page++ {
			if count[page] != 1 || wide[page] < leastWide {
				continue
			}
			at := strconv.Itoa(page)
			known, err := tool("pdftotext", "-raw", "-f", at, "-l", at, file, "-")
			if err != nil || len(strings.Fields(known)) < leastWords {
				continue
			}
			root := filepath.Join(dir, fmt.Sprintf("real%d", n))
			if _, err := tool("pdfimages", "-png", "-f", at, "-l", at, file, root); err != nil {
				continue
			}
			picture := root + "-000.png"
			dpi, err := dpiOf(file, page, picture)
			if err != nil {
				continue
			}
			gray, err := readGray(picture)
			if err != nil {
				continue
			}
			if err := writePNG(picture, gray, dpi); err != nil {
				return err
			}
			scan, out, steps := root+".pdf", root+"-out.pdf", filepath.Join(dir, "real.json")
			if err := os.WriteFile(steps, []byte(`{"steps":[{"name":"recognize","params":{"pages":"all","languages":"eng"}}]}`), 0o600); err != nil {
				return err
			}
			if _, err := tool(program, "combine", "-o", scan, picture); err != nil {
				return err
			}
			if _, _, err := timed(ctx, program, "run", steps, scan, "-o", out); err != nil {
				return err
			}
			text, err := tool("pdftotext", "-raw", out, "-")
			if err != nil {
				return err
			}
			_, plain, err := timed(ctx, "tesseract", picture, "-", "-l", "eng", "--dpi", strconv.Itoa(dpi))
			if err != nil {
				return err
			}
			n++
			fmt.Printf("| %s, page %d, %d dpi | %.1f | %.1f |\n", strings.TrimSuffix(filepath.Base(file), ".pdf"), page, dpi, letters(known, text), letters(known, plain))
		}
	}
	return nil
}

// dpiOf gives how fine the picture of a page is that fills it.
func dpiOf(file string, page int, picture string) (int, error) {
	size, err := tool("pdfinfo", "-f", strconv.Itoa(page), "-l", strconv.Itoa(page), file)
	if err != nil {
		return 0, err
	}
	m := regexp.MustCompile(`size:\s+([\d.]+) x`).FindStringSubmatch(size)
	if m == nil {
		return 0, errors.New("the page has no size")
	}
	wide, err := strconv.ParseFloat(m[1], 64)
	if err != nil || wide <= 0 {
		return 0, errors.New("the page has no size")
	}
	f, err := os.Open(picture)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	c, err := png.DecodeConfig(f)
	return int(math.Round(float64(c.Width) / wide * 72)), err
}

func hundredths(a, b int) string {
	if b == 0 {
		return "–"
	}
	return fmt.Sprintf("%.1f", 100*float64(a)/float64(b))
}

// all recognizes pictures as one document, and each by the plain engine, as many at once, and gives the seconds of CPU that each took.
func all(ctx context.Context, program, dir string, pictures []string) (ours, theirs float64, err error) {
	if len(pictures) == 0 {
		return 0, 0, nil
	}
	scan, steps := filepath.Join(dir, "all.pdf"), filepath.Join(dir, "all.json")
	if _, err := tool(program, append([]string{"combine", "-o", scan}, pictures...)...); err != nil {
		return 0, 0, err
	}
	if err := os.WriteFile(steps, []byte(`{"steps":[{"name":"recognize","params":{"pages":"all","languages":"eng"}}]}`), 0o600); err != nil {
		return 0, 0, err
	}
	if ours, _, err = timed(ctx, program, "run", steps, scan, "-o", filepath.Join(dir, "all-out.pdf")); err != nil {
		return 0, 0, err
	}
	theirs, _, err = timed(ctx, "sh", append([]string{"-c", `printf '%s\n' "$@" | xargs -P ` + strconv.Itoa(runtime.NumCPU()) + ` -I{} tesseract {} - -l eng`, "sh"}, pictures...)...)
	return ours, theirs, err
}

type result struct {
	picture     string
	ours, plain float64
	near, right int
	bytes       int
}

func measure(ctx context.Context, program, dir string, w way) (r result, err error) {
	p := pages[w.page]
	raw := filepath.Join(dir, "drawn")
	if _, err := tool("pdftoppm", "-r", strconv.Itoa(w.dpi), "-gray", "-png", "-singlefile", p.pdf, raw); err != nil {
		return r, err
	}
	gray, err := readGray(raw + ".png")
	if err != nil {
		return r, err
	}
	seen := paper.Scan(gray, w.sheet)
	picture := filepath.Join(dir, fmt.Sprintf("seen%d.png", time.Now().UnixNano()))
	r.picture = picture
	if err := writePNG(picture, seen, w.dpi); err != nil {
		return r, err
	}
	scan, out := filepath.Join(dir, "scan.pdf"), filepath.Join(dir, "out.pdf")
	if _, err := tool(program, "combine", "-o", scan, picture); err != nil {
		return r, err
	}
	steps := filepath.Join(dir, "steps.json")
	list, _ := json.Marshal(map[string]any{"steps": []any{map[string]any{"name": "recognize", "params": map[string]any{"pages": "all", "languages": p.languages}}}})
	if err := os.WriteFile(steps, list, 0o600); err != nil {
		return r, err
	}
	if _, _, err = timed(ctx, program, "run", steps, scan, "-o", out); err != nil {
		return r, err
	}
	before, err := os.Stat(scan)
	if err != nil {
		return r, err
	}
	after, err := os.Stat(out)
	if err != nil {
		return r, err
	}
	r.bytes = int(after.Size() - before.Size())
	text, err := tool("pdftotext", "-raw", out, "-")
	if err != nil {
		return r, err
	}
	r.ours = letters(p.text, text)
	var plain string
	if _, plain, err = timed(ctx, "tesseract", picture, "-", "-l", p.languages, "--dpi", strconv.Itoa(w.dpi)); err != nil {
		return r, err
	}
	r.plain = letters(p.text, plain)
	r.near, r.right, err = boxes(p.pdf, out, w)
	return r, err
}

func timed(ctx context.Context, name string, args ...string) (cpu float64, out string, err error) {
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.Env = append(os.Environ(), "OMP_THREAD_LIMIT=1")
	var b, e bytes.Buffer
	cmd.Stdout, cmd.Stderr = &b, &e
	var was, is syscall.Rusage
	_ = syscall.Getrusage(syscall.RUSAGE_CHILDREN, &was)
	if err := cmd.Run(); err != nil {
		return 0, "", fmt.Errorf("%s: %w: %s", filepath.Base(name), err, e.String())
	}
	_ = syscall.Getrusage(syscall.RUSAGE_CHILDREN, &is)
	of := func(r syscall.Rusage) float64 {
		return (time.Duration(r.Utime.Nano()) + time.Duration(r.Stime.Nano())).Seconds()
	}
	return of(is) - of(was), b.String(), nil
}

func tool(name string, args ...string) (string, error) {
	out, err := exec.Command(name, args...).Output()
	if err != nil {
		var exit *exec.ExitError
		if errors.As(err, &exit) {
			return "", fmt.Errorf("%s: %w: %s", filepath.Base(name), err, exit.Stderr)
		}
	}
	return string(out), err
}

func readGray(path string) (*image.Gray, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	img, err := png.Decode(f)
	if err != nil {
		return nil, err
	}
	if g, ok := img.(*image.Gray); ok {
		return g, nil
	}
	g := image.NewGray(img.Bounds())
	for y := range g.Rect.Dy() {
		for x := range g.Rect.Dx() {
			g.Set(x, y, color.GrayModel.Convert(img.At(x, y)))
		}
	}
	return g, nil
}

// writePNG writes a picture that tells its resolution.
func writePNG(path string, g *image.Gray, dpi int) error {
	var b bytes.Buffer
	if err := png.Encode(&b, g); err != nil {
		return err
	}
	data := b.Bytes()
	per := int(math.Round(float64(dpi) / 0.0254))
	body := []byte{'p', 'H', 'Y', 's', byte(per >> 24), byte(per >> 16), byte(per >> 8), byte(per), byte(per >> 24), byte(per >> 16), byte(per >> 8), byte(per), 1}
	chunk := append([]byte{0, 0, 0, 9}, body...)
	sum := crc(body)
	chunk = append(chunk, byte(sum>>24), byte(sum>>16), byte(sum>>8), byte(sum))
	const head = 33 // signature and IHDR
	return os.WriteFile(path, slices.Concat(data[:head], chunk, data[head:]), 0o600)
}

func crc(b []byte) uint32 {
	c := ^uint32(0)
	for _, v := range b {
		c ^= uint32(v)
		for range 8 {
			if c&1 == 1 {
				c = c>>1 ^ 0xedb88320
			} else {
				c >>= 1
			}
		}
	}
	return ^c
}

// letters gives how many hundredths of want are right in got: 100 less the edit distance.
func letters(want, got string) float64 {
	a, b := []rune(strings.Join(strings.Fields(want), " ")), []rune(strings.Join(strings.Fields(got), " "))
	if len(a) == 0 {
		return 100
	}
	row := make([]int, len(b)+1)
	for i := range row {
		row[i] = i
	}
	for i, x := range a {
		prev := row[0]
		row[0] = i + 1
		for j, y := range b {
			cost := prev
			if x != y {
				cost++
			}
			prev = row[j+1]
			row[j+1] = min(cost, row[j]+1, row[j+1]+1)
		}
	}
	return max(0, 100*(1-float64(row[len(b)])/float64(len(a))))
}

type box struct {
	text string
	at   [4]float64
}

var wordForm = regexp.MustCompile(`<word xMin="([-\d.]+)" yMin="([-\d.]+)" xMax="([-\d.]+)" yMax="([-\d.]+)">([^<]*)</word>`)

func wordsOf(path string) (out []box, err error) {
	s, err := tool("pdftotext", "-bbox", path, "-")
	if err != nil {
		return nil, err
	}
	for _, m := range wordForm.FindAllStringSubmatch(s, -1) {
		b := box{text: m[5]}
		for i := range b.at {
			b.at[i], _ = strconv.ParseFloat(m[i+1], 64)
		}
		out = append(out, b)
	}
	return out, nil
}

// boxes holds the words of what was recognized against those of the page it was drawn from, as they lie on the scan: for each word that was read right, its
// nearest namesake.
func boxes(born, read string, w way) (near, right int, err error) {
	want, err := wordsOf(born)
	if err != nil {
		return 0, 0, err
	}
	got, err := wordsOf(read)
	if err != nil {
		return 0, 0, err
	}
	const wide, high = 595.28, 841.89
	sin, cos := math.Sincos(w.sheet.Askew * math.Pi / 180)
	for i := range want {
		b := &want[i].at
		x0, y0, x1, y1 := math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)
		for _, c := range [][2]float64{{b[0], b[1]}, {b[2], b[1]}, {b[0], b[3]}, {b[2], b[3]}} {
			rx, ry := c[0]-wide/2, c[1]-high/2
			x, y := wide/2+cos*rx+sin*ry, high/2-sin*rx+cos*ry
			ww, hh := wide, high
			for range w.sheet.Quarter {
				x, y, ww, hh = hh-y, x, hh, ww
			}
			x0, y0, x1, y1 = min(x0, x), min(y0, y), max(x1, x), max(y1, y)
		}
		*b = [4]float64{x0, y0, x1, y1}
	}
	used := make([]bool, len(got))
	for _, a := range want {
		best, at := math.Inf(1), -1
		for k, b := range got {
			if used[k] || b.text != a.text {
				continue
			}
			if d := math.Hypot(a.at[0]-b.at[0], a.at[1]-b.at[1]); d < best {
				best, at = d, k
			}
		}
		if at < 0 || best > 60 {
			continue
		}
		used[at] = true
		right++
		ok := true
		for i := range 4 {
			ok = ok && math.Abs(a.at[i]-got[at].at[i]) <= 1.5
		}
		if ok {
			near++
		} else if os.Getenv("SHOW") != "" {
			fmt.Fprintf(os.Stderr, "%s: ", a.text)
			for i := range 4 {
				fmt.Fprintf(os.Stderr, "%.1f ", got[at].at[i]-a.at[i])
			}
			fmt.Fprintln(os.Stderr)
		}
	}
	return near, right, nil
}
