// Package typeset sets HTML with print CSS as a tagged PDF. Debian's Chromium does it, which a server may have or not: it shapes every
// script that there are fonts for, breaks lines and pages, repeats the header rows of tables, and writes structure tags, links and
// bookmarks. What it is given was made of strangers' files, so it gets no network, no file but those that are handed to it, and no scripts;
// it is a group of processes of its own, with a profile that goes with it, stopped on time or memory.
//
// What the HTML says is for others: see core/intake.
package typeset

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"sync"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/proto"
)

// Package is the Debian package that has the program.
const Package = "chromium"

// Why something is not set.
var (
	ErrAbsent = errors.New("turning this kind of file into pages needs the program chromium, which is not installed (Debian package “chromium”)")
	ErrTime   = errors.New("turning it into pages took too long and was stopped")
	ErrMemory = errors.New("turning it into pages took too much memory and was stopped")
	ErrFailed = errors.New("turning it into pages failed: the program that does it stopped")
)

// Sheet is what is to be set: HTML, and the files that it may name.
type Sheet struct {
	HTML  []byte
	Files map[string]File // by the path of their address: "fonts/sans.ttf"
	Sizes [][2]float64    // of the pages that it asks for, in points
	Long  *Long           // in place of HTML, for SetLong
	First int             // the number of its first page; 1 if 0
}

// File is one that the HTML may name.
type File struct {
	Type string // "image/png"
	Data []byte
}

// Limits of one sheet.
type Limits struct {
	Time   time.Duration
	Memory int64 // resident bytes of all of its processes
}

// Usual are the limits where none are given.
var Usual = Limits{Time: time.Minute, Memory: 1600 << 20}

// maxOutput is the largest PDF that is taken, in bytes.
const maxOutput = 600 << 20

// find looks for the program.
var find = sync.OnceValues(func() (string, error) {
	if path, err := exec.LookPath("chromium"); err == nil {
		return path, nil
	}
	return "", ErrAbsent
})

// Here reports whether the program is on this machine: ErrAbsent if not.
func Here() error {
	_, err := find()
	return err
}

// Sandboxed reports whether the program's own sandbox is on: it is but for a server that runs as root.
func Sandboxed() bool { return os.Geteuid() != 0 }

// Set sets a sheet and writes the PDF. An error is one of the package's, that of ctx, or none of the sheet's.
func Set(ctx context.Context, s Sheet, l Limits, w io.Writer) error {
	t := NewSetter(l)
	defer t.Close()
	return t.Set(ctx, s, w)
}

// Setter sets sheets of one file, one after another, with one process.
type Setter struct {
	limits Limits
	p      *process
}

// NewSetter gives a setter with limits for each sheet; the process starts with the first of them.
func NewSetter(l Limits) *Setter {
	if l == (Limits{}) {
		l = Usual
	}
	return &Setter{limits: l}
}

// Close ends the process.
func (t *Setter) Close() {
	if t.p != nil {
		t.p.end()
		t.p = nil
	}
}

// Set sets a sheet and writes the PDF, as the function of that name.
func (t *Setter) Set(ctx context.Context, s Sheet, w io.Writer) error {
	program, err := find()
	if err != nil {
		return err
	}
	outer := ctx
	ctx, cancel := context.WithTimeout(ctx, t.limits.Time)
	defer cancel()
	if t.p == nil {
		if t.p, err = start(program, t.limits.Memory); err != nil {
			return fmt.Errorf("%w: %w", ErrFailed, err)
		}
	}
	p := t.p
	p.stop.Store(&cancel)
	made, err := os.CreateTemp("", "glenrain-set-*.pdf")
	if err != nil {
		return err
	}
	defer os.Remove(made.Name())
	defer made.Close()
	var fault error
	err = rod.Try(func() { fault = s.set(ctx, p, made) })
	if err = errors.Join(fault, err); err == nil {
		n, serr := made.Seek(0, io.SeekCurrent)
		if err = serr; err == nil {
			err = finish(ctx, made, n, s.Sizes, w)
		}
	}
	if err == nil {
		return nil
	}
	t.Close() // what it is at is not known
	switch {
	case outer.Err() != nil:
		return outer.Err()
	case p.over.Load():
		return ErrMemory
	case ctx.Err() != nil:
		return ErrTime
	}
	return fmt.Errorf("%w: %w", ErrFailed, err)
}

