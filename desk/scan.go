package desk

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	"glenrain/core/recognize"
	"glenrain/core/step"
	"glenrain/desk/background"
	"glenrain/desk/people"
	"glenrain/scanner"
)

// Scanner is a scanner of the house, by the address that was typed once.
type Scanner struct {
	ID        uint
	Address   string `gorm:"uniqueIndex"`
	Name      string // as it calls itself
	Print     string // the certificate that it has to have
	PersonID  uint   // who added it
	CreatedAt time.Time
}

// mostScanners is how many a house keeps.
const mostScanners = 50

// Scanners gives the scanners of the house, by name.
func (d *Desk) Scanners(ctx context.Context) (list []Scanner, err error) {
	err = d.db.WithContext(ctx).Order("name, id").Limit(mostScanners).Find(&list).Error
	return list, err
}

// AddScanner keeps the address of a scanner, after asking it what it is.
func (d *Desk) AddScanner(ctx context.Context, person uint, address string) (*Scanner, error) {
	if err := d.may(ctx, person, people.ActAdd, nil); err != nil {
		return nil, err
	}
	if err := d.MayLookFor(person); err != nil {
		return nil, err
	}
	c, err := scanner.New(address, d.scanners, "")
	if err != nil { // what it says depends on what was typed alone
		return nil, step.Refuse("%v", err)
	}
	defer c.Close()
	can, err := c.Capabilities(ctx)
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		d.LookedInVain(person)
		if errors.Is(err, scanner.ErrForbidden) {
			return nil, step.Refuse("%v", err)
		}
		return nil, errNoScanner
	}
	row := &Scanner{Address: c.Address(), Name: can.Name, Print: c.Print(), PersonID: person, CreatedAt: d.now()}
	var was Scanner
	if err := d.db.WithContext(ctx).Where("address = ?", row.Address).Limit(1).Find(&was).Error; err != nil {
		return nil, err
	}
	if was.ID != 0 {
		return &was, nil
	}
	var n int64
	if err := d.db.WithContext(ctx).Model(&Scanner{}).Count(&n).Error; err != nil {
		return nil, err
	}
	if n >= mostScanners {
		return nil, step.Refuse("you can add up to %d scanners: remove one first", mostScanners)
	}
	return row, d.db.WithContext(ctx).Create(row).Error
}

// errNoScanner is said of whatever does not answer as a scanner does: sentences of their own would tell what there is on the network.
var errNoScanner = step.Refuse("no scanner answers at this address: check the address, and that the scanner is switched on and connected; an https address also needs a certificate that this server trusts")

// RemoveScanner forgets a scanner.
func (d *Desk) RemoveScanner(ctx context.Context, person, id uint) error {
	if err := d.may(ctx, person, people.ActAdd, nil); err != nil {
		return err
	}
	return d.db.WithContext(ctx).Delete(&Scanner{}, id).Error
}

// reach gives a client to a scanner of the house.
func (d *Desk) reach(ctx context.Context, person, id uint) (*scanner.Client, error) {
	if err := d.may(ctx, person, people.ActAdd, nil); err != nil {
		return nil, err
	}
	var row Scanner
	if err := d.db.WithContext(ctx).First(&row, id).Error; err != nil {
		return nil, step.Refuse("this scanner has been removed from the list")
	}
	c, err := scanner.New(row.Address, d.scanners, row.Print)
	if err != nil {
		return nil, step.Refuse("%v", err)
	}
	return c, nil
}

// AskScanner asks a scanner what it can do and how it is.
func (d *Desk) AskScanner(ctx context.Context, person, id uint) (*scanner.Capabilities, scanner.Status, error) {
	c, err := d.reach(ctx, person, id)
	if err != nil {
		return nil, scanner.Status{}, err
	}
	defer c.Close()
	can, err := c.Capabilities(ctx)
	if err != nil {
		return nil, scanner.Status{}, step.Refuse("%v", err)
	}
	st, err := c.Status(ctx)
	if err != nil {
		return nil, scanner.Status{}, step.Refuse("%v", err)
	}
	return can, st, nil
}

