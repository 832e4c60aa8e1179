package pdf

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"
	"sync"

	"github.com/klauspost/compress/flate" // reads twice as fast as the standard library's, and writes faster
	"github.com/klauspost/compress/zlib"
)

// Stream is a stream object (7.3.8). Its bytes stay encoded, and in the file,
// until they are asked for.
type Stream struct {
	Dict *Dict

	raw    []byte      // encoded bytes, when src is nil
	src    io.ReaderAt // where the encoded bytes stand otherwise
	off, n int64
	open   func([]byte) ([]byte, error) // decrypts, where the file is encrypted
}

// NewStream makes a stream of bytes that are encoded as d says; /Length is set.
func NewStream(d *Dict, encoded []byte) *Stream {
	if d == nil {
		d = NewDict()
	}
	d.Set("Length", Integer(len(encoded)))
	return &Stream{Dict: d, raw: encoded}
}

// NewFlateStream makes a stream of the given bytes, compressed where that is shorter.
func NewFlateStream(d *Dict, data []byte) *Stream {
	if d == nil {
		d = NewDict()
	}
	if len(data) < worthDeflating {
		return NewStream(d, data)
	}
	if z := Deflate(data); len(z)+24 < len(data) {
		d.Set("Filter", Name("FlateDecode"))
		return NewStream(d, z)
	}
	return NewStream(d, data)
}

// worthDeflating is the least number of bytes that are compressed: a /Filter entry
// takes some itself.
const worthDeflating = 128

var deflaters = sync.Pool{New: func() any { return zlib.NewWriter(nil) }}

// Deflate compresses data for /FlateDecode.
func Deflate(data []byte) []byte {
	var b bytes.Buffer
	w := deflaters.Get().(*zlib.Writer)
	defer deflaters.Put(w)
	w.Reset(&b)
	_, _ = w.Write(data) // a bytes.Buffer does not fail
	_ = w.Close()
	return b.Bytes()
}

// RawLen is the number of encoded bytes.
func (s *Stream) RawLen() int64 {
	if s.open != nil {
		b, _ := s.Raw() // what can't be read is told by whoever reads the bytes
		return int64(len(b))
	}
	if s.src != nil {
		return s.n
	}
	return int64(len(s.raw))
}

// Raw gives the encoded bytes, decrypted. They are not to be changed.
func (s *Stream) Raw() ([]byte, error) {
	if s.src == nil {
		return s.raw, nil
	}
	b := make([]byte, s.n)
	if _, err := s.src.ReadAt(b, s.off); err != nil && err != io.EOF {
		return nil, fmt.Errorf("reading a stream at byte %d: %w", s.off, err)
	}
	if s.open != nil {
		return s.open(b)
	}
	return b, nil
}

// rooms are what streams are copied through.
var rooms = sync.Pool{New: func() any { b := make([]byte, 64<<10); return &b }}

// rawTo copies the encoded bytes to w without holding them.
func (s *Stream) rawTo(w io.Writer) error {
	if s.src == nil || s.open != nil {
		b, err := s.Raw()
		if err == nil {
			_, err = w.Write(b)
		}
		return err
	}
	room := rooms.Get().(*[]byte)
	defer rooms.Put(room)
	_, err := io.CopyBuffer(w, io.NewSectionReader(s.src, s.off, s.n), *room)
	return err
}

// Decode gives the bytes of s with its filters undone (7.4). Picture filters
// (DCTDecode, JPXDecode, CCITTFaxDecode, JBIG2Decode) are left: rest names them,
// the first to undo first.
func (d *Document) Decode(s *Stream) (data []byte, rest []Name, err error) {
	return d.decode(s, MaxInflated, nil)
}

// DecodeMost is Decode for what may have no more than most bytes, unpacked: more is ErrTooLarge.
func (d *Document) DecodeMost(s *Stream, most int) (data []byte, rest []Name, err error) {
	return d.decode(s, int64(min(most, MaxInflated)), nil)
}

// DecodeKept is DecodeMost for what is kept in memory: all of it together may have MaxKept bytes in a piece of work (ErrTooMuch).
func (d *Document) DecodeKept(s *Stream, most int) (data []byte, rest []Name, err error) {
	if d.work.kept.Load() > MaxKept {
		return nil, nil, ErrTooMuch
	}
	if data, rest, err = d.DecodeMost(s, most); err == nil && d.work.kept.Add(int64(len(data))) > MaxKept {
		return nil, nil, ErrTooMuch
	}
	return data, rest, err
}

