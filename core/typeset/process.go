package typeset

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/cdp"
)

// process is Chromium with all of its processes. It is spoken to over two pipes (--remote-debugging-pipe), so that nobody else on the
// machine can speak to it, as a port would let them: each message ends with a zero byte.
type process struct {
	cmd     *exec.Cmd
	profile string
	to      *os.File
	from    *bufio.Reader
	pipe    *os.File
	over    atomic.Bool                        // it took too much memory
	stop    atomic.Pointer[context.CancelFunc] // is called then
	open    *rod.Browser
	once    sync.Once
	done    chan struct{}
	mu      sync.Mutex
}

// start starts Chromium with a profile of its own; what stop leads to is called when it takes more memory than it may.
func start(program string, memory int64) (*process, error) {
	profile, err := os.MkdirTemp("", "glenrain-set-")
	if err != nil {
		return nil, err
	}
	p := &process{profile: profile, done: make(chan struct{})}
	ours, theirs, err := os.Pipe()
	if err != nil {
		return nil, errors.Join(err, os.RemoveAll(profile))
	}
	their, our, err := os.Pipe()
	if err != nil {
		return nil, errors.Join(err, ours.Close(), theirs.Close(), os.RemoveAll(profile))
	}
	p.to, p.pipe, p.from = our, ours, bufio.NewReaderSize(ours, 1<<16)
	flags := []string{
		"--headless", "--remote-debugging-pipe", "--user-data-dir=" + profile,
		"--disable-gpu", "--disable-quic", "--no-first-run", "--no-default-browser-check", "--disable-background-networking", "--disable-component-update", "--disable-sync",
		"--disable-extensions", "--disable-default-apps", "--disable-domain-reliability", "--disable-breakpad", "--no-pings", "--disable-dev-shm-usage", "--mute-audio",
		"--disable-features=Translate,MediaRouter,OptimizationHints,AutofillServerCommunication,DialMediaRouteProvider",
		// Should a request get past the interception, it finds no name and no way out.
		"--host-resolver-rules=MAP * ~NOTFOUND", "--proxy-server=http://127.0.0.1:9", "--proxy-bypass-list=<-loopback>",
		"--font-render-hinting=none", "--lang=en-GB",
	}
	if !Sandboxed() {
		flags = append(flags, "--no-sandbox")
	}
	p.cmd = exec.Command(program, flags...)
	p.cmd.Dir = profile
	p.cmd.Env = append(os.Environ(), "HOME="+profile, "XDG_CONFIG_HOME="+profile, "XDG_CACHE_HOME="+profile, "TZ=UTC",
		"TMPDIR=/proc/self/cwd") // the profile, by a name that is short enough for a socket in it, which has 108 bytes for its path (unix(7))
	p.cmd.ExtraFiles = []*os.File{their, theirs} // descriptors 3 and 4
	p.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
	err = p.cmd.Start()
	_, _ = their.Close(), theirs.Close()
	if err != nil {
		return nil, errors.Join(err, our.Close(), ours.Close(), os.RemoveAll(profile))
	}
	go p.watch(memory)
	return p, nil
}

// browser is what speaks to it.
func (p *process) browser() (*rod.Browser, error) {
	if p.open == nil {
		b := rod.New().Client(cdp.New().Start(p)).NoDefaultDevice()
		if err := b.Connect(); err != nil {
			return nil, err
		}
		p.open = b
	}
	return p.open, nil
}

// Send sends a message (cdp.WebSocketable).
func (p *process) Send(b []byte) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	_, err := p.to.Write(append(b, 0))
	return err
}

// Read waits for a message.
func (p *process) Read() ([]byte, error) {
	b, err := p.from.ReadBytes(0)
	if err != nil {
		return nil, err
	}
	return b[:len(b)-1], nil
}

// end stops all of its processes and removes its profile.
func (p *process) end() {
	p.once.Do(func() {
		close(p.done)
		for pid := range p.all() {
			_ = syscall.Kill(pid, syscall.SIGKILL)
		}
		_ = syscall.Kill(-p.cmd.Process.Pid, syscall.SIGKILL)
		_ = p.cmd.Wait()
		_, _ = p.to.Close(), p.pipe.Close()
		for range 20 { // what was killed may still be writing
			if os.RemoveAll(p.profile) == nil {
				break
			}
			time.Sleep(20 * time.Millisecond)
		}
	})
}

// watch looks at the memory of all of its processes.
func (p *process) watch(most int64) {
	for {
		select {
		case <-p.done:
			return
		case <-time.After(100 * time.Millisecond):
		}
		sum := int64(0)
		for pid := range p.all() {
			sum += anonymous(pid)
		}
		if sum > most {
			p.over.Store(true)
			if stop := p.stop.Load(); stop != nil {
				(*stop)()
			}
			return
		}
	}
}

// all gives the process and its descendants.
func (p *process) all() map[int]bool {
	children := map[int][]int{}
	stats, _ := filepath.Glob("/proc/[0-9]*/stat")
	for _, s := range stats {
		b, err := os.ReadFile(s)
		if err != nil {
			continue
		}
		f := bytes.Fields(b[bytes.LastIndexByte(b, ')')+1:])
		if len(f) < 2 {
			continue
		}
		pid, _ := strconv.Atoi(filepath.Base(filepath.Dir(s)))
		parent, _ := strconv.Atoi(string(f[1]))
		children[parent] = append(children[parent], pid)
	}
	all := map[int]bool{}
	for todo := []int{p.cmd.Process.Pid}; len(todo) > 0; {
		pid := todo[len(todo)-1]
		todo = todo[:len(todo)-1]
		if !all[pid] {
			all[pid] = true
			todo = append(todo, children[pid]...)
		}
	}
	return all
}

// anonymous is how many bytes a process has resident that are its own (proc(5): RssAnon and RssShmem).
func anonymous(pid int) (sum int64) {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0
	}
	for line := range bytes.Lines(b) {
		for _, name := range []string{"RssAnon:", "RssShmem:"} {
			if rest, ok := bytes.CutPrefix(line, []byte(name)); ok {
				f := bytes.Fields(rest)
				if len(f) > 0 {
					kb, _ := strconv.ParseInt(string(f[0]), 10, 64)
					sum += kb << 10
				}
			}
		}
	}
	return sum
}
