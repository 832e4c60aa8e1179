// Package child runs parts of the program as processes of their own, under limits of memory, time and processor: what reads or draws
// somebody's file can then be stopped by the system, and a fault in it costs one process.
package child

import (
	"context"
	"encoding/gob"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"runtime"
	"runtime/debug"
	"strconv"
	"sync"
	"sync/atomic"
	"syscall"
	"time"
)

// Why a child ended before it answered.
var (
	ErrTime    = errors.New("it took too long and was stopped")
	ErrMemory  = errors.New("it took too much memory and was stopped")
	ErrDead    = errors.New("it stopped by a fault")
	ErrCrowded = errors.New("it was stopped because too much memory was in use")
	// ErrEnded is an ErrDead that somebody else wanted: a signal that stops or kills, which no fault sends.
	ErrEnded = fmt.Errorf("%w: it was ended by a signal", ErrDead)
)

// Again reports whether what a child was asked may be asked again, of another one, after so many tries before: what it was asked may not be to blame. A fault
// comes again most times; a signal from outside may hit anyone.
func Again(err error, tries int) bool {
	switch {
	case errors.Is(err, ErrEnded):
		return tries < 10
	case errors.Is(err, ErrDead), errors.Is(err, ErrCrowded):
		return tries < 2
	}
	return false
}

// command is the hidden command that makes the program a child.
const command = "child-process"

// Service is what a child does: it answers on out what it is asked on in, until that ends.
type Service func(args []string, in io.Reader, out io.Writer) error

var services = map[string]Service{}

// Register names a service; packages do so when they are initialised.
func Register(kind string, s Service) { services[kind] = s }

// Main serves as a child and does not return, if the program was started as one; otherwise it does nothing. main and
// TestMain call it first.
func Main() {
	if len(os.Args) < 5 || os.Args[1] != command {
		return
	}
	s, ok := services[os.Args[2]]
	cpu, err := strconv.ParseUint(os.Args[3], 10, 32)
	parent, perr := strconv.Atoi(os.Args[4]) // as it is told: it may be gone before it can be asked for
	if !ok || err != nil || perr != nil {
		fmt.Fprintln(os.Stderr, "a child process of an unknown kind")
		os.Exit(2)
	}
	_ = syscall.Setrlimit(syscall.RLIMIT_CORE, &syscall.Rlimit{})
	limitCPU(cpu)
	go func() { // whoever asked may be gone while the child works
		for os.Getppid() == parent {
			time.Sleep(time.Second)
		}
		os.Exit(1)
	}()
	out := os.Stdout
	os.Stdout = os.Stderr // what a library says must not come among the answers
	err = s(os.Args[5:], os.Stdin, out)
	runtime.KeepAlive(out) // a file that nobody refers to any more is closed
	if err != nil && !errors.Is(err, io.EOF) {
		fmt.Fprintf(os.Stderr, "%s: %v\n", os.Args[2], err)
		os.Exit(1)
	}
	os.Exit(0)
}

// limitCPU sets a second limit of processor time, by the system: SIGKILL.
func limitCPU(seconds uint64) {
	if seconds > 0 {
		_ = syscall.Setrlimit(syscall.RLIMIT_CPU, &syscall.Rlimit{Cur: seconds, Max: seconds})
	}
}

// Lower gives this process, and what it starts from now on, a low priority: whoever waits for something short comes first. Priorities are of threads
// (setpriority(2)); new ones have that of the one that starts them.
func Lower() {
	list, err := os.ReadDir("/proc/self/task")
	if err != nil {
		return
	}
	for _, e := range list {
		if id, err := strconv.Atoi(e.Name()); err == nil {
			_ = syscall.Setpriority(syscall.PRIO_PROCESS, id, lowered) // one that has ended meanwhile
		}
	}
}

const lowered = 10

// Limits of one child.
type Limits struct {
	Memory int64         // resident bytes
	CPU    time.Duration // of processor time for its whole life; 0 for no limit
	Ask    time.Duration // of processor time for one question; 0 for no limit
	Heap   int64         // bytes from which on its garbage is collected eagerly
	Cores  int           // that it may use; 0 for all
}

// seconds is the limit of processor time as the system is told it.
func (l Limits) seconds() uint64 {
	if l.CPU <= 0 {
		return 0
	}
	return uint64(l.CPU/time.Second) + 1
}

// Own sets, in a child that was started before it was known what it would be asked, those limits that a process sets itself.
func (l Limits) Own() {
	limitCPU(l.seconds())
	if l.Heap > 0 {
		debug.SetMemoryLimit(l.Heap)
	}
}