func (d *Document) decode(s *Stream, most int64, up *loading) (data []byte, rest []Name, err error) {
	if err := d.work.spend(0); err != nil {
		return nil, nil, err
	}
	data, err = s.Raw()
	if err != nil {
		return nil, nil, err
	}
	filters, parms := d.filters(s, up)
	if len(filters) > MaxFilters {
		return nil, nil, ErrTooDense
	}
	packed := len(data)
	for i, f := range filters {
		p := parms[i]
		switch f {
		case "FlateDecode", "Fl":
			data, err = d.inflate(data, most)
			if err == nil {
				data, err = unpredict(d, data, p, up)
			}
		case "LZWDecode", "LZW":
			early := true
			if v, ok := d.resolve(p.Get("EarlyChange"), up).(Integer); ok && v == 0 {
				early = false
			}
			data, err = unlzw(data, early, most)
			if err == nil {
				data, err = unpredict(d, data, p, up)
			}
		case "ASCII85Decode", "A85":
			data = unascii85(data)
		case "ASCIIHexDecode", "AHx":
			data = unasciihex(data)
		case "RunLengthDecode", "RL":
			data, err = unrunlength(data, most)
		case "Crypt":
			// the identity, in a document that is not encrypted (7.4.10)
		default:
			return data, filters[i:], nil
		}
		if err != nil {
			return nil, nil, fmt.Errorf("%s: %w", f, err)
		}
		if len(data) > freeInflated && len(data)/MaxRatio > packed {
			return nil, nil, ErrTooDense
		}
		if err := d.work.spend(len(data)); err != nil {
			return nil, nil, err
		}
	}
	return data, nil, nil
}

// Filters gives the filters of s and the decode parameters of each (never nil).
func (d *Document) Filters(s *Stream) ([]Name, []*Dict) { return d.filters(s, nil) }

func (d *Document) filters(s *Stream, up *loading) ([]Name, []*Dict) {
	f := d.resolve(first(s.Dict.Get("Filter"), s.Dict.Get("F")), up)
	if _, external := f.(String); external {
		f = nil
	}
	p := d.resolve(first(s.Dict.Get("DecodeParms"), s.Dict.Get("DP")), up)
	switch v := f.(type) {
	case Name:
		if a, ok := p.(Array); ok && len(a) > 0 {
			p = d.resolve(a[0], up)
		}
		dict, _ := p.(*Dict)
		return []Name{v}, []*Dict{dict}
	case Array:
		names := make([]Name, 0, len(v))
		dicts := make([]*Dict, 0, len(v))
		list, _ := p.(Array)
		for i, e := range v[:min(len(v), MaxFilters+1)] {
			n, _ := d.resolve(e, up).(Name)
			var dict *Dict
			if i < len(list) {
				dict, _ = d.resolve(list[i], up).(*Dict)
			} else if one, ok := p.(*Dict); ok && len(v) == 1 {
				dict = one
			}
			names, dicts = append(names, n), append(dicts, dict)
		}
		return names, dicts
	}
	return nil, nil
}

func first(a, b Object) Object {
	if a != nil {
		return a
	}
	return b
}

// inflate undoes FlateDecode (7.4.4). What a truncated or badly summed stream
// gave before its fault is kept, as every reader keeps it.
func (d *Document) inflate(data []byte, limit int64) ([]byte, error) {
	f, err := newInflater(data)
	if err != nil {
		return nil, err
	}
	defer inflaters.Put(f)
	alone := false
	defer func() {
		if alone {
			<-heavy
		}
	}()
	out := f.room[:0]
	for {
		if len(out) == cap(out) {
			out = slices.Grow(out, max(len(out)/2, inflateRoom))
		}
		n, err := f.unpack.Read(out[len(out):cap(out)])
		out = out[:len(out)+n]
		switch {
		case int64(len(out)) > limit:
			return nil, ErrTooLarge
		case d.work.over.Load():
			return nil, d.work.why()
		case len(out) > heavyFrom && !alone:
			heavy <- struct{}{}
			alone = true
			continue
		case err == nil:
			continue
		case err != io.EOF && len(out) == 0 && len(data) > 10:
			return nil, refuse(ErrDamaged, "a compressed stream can't be unpacked")
		}
		if len(out) > inflateRoom { // large: given away as it is
			f.room = nil
			return out, nil
		}
		f.room = out
		return bytes.Clone(out), nil
	}
}

