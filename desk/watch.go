package desk

import "sync"

// watchers are those who want to know when documents change.
type watchers struct {
	mu   sync.Mutex
	next int
	of   map[uint]map[int]chan uint // by document
}

// Watch gives a channel on which the ids of documents come whose head has moved since, until stop is called. Whoever does not listen misses some, but
// there is always one more to come then.
func (d *Desk) Watch(documents []uint) (changed <-chan uint, stop func()) {
	c := make(chan uint, len(documents)+1)
	w := &d.watch
	w.mu.Lock()
	defer w.mu.Unlock()
	w.next++
	id := w.next
	if w.of == nil {
		w.of = map[uint]map[int]chan uint{}
	}
	for _, doc := range documents {
		if w.of[doc] == nil {
			w.of[doc] = map[int]chan uint{}
		}
		w.of[doc][id] = c
	}
	return c, func() {
		w.mu.Lock()
		defer w.mu.Unlock()
		for _, doc := range documents {
			if delete(w.of[doc], id); len(w.of[doc]) == 0 {
				delete(w.of, doc)
			}
		}
	}
}

// moved tells those who watch a document that its head has moved.
func (w *watchers) moved(document uint) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, c := range w.of[document] {
		select {
		case c <- document:
		default: // it has as many to look at as there are documents
		}
	}
}