// Process is a running child.
type Process struct {
	limits atomic.Pointer[Limits]
	cmd    *exec.Cmd
	in     io.WriteCloser
	enc    *gob.Encoder
	dec    *gob.Decoder
	why    atomic.Pointer[error]
	asked  atomic.Int64 // processor time when it was asked last, in ticks; or one of the following
	dead   sync.Once
}

// Start starts a child of a kind.
func Start(kind string, limits Limits, args ...string) (*Process, error) {
	p, err := StartAhead(kind, limits, args...)
	if err == nil {
		p.Limit(limits)
	}
	return p, err
}

// StartAhead starts a child before it is known what it will be asked. It is not watched until it has limits: see Limit.
func StartAhead(kind string, limits Limits, args ...string) (*Process, error) {
	exe, err := os.Executable()
	if err != nil {
		return nil, err
	}
	cmd := exec.Command(exe, append([]string{command, kind, strconv.FormatUint(limits.seconds(), 10), strconv.Itoa(os.Getpid())}, args...)...)
	cmd.Stderr = &firstLines{to: os.Stderr}
	cmd.Env = os.Environ()
	if limits.Heap > 0 {
		cmd.Env = append(cmd.Env, fmt.Sprintf("GOMEMLIMIT=%d", limits.Heap))
	}
	if limits.Cores > 0 {
		cmd.Env = append(cmd.Env, fmt.Sprintf("GOMAXPROCS=%d", limits.Cores))
	}
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
	p := &Process{cmd: cmd, in: in, enc: gob.NewEncoder(in), dec: gob.NewDecoder(out)}
	p.limits.Store(&limits)
	p.asked.Store(preparing)
	return p, nil
}

// Of Process.asked.
const (
	justAsked = -1 // it is not known yet
	preparing = -2 // nothing was asked yet: there are no limits but those of the system
)

// Limit sets the limits of a child that was started without: those which are watched. It is told of them in what it is asked first, and sets the others
// itself: see Limits.Own.
func (p *Process) Limit(l Limits) {
	p.limits.Store(&l)
	watching.add(p)
}

// PID is the number of the process.
func (p *Process) PID() int { return p.cmd.Process.Pid }

// Kill ends the child.
func (p *Process) Kill() {
	p.dead.Do(func() {
		watching.remove(p)
		_ = p.in.Close()
		_ = p.cmd.Process.Kill()
		_ = p.cmd.Wait()
	})
}

// end stops the child for a reason, which Receive gives.
func (p *Process) end(why error) {
	p.why.CompareAndSwap(nil, &why)
	_ = p.cmd.Process.Kill()
}

// Send asks the child.
func (p *Process) Send(v any) error {
	if why := p.why.Load(); why != nil {
		return *why
	}
	p.asked.Store(justAsked)
	if err := p.enc.Encode(v); err != nil {
		return p.reason()
	}
	return nil
}

// reason tells why a child does not answer any more.
func (p *Process) reason() error {
	if why := p.why.Load(); why != nil {
		return *why
	}
	p.Kill()
	s := p.cmd.ProcessState
	if s == nil {
		return ErrDead
	}
	if w, ok := s.Sys().(syscall.WaitStatus); !ok || !w.Signaled() || w.Signal() != syscall.SIGKILL && w.Signal() != syscall.SIGTERM {
		return ErrDead
	}
	if cpu := p.limits.Load().CPU; cpu > 0 && s.UserTime()+s.SystemTime() >= cpu { // the system's limit, which kills too
		return ErrTime
	}
	return ErrEnded
}

// Receive waits for an answer, no longer than limit. An error is one of the package's, or that of ctx; the child is no
// good any more then.
func (p *Process) Receive(ctx context.Context, v any, limit time.Duration) error {
	got := make(chan error, 1)
	go func() { got <- p.dec.Decode(v) }()
	timer := time.NewTimer(limit)
	defer timer.Stop()
	select {
	case err := <-got:
		if err == nil {
			return nil
		}
		return p.reason()
	case <-timer.C:
		p.end(ErrTime)
		<-got // the pipe closes with the process
		return ErrTime
	case <-ctx.Done():
		p.end(ctx.Err())
		<-got
		return ctx.Err()
	}
}

// firstLines passes on the beginning of what a child says: the trace of a stack that ran over is long.
type firstLines struct {
	to   io.Writer
	left int
	used bool
}

func (f *firstLines) Write(b []byte) (int, error) {
	if !f.used {
		f.used, f.left = true, 2000
	}
	n := min(len(b), f.left)
	f.left -= n
	if n > 0 {
		_, _ = f.to.Write(b[:n])
	}
	return len(b), nil
}