// LookOnGlass scans what lies on a scanner's glass, small and in gray.
func (d *Desk) LookOnGlass(ctx context.Context, person, id uint) ([]byte, error) {
	c, err := d.reach(ctx, person, id)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	can, err := c.Capabilities(ctx)
	if err == nil && can.Glass == nil {
		err = scanner.ErrCant
	}
	if err != nil {
		return nil, step.Refuse("%v", err)
	}
	s := scanner.Settings{Source: "Platen", Colour: "Grayscale8", Resolution: 75, Width: 595.28, Height: 841.89}
	if !slices.Contains(can.Glass.Resolutions, 75) && len(can.Glass.Resolutions) > 0 {
		s.Resolution = can.Glass.Resolutions[0]
	}
	j, err := c.Start(ctx, s)
	if err != nil {
		return nil, step.Refuse("%v", err)
	}
	data, media, err := j.Next(ctx)
	j.Cancel(context.WithoutCancel(ctx))
	if err != nil {
		return nil, step.Refuse("%v", err)
	}
	if media != "image/jpeg" && media != "image/png" {
		return nil, step.Refuse("the scanner sent something that is no picture")
	}
	return data, nil
}

// ScanSettings say how a scanner is to scan.
type ScanSettings = scanner.Settings

// Scanning is what is asked of a scanner, and where its pages go.
type Scanning struct {
	Person   uint
	Scanner  uint
	Settings scanner.Settings
	Document uint     // 0: a new one
	Before   string   // of its pages, by key; the end if empty
	Folder   uint     // of a new document
	Name     string   // of a new document
	Then     []string // steps that are done to the pages that came in, one after another: "straighten", "recognize"
}

// Scanned is what came of scanning, so far: it is told while the work goes on.
type Scanned struct {
	Document uint
	Keys     []step.Key // of the pages that came in
	Problem  string     // what stopped it, in a sentence
	Blank    []step.Key // pages on which nothing is to be seen
	Turned   map[step.Key]int
	Looked   bool     // blank and turned pages were looked for
	Said     []string // what the steps did that followed, or why they did not
	Done     bool
}

// scans are those since the server started, by their work.
type scans struct {
	mu   sync.Mutex
	byID map[uint]*Scanned
}

// trim forgets scans whose work is known no more.
func (s *scans) trim(d *Desk) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for id := range s.byID {
		if _, err := d.Work(id); err != nil {
			delete(s.byID, id)
		}
	}
}

// forget forgets the scans that a document came of.
func (s *scans) forget(document uint) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for id, of := range s.byID {
		if of.Document == document {
			delete(s.byID, id)
		}
	}
}

// Scanned tells what came of a scan, to whoever asked for it.
func (d *Desk) Scanned(person, work uint) (Scanned, bool) {
	w, err := d.Work(work)
	if err != nil || w.PersonID != person {
		return Scanned{}, false
	}
	d.scans.mu.Lock()
	defer d.scans.mu.Unlock()
	s, ok := d.scans.byID[work]
	if !ok {
		return Scanned{}, false
	}
	out := *s
	out.Keys, out.Blank, out.Said = slices.Clone(s.Keys), slices.Clone(s.Blank), slices.Clone(s.Said)
	out.Done = out.Done || w.Look().State != background.WorkRunning
	return out, true
}

