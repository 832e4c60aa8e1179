package pdf

import (
	"io"
	"sort"
)

// Parts reads several readers as one, end to end: a base and its updates.
type Parts struct {
	parts []io.ReaderAt
	ends  []int64 // ends[i] is the offset just after part i
}

// NewParts joins nothing yet; With gives longer ones.
func NewParts() *Parts { return &Parts{} }

// With gives new Parts that end with r of the given size; p stays as it is.
func (p *Parts) With(r io.ReaderAt, size int64) *Parts {
	n := len(p.parts)
	return &Parts{
		parts: append(p.parts[:n:n], r),
		ends:  append(p.ends[:n:n], p.Size()+size),
	}
}

// Size is the number of bytes in all.
func (p *Parts) Size() int64 {
	if len(p.ends) == 0 {
		return 0
	}
	return p.ends[len(p.ends)-1]
}

// ReadAt implements io.ReaderAt over all parts.
func (p *Parts) ReadAt(b []byte, off int64) (int, error) {
	if off < 0 || off >= p.Size() {
		return 0, io.EOF
	}
	i := sort.Search(len(p.ends), func(i int) bool { return p.ends[i] > off })
	read := 0
	for ; i < len(p.parts) && read < len(b); i++ {
		start := int64(0)
		if i > 0 {
			start = p.ends[i-1]
		}
		want := min(int64(len(b)-read), p.ends[i]-off)
		n, err := p.parts[i].ReadAt(b[read:read+int(want)], off-start)
		read += n
		off += int64(n)
		if int64(n) < want {
			if err == nil || err == io.EOF {
				err = io.ErrUnexpectedEOF
			}
			return read, err
		}
	}
	if read < len(b) {
		return read, io.EOF
	}
	return read, nil
}
