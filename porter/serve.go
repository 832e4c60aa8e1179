package porter

import (
	"context"
	"encoding/gob"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"syscall"
	"time"

	"glenrain/core/child"
	"glenrain/core/content"
	"glenrain/core/draw"
	"glenrain/core/field"
	"glenrain/core/finding"
	"glenrain/core/layout"
	"glenrain/core/nav"
	"glenrain/core/pdf"
	"glenrain/core/raster"
	"glenrain/core/structure"
)

func init() { child.Register("porter", serve) }

// batch is how many texts are sent at a time.
const batch = 64

// serve answers one question, in the child.
func serve(_ []string, in io.Reader, out io.Writer) error {
	var q question
	dec := gob.NewDecoder(in)
	if err := dec.Decode(&q); err != nil {
		return err
	}
	q.Limits.Own()
	s := &server{enc: gob.NewEncoder(out), dec: dec}
	var err error
	switch {
	case q.Arrival != nil:
		err = s.arrive(*q.Arrival, q.Seconds)
	case q.Pictures != nil:
		err = s.place(*q.Pictures)
	case q.Conversion != nil:
		err = s.convert(*q.Conversion)
	case q.Packed != nil:
		err = s.unpack(*q.Packed)
	default:
		err = s.read(*q.Reading, q.Seconds)
	}
	if err != nil {
		return s.enc.Encode(answer{End: true, Error: err.Error(), Full: errors.Is(err, syscall.ENOSPC)})
	}
	return nil
}

type server struct {
	enc *gob.Encoder
	dec *gob.Decoder
}

// wait sends an answer and waits until it may go on.
func (s *server) wait(a answer) error {
	if err := s.enc.Encode(a); err != nil {
		return err
	}
	var w word
	return s.dec.Decode(&w)
}

func (s *server) arrive(a Arrival, seconds float64) error {
	f, err := os.Open(a.Path)
	if err != nil {
		return err
	}
	defer f.Close()
	ctx := context.Background()
	r := &Report{}
	doc, err := r.open(ctx, f, a)
	if err == nil && doc != nil && r.Working {
		err = write(ctx, doc, a.Working)
	}
	var refusal *pdf.Error
	if errors.As(err, &refusal) {
		r.refuse(refusal)
		doc, err = nil, nil
	}
	if err != nil {
		return err
	}
	if doc == nil {
		return s.enc.Encode(answer{Report: r, End: true})
	}
	pages, err := doc.Pages()
	if err != nil {
		return err
	}
	r.Pages = len(pages)
	if err := s.enc.Encode(answer{Report: r}); err != nil {
		return err
	}
	refs := make([]pdf.Ref, len(pages))
	for i, p := range pages {
		refs[i] = p.Ref
	}
	return s.texts(doc, refs, 0, seconds)
}

func (r *Report) refuse(e *pdf.Error) {
	r.Problem, r.Sentence = Refused, e.Sentence
	switch {
	case errors.Is(e, pdf.ErrDamaged):
		r.Problem = Damaged
	case errors.Is(e, pdf.ErrLocked):
		r.Problem = NeedsPassword
	}
}

// open opens a file and finds out all about it but its text; nil where the report has a problem.
func (r *Report) open(ctx context.Context, f *os.File, a Arrival) (*pdf.Document, error) {
	if draw.IsPicture(f) {
		doc := pdf.New()
		pages, kind, err := draw.PictureFile(doc, f, a.Size, draw.Placement{})
		if err == nil {
			err = doc.InsertPages(0, pages)
		}
		if err != nil {
			r.Problem, r.Sentence = Refused, err.Error()
			return nil, nil
		}
		r.Picture, r.Working = kind, true
		return doc, r.find(ctx, doc)
	}
	doc, wrong, anew, err := pdf.OpenVerified(ctx, f, a.Size, a.Password)
	if err != nil {
		return nil, err
	}
	if e := doc.Encryption(); e != nil {
		switch {
		case !e.Allows(pdf.PermitModify) || !e.Allows(pdf.PermitAssemble):
			r.Problem = NeedsOwner
			return nil, nil
		case doc.FilesLocked():
			r.Problem = NeedsFiles
			return nil, nil
		}
		r.Locked = true
		if kept, ok := doc.Kept(); ok {
			r.Kept = &kept
		}
	}
	r.Wrong = wrong
	shared, err := doc.SplitSharedPages()
	if err != nil {
		return nil, err
	}
	r.Working = shared > 0 || anew || doc.Size() != a.Size || r.Locked || len(wrong) > 0
	if pages, err := doc.Pages(); err != nil || len(pages) == 0 {
		return nil, errors.Join(err, pdf.ErrNoPages)
	}
	return doc, r.find(ctx, doc)
}

