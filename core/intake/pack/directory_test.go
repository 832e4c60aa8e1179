package pack

import (
	"archive/zip"
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"runtime"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// listed is a package whose directory has n entries for one member, with an end record that says there are claimed of them at an offset. APPNOTE 6.3.10,
// 4.3.7, 4.3.12, 4.3.14 to 4.3.16.
func listed(n int, claimed uint64, size, offset uint64) []byte {
	var b bytes.Buffer
	le := func(v ...any) {
		for _, x := range v {
			_ = binary.Write(&b, binary.LittleEndian, x) // to memory
		}
	}
	le(uint32(0x04034b50), uint16(20), uint16(0), uint16(0), uint32(0), uint32(0), uint32(0), uint32(0), uint16(1), uint16(0))
	b.WriteByte('a')
	var e bytes.Buffer
	for _, x := range []any{uint32(0x02014b50), uint16(20), uint16(20), uint16(0), uint16(0), uint32(0), uint32(0), uint32(0), uint32(0), uint16(1), uint16(0), uint16(0), uint16(0), uint16(0), uint32(0), uint32(0)} {
		_ = binary.Write(&e, binary.LittleEndian, x)
	}
	e.WriteByte('a')
	at := uint64(b.Len())
	for range n {
		b.Write(e.Bytes())
	}
	if size == 0 {
		size = uint64(n) * uint64(e.Len())
	}
	if offset == 0 {
		offset = at
	}
	end := uint64(b.Len())
	le(uint32(0x06064b50), uint64(44), uint16(45), uint16(45), uint32(0), uint32(0), claimed, claimed, size, offset)
	le(uint32(0x07064b50), uint32(0), end, uint32(1))
	le(uint32(0x06054b50), uint16(0), uint16(0), uint16(0xffff), uint16(0xffff), uint32(0xffffffff), uint32(0xffffffff), uint16(0))
	return b.Bytes()
}

// counting counts what is read.
type counting struct {
	*bytes.Reader
	n int64
}

func (c *counting) ReadAt(p []byte, off int64) (int, error) {
	n, err := c.Reader.ReadAt(p, off)
	c.n += int64(n)
	return n, err
}

// A directory of millions is refused by what the end of the file says of it, and where that lies, by its size, before it costs anything.
func TestDirectory(t *testing.T) {
	for name, data := range map[string][]byte{
		"says so": listed(2_000_000, 2_000_000, 0, 0), "says few": listed(2_000_000, 3, 0, 0), "says few, and that they are short": listed(2_000_000, 3, 100, 31),
		"says none": listed(1<<21, 0, 0, 0), "more than are taken": listed(MaxMembers+1, MaxMembers+1, 0, 0),
	} {
		c := &counting{Reader: bytes.NewReader(data)}
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		_, err := Open(t.Context(), c, int64(len(data)))
		runtime.ReadMemStats(&after)
		assert.ErrorIs(t, err, ErrTooMany, name)
		assert.Less(t, c.n, int64(8<<20), "%s: bytes read", name)
		assert.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(120<<20), "%s: bytes allocated", name)
	}
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for i := range 15_000 {
		w, err := z.Create(fmt.Sprintf("soundings/north berth/%050d.txt", i))
		require.NoError(t, err)
		_, err = io.WriteString(w, "4.2 m")
		require.NoError(t, err)
	}
	require.NoError(t, z.SetComment("of October"))
	require.NoError(t, z.Close())
	p, err := Open(t.Context(), bytes.NewReader(b.Bytes()), int64(b.Len()))
	require.NoError(t, err)
	assert.Len(t, p.Names(), 15_000)
	got, err := p.Read(fmt.Sprintf("soundings/north berth/%050d.txt", 14_999))
	require.NoError(t, err)
	assert.Equal(t, "4.2 m", string(got))
	for _, n := range []int{0, 10, 21, b.Len() - 40, b.Len() - 30} { // cut off
		_, err := Open(t.Context(), bytes.NewReader(b.Bytes()[:n]), int64(n))
		assert.ErrorIs(t, err, ErrDamaged, "%d bytes of it", n)
	}
}
