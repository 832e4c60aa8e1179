package desk

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"path/filepath"
)

// Store keeps files by the SHA-256 of their bytes. A file appears whole, on the disk,
// or not at all.
type Store struct{ dir string }

func newStore(dir string) (*Store, error) {
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
	return &Store{dir}, nil
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

func (in *Incoming) Write(b []byte) (int, error) {
	n, err := in.f.Write(b)
	in.sum.Write(b[:n])
	in.Size += int64(n)
	return n, err
}

// ReadAt reads what was written so far.
func (in *Incoming) ReadAt(b []byte, off int64) (int, error) { return in.f.ReadAt(b, off) }

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
	if _, err := os.Stat(to); err == nil {
		return sha, nil // the same bytes are there already
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
	for _, d := range []string{filepath.Dir(to), filepath.Dir(filepath.Dir(to))} {
		if err := syncDir(d); err != nil {
			return "", fmt.Errorf("keeping a file: %w", err)
		}
	}
	return sha, nil
}

func syncDir(dir string) error {
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
