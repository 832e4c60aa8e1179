// Command mutate changes small sound PDFs in ways that no writer does, and does with each what the house does with files: it is opened,
// read, worked on by every step, combined, written and drawn. Nothing of it may stop the program, take longer than ten seconds or more
// than a gigabyte, or end in anything but a sound result or a sentence. What does so is kept as a seed, which the tests try again.
package main

import (
	"context"
	"crypto/sha256"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"glenrain/core/child"
	"glenrain/core/pdf/pdftest"
	"glenrain/core/raster"
)

// largest is the size of a file that is changed, in bytes.
const largest = 300 << 10

func main() {
	child.Main()
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, "mutate:", err)
		os.Exit(1)
	}
}

func run() error {
	long := flag.Duration("time", time.Minute, "how long to go on")
	seed := flag.Uint64("seed", uint64(time.Now().UnixNano()), "where chance begins")
	keep := flag.String("keep", "mutate/seeds", "the folder for what was found")
	flag.Parse()
	m := &mutator{r: rand.New(rand.NewPCG(*seed, 1))}
	for _, h := range pdftest.Hostiles() {
		if len(h.Data) < largest {
			m.files = append(m.files, h.Data)
		}
	}
	m.files = append(m.files, pdftest.Text(3), pdftest.Noted("page", "BT /F 12 Tf 5 10 Td (note) Tj ET"))
	for _, dir := range flag.Args() {
		if err := filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
			if err != nil || e.IsDir() || !strings.HasSuffix(path, ".pdf") {
				return err
			}
			if info, err := e.Info(); err != nil || info.Size() > largest {
				return err
			}
			data, err := os.ReadFile(path)
			m.files = append(m.files, data)
			return err
		}); err != nil {
			return err
		}
	}
	fmt.Printf("seed %d, %d files\n", *seed, len(m.files))
	pool, err := raster.NewPool(raster.CacheForTests(), 1)
	if err != nil {
		return err
	}
	defer pool.Close()
	p := &prover{pool: pool}
	defer p.stop()
	tried, found := 0, 0
	seen := map[string]int{}
	said := time.Now()
	for end := time.Now().Add(*long); time.Now().Before(end); tried++ {
		data, how := m.next()
		wrong := p.prove(data)
		if time.Since(said) > time.Minute {
			said = time.Now()
			fmt.Printf("%d tried, %d things done with them, %d found\n", tried, p.done, found)
		}
		if len(wrong) == 0 {
			continue
		}
		found++
		sort := kind(wrong)
		if seen[sort]++; seen[sort] > mostAlike {
			continue
		}
		name := fmt.Sprintf("%x.pdf", sha256.Sum256(data))[:16] + ".pdf"
		if err := os.MkdirAll(*keep, 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(*keep, name), data, 0o644); err != nil {
			return err
		}
		fmt.Printf("%s (%s): %s\n", name, how, sort)
	}
	for sort, n := range seen {
		fmt.Printf("%d times: %s\n", n, sort)
	}
	fmt.Printf("%d tried, %d things done with them, %d found\n", tried, p.done, found)
	if found > 0 {
		return errors.New("something was found")
	}
	return nil
}

// mostAlike is how many files of the same trouble are kept.
const mostAlike = 2

var (
	placeRE = regexp.MustCompile(`core/[a-z/]+\.go:\d+`)
	digitRE = regexp.MustCompile(`\d+`)
)

// kind tells troubles apart: what was said, and for a panic where.
func kind(wrong []string) string {
	first, trace, _ := strings.Cut(wrong[0], "\n")
	_, trace, _ = strings.Cut(trace, "panic(")
	return digitRE.ReplaceAllString(first, "#") + " " + strings.Join(placeRE.FindAllString(trace, 2), " ")
}

// prover has files tried by a child, and drawn.
type prover struct {
	c    *child.Process
	pool *raster.Pool
	done int
}

func (p *prover) stop() {
	if p.c != nil {
		p.c.Kill()
		p.c = nil
	}
}

// prove gives what must not be.
func (p *prover) prove(data []byte) []string {
	child.Together(3 << 30) // each has a limit of its own here
	if p.c == nil {
		var err error
		if p.c, err = child.Start("mutants", child.Limits{Memory: 1 << 30, Ask: 60 * time.Second, Heap: 600 << 20, Cores: 1}); err != nil {
			return []string{err.Error()}
		}
	}
	ctx := context.Background()
	err := p.c.Send(data)
	var v verdict
	if err == nil {
		err = p.c.Receive(ctx, &v, 5*time.Minute)
	}
	if err != nil {
		p.stop()
		return []string{"the worker: " + err.Error()}
	}
	p.done += v.Done + 1
	_, err = p.pool.Render(ctx, raster.Request{Source: raster.Source{Key: fmt.Sprintf("%x", sha256.Sum256(data)), Parts: []raster.Part{{Data: data}}}, Width: 400, Height: 400})
	switch {
	case err == nil, errors.Is(err, raster.ErrPage), errors.Is(err, raster.ErrTime), errors.Is(err, raster.ErrMemory), errors.Is(err, raster.ErrDead):
	default:
		v.Wrong = append(v.Wrong, "drawing: "+err.Error())
	}
	return v.Wrong
}
