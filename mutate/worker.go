package main

import (
	"bytes"
	"context"
	"encoding/gob"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"runtime/debug"
	"strings"
	"syscall"
	"time"

	"glenrain/core/arrange"
	"glenrain/core/child"
	"glenrain/core/content"
	"glenrain/core/finding"
	"glenrain/core/jobs"
	"glenrain/core/layout"
	"glenrain/core/pdf"
	"glenrain/core/pdf/pdftest"
	"glenrain/core/picture"
	"glenrain/core/step"
)

// tooLong is how much processor time one thing may take that is done with a file.
const tooLong = 10 * time.Second

func init() { child.Register("mutants", work) }

// verdict is what a worker says of a file.
type verdict struct {
	Wrong []string // what must not be
	Done  int      // how much was done with it
}

// work does with each file that it is given what the house does with files.
func work(_ []string, in io.Reader, out io.Writer) error {
	dec, enc := gob.NewDecoder(in), gob.NewEncoder(out)
	for {
		var data []byte
		if err := dec.Decode(&data); err != nil {
			return err
		}
		if err := enc.Encode(try(data)); err != nil {
			return err
		}
	}
}

// used is the processor time that the worker took so far.
func used() time.Duration {
	var u syscall.Rusage
	if err := syscall.Getrusage(syscall.RUSAGE_SELF, &u); err != nil {
		return 0
	}
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

// trial is one file that is worked on.
type trial struct {
	data []byte
	verdict
}

// try does everything with a file.
func try(data []byte) verdict {
	t := &trial{data: data}
	var doc *pdf.Document
	t.step("info", func(ctx context.Context) error {
		d, _, err := pdf.OpenMended(ctx, bytes.NewReader(data), int64(len(data)), "")
		if err != nil {
			return err
		}
		pages, err := d.Pages()
		for _, p := range pages {
			if w, _ := d.Geometry(p.Ref).Seen(); w < 0 {
				return fmt.Errorf("a page is %g points wide", w)
			}
		}
		return err
	})
	t.step("open", func(ctx context.Context) error {
		d, _, anew, err := pdf.OpenVerified(ctx, bytes.NewReader(data), int64(len(data)), "")
		if err != nil {
			return err
		}
		shared, err := d.SplitSharedPages()
		if err != nil {
			return err
		}
		if d.Encryption() != nil || anew || shared > 0 {
			var b bytes.Buffer
			if err := d.WriteFull(ctx, &b, pdf.FullOptions{KeepNumbers: true}); err != nil {
				return err
			}
			if d, err = pdf.Open(bytes.NewReader(b.Bytes()), int64(b.Len())); err != nil {
				return fmt.Errorf("a working copy does not open: %v", err)
			}
		}
		pages, err := d.Pages()
		if err == nil && len(pages) == 0 {
			err = pdf.ErrNoPages
		}
		if err == nil {
			doc = d
		}
		return err
	})
	if doc != nil {
		t.document(doc)
	}
	return t.verdict
}

// step does one thing, which may end in a sentence, and in nothing else.
func (t *trial) step(what string, f func(context.Context) error) {
	start := used() // the machine may be busy with other things
	ctx, cancel := context.WithTimeoutCause(context.Background(), 6*tooLong, pdf.ErrTooLong)
	defer cancel()
	err := func() (err error) {
		defer func() {
			if p := recover(); p != nil {
				err = fmt.Errorf("panic: %v\n%s", p, debug.Stack())
			}
		}()
		return f(ctx)
	}()
	t.Done++
	if took := used() - start; took > tooLong {
		t.Wrong = append(t.Wrong, fmt.Sprintf("%s took %v", what, took))
	}
	var refusal *pdf.Error
	var step_ *step.Refusal
	var invalid *step.Invalid
	switch {
	case err == nil:
	case errors.Is(err, step.ErrPanic):
	case errors.As(err, &refusal), errors.As(err, &step_), errors.As(err, &invalid), errors.Is(err, picture.ErrFormat):
		return
	}
	if err != nil {
		t.Wrong = append(t.Wrong, what+": "+err.Error())
	}
}

func (t *trial) document(doc *pdf.Document) {
	pages, err := doc.Pages()
	if err != nil {
		t.Wrong = append(t.Wrong, "pages: "+err.Error())
		return
	}
	t.step("findings", func(ctx context.Context) error {
		_, err := finding.Run(ctx, doc, jobs.LooseEnds())
		return err
	})
	t.step("text", func(ctx context.Context) error {
		refs := make([]pdf.Ref, min(len(pages), 40))
		for i := range refs {
			refs[i] = pages[i].Ref
		}
		return layout.Pages(ctx, doc, refs, content.Options{Paths: true, Deep: true, Images: true}, 1, func(i int, l *layout.Page, b []byte) []byte {
			r := l.Reading()
			l.Annotations(r)
			l.Quads(r, 0, min(len(r.Text), 20))
			return l.AppendJSON(l.AppendPage(b), 1, doc.Geometry(refs[i]))
		}, func(int, []byte) error { return nil })
	})
	registry := jobs.Registry()
	params := []struct{ name, params string }{
		{"straighten", `{"pages":"all"}`},
		{"set-text", `{"pages":"all"}`},
		{"replace-text", `{"pages":"all","pairs":[{"find":"e","with":"ee"},{"find":"the","with":"a"}]}`},
		{"edit-paragraph", `{"page":"1","paragraph":0,"text":"The soundings of the north berth were taken at low water."}`},
		{"edit-paragraph", `{"page":"1","paragraph":1,"edits":[{"from":0,"to":3,"text":"The “řeka”"},{"from":2,"to":9,"style":true,"bold":"yes","size":14,"underline":"yes","colour":"moss"}],"grow":"push","align":"centred"}`},
		{"add-text", `{"page":"1","x":40,"y":60,"text":"New text on a damaged page"}`},
		{"move-objects", `{"page":"1","objects":[{"what":"paragraph","at":0,"x":20,"turn":5},{"what":"picture","at":0,"scale_x":50},{"what":"drawing","at":0,"y":9}]}`},
		{"move-objects", `{"page":"1","objects":[{"what":"picture","at":0,"x":200,"y":100}]}`},
		{"move-objects", `{"page":"1","objects":[{"what":"paragraph","at":0}],"to":"2","copy":true}`},
		{"remove-objects", `{"page":"1","objects":[{"what":"drawing","at":0}]}`},
		{"change-picture", `{"page":"1","picture":0,"cut_left":20,"flip":"down","contrast":20}`},
		{"change-picture", `{"page":"1","picture":0,"colours":"black-and-white","everywhere":true,"order":"back"}`},
		{"tone-pages", `{"pages":"all","colours":"gray","contrast":20}`},
		{"add-shape", `{"page":"1","kind":"arrow","points":"10,10 90,80"}`},
		{"change-shape", `{"page":"1","at":0,"kind":"ellipse","points":"10,10 90,80"}`},
		{"rotate", `{"pages":"1","by":90}`},
		{"number", `{"pages":"all","edge":"bottom","align":"centre","wording":[{"field":"page"}],"figures":"1 2 3","first":1,"font":"Sans","size":"9pt","colour":"slate","margin":"12mm"}`},
		{"mark-text", `{"page":"1","quads":[[10,20,30,20,10,10,30,10]],"how":"highlight","colour":"#f6dd8f"}`},
		{"insert", `{"from":"itself","pages":"all","to":"0.1"}`},
		{"move", `{"pages":"1","to":"end"}`},
		{"duplicate", `{"pages":"all"}`},
		{"reverse", `{"pages":"all"}`},
		{"interleave", `{"fronts":"1","backs":"2"}`},
		{"label", `{"pages":"1-2","style":"i ii iii"}`},
		{"bookmark-add", `{"title":"One","page":"1","top":20}`},
		{"bookmark-move", `{"at":"1","before":3}`},
		{"bookmarks-make", `{"how":"behind the others"}`},
		{"contents", `{"to":1}`},
		{"blank", `{"to":2,"ruling":"squares"}`},
		{"blank-odd", `{"level":1}`},
		{"replace", `{"pages":"1","from":"itself","with":"1"}`},
		{"paper", `{"pages":"all","paper":"A5","fit":"scale"}`},
		{"binding", `{"pages":"all","margin":10}`},
		{"crop", `{"pages":"1","to":"print"}`},
		{"crop", `{"pages":"2","left":20,"top":20,"remove":true}`},
		{"uncrop", `{"pages":"all"}`},
		{"remove", `{"pages":"1"}`},
		{"furnishing-update", `{}`},
		{"recognize-remove", `{"pages":"all"}`},
		{"sheets", `{"pages":"2-","kind":"booklet"}`},
		{"bookmark-remove", `{"at":"1"}`},
	}
	q := &step.Sequence{Registry: registry, Doc: doc, Keys: step.NewKeys(pages)}
	for i, p := range params {
		t.step(p.name, func(ctx context.Context) error {
			s, err := registry.New(p.name, json.RawMessage(p.params))
			if err != nil {
				return err
			}
			_, err = q.Run(ctx, s, &step.Env{Now: time.Unix(1_800_000_000, 0).UTC(), Step: i + 1, Seed: [16]byte{byte(i)}, Sources: sources{"itself": t.data}})
			return err
		})
	}
	t.step("hand out", func(ctx context.Context) error { return t.whole(ctx, q.Doc) })
	t.step("combine", func(ctx context.Context) error {
		env := &step.Env{Now: time.Unix(1_800_000_000, 0).UTC(), Sources: sources{"itself": t.data, "good": pdftest.Text(2)}}
		if _, err := pdf.NewWeigher(doc.In(ctx)); err != nil {
			return err
		}
		d, _, err := arrange.Combine(ctx, env, []arrange.Insert{{From: "good", Name: "good"}, {From: "itself", Name: "itself"}, {From: "itself", Name: "again"}}, nil)
		if err != nil {
			return err
		}
		return t.whole(ctx, d)
	})
}

// whole writes a document and reads it back with as many pages.
func (t *trial) whole(ctx context.Context, doc *pdf.Document) error {
	pages, err := doc.Pages()
	if err != nil {
		return err
	}
	var b bytes.Buffer
	if err := doc.WriteFull(ctx, &b, pdf.FullOptions{}); err != nil {
		return err
	}
	back, err := pdf.Open(bytes.NewReader(b.Bytes()), int64(b.Len()))
	if err != nil {
		return fmt.Errorf("what was written does not open: %v", err)
	}
	again, err := back.Pages()
	if err != nil || len(again) != len(pages) {
		return fmt.Errorf("%d pages were written and %d read back (%v)", len(pages), len(again), err)
	}
	return nil
}

// sources gives files by name.
type sources map[string][]byte

func (s sources) Open(_ context.Context, ref step.SourceRef) (*step.Source, error) {
	data, ok := s[strings.TrimPrefix(string(ref), "path:")]
	if !ok {
		return nil, step.Refuse("there is no %q", ref)
	}
	return &step.Source{Name: string(ref), Data: bytes.NewReader(data), Size: int64(len(data))}, nil
}
