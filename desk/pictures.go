package desk

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"

	"glenrain/core/nav"
	"glenrain/core/raster"
	"glenrain/core/step"
	"glenrain/desk/people"
	"glenrain/desk/store"
)

// pictures caches page pictures on the disk, by what the page is made of: the document,
// the page's key and the step that last redrew it. They can be lost at any time.
type pictures struct {
	dir  string
	work string       // where they are written before they are put into dir
	put  atomic.Int64 // how many were kept
	mu   sync.RWMutex // held while one is kept; whoever drops those of a document holds it alone
	gone func(document uint) bool
}

func (p *pictures) path(document uint, k step.Key, version uint, w, h int) string {
	sum := sha256.Sum256(fmt.Appendf(nil, "%d %s %d %d %d", document, k, version, w, h))
	name := hex.EncodeToString(sum[:16])
	return filepath.Join(p.folder(document), name)
}

// folder is where the pictures of a document are.
func (p *pictures) folder(document uint) string {
	return filepath.Join(p.dir, fmt.Sprintf("%02x", document%256), fmt.Sprint(document))
}

// drop removes the pictures of a document.
func (p *pictures) drop(document uint) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	return os.RemoveAll(p.folder(document))
}

// keep keeps a picture, unless its document was purged while it was drawn.
func (p *pictures) keep(document uint, path string, data []byte) {
	p.mu.RLock()
	defer p.mu.RUnlock()
	if p.gone(document) {
		return
	}
	if p.put.Add(1)%clearEvery == 0 {
		go p.clear(maxPictures, maxPicturesLeft)
	}
	if os.MkdirAll(filepath.Dir(path), 0o700) != nil {
		return
	}
	f, err := os.CreateTemp(p.work, "picture-*")
	if err != nil {
		return
	}
	_, err = f.Write(data)
	if cerr := f.Close(); err == nil {
		err = cerr
	}
	if err != nil || os.Rename(f.Name(), path) != nil {
		_ = os.Remove(f.Name())
	}
}

// Picture draws a page as it was after the step of that version, within w by h pixels.
// The bytes are PNG or JPEG and are the same for good.
func (d *Desk) Picture(ctx context.Context, person, document uint, k step.Key, version uint, w, h int) ([]byte, error) {
	if err := d.seen(ctx, person, document, people.ActLook); err != nil {
		return nil, err
	}
	if d.May(ctx, person, people.ActHistory, 0) != nil { // only as it is now
		snap, err := d.Snapshot(ctx, document)
		if err != nil {
			return nil, err
		}
		if snap.Index(k) < 0 || snap.version(k) != version {
			return nil, store.ErrMissing
		}
	}
	return d.picture(ctx, document, k, version, w, h)
}

// seen asks the gate about a document.
func (d *Desk) seen(ctx context.Context, person, document uint, act people.Act) error {
	d.mu.Lock()
	l := d.live[document]
	if l != nil && l.snap != nil { // its row is kept up to date
		row := l.snap.Document
		d.mu.Unlock()
		return d.may(ctx, person, act, &row)
	}
	d.mu.Unlock()
	row, err := d.row(ctx, document)
	if err != nil {
		return err
	}
	return d.may(ctx, person, act, row)
}

func (d *Desk) picture(ctx context.Context, document uint, k step.Key, version uint, w, h int) ([]byte, error) {
	path := d.pictures.path(document, k, version, w, h)
	if data, err := os.ReadFile(path); err == nil {
		return data, nil
	}
	snap, err := d.Snapshot(ctx, document)
	if err != nil {
		return nil, err
	}
	if snap.Index(k) < 0 || snap.version(k) != version {
		// The page is not at the head in this version: look at the state of that step.
		if snap, err = d.versionState(ctx, snap, version); err != nil {
			return nil, err
		}
	}
	page := snap.Index(k)
	if page < 0 || snap.version(k) != version {
		return nil, store.ErrMissing
	}
	pic, err := d.pool.Render(ctx, raster.Request{Source: snap.source(), Page: page, Width: w, Height: h, Format: raster.Auto})
	if err != nil {
		return nil, err
	}
	d.pictures.keep(document, path, pic.Data)
	return pic.Data, nil
}

func (d *Desk) versionState(ctx context.Context, head *Snapshot, version uint) (*Snapshot, error) {
	state := uint(0)
	if version == 0 {
		var first State
		if err := d.db.WithContext(ctx).Where("document_id = ? and parent_id = 0", head.Document.ID).First(&first).Error; err != nil {
			return nil, store.Missing(err)
		}
		state = first.ID
	} else {
		var row Step
		err := d.db.WithContext(ctx).Select("state_id").First(&row, "id = ? and document_id = ?", version, head.Document.ID).Error
		if err != nil {
			return nil, store.Missing(err)
		}
		state = row.StateID
	}
	return d.load(ctx, head.Document, state)
}

// FirstPicture gives the picture of a document's first page, within box by box pixels, for lists: where it is kept, nothing of the
// document is opened.
func (d *Desk) FirstPicture(ctx context.Context, person, document uint, box int) ([]byte, error) {
	row, err := d.Document(ctx, person, document)
	if err != nil {
		return nil, err
	}
	key, err := step.ParseKey(row.FirstKey)
	if err != nil { // of a document that nobody opened since such lists came
		s, err := d.Snapshot(ctx, document)
		if err != nil {
			return nil, err
		}
		first := s.Pages()[0]
		return d.picture(ctx, document, first.Key, first.Version, box, box)
	}
	return d.picture(ctx, document, key, row.FirstVersion, box, box)
}

// drawFork draws a page of a document that a step made in memory.
func (d *Desk) drawFork(ctx context.Context, head *Snapshot, res *step.Result, page int, key string, w, h int) (raster.Picture, error) {
	source := raster.Source{Key: key, Parts: append(slices.Clone(head.parts), raster.Part{Data: res.Update})}
	if res.NewBase != nil {
		var b bytes.Buffer
		if err := res.NewBase(ctx, &b); err != nil {
			return raster.Picture{}, err
		}
		source.Parts = []raster.Part{{Data: b.Bytes()}}
	}
	return d.pool.Render(ctx, raster.Request{Source: source, Page: page, Width: w, Height: h, Format: raster.Auto})
}

// Region draws a part of a page of the head; x0 to y1 are pixels of the page at scale
// pixels a point. It is not cached.
func (d *Desk) Region(ctx context.Context, r raster.Request, person, document uint, k step.Key) (raster.Picture, error) {
	snap, err := d.Look(ctx, person, document)
	if err != nil {
		return raster.Picture{}, err
	}
	if r.Page = snap.Index(k); r.Page < 0 {
		return raster.Picture{}, store.ErrMissing
	}
	r.Source = snap.source()
	return d.pool.Render(ctx, r)
}

// Labels gives what each page is called, in order; nil where pages are called by their place.
func (s *Snapshot) Labels() []string { return nav.Called(s.PDF) }
