package desk

import (
	"archive/tar"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"glenrain/desk/store"
)

// Backup writes a data folder as one tar file: the database as it is at one moment, and all files it
// refers to. A server may work on the folder meanwhile. It tells how many files are in it.
func Backup(dir string, w io.Writer) (files int, err error) {
	if _, err := os.Stat(filepath.Join(dir, store.DatabaseName)); err != nil {
		return 0, fmt.Errorf("%s is no data folder: %w", dir, err)
	}
	tmp, err := os.MkdirTemp("", "glenrain-backup-")
	if err != nil {
		return 0, err
	}
	defer os.RemoveAll(tmp)
	copied := filepath.Join(tmp, store.DatabaseName)
	db, done, err := store.OpenDatabase("file:" + filepath.Join(dir, store.DatabaseName) + "?mode=ro&_pragma=busy_timeout(10000)")
	if err != nil {
		return 0, err
	}
	// One transaction: nothing that is written meanwhile is in it by half (SQLite, VACUUM INTO).
	err = errors.Join(db.Exec("vacuum into ?", copied).Error, done())
	if err != nil {
		return 0, fmt.Errorf("copying the database: %w", err)
	}
	if db, done, err = store.OpenDatabase("file:" + copied + "?mode=ro"); err != nil {
		return 0, err
	}
	used, err := (&Desk{db: db}).used()
	if err = errors.Join(err, done()); err != nil {
		return 0, fmt.Errorf("reading the copied database: %w", err)
	}
	t := tar.NewWriter(w)
	if err := addFile(t, store.DatabaseName, copied); err != nil {
		return 0, err
	}
	names := make([]string, 0, len(used))
	for sha := range used {
		names = append(names, sha)
	}
	slices.Sort(names)
	for _, sha := range names {
		if err := addFile(t, "files/"+sha, store.At(dir).Path(sha)); err != nil {
			return 0, err
		}
	}
	return len(names), t.Close()
}

func addFile(t *tar.Writer, name, path string) error {
	f, err := os.Open(path)
	if err != nil {
		return fmt.Errorf("a file of the data folder: %w", err)
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return err
	}
	if err := t.WriteHeader(&tar.Header{Name: name, Mode: 0o600, Size: st.Size(), ModTime: st.ModTime()}); err != nil {
		return err
	}
	_, err = io.Copy(t, f)
	return err
}

// Restore makes a data folder of a backup. dir must not be there, or be empty. Each file is held against
// its hash; where one is not what it was, nothing is made.
func Restore(r io.Reader, dir string) (files int, err error) {
	if left, err := os.ReadDir(dir); err == nil && len(left) > 0 {
		return 0, fmt.Errorf("%s is not empty: a backup is restored into a new folder", dir)
	}
	dir = filepath.Clean(dir)
	coming := dir + ".coming"
	if err := os.RemoveAll(coming); err != nil {
		return 0, err
	}
	defer os.RemoveAll(coming)
	if err := os.MkdirAll(coming, 0o700); err != nil {
		return 0, err
	}
	kept := store.At(coming)
	t := tar.NewReader(r)
	have := map[string]bool{}
	for {
		h, err := t.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return 0, fmt.Errorf("the backup can't be read: %w", err)
		}
		sha, isFile := strings.CutPrefix(h.Name, "files/")
		switch {
		case h.Name == store.DatabaseName:
			if _, err := copyTo(filepath.Join(coming, store.DatabaseName), t); err != nil {
				return 0, err
			}
		case isFile && isHash(sha):
			if err := os.MkdirAll(filepath.Dir(kept.Path(sha)), 0o700); err != nil {
				return 0, err
			}
			sum, err := copyTo(kept.Path(sha), t)
			if err != nil {
				return 0, err
			}
			if sum != sha {
				return 0, errors.New("the backup is damaged: a file in it is not what it was")
			}
			have[sha] = true
		default:
			return 0, fmt.Errorf("this is no backup of a data folder: it holds %q", h.Name)
		}
	}
	db, done, err := store.OpenDatabase("file:" + filepath.Join(coming, store.DatabaseName) + "?mode=ro")
	if err != nil {
		return 0, err
	}
	var verdict string
	err = db.Raw("pragma integrity_check").Scan(&verdict).Error
	used, uerr := (&Desk{db: db}).used()
	if err = errors.Join(err, uerr, done()); err != nil || verdict != "ok" {
		return 0, fmt.Errorf("the backup is damaged: its database can't be read (%w)", errors.Join(err, errors.New(verdict)))
	}
	for sha := range used {
		if !have[sha] {
			return 0, errors.New("the backup is damaged: a file is missing in it")
		}
	}
	_ = os.Remove(dir) // an empty folder
	if err := os.Rename(coming, dir); err != nil {
		return 0, err
	}
	return len(have), store.SyncDir(filepath.Dir(dir))
}

// copyTo writes a file to the disk and gives its hash.
func copyTo(path string, r io.Reader) (sha string, err error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return "", err
	}
	sum := sha256.New()
	_, err = io.Copy(io.MultiWriter(f, sum), r)
	if err == nil {
		err = f.Sync()
	}
	return hex.EncodeToString(sum.Sum(nil)), errors.Join(err, f.Close())
}
