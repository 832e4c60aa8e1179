// Package ocr reads the letters of a picture by Debian's tesseract command: one process a picture, on one core, at low priority, within limits of time and
// of what it may answer. It knows pictures and words; where they stand on a page is for others.
package ocr

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"image"
	"io"
	"os"
	"os/exec"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"
)

// Errors of reading; each is a sentence.
var (
	ErrNone = errors.New("text can't be recognized here: the program tesseract is missing. On Debian it is in the package tesseract-ocr")
	ErrTime = errors.New("recognizing the page took too long and was stopped")
	ErrMuch = errors.New("recognizing the page gave too much text")
)

const (
	longest    = 3 * time.Minute
	mostAnswer = 16 << 20 // bytes
)

// Engine is the program as it is on this machine.
type Engine struct {
	Program   string
	Version   string
	Languages []string // three-letter codes of ISO 639-2 as its data files have them, sorted; without osd
	OSD       bool     // whether it finds out how a page is turned, and its script
}

var (
	findOnce sync.Mutex
	found    *Engine
	foundFor string
)

// Find looks for the program and its languages. What it found is kept; ErrNone, and only that, is looked for again.
func Find() (*Engine, error) {
	findOnce.Lock()
	defer findOnce.Unlock()
	path, err := exec.LookPath("tesseract")
	if err != nil {
		return nil, ErrNone
	}
	if found != nil && foundFor == path {
		return found, nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	out, err := exec.CommandContext(ctx, path, "--list-langs").CombinedOutput()
	if err != nil {
		return nil, fmt.Errorf("%w (it is installed but doesn’t answer: %w)", ErrNone, err)
	}
	e := &Engine{Program: path}
	for line := range strings.Lines(string(out)) {
		line = strings.TrimSpace(line)
		switch {
		case line == "osd":
			e.OSD = true
		case language.MatchString(line):
			e.Languages = append(e.Languages, line)
		}
	}
	slices.Sort(e.Languages)
	if v, err := exec.CommandContext(ctx, path, "--version").CombinedOutput(); err == nil {
		e.Version, _, _ = strings.Cut(string(v), "\n")
	}
	found, foundFor = e, path
	return e, nil
}

var language = regexp.MustCompile(`^[a-z]{3}(_[a-z]+)?$|^script/[A-Z][a-z]+$`)

// Package names Debian's package with a language.
func Package(code string) string {
	return "tesseract-ocr-" + strings.ReplaceAll(strings.ToLower(strings.TrimPrefix(code, "script/")), "_", "-")
}

// Check reports, in a sentence, which of the languages is not installed.
func (e *Engine) Check(codes []string) error {
	for _, c := range codes {
		if !slices.Contains(e.Languages, c) {
			return fmt.Errorf("the language %q is not installed; on Debian it is in the package %s", c, Package(c))
		}
	}
	if len(codes) == 0 {
		return errors.New("no language is installed; on Debian English is in the package tesseract-ocr-eng")
	}
	return nil
}

// Word is a word as it was read. Its box is in pixels, from the upper left corner.
type Word struct {
	Text string
	Box  image.Rectangle
	Sure float64 // 0 to 100: how sure the program is
}

// Line is a line of words in reading order, in a paragraph of a block.
type Line struct {
	Block, Par int
	Box        image.Rectangle
	Words      []Word
}

// Options of one reading.
type Options struct {
	Languages []string
	DPI       int
	Mode      int // page segmentation; 0 means 3: blocks are found
}

// Read reads a picture.
func (e *Engine) Read(ctx context.Context, g *image.Gray, o Options) ([]Line, error) {
	if err := e.Check(o.Languages); err != nil {
		return nil, err
	}
	mode := o.Mode
	if mode == 0 {
		mode = 3
	}
	out, err := e.run(ctx, g, "-l", strings.Join(o.Languages, "+"), "--dpi", strconv.Itoa(dpi(o.DPI)), "--psm", strconv.Itoa(mode), "-c", "debug_file=/dev/null", "tsv")
	if err != nil {
		return nil, err
	}
	return parse(out, g.Rect.Size())
}

func dpi(v int) int { return min(2400, max(70, v)) }

// Turned is how a page is turned and what it is written in.
type Turned struct {
	Quarters int     // quarters it has to be turned clockwise to stand upright
	Sure     float64 // of the turning
	Script   string  // "Latin", "Cyrillic", ...
}

// Orientation finds out how a page is turned. A page with too little on it to tell gives ok false.
func (e *Engine) Orientation(ctx context.Context, g *image.Gray, resolution int) (t Turned, ok bool, err error) {
	if !e.OSD {
		return t, false, nil
	}
	out, err := e.run(ctx, g, "-l", "osd", "--dpi", strconv.Itoa(dpi(resolution)), "--psm", "0", "-c", "debug_file=/dev/null")
	if err != nil {
		var exit *exec.ExitError
		if errors.As(err, &exit) { // too few characters
			return t, false, nil
		}
		return t, false, err
	}
	for line := range strings.Lines(string(out)) {
		k, v, _ := strings.Cut(strings.TrimSpace(line), ": ")
		switch k {
		case "Rotate":
			n, _ := strconv.Atoi(v)
			t.Quarters = (n/90%4 + 4) % 4
			ok = true
		case "Orientation confidence":
			t.Sure, _ = strconv.ParseFloat(v, 64)
		case "Script":
			t.Script = v
		}
	}
	return t, ok, nil
}

// run gives what the program answers to a picture.
func (e *Engine) run(ctx context.Context, g *image.Gray, args ...string) ([]byte, error) {
	limited, cancel := context.WithTimeout(ctx, longest)
	defer cancel()
	cmd := exec.CommandContext(limited, e.Program, append([]string{"stdin", "stdout"}, args...)...)
	cmd.Env = append(os.Environ(), "OMP_THREAD_LIMIT=1")
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	cmd.WaitDelay = 2 * time.Second
	in, err := cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	out := &bounded{}
	said := &bounded{most: 4096}
	cmd.Stdout, cmd.Stderr = out, said
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("%w (%w)", ErrNone, err)
	}
	_ = syscall.Setpriority(syscall.PRIO_PROCESS, cmd.Process.Pid, 10) // whoever waits at a screen comes first
	wrote := writeNetpbm(in, g)
	err = cmd.Wait()
	switch {
	case ctx.Err() != nil:
		return nil, ctx.Err()
	case limited.Err() != nil:
		return nil, ErrTime
	case out.over:
		return nil, ErrMuch
	case err != nil:
		return nil, fmt.Errorf("the program tesseract failed: %w: %s", err, firstLine(said.b.String()))
	case wrote != nil:
		return nil, fmt.Errorf("the program tesseract did not take the picture: %w", wrote)
	}
	return out.b.Bytes(), nil
}

