package desk

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"sync/atomic"

	"glenrain/core/raster"
	"glenrain/core/step"
)

// pictures caches page pictures on the disk, by what the page is made of: the document,
// the page's key and the step that last redrew it. They can be lost at any time.
type pictures struct {
	dir string
	put atomic.Int64 // how many were kept
}

func (p *pictures) path(document uint, k step.Key, version uint, w, h int) string {
	sum := sha256.Sum256(fmt.Appendf(nil, "%d %s %d %d %d", document, k, version, w, h))
	name := hex.EncodeToString(sum[:16])
	return filepath.Join(p.dir, name[:2], name)
}

func (p *pictures) keep(path string, data []byte) {
	if p.put.Add(1)%clearEvery == 0 {
		go p.clear(maxPictures, maxPicturesLeft)
	}
	if os.MkdirAll(filepath.Dir(path), 0o700) != nil {
		return
	}
	f, err := os.CreateTemp(filepath.Dir(path), "new-*")
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
func (d *Desk) Picture(ctx context.Context, document uint, k step.Key, version uint, w, h int) ([]byte, error) {
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
		return nil, ErrMissing
	}
	pic, err := d.pool.Render(ctx, raster.Request{Source: snap.source(), Page: page, Width: w, Height: h, Format: raster.Auto})
	if err != nil {
		return nil, err
	}
	d.pictures.keep(path, pic.Data)
	return pic.Data, nil
}

func (d *Desk) versionState(ctx context.Context, head *Snapshot, version uint) (*Snapshot, error) {
	if version == 0 {
		states, err := d.chain(ctx, head.Document.ID, head.State.ID)
		if err != nil {
			return nil, err
		}
		return d.load(ctx, head.Document, states[0].ID)
	}
	var row Step
	err := d.db.WithContext(ctx).Omit("update").First(&row, "id = ? and document_id = ?", version, head.Document.ID).Error
	if err != nil {
		return nil, missing(err)
	}
	return d.load(ctx, head.Document, row.StateID)
}

// Region draws a part of a page of the head; x0 to y1 are pixels of the page at scale
// pixels a point. It is not cached.
func (d *Desk) Region(ctx context.Context, r raster.Request, document uint, k step.Key) (raster.Picture, error) {
	snap, err := d.Snapshot(ctx, document)
	if err != nil {
		return raster.Picture{}, err
	}
	if r.Page = snap.Index(k); r.Page < 0 {
		return raster.Picture{}, ErrMissing
	}
	r.Source = snap.source()
	return d.pool.Render(ctx, r)
}