// Scan lets a scanner scan. Pages come into the document one by one, each a step; what came before something went wrong stays.
func (d *Desk) Scan(ctx context.Context, in Scanning) (*background.Work, error) {
	if in.Document != 0 {
		if err := d.MayStep(ctx, in.Person, in.Document, "insert"); err != nil {
			return nil, err
		}
	}
	c, err := d.reach(ctx, in.Person, in.Scanner)
	if err != nil {
		return nil, err
	}
	job, err := c.Start(ctx, in.Settings)
	if err != nil {
		c.Close()
		return nil, step.Refuse("%v", err)
	}
	state := &Scanned{Document: in.Document, Turned: map[step.Key]int{}}
	ready := make(chan struct{})
	w := d.work.StartParts(in.Person, "Scanning", true, func(ctx context.Context, w *background.Work) (any, error) {
		<-ready
		defer c.Close()
		err := d.scanPages(ctx, w, job, in, state)
		job.Cancel(context.WithoutCancel(ctx))
		d.scans.mu.Lock()
		n := len(state.Keys)
		if err != nil {
			state.Problem = sentenceOf(err)
		}
		document := state.Document
		d.scans.mu.Unlock()
		if n == 0 {
			return nil, err
		}
		d.lookAtScanned(ctx, state)
		for _, name := range in.Then {
			d.follow(ctx, w, name, in, state)
		}
		return fmt.Sprintf("/desk/%d/collect/scan?scan=%d", document, w.ID), nil
	})
	d.scans.mu.Lock()
	if d.scans.byID == nil {
		d.scans.byID = map[uint]*Scanned{}
	}
	d.scans.byID[w.ID] = state
	d.scans.mu.Unlock()
	d.scans.trim(d)
	close(ready)
	return w, nil
}

// mostScanned is how many pages one scan brings in.
const mostScanned = 1000

func (d *Desk) scanPages(ctx context.Context, w *background.Work, job *scanner.Job, in Scanning, state *Scanned) error {
	for n := 1; n <= mostScanned; n++ {
		if err := ctx.Err(); err != nil {
			return err
		}
		if w.Enough() {
			return nil
		}
		data, media, err := job.Next(ctx)
		if errors.Is(err, io.EOF) {
			if n == 1 {
				return step.Refuse("%v", scanner.ErrEmpty)
			}
			return nil
		}
		if err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			return step.Refuse("%v", err)
		}
		keys, document, err := d.scannedPage(ctx, in, state.Document, n, data, media)
		if err != nil {
			return err
		}
		d.scans.mu.Lock()
		state.Document = document
		state.Keys = append(state.Keys, keys...)
		d.scans.mu.Unlock()
		if n == 1 && in.Document == 0 {
			w.Lead(fmt.Sprintf("/desk/%d/collect/scan?scan=%d", document, w.ID))
		}
		w.Set(n, 0)
	}
	return nil
}

// scannedPage brings one page into its document, or makes the document of it.
func (d *Desk) scannedPage(ctx context.Context, in Scanning, document uint, n int, data []byte, media string) ([]step.Key, uint, error) {
	ending := map[string]string{"image/jpeg": ".jpg", "image/png": ".png", "image/tiff": ".tif", "application/pdf": ".pdf"}[media]
	if ending == "" {
		return nil, 0, step.Refuse("the scanner sent something that is no picture")
	}
	if document == 0 {
		file, err := d.Store.Create()
		if err != nil {
			return nil, 0, err
		}
		if _, err := file.Write(data); err != nil {
			file.Drop()
			return nil, 0, err
		}
		name := strings.TrimSpace(in.Name)
		if name == "" {
			name = "Scan of " + d.now().Format("2 January 2006, 15.04")
		}
		row, err := d.Arrive(ctx, Arrival{Person: in.Person, Folder: in.Folder, Name: name + ending}, file)
		if err != nil {
			return nil, 0, err
		}
		s, err := d.Snapshot(ctx, row.ID)
		if err != nil {
			return nil, 0, err
		}
		var keys []step.Key
		for _, p := range s.Pages() {
			keys = append(keys, p.Key)
		}
		return keys, row.ID, nil
	}
	sha, _, err := d.Store.Put(func(w io.Writer) error { _, err := w.Write(data); return err })
	if err != nil {
		return nil, 0, err
	}
	to := ""
	if in.Before != "" {
		to = in.Before
	}
	params, err := json.Marshal(map[string]any{"from": "sha256:" + sha, "pages": "all", "to": to, "name": fmt.Sprintf("Scanned page %d", n)})
	if err != nil {
		d.tidy(sha)
		return nil, 0, err
	}
	came := false
	defer func() {
		if came { // the step names it now
			d.Store.Unpin(sha)
		} else {
			d.tidy(sha)
		}
	}()
	for try := 0; ; try++ { // others may change the document meanwhile
		s, err := d.Look(ctx, in.Person, document)
		if err != nil {
			return nil, 0, err
		}
		out, err := d.Do(ctx, Change{Document: document, Seen: s.State.ID, Person: in.Person, Name: "insert", Params: params, RequestID: people.NewToken(), own: sha})
		var busy *Busy
		if (errors.Is(err, errMoved) || errors.As(err, &busy)) && try < 60 {
			select {
			case <-ctx.Done():
				return nil, 0, ctx.Err()
			case <-time.After(500 * time.Millisecond):
			}
			continue
		}
		if err != nil {
			return nil, 0, err
		}
		came = true
		var keys []step.Key
		if err := json.Unmarshal([]byte(out.Step.Pages), &keys); err != nil {
			return nil, 0, err
		}
		return keys, document, nil
	}
}

