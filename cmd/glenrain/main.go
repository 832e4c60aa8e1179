// Command glenrain edits, assembles and hands out PDF documents: as a server used in
// the browser, and without one on the command line.
package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"strings"
	"syscall"

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
	Demo    demoCommand    `cmd:"" help:"Serve an invented office's documents, to try everything on."`
	Scanner scannerCommand `cmd:"" help:"Serve a small scanner that speaks eSCL, to try scanning with."`
	Backup  backupCommand  `cmd:"" help:"Write a data folder as one file; a server may work on it meanwhile."`
	Restore restoreCommand `cmd:"" help:"Make a data folder of a backup."`
	People  peopleCommand  `cmd:"" help:"List the people of a data folder, invite somebody, or reset a password."`
	Info    infoCommand    `cmd:"" help:"Tell what a PDF is: pages, sizes, version, whether it is locked or tagged."`
	Run     runCommand     `cmd:"" help:"Run a list of steps on a file."`
	Combine combineCommand `cmd:"" help:"Combine several PDFs and pictures into one."`
	Text    textCommand    `cmd:"" help:"Write the text of pages, or their glyphs, words and paragraphs with their places."`
	Render  renderCommand  `cmd:"" help:"Draw a page as a picture."`
	Steps   stepsCommand   `cmd:"" help:"List the steps there are, with their parameters."`
}

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
	parser, err := kong.New(&c, kong.Name("glenrain"), kong.Description("Edit, assemble and hand out PDF documents."),
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
	if err := parsed.Run(); err != nil {
		fmt.Fprintf(os.Stderr, "glenrain: %s\n", sentence(err))
		return exitCode(err)
	}
	return exitDone
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
