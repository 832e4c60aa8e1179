// Package store keeps files by their content, and opens the database beside them.
package store

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"math"
	"os"
	"path/filepath"
	"sync"
)

// Store keeps files by the SHA-256 of their bytes. A file appears whole, on the disk,
// or not at all.
type Store struct {
	dir string

	mu   sync.Mutex
	pins map[string]int // files that were kept and are not named by a row yet: how often
}

// At gives the store of a data folder that nobody writes to.
func At(dir string) *Store { return &Store{dir: dir, pins: map[string]int{}} }

// New opens the store of a data folder, which is made where there is none.
func New(dir string) (*Store, error) {
	for _, d := range []string{"files", "coming"} {
		if err := os.MkdirAll(filepath.Join(dir, d), 0o700); err != nil {
			return nil, err
		}
	}
	// What was still coming when the server stopped was never acknowledged.
	left, err := os.ReadDir(filepath.Join(dir, "coming"))
	if err != nil {
		return nil, err
	}
	for _, f := range left {
		_ = os.Remove(filepath.Join(dir, "coming", f.Name()))
	}
	return At(dir), nil
}

// Path is where the file of that hash is.
func (s *Store) Path(sha string) string {
	if len(sha) < 3 {
		sha = "___"
	}
	return filepath.Join(s.dir, "files", sha[:2], sha)
}

// Incoming is a file that is being written into the store.
type Incoming struct {
	store *Store
	f     *os.File
	sum   interface {
		io.Writer
		Sum([]byte) []byte
		Reset()
	}
	Size int64
	done bool
}

// Create starts a file. Keep or Drop must be called.
func (s *Store) Create() (*Incoming, error) {
	f, err := os.CreateTemp(filepath.Join(s.dir, "coming"), "*")
	if err != nil {
		return nil, err
	}
	return &Incoming{store: s, f: f, sum: sha256.New()}, nil
}

// Take starts a file with one that was written elsewhere in the data folder, which is moved.
func (s *Store) Take(path string) (*Incoming, error) {
	in, err := s.Create()
	if err != nil {
		return nil, err
	}
	if err := os.Rename(path, in.f.Name()); err != nil {
		in.Drop()
		return nil, err
	}
	return in.reopened()
}

// CopyOf starts a file with the bytes of another one.
func (s *Store) CopyOf(of *Incoming) (*Incoming, error) {
	in, err := s.Create()
	if err != nil {
		return nil, err
	}
	if _, err := io.Copy(in, io.NewSectionReader(of, 0, of.Size)); err != nil {
		in.Drop()
		return nil, err
	}
	return in, nil
}

// reopened goes on with what stands at the file's path now.
func (in *Incoming) reopened() (*Incoming, error) {
	f, err := os.OpenFile(in.f.Name(), os.O_RDWR, 0o600)
	if err != nil {
		in.Drop()
		return nil, err
	}
	_ = in.f.Close()
	in.f = f
	in.sum.Reset()
	if in.Size, err = io.Copy(in.sum, io.NewSectionReader(f, 0, math.MaxInt64)); err == nil {
		_, err = f.Seek(in.Size, io.SeekStart)
	}
	if err != nil {
		in.Drop()
		return nil, err
	}
	return in, nil
}

func (in *Incoming) Write(b []byte) (int, error) {
	n, err := in.f.Write(b)
	in.sum.Write(b[:n])
	in.Size += int64(n)
	return n, err
}

// ReadAt reads what was written so far.
func (in *Incoming) ReadAt(b []byte, off int64) (int, error) { return in.f.ReadAt(b, off) }

// Path is where the file stands while it is written.
func (in *Incoming) Path() string { return in.f.Name() }

// File is the file itself, for those who write past Write; see keepWritten.
func (in *Incoming) File() *os.File { return in.f }

// Length is how many bytes were written.
func (in *Incoming) Length() int64 { return in.Size }

// Drop gives the file up, unless it was kept.
func (in *Incoming) Drop() {
	if !in.done {
		in.done = true
		_ = in.f.Close()
		_ = os.Remove(in.f.Name())
	}
}

// Keep puts the file into the store, on the disk, and gives its hash.
func (in *Incoming) Keep() (sha string, err error) {
	defer in.Drop()
	sha = hex.EncodeToString(in.sum.Sum(nil))
	to := in.store.Path(sha)
	in.store.pin(sha)
	defer func() {
		if err != nil {
			in.store.Unpin(sha)
		}
	}()
	if _, err := os.Stat(to); err == nil {
		return sha, syncFolders(to) // the same bytes are there already; whoever put them there may not have come as far
	}
	if err := in.f.Sync(); err != nil {
		return "", fmt.Errorf("keeping a file: %w", err)
	}
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return "", fmt.Errorf("keeping a file: %w", err)
	}
	if err := os.Rename(in.f.Name(), to); err != nil {
		return "", fmt.Errorf("keeping a file: %w", err)
	}
	in.done = true
	_ = in.f.Close()
	return sha, syncFolders(to)
}

// KeepWritten is Keep for a file whose bytes were written by others, to its path.
func (in *Incoming) KeepWritten() (string, error) {
	in.sum.Reset()
	n, err := io.Copy(in.sum, io.NewSectionReader(in.f, 0, math.MaxInt64))
	if err != nil {
		return "", err
	}
	in.Size = n
	return in.Keep()
}

// syncFolders makes sure that a file's entry is on the disk.
func syncFolders(path string) error {
	for _, d := range []string{filepath.Dir(path), filepath.Dir(filepath.Dir(path))} {
		if err := SyncDir(d); err != nil {
			return fmt.Errorf("keeping a file: %w", err)
		}
	}
	return nil
}

// A file that was kept is pinned until a row names it (unpin), or what it was kept for failed (Desk.tidy).
func (s *Store) pin(sha string) {
	s.mu.Lock()
	s.pins[sha]++
	s.mu.Unlock()
}

// Unpin says that rows name the files now, or that what they were kept for failed.
func (s *Store) Unpin(shas ...string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, sha := range shas {
		if s.pins[sha]--; s.pins[sha] <= 0 {
			delete(s.pins, sha)
		}
	}
}

// Pinned is how many files were kept that no row names yet.
func (s *Store) Pinned() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.pins)
}

// Drop removes those files that nobody pinned and that used does not know.
func (s *Store) Drop(shas []string, used func(sha string) (bool, error)) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, sha := range shas {
		if s.pins[sha] > 0 {
			continue
		}
		named, err := used(sha)
		if err != nil {
			return err
		}
		if !named {
			if err := os.Remove(s.Path(sha)); err != nil && !os.IsNotExist(err) {
				return err
			}
		}
	}
	return nil
}

// SyncDir brings a folder’s entries to the disk.
func SyncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Sync()
}

// Put keeps all that write writes.
func (s *Store) Put(write func(io.Writer) error) (sha string, size int64, err error) {
	in, err := s.Create()
	if err != nil {
		return "", 0, err
	}
	defer in.Drop()
	if err := write(in); err != nil {
		return "", 0, err
	}
	sha, err = in.Keep()
	return sha, in.Size, err
}

// Open opens a kept file.
func (s *Store) Open(sha string) (*os.File, error) { return os.Open(s.Path(sha)) }
