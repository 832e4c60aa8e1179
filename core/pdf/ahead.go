package pdf

import (
	"cmp"
	"slices"
	"sync"
	"sync/atomic"
)

const (
	fewStreams = 8        // below so many object streams nothing is unpacked ahead
	mostAhead  = 32 << 20 // bytes that are unpacked ahead
)

// ahead is what is unpacked ahead of a walk through most of a file: object streams, by the other cores, in the order in which they stand in it.
type ahead struct {
	mu    sync.Mutex
	taken map[int]bool          // by the walk, or by one that unpacks ahead
	busy  map[int]chan struct{} // being unpacked ahead; closed when done
	ready map[int]*objectStream
	bytes int
	over  atomic.Bool
}

// unpackAhead begins to unpack object streams of the base; end must be called when the walk is over. What is damaged is left to whoever asks for it.
func (d *Document) unpackAhead() (end func()) {
	workers := d.cores() - 1
	offsets := map[int]int64{}
	for _, e := range d.base {
		if e.kind == 2 {
			offsets[int(e.off)] = 0
		}
	}
	if workers < 1 || len(offsets) < fewStreams {
		return func() {}
	}
	order := make([]int, 0, len(offsets))
	for num := range offsets {
		e, _ := d.lookup(num)
		offsets[num] = e.off
		order = append(order, num)
	}
	slices.SortFunc(order, func(a, b int) int { return cmp.Compare(offsets[a], offsets[b]) })
	a := &ahead{taken: map[int]bool{}, busy: map[int]chan struct{}{}, ready: map[int]*objectStream{}}
	var next atomic.Int64
	var all sync.WaitGroup
	for range workers {
		all.Go(func() {
			for !a.over.Load() && !d.work.over.Load() {
				i := int(next.Add(1)) - 1
				if i >= len(order) || !d.unpackOne(a, order[i]) {
					return
				}
			}
		})
	}
	d.shared.setAhead(a)
	return func() {
		a.over.Store(true)
		d.shared.setAhead(nil)
		all.Wait()
	}
}

// unpackOne unpacks one object stream ahead, unless the walk was there first; false once enough is ready.
func (d *Document) unpackOne(a *ahead, container int) (more bool) {
	a.mu.Lock()
	if a.bytes >= mostAhead {
		a.mu.Unlock()
		return false
	}
	if a.taken[container] {
		a.mu.Unlock()
		return true
	}
	done := make(chan struct{})
	a.taken[container], a.busy[container] = true, done
	a.mu.Unlock()
	var s *objectStream
	defer func() {
		_ = recover() // the walk comes to it itself, where it is caught
		a.mu.Lock()
		if s != nil {
			a.ready[container] = s
			a.bytes += len(s.data)
		}
		delete(a.busy, container)
		a.mu.Unlock()
		close(done)
	}()
	s, _ = d.unpackObjects(container, nil) // nil where it fails
	return true
}

// take gives an object stream that was unpacked ahead, and waits for one that is just being. nil leaves it to the caller.
func (a *ahead) take(container int) *objectStream {
	a.mu.Lock()
	a.taken[container] = true
	busy := a.busy[container]
	a.mu.Unlock()
	if busy != nil {
		<-busy
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	s := a.ready[container]
	delete(a.ready, container)
	return s
}

func (c *cache) setAhead(a *ahead) {
	c.mu.Lock()
	c.ahead = a
	c.mu.Unlock()
}
