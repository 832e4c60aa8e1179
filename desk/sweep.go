package desk

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// sweep removes files that nothing refers to: what a stop left behind between storing a file and
// its row. It runs before anything else does.
func (d *Desk) sweep() error {
	used, err := d.used()
	if err != nil {
		return fmt.Errorf("looking for unused files: %w", err)
	}
	removed := 0
	root := filepath.Join(d.dir, "files")
	err = filepath.WalkDir(root, func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		if !used[e.Name()] {
			removed++
			return os.Remove(path)
		}
		return nil
	})
	if removed > 0 {
		d.log.Info("unused files removed", "files", removed)
	}
	return err
}

// workFolder is where folders stand in which files are unpacked and set as pages. Each goes with its work, and all at the start.
func (d *Desk) workFolder() string { return filepath.Join(d.dir, "setting") }

func (d *Desk) emptyWorkFolder() error {
	if err := os.RemoveAll(d.workFolder()); err != nil {
		return err
	}
	return os.MkdirAll(d.workFolder(), 0o700)
}

// named are the columns whose rows name files, but for the sources of steps.
var named = []struct {
	row    any
	column string
}{{&Document{}, "original_sha"}, {&State{}, "base_sha"}, {&State{}, "fold_sha"}, {&Step{}, "update_sha"}, {&HandOut{}, "sha"}}

// tidy removes files that were kept for something that failed, unless they are named by something else.
func (d *Desk) tidy(shas ...string) {
	d.Store.Unpin(shas...)
	d.removeUnused(shas...)
}

// removeUnused removes files that nothing names, and nobody is about to.
func (d *Desk) removeUnused(shas ...string) {
	err := d.Store.Drop(shas, func(sha string) (bool, error) {
		for _, of := range named {
			var n int64
			if err := d.db.Model(of.row).Where(of.column+" = ?", sha).Limit(1).Count(&n).Error; err != nil || n > 0 {
				return n > 0, err
			}
		}
		var n int64
		err := d.db.Model(&Step{}).Where("sources like ?", "%sha256:"+sha+"%").Limit(1).Count(&n).Error
		return n > 0, err
	})
	if err != nil { // the next start removes them
		d.log.Warn("files of something that failed are left", "err", err)
	}
}

// used gives the hashes of all files that rows refer to.
func (d *Desk) used() (map[string]bool, error) {
	used := map[string]bool{}
	for _, of := range named {
		var list []string
		if err := d.db.Model(of.row).Distinct().Where(of.column+" <> ''").Pluck(of.column, &list).Error; err != nil {
			return nil, err
		}
		for _, s := range list {
			used[s] = true
		}
	}
	var sources []string
	if err := d.db.Model(&Step{}).Where("sources like '%sha256:%'").Pluck("sources", &sources).Error; err != nil {
		return nil, err
	}
	for _, s := range sources {
		var list []string
		_ = json.Unmarshal([]byte(s), &list)
		for _, ref := range list {
			if sha, ok := strings.CutPrefix(ref, "sha256:"); ok {
				used[sha] = true
			}
		}
	}
	return used, nil
}

const (
	// maxPictures is how many bytes of page pictures are kept, maxPicturesLeft what is left
	// after clearing up.
	maxPictures     = 2 << 30
	maxPicturesLeft = maxPictures / 4 * 3
	// clearEvery is after how many new pictures their size is looked at.
	clearEvery = 2000
)

// clear removes the oldest page pictures while they take more than limit bytes, down to left.
func (p *pictures) clear(limit, left int64) {
	type file struct {
		path string
		at   time.Time
		size int64
	}
	var all []file
	var total int64
	err := filepath.WalkDir(p.dir, func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			if errors.Is(err, fs.ErrNotExist) {
				return nil
			}
			return err
		}
		if info, err := e.Info(); err == nil {
			all = append(all, file{path, info.ModTime(), info.Size()})
			total += info.Size()
		}
		return nil
	})
	if err != nil || total <= limit {
		return
	}
	slices.SortFunc(all, func(a, b file) int { return a.at.Compare(b.at) })
	for _, f := range all {
		if total <= left {
			return
		}
		if os.Remove(f.path) == nil {
			total -= f.size
		}
	}
}
