package child

import (
	"bytes"
	"fmt"
	"os"
	"strconv"
	"sync"
	"time"
)

// watch looks at the children while there are any. The limits that setrlimit knows don't serve for memory: a child reserves far more
// address space than it ever uses.
type watch struct {
	mu      sync.Mutex
	all     map[*Process]int // how often it was found stopped
	running bool
	total   int64
}

var watching = &watch{all: map[*Process]int{}, total: 800 << 20}

// lookEvery is how often the watch looks.
const lookEvery = 50 * time.Millisecond

// mostStopped is how often a child may be found stopped (SIGSTOP) before it counts as dead.
const mostStopped = 20

// Together sets how many bytes all children may have resident together.
func Together(bytes int64) {
	watching.mu.Lock()
	watching.total = bytes
	watching.mu.Unlock()
}

func (w *watch) add(p *Process) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.all[p] = 0
	if !w.running {
		w.running = true
		go w.run()
	}
}

func (w *watch) remove(p *Process) {
	w.mu.Lock()
	delete(w.all, p)
	w.mu.Unlock()
}

func (w *watch) run() {
	for range time.Tick(lookEvery) {
		w.mu.Lock()
		if len(w.all) == 0 {
			w.running = false
			w.mu.Unlock()
			return
		}
		var sum, most int64
		var largest *Process
		for p := range w.all {
			u, err := use(p.cmd.Process.Pid)
			if err != nil {
				continue
			}
			if p.asked.Load() == preparing {
				continue
			}
			p.asked.CompareAndSwap(justAsked, u.ticks)
			l := p.limits.Load()
			switch {
			case l.Memory > 0 && u.resident > l.Memory:
				p.end(ErrMemory)
			case l.Ask > 0 && time.Duration(u.ticks-p.asked.Load())*tick > l.Ask:
				p.end(ErrTime)
			}
			if u.state == 'T' {
				if w.all[p]++; w.all[p] > mostStopped {
					p.end(ErrEnded)
				}
			} else {
				w.all[p] = 0
			}
			sum += u.resident
			if u.resident > most {
				most, largest = u.resident, p
			}
		}
		if sum > w.total && largest != nil {
			largest.end(ErrCrowded)
		}
		w.mu.Unlock()
	}
}

// usage is what a process takes.
type usage struct {
	state    byte
	ticks    int64 // of processor time
	resident int64 // bytes
}

// tick is the unit of processor time in /proc: sysconf(_SC_CLK_TCK), which is 100 on Linux.
const tick = 10 * time.Millisecond

// use reads what a process takes from /proc/PID/stat (proc(5)).
func use(pid int) (u usage, err error) {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return u, err
	}
	// The name of the program, in brackets, may hold anything.
	f := bytes.Fields(b[bytes.LastIndexByte(b, ')')+1:])
	if len(f) < 22 {
		return u, fmt.Errorf("the state of process %d can't be read", pid)
	}
	number := func(i int) (v int64) { v, _ = strconv.ParseInt(string(f[i]), 10, 64); return v }
	return usage{state: f[0][0], ticks: number(11) + number(12), resident: number(21) * int64(os.Getpagesize())}, nil
}

// Resident tells how many bytes the children have resident together.
func Resident() (sum int64) {
	watching.mu.Lock()
	defer watching.mu.Unlock()
	for p := range watching.all {
		if u, err := use(p.cmd.Process.Pid); err == nil {
			sum += u.resident
		}
	}
	return sum
}
