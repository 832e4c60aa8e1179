package raster

import (
	"context"
	"encoding/gob"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"sync"
	"time"

	"glenrain/core/pdf"
)

// Pool keeps child processes, one a core, and shares them among requests.
type Pool struct {
	cacheDir string
	jobs     *queue
	waiting  chan struct{} // bounds the queue
	stop     context.CancelFunc
	ctx      context.Context
	done     sync.WaitGroup
	first    chan struct{} // closed when the first child has compiled PDFium
	limit    time.Duration
}

type job struct {
	ctx    context.Context
	req    Request
	result chan result
}

type result struct {
	picture Picture
	err     error
}

// maxWaiting is the most requests that wait at one time.
const maxWaiting = 512

// NewPool starts children that keep PDFium's compiled form in cacheDir. It
// returns at once; the first picture waits until a child is ready. n is the
// number of children, or 0 for one a core.
func NewPool(cacheDir string, n int) (*Pool, error) {
	if err := os.MkdirAll(cacheDir, 0o700); err != nil {
		return nil, fmt.Errorf("the folder for the renderer: %w", err)
	}
	if n <= 0 {
		n = runtime.NumCPU()
	}
	ctx, stop := context.WithCancel(context.Background())
	p := &Pool{
		cacheDir: cacheDir, jobs: newQueue(), waiting: make(chan struct{}, maxWaiting),
		stop: stop, ctx: ctx, first: make(chan struct{}), limit: pdf.MaxDrawing,
	}
	for i := range n {
		p.done.Add(1)
		go p.work(i == 0)
	}
	return p, nil
}

// Close stops the children.
func (p *Pool) Close() {
	p.stop()
	p.done.Wait()
}

// Render draws one page. It returns early when ctx ends.
func (p *Pool) Render(ctx context.Context, r Request) (Picture, error) {
	select {
	case p.waiting <- struct{}{}: // given back by whoever takes the job from the queue
	default:
		return Picture{}, ErrBusy
	}
	j := &job{ctx, r, make(chan result, 1)}
	p.jobs.put(j)
	select {
	case res := <-j.result:
		return res.picture, res.err
	case <-ctx.Done():
		return Picture{}, ctx.Err()
	case <-p.ctx.Done():
		return Picture{}, ErrDead
	}
}

// work owns one child process and starts another when it dies.
func (p *Pool) work(compiles bool) {
	defer p.done.Done()
	if !compiles {
		select {
		case <-p.first: // two compilations at once would take twice as long
		case <-p.ctx.Done():
			return
		}
	}
	var c *process
	defer func() {
		if c != nil {
			c.kill()
		}
	}()
	signalled := !compiles
	for p.ctx.Err() == nil {
		if c == nil {
			var err error
			c, err = p.start()
			if err != nil {
				select {
				case <-time.After(time.Second):
				case <-p.ctx.Done():
				case <-p.jobs.ready:
					j := p.take()
					j.result <- result{err: fmt.Errorf("the renderer does not start: %w", err)}
				}
				continue
			}
			if !signalled {
				signalled = true
				close(p.first)
			}
		}
		select {
		case <-p.ctx.Done():
			return
		case <-p.jobs.ready:
			j := p.take()
			if j.ctx.Err() != nil {
				j.result <- result{err: j.ctx.Err()}
				continue
			}
			pic, err, alive := c.ask(p.ctx, j.req, p.limit)
			if !alive {
				c.kill()
				c = nil
			}
			j.result <- result{pic, err}
		}
	}
}

// take takes the next job from the queue.
func (p *Pool) take() *job {
	<-p.waiting
	return p.jobs.next()
}

// process is one running child.
type process struct {
	cmd  *exec.Cmd
	in   io.WriteCloser
	enc  *gob.Encoder
	dec  *gob.Decoder
	sent map[string]bool // documents it was given
}

func (p *Pool) start() (*process, error) {
	exe, err := os.Executable()
	if err != nil {
		return nil, err
	}
	cmd := exec.Command(exe, childCommand, p.cacheDir)
	cmd.Stderr = os.Stderr
	cmd.Env = append(os.Environ(), "GOMAXPROCS=1")
	in, err := cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	c := &process{cmd: cmd, in: in, enc: gob.NewEncoder(in), dec: gob.NewDecoder(out), sent: map[string]bool{}}
	if a, ok := c.receive(p.ctx, 2*time.Minute); !ok || !a.Ready {
		c.kill()
		return nil, ErrDead
	}
	return c, nil
}

func (c *process) kill() {
	_ = c.in.Close()
	_ = c.cmd.Process.Kill()
	_ = c.cmd.Wait()
}

// receive waits for one answer; ok is false when the child died or ran out of time.
func (c *process) receive(ctx context.Context, limit time.Duration) (a answer, ok bool) {
	got := make(chan error, 1)
	go func() { got <- c.dec.Decode(&a) }()
	timer := time.NewTimer(limit)
	defer timer.Stop()
	select {
	case err := <-got:
		return a, err == nil
	case <-timer.C:
	case <-ctx.Done():
	}
	_ = c.cmd.Process.Kill()
	<-got // the pipe closes with the process
	return answer{}, false
}

func (c *process) ask(ctx context.Context, r Request, limit time.Duration) (pic Picture, err error, alive bool) {
	start := time.Now()
	q := question{r}
	if c.sent[r.Source.Key] {
		q.Request.Source.Parts = nil
	}
	for range 2 {
		if c.enc.Encode(q) != nil {
			return pic, ErrDead, false
		}
		a, ok := c.receive(ctx, limit)
		switch {
		case !ok && time.Since(start) >= limit:
			return pic, ErrTime, false
		case !ok:
			return pic, ErrDead, false
		case a.NeedParts:
			q.Request.Source.Parts = r.Source.Parts
			continue
		case a.Error != "":
			return pic, fmt.Errorf("%w: %s", ErrPage, a.Error), true
		}
		if len(c.sent) > 1000 {
			clear(c.sent)
		}
		c.sent[r.Source.Key] = true
		return a.Picture, nil, true
	}
	return pic, ErrPage, true
}

// CacheForTests is a folder for PDFium's compiled form that the tests of all
// packages share, so that it is compiled once.
func CacheForTests() string { return filepath.Join(os.TempDir(), "glenrain-test-pdfium") }
