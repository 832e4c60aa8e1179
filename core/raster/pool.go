package raster

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"glenrain/core/child"
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
	limit    time.Duration // for one picture
	cpu      time.Duration // of processor for one picture
	memory   atomic.Int64  // resident bytes of one child
	failed   failed

	mu    sync.Mutex
	stale chan struct{} // closed when the children of now are to end
}

type job struct {
	tries  int // that ended with the child
	ctx    context.Context
	req    Request
	result chan result
}

type result struct {
	picture Picture
	err     error
}

// Limits of a child: PDFium itself has memoryPages, the picture is beside it.
const (
	memory     = 400 << 20
	renderHeap = 160 << 20
	maxCPU     = 4500 * time.Millisecond // for one picture
)

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
		stop: stop, ctx: ctx, first: make(chan struct{}), limit: pdf.MaxDrawing, cpu: maxCPU, stale: make(chan struct{}),
	}
	p.memory.Store(memory)
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

// Renew has each child end when it has drawn what it is drawing, and others start in their places: children keep documents open, and what they have of one
// that is to be forgotten goes with them.
func (p *Pool) Renew() {
	p.mu.Lock()
	defer p.mu.Unlock()
	close(p.stale)
	p.stale = make(chan struct{})
}

// renewed is closed when a child that starts now is to end.
func (p *Pool) renewed() <-chan struct{} {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.stale
}

// Render draws one page. It returns early when ctx ends.
func (p *Pool) Render(ctx context.Context, r Request) (Picture, error) {
	if err := p.failed.of(r); err != nil {
		return Picture{}, err
	}
	select {
	case p.waiting <- struct{}{}: // given back by whoever takes the job from the queue
	default:
		return Picture{}, ErrBusy
	}
	j := &job{ctx: ctx, req: r, result: make(chan result, 1)}
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
	var stale <-chan struct{}
	for p.ctx.Err() == nil {
		select {
		case <-stale: // ahead of what waits
			c.kill()
			c, stale = nil, nil
		default:
		}
		if c == nil {
			stale = p.renewed()
			var err error
			c, err = p.start()
			if err != nil {
				stale = nil
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
		case <-stale:
			c.kill()
			c, stale = nil, nil
		case <-p.jobs.ready:
			j := p.take()
			if j.ctx.Err() != nil {
				j.result <- result{err: j.ctx.Err()}
				continue
			}
			pic, err, alive := c.ask(p.ctx, j.req, p.limit)
			if !alive {
				c.kill()
				c, stale = nil, nil
			}
			// A child that ended by itself, or since others took too much, may not have done so for this page: it is asked for again.
			if p.ctx.Err() == nil && child.Again(err, j.tries) && p.again(j) {
				continue
			}
			err = named(err)
			if !alive && p.ctx.Err() == nil && j.ctx.Err() == nil {
				p.failed.put(j.req, err)
			}
			j.result <- result{pic, err}
		}
	}
}

// failed remembers pages that stopped a child, for a while: many windows ask for the same page in many sizes.
type failed struct {
	mu    sync.Mutex
	pages map[failedPage]failure
}

type failedPage struct {
	key  string
	page int
}

type failure struct {
	err   error
	until time.Time
}

// remembered is how long a page counts as one that can't be drawn.
const remembered = 2 * time.Minute

func (f *failed) of(r Request) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	if was, ok := f.pages[failedPage{r.Source.Key, r.Page}]; ok && time.Now().Before(was.until) && !r.Save && !r.Count {
		return was.err
	}
	return nil
}

func (f *failed) put(r Request, err error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.pages == nil || len(f.pages) > 1000 {
		f.pages = map[failedPage]failure{}
	}
	f.pages[failedPage{r.Source.Key, r.Page}] = failure{err, time.Now().Add(remembered)}
}

// named gives why a picture was not drawn in this package's errors.
func named(err error) error {
	switch {
	case errors.Is(err, child.ErrTime):
		return ErrTime
	case errors.Is(err, child.ErrMemory), errors.Is(err, child.ErrCrowded):
		return ErrMemory
	case errors.Is(err, child.ErrDead):
		return ErrDead
	}
	return err
}

// again puts a job back into the queue, if there is room.
func (p *Pool) again(j *job) bool {
	select {
	case p.waiting <- struct{}{}:
		j.tries++
		p.jobs.put(j)
		return true
	default:
		return false
	}
}

// take takes the next job from the queue.
func (p *Pool) take() *job {
	<-p.waiting
	return p.jobs.next()
}

// process is one running child.
type process struct {
	*child.Process
	sent map[string]bool // documents it was given
}

// start starts a renderer, whose limits of memory hold once it has compiled PDFium.
func (p *Pool) start() (*process, error) {
	running, err := child.Start("renderer", child.Limits{Memory: p.memory.Load(), Ask: p.cpu, Heap: renderHeap, Cores: 1}, p.cacheDir)
	if err != nil {
		return nil, err
	}
	c := &process{running, map[string]bool{}}
	var a answer
	if err := c.Receive(p.ctx, &a, 2*time.Minute); err != nil || !a.Ready {
		c.kill()
		return nil, ErrDead
	}
	return c, nil
}

func (c *process) kill() { c.Process.Kill() }

func (c *process) ask(ctx context.Context, r Request, limit time.Duration) (pic Picture, err error, alive bool) {
	q := question{r}
	if c.sent[r.Source.Key] {
		q.Request.Source.Parts = nil
	}
	for range 2 {
		var a answer
		err := c.Send(q)
		if err == nil {
			err = c.Receive(ctx, &a, limit)
		}
		switch {
		case err != nil:
			return pic, err, false
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
