package raster

import (
	"sync"

	"glenrain/core/child"
)

// queue holds jobs by whom they are for, and gives them out in turns.
type queue struct {
	ready chan struct{} // one for each job that waits

	mu    sync.Mutex
	turns []string // who has jobs waiting, next first
	of    map[string][]*job
}

func newQueue() *queue {
	return &queue{ready: make(chan struct{}, maxWaiting), of: map[string][]*job{}}
}

// put adds a job. At most maxWaiting may be in the queue.
func (q *queue) put(j *job) {
	who := child.Whose(j.ctx)
	q.mu.Lock()
	if len(q.of[who]) == 0 {
		q.turns = append(q.turns, who)
	}
	q.of[who] = append(q.of[who], j)
	q.mu.Unlock()
	q.ready <- struct{}{}
}

// next takes the job whose turn it is, after one was received from ready.
func (q *queue) next() *job {
	q.mu.Lock()
	defer q.mu.Unlock()
	who := q.turns[0]
	q.turns = q.turns[1:]
	j := q.of[who][0]
	if q.of[who] = q.of[who][1:]; len(q.of[who]) > 0 {
		q.turns = append(q.turns, who)
	} else {
		delete(q.of, who)
	}
	return j
}
