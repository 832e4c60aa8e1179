// Command glenrain edits, assembles and hands out PDF documents: as a server used in
// the browser, and without one on the command line.
package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/alecthomas/kong"

	"glenrain/core/child"
	"glenrain/core/pdf"
	"glenrain/core/picture"
	"glenrain/core/step"
)

// Exit codes of the command line.
const (
	exitDone     = 0
	exitFailed   = 1 // what was asked for is right, but could not be done
	exitUse      = 2 // wrong use
	exitPassword = 3 // a password is needed
	exitRead     = 4 // can't be read
)

type commands struct {
	Serve   serveCommand   `cmd:"" help:"Serve a data folder to browsers."`
	Demo    demoCommand    `cmd:"" help:"Serve the documents of an invented office, to try Glenrain."`
	Scanner scannerCommand `cmd:"" help:"Serve a simulated eSCL scanner, to try scanning."`
	Backup  backupCommand  `cmd:"" help:"Write a data folder as one file; a server can keep running."`
	Restore restoreCommand `cmd:"" help:"Restore a data folder from a backup."`
	People  peopleCommand  `cmd:"" help:"List the people of a data folder, invite someone, or reset a password."`
	Info    infoCommand    `cmd:"" help:"Show what a PDF contains: pages, sizes, version, whether it is locked or tagged."`
	Run     runCommand     `cmd:"" help:"Run a list of steps on a file."`
	Combine combineCommand `cmd:"" help:"Combine several PDFs and pictures into one."`
	Text    textCommand    `cmd:"" help:"Write the text of pages, or their glyphs, words and paragraphs with positions."`
	Render  renderCommand  `cmd:"" help:"Draw a page as a picture."`
	Steps   stepsCommand   `cmd:"" help:"List all steps with their parameters."`

	Time time.Duration `default:"10m" help:"Time limit for info, run, combine, text and render; 0 for none."`
}

// timed are the commands that --time is about.
var timed = []string{"info", "run", "combine", "text", "render"}

// useError is wrong use of the command line.
type useError struct{ error }

func main() {
	child.Main()
	limitMemory()
	os.Exit(run(os.Args[1:]))
}

func run(args []string) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	var c commands
	parser, err := kong.New(&c, kong.Name("glenrain"), kong.Description("Edit, assemble and export PDF documents."),
		kong.BindTo(ctx, (*context.Context)(nil)))
	if err != nil {
		panic(err) // the commands above are constant
	}
	if len(args) == 0 {
		args = []string{"--help"}
	}
	parsed, err := parser.Parse(args)
	if err != nil {
		fmt.Fprintf(os.Stderr, "glenrain: %v\n", err)
		return exitUse
	}
	command, _, _ := strings.Cut(parsed.Command(), " ")
	if slices.Contains(timed, command) && c.Time > 0 {
		limited, cancel := context.WithTimeoutCause(ctx, c.Time, pdf.ErrTooLong)
		defer cancel()
		ctx = limited
		parsed.BindTo(ctx, (*context.Context)(nil))
	}
	if err := ended(ctx, command, parsed.Run); err != nil {
		if errors.Is(context.Cause(ctx), pdf.ErrTooLong) {
			err = fmt.Errorf("%s took longer than %v and was stopped; nothing was written (--time gives it longer)", command, c.Time)
		}
		fmt.Fprintf(os.Stderr, "glenrain: %s\n", sentence(err))
		return exitCode(err)
	}
	return exitDone
}

// stopping is how long a command has to notice that its time is over, or that somebody stopped it.
const stopping = 3 * time.Second

// ended runs a command, but does not wait for one that goes on after ctx has ended: what it has begun to write is removed.
func ended(ctx context.Context, command string, run func(...any) error) error {
	done := make(chan error, 1)
	go func() { done <- run() }()
	select {
	case err := <-done:
		return err
	case <-ctx.Done():
	}
	if !slices.Contains(timed, command) {
		return <-done
	}
	select {
	case err := <-done:
		return err
	case <-time.After(stopping):
		leavings.remove()
		return ctx.Err()
	}
}

// leavings are the files and folders that a command has begun and has to remove when it ends.
var leavings unfinished

type unfinished struct {
	mu  sync.Mutex
	all map[string]bool
}

func (u *unfinished) add(path string) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.all == nil {
		u.all = map[string]bool{}
	}
	u.all[path] = true
}

func (u *unfinished) drop(path string) {
	u.mu.Lock()
	defer u.mu.Unlock()
	delete(u.all, path)
}

func (u *unfinished) remove() {
	u.mu.Lock()
	defer u.mu.Unlock()
	for path := range u.all {
		_ = os.RemoveAll(path)
	}
}

// sentence keeps an error to one line, and a fault of the program to its first.
func sentence(err error) string {
	s, _, _ := strings.Cut(err.Error(), "\n")
	return s
}

func exitCode(err error) int {
	var use useError
	var refusal *step.Refusal
	var unread *os.PathError
	switch {
	case errors.As(err, &use):
		return exitUse
	case errors.Is(err, pdf.ErrLocked):
		return exitPassword
	case errors.Is(err, pdf.ErrNotPDF), errors.Is(err, pdf.ErrDamaged), errors.Is(err, pdf.ErrLimit), errors.Is(err, pdf.ErrUnsupported), errors.Is(err, picture.ErrFormat),
		errors.Is(err, errUnreadable), errors.As(err, &unread) && unread.Op != "write":
		return exitRead
	case errors.As(err, &refusal):
		return exitUse
	}
	return exitFailed
}