// ScannedBefore gives the pages of the scan that came into the same document before another one.
func (d *Desk) ScannedBefore(person, work uint) []step.Key {
	this, ok := d.Scanned(person, work)
	if !ok {
		return nil
	}
	d.scans.mu.Lock()
	defer d.scans.mu.Unlock()
	last := uint(0)
	for id, s := range d.scans.byID {
		if id < work && id > last && s.Document == this.Document {
			if w, err := d.Work(id); err == nil && w.PersonID == person {
				last = id
			}
		}
	}
	if last == 0 {
		return nil
	}
	return slices.Clone(d.scans.byID[last].Keys)
}

// follow does a step to the pages that came in, but for blank ones. What goes wrong is told beside them.
func (d *Desk) follow(ctx context.Context, w *background.Work, name string, in Scanning, state *Scanned) {
	d.scans.mu.Lock()
	keys := slices.DeleteFunc(slices.Clone(state.Keys), func(k step.Key) bool { return slices.Contains(state.Blank, k) })
	document := state.Document
	d.scans.mu.Unlock()
	if len(keys) == 0 {
		return
	}
	say := func(s string) {
		d.scans.mu.Lock()
		state.Said = append(state.Said, s+".")
		d.scans.mu.Unlock()
	}
	values := map[string]any{"pages": keys}
	if name == "recognize" {
		if _, last, _ := d.Languages(); last != "" {
			values["languages"] = last
		}
	}
	params, err := json.Marshal(values)
	if err == nil {
		err = d.MayStep(ctx, in.Person, document, name)
	}
	var s *Snapshot
	if err == nil {
		s, err = d.Look(ctx, in.Person, document)
	}
	var out *Outcome
	if err == nil {
		out, err = d.doAlong(ctx, w, Change{Document: document, Seen: s.State.ID, Person: in.Person, Name: name, Params: params, RequestID: people.NewToken()}, w.Set)
	}
	if err != nil {
		say(step.Sentence(sentenceOf(err)))
		return
	}
	say(out.Step.Sentence)
}

// lookAtScanned looks for pages on which there is nothing, and those that stand on their head or side. What goes wrong is nothing to be told: the pages are there.
func (d *Desk) lookAtScanned(ctx context.Context, state *Scanned) {
	s, err := d.Snapshot(ctx, state.Document)
	if err != nil {
		return
	}
	came := map[step.Key]bool{}
	for _, k := range state.Keys {
		came[k] = true
	}
	blank, err := d.BlankPages(ctx, s, nil)
	if err != nil {
		return
	}
	blank = slices.DeleteFunc(blank, func(k step.Key) bool { return !came[k] })
	env := &step.Env{Keys: s.Keys}
	done := d.tools(env, "scanned")
	defer done()
	var rest []step.Key
	for _, k := range state.Keys {
		if !slices.Contains(blank, k) {
			rest = append(rest, k)
		}
	}
	turned := recognize.Turned(ctx, s.PDF.In(ctx), env, rest)
	d.scans.mu.Lock()
	defer d.scans.mu.Unlock()
	state.Blank, state.Turned, state.Looked = blank, turned, true
}