// host is where the sheet is said to stand. The name leads nowhere (RFC 2606).
const host = "http://sheet.invalid/"

// policy lets the sheet name its own files and nothing else.
const policy = "default-src 'none'; style-src 'unsafe-inline'; img-src 'self'; font-src 'self'; form-action 'none'; base-uri 'none'; sandbox"

func (s *Sheet) set(ctx context.Context, p *process, w io.Writer) error {
	browser, err := p.browser()
	if err != nil {
		return err
	}
	page, err := browser.Context(ctx).Page(proto.TargetCreateTarget{URL: "about:blank"})
	if err != nil {
		return err
	}
	defer func() { _ = page.Context(context.WithoutCancel(ctx)).Close() }()
	for _, order := range []interface{ Call(proto.Client) error }{
		proto.EmulationSetScriptExecutionDisabled{Value: true},
		proto.FetchEnable{Patterns: []*proto.FetchRequestPattern{{URLPattern: "*"}}},
	} {
		if err := order.Call(page); err != nil {
			return err
		}
	}
	go page.EachEvent(func(e *proto.FetchRequestPaused) { s.answer(page, e) })()
	wait := page.WaitEvent(&proto.PageLoadEventFired{})
	if err := page.Navigate(host); err != nil {
		return err
	}
	wait()
	if err := ctx.Err(); err != nil {
		return err
	}
	// Text whose face is still on its way would be printed as nothing. This runs although the sheet's own scripts don't.
	ready, err := proto.RuntimeEvaluate{Expression: `Promise.all([...document.fonts].map((f) => f.load().catch(() => 0))).then(() => document.fonts.ready).then(() => document.fonts.size)`, AwaitPromise: true, ReturnByValue: true}.Call(page)
	if err != nil {
		return err
	}
	if ready.ExceptionDetails != nil {
		return fmt.Errorf("waiting for faces: %s", ready.ExceptionDetails.Text)
	}
	out, err := proto.PagePrintToPDF{
		PrintBackground: true, PreferCSSPageSize: true, GenerateTaggedPDF: true, GenerateDocumentOutline: true,
		TransferMode: proto.PagePrintToPDFTransferModeReturnAsStream,
	}.Call(page)
	if err != nil {
		return err
	}
	r := rod.NewStreamReader(page, out.Stream)
	n, err := io.Copy(w, io.LimitReader(r, maxOutput+1))
	if err == nil && n > maxOutput {
		err = errors.New("the result is over 600 MB")
	}
	return err
}

// answer gives a request of the sheet one of its files; what is none of them fails.
func (s *Sheet) answer(page *rod.Page, e *proto.FetchRequestPaused) {
	name, own := trimHost(e.Request.URL)
	f, there := s.Files[name]
	if own && name == "" && e.ResourceType == proto.NetworkResourceTypeDocument {
		f, there = File{Type: "text/html; charset=utf-8", Data: append([]byte("<!DOCTYPE html>"+numbered(s.First)), s.HTML...)}, true
	}
	if !own || !there || e.Request.Method != "GET" {
		_ = proto.FetchFailRequest{RequestID: e.RequestID, ErrorReason: proto.NetworkErrorReasonBlockedByClient}.Call(page)
		return
	}
	_ = proto.FetchFulfillRequest{RequestID: e.RequestID, ResponseCode: 200, Body: f.Data, ResponseHeaders: []*proto.FetchHeaderEntry{
		{Name: "Content-Type", Value: f.Type}, {Name: "Content-Security-Policy", Value: policy}, {Name: "X-Content-Type-Options", Value: "nosniff"},
		{Name: "Access-Control-Allow-Origin", Value: "*"}, // the sandbox makes the sheet's own origin a foreign one
	}}.Call(page)
}

func trimHost(url string) (name string, own bool) {
	if len(url) < len(host) || url[:len(host)] != host {
		return "", false
	}
	return url[len(host):], true
}