// heavy lets one large stream be unpacked at a time.
var heavy = make(chan struct{}, 1)

// heavyFrom is the number of unpacked bytes from which on a stream is large.
const heavyFrom = 16 << 20

// inflateRoom is the number of bytes that are unpacked in a place that is used again.
const inflateRoom = 64 << 10

// newInflater starts to unpack the bytes of a FlateDecode stream.
func newInflater(data []byte) (*inflater, error) {
	body := data
	for len(body) > 0 && (body[0] == '\r' || body[0] == '\n') {
		body = body[1:]
	}
	if len(body) >= 2 && body[0]&0x0f == 8 && (int(body[0])<<8|int(body[1]))%31 == 0 {
		body = body[2:]
	}
	f := inflaters.Get().(*inflater)
	f.src.Reset(body)
	return f, f.unpack.(flate.Resetter).Reset(&f.src, nil)
}

// inflater is what it takes to unpack a stream, used again and again.
type inflater struct {
	src    bytes.Reader
	unpack io.ReadCloser
	room   []byte // up to inflateRoom
}

var inflaters = sync.Pool{New: func() any { return &inflater{unpack: flate.NewReader(bytes.NewReader(nil))} }}

func (d *Document) intParm(p *Dict, k Name, def int, up *loading) int {
	if v, ok := Number(d.resolve(p.Get(k), up)); ok {
		return int(v)
	}
	return def
}

// unpredict undoes a predictor (7.4.4.4).
func unpredict(d *Document, data []byte, p *Dict, up *loading) ([]byte, error) {
	pred := d.intParm(p, "Predictor", 1, up)
	if pred < 2 {
		return data, nil
	}
	colors, bits := d.intParm(p, "Colors", 1, up), d.intParm(p, "BitsPerComponent", 8, up)
	columns := d.intParm(p, "Columns", 1, up)
	if colors < 1 || colors > 64 || bits < 1 || bits > 32 || columns < 1 || columns > 1<<24 {
		return nil, refuse(ErrDamaged, "a stream has senseless predictor values")
	}
	bpp := max(1, (colors*bits+7)/8)
	row := (columns*colors*bits + 7) / 8
	if pred == 2 {
		return untiff(data, row, colors, bits), nil
	}
	return unpng(data, row, bpp), nil
}

func untiff(data []byte, row, colors, bits int) []byte {
	out := bytes.Clone(data)
	for start := 0; start < len(out); start += row {
		line := out[start:min(start+row, len(out))]
		switch bits {
		case 8:
			for i := colors; i < len(line); i++ {
				line[i] += line[i-colors]
			}
		case 16:
			for i := 2 * colors; i+1 < len(line); i += 2 {
				v := (int(line[i])<<8 | int(line[i+1])) + (int(line[i-2*colors])<<8 | int(line[i-2*colors+1]))
				line[i], line[i+1] = byte(v>>8), byte(v)
			}
		default:
			prev := make([]int, colors)
			mask := 1<<bits - 1
			for i, at := 0, 0; at+bits <= len(line)*8; i, at = i+1, at+bits {
				shift := 8 - bits - at%8
				v := (int(line[at/8])>>shift&mask + prev[i%colors]) & mask
				prev[i%colors] = v
				line[at/8] = line[at/8]&^byte(mask<<shift) | byte(v<<shift)
			}
		}
	}
	return out
}

func unpng(data []byte, row, bpp int) []byte {
	out := make([]byte, len(data)-(len(data)+row)/(row+1)) // without a tag for each row
	rest, prev := out, make([]byte, row)
	for len(data) > 1 {
		tag := data[0]
		n := min(row, len(data)-1)
		cur := rest[:n:n]
		copy(cur, data[1:])
		data, rest = data[1+n:], rest[n:]
		switch tag {
		case 1:
			for i := bpp; i < n; i++ {
				cur[i] += cur[i-bpp]
			}
		case 2:
			for i, above := range prev[:n] {
				cur[i] += above
			}
		case 3:
			for i := 0; i < n; i++ {
				left := 0
				if i >= bpp {
					left = int(cur[i-bpp])
				}
				cur[i] += byte((left + int(prev[i])) / 2)
			}
		case 4:
			for i := 0; i < n; i++ {
				var a, c int
				if i >= bpp {
					a, c = int(cur[i-bpp]), int(prev[i-bpp])
				}
				cur[i] += paeth(a, int(prev[i]), c)
			}
		}
		if n == row {
			prev = cur
		}
	}
	return out
}

