package pdf

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func decode(t *testing.T, d *Dict, raw []byte) []byte {
	t.Helper()
	out, rest, err := New().Decode(NewStream(d, raw))
	require.NoError(t, err)
	require.Empty(t, rest)
	return out
}

func TestFilters(t *testing.T) {
	// ISO 32000-2, 7.4.4.2, example 2: LZW of 45 45 45 45 45 65 45 45 45 66
	assert.Equal(t, []byte{45, 45, 45, 45, 45, 65, 45, 45, 45, 66},
		decode(t, NewDict("Filter", Name("LZWDecode")), []byte{0x80, 0x0B, 0x60, 0x50, 0x22, 0x0C, 0x0C, 0x85, 0x01}))
	assert.Equal(t, "Hello", string(decode(t, NewDict("Filter", Name("ASCIIHexDecode")), []byte("48 65 6C\n6c6F>"))))
	assert.Equal(t, "Man is d", string(decode(t, NewDict("Filter", Name("ASCII85Decode")), []byte("9jqo^BlbD-~>"))))
	assert.Equal(t, "\x00\x00\x00\x00Ma", string(decode(t, NewDict("Filter", Name("A85")), []byte("z9jn~>"))))
	// 7.4.5: 2 literal bytes, then one byte five times, then the end
	assert.Equal(t, "abccccc", string(decode(t, NewDict("Filter", Name("RunLengthDecode")), []byte{1, 'a', 'b', 252, 'c', 128})))
	chain := NewDict("Filter", Array{Name("ASCIIHexDecode"), Name("FlateDecode")}, "DecodeParms", Array{nil, NewDict("Predictor", Integer(1))})
	hex := AppendObject(nil, String(Deflate([]byte("twice encoded \x00\x01\x02\x03\x04\x05"))))
	assert.Equal(t, "twice encoded \x00\x01\x02\x03\x04\x05", string(decode(t, chain, hex[1:])))
}

func TestPredictors(t *testing.T) {
	rows := []byte{1, 2, 3, 4, 5, 6, 9, 8, 7, 6, 5, 4, 0, 255, 0, 255, 0, 255}
	up := NewDict("Filter", Name("FlateDecode"), "DecodeParms", NewDict("Predictor", Integer(12), "Columns", Integer(6)))
	assert.Equal(t, rows, decode(t, up, Deflate(predictUp(rows, 6))))
	// PNG (ISO/IEC 15948, 9.2): one row of each filter type, 2 bytes a pixel, worked by hand
	png := NewDict("Filter", Name("FlateDecode"), "DecodeParms", NewDict("Predictor", Integer(15), "Colors", Integer(2), "Columns", Integer(2)))
	in := []byte{0, 10, 20, 30, 40, 1, 5, 5, 5, 5, 2, 1, 1, 1, 1, 3, 2, 2, 2, 2, 4, 1, 1, 1, 1}
	want := []byte{10, 20, 30, 40, 5, 5, 10, 10, 6, 6, 11, 11, 5, 5, 10, 10, 6, 6, 11, 11}
	assert.Equal(t, want, decode(t, png, Deflate(in)))
	tiff := NewDict("Filter", Name("FlateDecode"), "DecodeParms", NewDict("Predictor", Integer(2), "Colors", Integer(3), "Columns", Integer(2)))
	assert.Equal(t, []byte{1, 2, 3, 2, 4, 6}, decode(t, tiff, Deflate([]byte{1, 2, 3, 1, 2, 3})))
}

func TestPictureFiltersAreLeft(t *testing.T) {
	s := NewStream(NewDict("Filter", Array{Name("FlateDecode"), Name("DCTDecode")}), Deflate([]byte("jpeg")))
	data, rest, err := New().Decode(s)
	require.NoError(t, err)
	assert.Equal(t, []Name{"DCTDecode"}, rest)
	assert.Equal(t, "jpeg", string(data))
}

// A truncated stream gives what it holds; one that explodes ends in an error.
func TestDamagedStreams(t *testing.T) {
	text := make([]byte, 0, 9000)
	for i := range 1000 {
		text = append(text, byte(i), byte(i*i), byte(i>>2), 'x', byte(i*7), '\n')
	}
	whole := Deflate(text)
	out := decode(t, NewDict("Filter", Name("FlateDecode")), whole[:len(whole)/2])
	require.NotEmpty(t, out)
	assert.True(t, bytes.HasPrefix(text, out))

	_, err := New().inflate(Deflate(make([]byte, 8<<20)), 1<<20)
	assert.ErrorIs(t, err, ErrLimit)
	_, _, err = New().Decode(NewStream(NewDict("Filter", Name("FlateDecode")), []byte("this is not deflated")))
	assert.ErrorIs(t, err, ErrDamaged)
}
