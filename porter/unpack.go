package porter

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"glenrain/core/intake"
	"glenrain/core/intake/mail"
	"glenrain/core/intake/pack"
)

// Packed is a file that holds others: a zip, or a mail with what is attached to it.
type Packed struct {
	Path   string
	Size   int64
	Kind   intake.Kind // intake.Zip or intake.Mail
	Folder string      // in which a folder for what is unpacked is made, and removed
	Files  int         // that are unpacked at most
	One    int64       // bytes that one of them may have
	All    int64       // and all of them
}

// Member is a file that was in another one.
type Member struct {
	Number int    // its place, from 0
	Name   string // with the folders it stands in
	Path   string // where it was unpacked to; whoever is told of it may move it away
	Size   int64
	Why    string // it could not be unpacked, as an error of pack says it
	More   bool   // in place of a member: there are more than are unpacked
}

// Refused tells why it could not be unpacked, an error of pack; nil where it was.
func (m Member) Refused() error {
	if m.Why == "" {
		return nil
	}
	return packError(m.Why)
}

// Unpack unpacks a file in a child, one member after another; put is told of each as soon as it is there, and the next one is unpacked when it returns. An error
// that the file is to blame for is one of pack, a *NotConverted or *Stopped.
func Unpack(ctx context.Context, in Packed, put func(Member) error) error {
	work, err := os.MkdirTemp(in.Folder, "unpack-")
	if err != nil {
		return err
	}
	defer removeAll(work)
	in.Folder = work
	cpu := convertCPU + cpuFor(in.All/8)
	err = askOnce(ctx, question{Packed: &in}, usual(cpu), func(k *asked, a answer) error {
		if a.Refused != "" {
			return packError(a.Refused)
		}
		if a.Member == nil {
			return nil
		}
		k.done() // what is done with it is read in turns of its own
		m := *a.Member
		err := put(m)
		if rerr := os.Remove(m.Path); m.Path != "" && rerr != nil && !os.IsNotExist(rerr) {
			err = errors.Join(err, rerr)
		}
		if err != nil {
			return err
		}
		if k.done, err = turns.Take(ctx); err != nil {
			k.done = func() {}
			return err
		}
		return k.Send(word{})
	})
	return stopped(err)
}

// packError gives an error of pack by its sentence.
func packError(s string) error {
	for _, own := range []error{pack.ErrTooMuch, pack.ErrLocked, pack.ErrTooMany, pack.ErrDamaged} {
		if s == own.Error() {
			return own
		}
	}
	return &NotConverted{Sentence: s}
}

// unpack answers in the child.
func (s *server) unpack(in Packed) error {
	f, err := os.Open(in.Path)
	if err != nil {
		return err
	}
	defer f.Close()
	ctx := context.Background()
	if in.Kind == intake.Mail {
		err = s.attached(ctx, in, f)
	} else {
		err = s.members(ctx, in, f)
	}
	if err != nil {
		return err
	}
	return s.enc.Encode(answer{End: true})
}

func (s *server) refuse(err error) error {
	return s.enc.Encode(answer{Refused: packSentence(err), End: true})
}

// packSentence keeps what libraries say out of what is told.
func packSentence(err error) string {
	for _, own := range []error{pack.ErrTooMuch, pack.ErrLocked, pack.ErrTooMany} {
		if errors.Is(err, own) {
			return own.Error()
		}
	}
	return pack.ErrDamaged.Error()
}

func (s *server) members(ctx context.Context, in Packed, f *os.File) error {
	p, err := pack.Open(ctx, f, in.Size)
	if err != nil {
		return s.refuse(err)
	}
	p.Allow(in.One, in.All)
	n := 0
	for i, name := range p.Names() {
		if pack.Passed(name) {
			continue
		}
		if n++; n > in.Files {
			return s.wait(answer{Member: &Member{Number: i, More: true}})
		}
		err := s.member(in, i, name, func(w io.Writer) error {
			r, err := p.Reader(name)
			if err != nil || r == nil {
				return errors.Join(err, pack.ErrDamaged)
			}
			defer r.Close()
			_, err = io.Copy(w, r)
			return err
		})
		if err != nil {
			return err
		}
	}
	return nil
}

func (s *server) attached(ctx context.Context, in Packed, f *os.File) error {
	files, err := mail.Attachments(ctx, f)
	if err != nil {
		return s.enc.Encode(answer{Refused: err.Error(), End: true})
	}
	for i, a := range files {
		if i >= in.Files {
			return s.wait(answer{Member: &Member{Number: i, More: true}})
		}
		files[i].Data = nil
		if err := s.member(in, i, a.Name, func(w io.Writer) error { _, err := w.Write(a.Data); return err }); err != nil {
			return err
		}
	}
	return nil
}

// member writes a member into a file of its own, and waits until it was taken. A disk that is full is no fault of the member.
func (s *server) member(in Packed, number int, name string, write func(io.Writer) error) error {
	m := Member{Number: number, Name: name, Path: filepath.Join(in.Folder, fmt.Sprint(number))}
	out, err := os.OpenFile(m.Path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	err = write(out)
	var disk *os.PathError
	if errors.As(err, &disk) {
		return errors.Join(err, out.Close())
	}
	if err != nil {
		m.Why = packSentence(err)
	}
	if m.Size, err = out.Seek(0, io.SeekCurrent); err != nil {
		return errors.Join(err, out.Close())
	}
	if err := out.Close(); err != nil {
		return err
	}
	return s.wait(answer{Member: &m})
}