// paeth is the predictor of PNG (ISO/IEC 15948, 9.4).
func paeth(a, b, c int) byte {
	pa, pb, pc := abs(b-c), abs(a-c), abs(a+b-2*c)
	if pa <= pb && pa <= pc {
		return byte(a)
	}
	if pb <= pc {
		return byte(b)
	}
	return byte(c)
}

func abs(x int) int {
	if x < 0 {
		return -x
	}
	return x
}

// unlzw undoes LZWDecode (7.4.4.2).
func unlzw(data []byte, early bool, most int64) ([]byte, error) {
	type code struct {
		prefix int32
		last   byte
		length int32
	}
	table := make([]code, 258, 4096)
	for i := range 256 {
		table[i] = code{-1, byte(i), 1}
	}
	change := 0
	if early {
		change = 1
	}
	var out []byte
	width, prev := 9, int32(-1)
	acc, bits := uint32(0), 0
	emit := func(c int32) byte {
		n := int(table[c].length)
		start := len(out)
		out = append(out, make([]byte, n)...)
		for i := n - 1; i >= 0 && c >= 0; i-- {
			out[start+i] = table[c].last
			c = table[c].prefix
		}
		return out[start]
	}
	for _, b := range data {
		acc = acc<<8 | uint32(b)
		bits += 8
		if bits < width {
			continue
		}
		c := int32(acc >> (bits - width) & (1<<width - 1))
		bits -= width
		switch {
		case c == 256:
			table, width, prev = table[:258], 9, -1
			continue
		case c == 257:
			return out, nil
		case prev < 0:
			if int(c) > 255 {
				return out, nil
			}
			emit(c)
		case int(c) < len(table):
			firstByte := emit(c)
			if len(table) < 4096 {
				table = append(table, code{prev, firstByte, table[prev].length + 1})
			}
		case int(c) == len(table):
			start := len(out)
			emit(prev)
			f := out[start]
			out = append(out, f)
			table = append(table, code{prev, f, table[prev].length + 1})
		default:
			return out, nil
		}
		if int64(len(out)) > most {
			return nil, ErrTooLarge
		}
		prev = c
		switch n := len(table) + change; {
		case n >= 2048:
			width = 12
		case n >= 1024:
			width = 11
		case n >= 512:
			width = 10
		default:
			width = 9
		}
	}
	return out, nil
}

// unascii85 undoes ASCII85Decode (7.4.3).
func unascii85(data []byte) []byte {
	out := make([]byte, 0, len(data)*4/5)
	var v uint32
	n := 0
	for _, c := range data {
		switch {
		case c == '~':
			if n > 1 {
				for i := n; i < 5; i++ {
					v = v*85 + 84
				}
				b := [4]byte{byte(v >> 24), byte(v >> 16), byte(v >> 8), byte(v)}
				out = append(out, b[:n-1]...)
			}
			return out
		case c == 'z' && n == 0:
			out = append(out, 0, 0, 0, 0)
		case c >= '!' && c <= 'u':
			v = v*85 + uint32(c-'!')
			n++
			if n == 5 {
				out = append(out, byte(v>>24), byte(v>>16), byte(v>>8), byte(v))
				v, n = 0, 0
			}
		}
	}
	if n > 1 {
		return append(out, unascii85(append(bytes.Clone(data[len(data)-n:]), '~'))...)
	}
	return out
}

// unasciihex undoes ASCIIHexDecode (7.4.2).
func unasciihex(data []byte) []byte {
	l := Lexer{Data: append(append([]byte{'<'}, data...), '>')}
	o, err := l.hex()
	if err != nil {
		return nil
	}
	return []byte(o.(String))
}

var errRun = errors.New("run-length data ends early")

// unrunlength undoes RunLengthDecode (7.4.5).
func unrunlength(data []byte, most int64) ([]byte, error) {
	var out []byte
	for i := 0; i < len(data); {
		n := int(data[i])
		i++
		switch {
		case n == 128:
			return out, nil
		case n < 128:
			end := min(i+n+1, len(data))
			out = append(out, data[i:end]...)
			i = end
		case i < len(data):
			out = append(out, bytes.Repeat(data[i:i+1], 257-n)...)
			i++
		default:
			return out, errRun
		}
		if int64(len(out)) > most {
			return nil, ErrTooLarge
		}
	}
	return out, nil
}