func firstLine(s string) string {
	s, _, _ = strings.Cut(strings.TrimSpace(s), "\n")
	return s
}

// writeNetpbm writes a picture as a portable graymap (P5), and closes w.
func writeNetpbm(w io.WriteCloser, g *image.Gray) error {
	b := bufio.NewWriterSize(w, 1<<16)
	_, err := fmt.Fprintf(b, "P5\n%d %d\n255\n", g.Rect.Dx(), g.Rect.Dy())
	for y := 0; y < g.Rect.Dy() && err == nil; y++ {
		_, err = b.Write(g.Pix[y*g.Stride:][:g.Rect.Dx()])
	}
	return errors.Join(err, b.Flush(), w.Close())
}

type bounded struct {
	b    bytes.Buffer
	most int
	over bool
}

func (b *bounded) Write(p []byte) (int, error) {
	most := b.most
	if most == 0 {
		most = mostAnswer
	}
	if b.b.Len()+len(p) > most {
		b.over = true
		if b.most > 0 {
			return len(p), nil
		}
		return 0, ErrMuch
	}
	return b.b.Write(p)
}

// Limits of one answer.
const (
	mostWords  = 50_000
	mostLetter = 400 // bytes of a word
)

// parse reads the table that the program gives (TSV: level, page, block, paragraph, line, word, left, top, width, height, confidence, text).
func parse(data []byte, size image.Point) ([]Line, error) {
	var out []Line
	all := image.Rectangle{Max: size}
	words := 0
	at := [3]int{-1, -1, -1}
	for raw := range bytes.Lines(data) {
		f := strings.SplitN(strings.TrimRight(string(raw), "\r\n"), "\t", 12)
		if len(f) < 12 || f[0] != "5" {
			continue
		}
		var n [9]int
		wrong := false
		for i := range n {
			v, err := strconv.Atoi(f[i+1])
			wrong = wrong || err != nil
			n[i] = v
		}
		sure, err := strconv.ParseFloat(f[10], 64)
		if wrong || err != nil {
			continue
		}
		text := strings.ToValidUTF8(strings.TrimSpace(f[11]), "\ufffd")
		box := image.Rect(n[5], n[6], n[5]+n[7], n[6]+n[8]).Intersect(all)
		if text == "" || box.Empty() || len(text) > mostLetter {
			continue
		}
		if words++; words > mostWords {
			return nil, ErrMuch
		}
		if k := [3]int{n[1], n[2], n[3]}; k != at {
			at = k
			out = append(out, Line{Block: n[1], Par: n[2]})
		}
		l := &out[len(out)-1]
		l.Words = append(l.Words, Word{Text: text, Box: box, Sure: max(0, min(100, sure))})
		l.Box = l.Box.Union(box)
	}
	return out, nil
}

// Sure gives how sure a reading is as a whole, 0 to 100, by its letters; and how many letters it has.
func Sure(lines []Line) (sure float64, letters int) {
	for _, l := range lines {
		for _, w := range l.Words {
			n := len([]rune(w.Text))
			sure += w.Sure * float64(n)
			letters += n
		}
	}
	if letters == 0 {
		return 0, 0
	}
	return sure / float64(letters), letters
}