// find looks for findings, and walks the trees that later steps walk.
func (r *Report) find(ctx context.Context, doc *pdf.Document) (err error) {
	if r.Found, err = finding.Run(ctx, doc, finding.Arrival); err != nil {
		return err
	}
	if r.About, err = finding.Describe(ctx, doc); err != nil {
		return err
	}
	nav.Outline(doc)
	field.Signatures(doc)
	structure.CutPages(doc.ForkIn(ctx), func(pdf.Ref) bool { return false }, true)
	return doc.Over()
}

// write writes a working copy.
func write(ctx context.Context, doc *pdf.Document, path string) error {
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	err = doc.WriteFull(ctx, f, pdf.FullOptions{KeepNumbers: true})
	return errors.Join(err, f.Close())
}

func (s *server) read(r reading, seconds float64) error {
	if r.Low {
		child.Lower()
	}
	parts, done, err := raster.OpenParts(r.Parts)
	if err != nil {
		return err
	}
	defer done()
	doc, err := pdf.Open(parts, parts.Size())
	if err != nil {
		return err
	}
	if r.About {
		about, err := finding.Describe(context.Background(), doc)
		if err != nil {
			return err
		}
		if err := s.enc.Encode(answer{About: about}); err != nil {
			return err
		}
	}
	return s.texts(doc, r.Pages, r.Workers, seconds)
}

// texts sends the texts of pages, and the end. It stops early when the time is over.
func (s *server) texts(doc *pdf.Document, pages []pdf.Ref, workers int, seconds float64) error {
	ctx, cancel := context.WithTimeout(context.Background(), time.Duration(seconds*float64(time.Second)))
	defer cancel()
	var wait []Text
	unread := 0
	err := layout.Pages(ctx, doc, pages, content.Options{Images: true}, workers, func(_ int, l *layout.Page, b []byte) []byte {
		r := l.Reading()
		look, _ := json.Marshal(finding.LookAt(doc, l.Source, doc.Geometry(l.Source.Ref))) // of numbers
		b = append(append(b, look...), 0)
		if parts := l.Annotations(r); parts != nil {
			list, _ := json.Marshal(parts) // of numbers
			b = append(b, list...)
		}
		b = append(append(b, 0), r.Text...)
		if l.Source.Cut {
			return append(b, 1)
		}
		return append(b, 0)
	}, func(_ int, b []byte) error {
		if b[len(b)-1] == 1 {
			unread++
		}
		looked, rest, _ := strings.Cut(string(b[:len(b)-1]), "\x00")
		annotated, text, _ := strings.Cut(rest, "\x00")
		t := Text{Reading: strings.ToValidUTF8(text, "\ufffd"), Annotated: annotated}
		_ = json.Unmarshal([]byte(looked), &t.Look)
		if wait = append(wait, t); len(wait) < batch {
			return nil
		}
		err := s.enc.Encode(answer{Texts: wait})
		wait = nil
		return err
	})
	var fault *layout.Fault
	if errors.As(err, &fault) { // the document does without its text
		fmt.Fprintf(os.Stderr, "a page was not read: %v\n%s\n", fault.What, fault.Stack)
	} else if err != nil && ctx.Err() == nil {
		return err
	}
	return s.enc.Encode(answer{Texts: wait, Unread: unread, End: true})
}
