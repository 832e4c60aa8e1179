package pdf

import (
	"bytes"
	"crypto/aes"
	"crypto/cipher"
	"crypto/md5"
	"crypto/rc4"
	"crypto/sha256"
	"crypto/sha512"
	"crypto/subtle"
	"encoding/binary"
	"fmt"
	"slices"
	"strings"
	"unicode"

	"golang.org/x/text/unicode/norm"
)

// Encryption says how a file that was opened is protected (ISO 32000-2, 7.6).
type Encryption struct {
	Revision    int   // /R of the standard security handler: 2 to 6
	Permissions int32 // /P, the bits of table 22
	Owner       bool  // opened with the owner's password: permissions don't bind
}

// Permission bits of table 22.
const (
	PermitPrint    = 1 << 2
	PermitModify   = 1 << 3
	PermitCopy     = 1 << 4
	PermitAnnotate = 1 << 5
	PermitFill     = 1 << 8
	PermitAssemble = 1 << 10
)

// Allows reports whether what the bit stands for is permitted.
func (e *Encryption) Allows(bit int32) bool { return e == nil || e.Owner || e.Permissions&bit != 0 }

// Encryption tells how the file is protected; nil where it is not.
func (d *Document) Encryption() *Encryption {
	if d.crypt == nil {
		return nil
	}
	return &d.crypt.Encryption
}

type cipherKind int

const (
	cipherNone cipherKind = iota // Identity
	cipherRC4                    // V2
	cipherAES                    // AESV2 and AESV3
)

// crypt decrypts the strings and streams of a file.
type crypt struct {
	Encryption
	key      []byte // nil where only attached files are locked and no password was given
	streams  cipherKind
	strings  cipherKind
	files    cipherKind          // embedded file streams
	filters  map[Name]cipherKind // crypt filters by name
	aes256   bool                // the file key is used as it is
	metadata bool                // metadata streams are encrypted too
	dict     Ref                 // the encryption dictionary itself is not
	kept     Kept
}

// Kept is what it takes to lock a file again just as it came, so that both its passwords open
// it although one of them is not known.
type Kept struct {
	Dict string // the encryption dictionary, as written in a file; in ASCII, since it is kept as JSON
	Key  []byte // the file encryption key
	ID   []byte // the first part of the file's /ID, which the key depends on up to revision 4
}

// inASCII writes an object's bytes that are not ASCII, which stand in literal strings alone, as octal escapes (7.3.4.2, table 3).
func inASCII(object []byte) string {
	var b strings.Builder
	for _, c := range object {
		if c < ' ' || c > '~' {
			fmt.Fprintf(&b, "\\%03o", c)
		} else {
			b.WriteByte(c)
		}
	}
	return b.String()
}

// Kept gives what it takes to lock the document again; false where it came unlocked, or its
// key is not known.
func (d *Document) Kept() (Kept, bool) {
	if d.crypt == nil || d.crypt.key == nil {
		return Kept{}, false
	}
	return d.crypt.kept, true
}

// FilesLocked reports whether attached files are encrypted and the password that opens them
// was not given, while the rest of the document is open.
func (d *Document) FilesLocked() bool { return d.crypt != nil && d.crypt.key == nil }

// unlock reads the encryption dictionary and tries the password as user's and owner's.
func (d *Document) unlock(password string) error {
	e := d.Dict(d.trailer.Get("Encrypt"))
	if e == nil {
		return refuse(ErrDamaged, "the file is damaged: it is locked in an unknown way")
	}
	c, length, err := d.readCrypt(e)
	if err != nil {
		return err
	}
	c.dict, _ = d.trailer.Get("Encrypt").(Ref)
	str := func(k Name, n int) []byte {
		s, _ := d.Resolve(e.Get(k)).(String)
		b := make([]byte, n)
		copy(b, s)
		return b
	}
	id, _ := d.Resolve(nth(d.Array(d.trailer.Get("ID")), 0)).(String)
	if c.aes256 {
		c.unlock256(prepare(password), str("U", 48), str("UE", 32), str("O", 48), str("OE", 32))
	} else {
		c.unlock128(encodeDoc(password), str("U", 32), str("O", 32), []byte(id), length)
	}
	if c.key == nil && (password != "" || c.streams != cipherNone || c.strings != cipherNone || c.files == cipherNone) {
		return refuse(ErrLocked, "the file is locked: it needs its password")
	}
	c.kept = Kept{Dict: inASCII(AppendObject(nil, d.direct(e, 0))), Key: c.key, ID: []byte(id)}
	d.crypt = c
	return nil
}

// direct copies an object with what it refers to written in place.
func (d *Document) direct(o Object, depth int) Object {
	if depth > 8 {
		return nil
	}
	switch v := d.Resolve(o).(type) {
	case *Dict:
		out := NewDict()
		for _, e := range v.Entries() {
			out.Set(e.Key, d.direct(e.Value, depth+1))
		}
		return out
	case Array:
		out := make(Array, len(v))
		for i := range v {
			out[i] = d.direct(v[i], depth+1)
		}
		return out
	case *Stream:
		return nil
	default:
		return v
	}
}

// readCrypt reads what an encryption dictionary says but for its passwords (7.6.2, table 20 and 21):
// length is the key's, in bytes, up to revision 4.
func (d *Document) readCrypt(e *Dict) (c *crypt, length int, err error) {
	if f := d.Name(e.Get("Filter")); f != "Standard" {
		if strings.Contains(string(f), "PubSec") || e.Has("Recipients") {
			return nil, 0, refuse(ErrUnsupported, "the file is locked with certificates, which can’t be opened here")
		}
		return nil, 0, refuse(ErrUnsupported, "the file is locked with an unknown method, “"+string(f)+"”, which can't be opened here")
	}
	c = &crypt{metadata: true, filters: map[Name]cipherKind{"Identity": cipherNone}}
	v := d.intParm(e, "V", 0, nil)
	c.Revision = d.intParm(e, "R", 0, nil)
	c.Permissions = int32(d.intParm(e, "P", 0, nil))
	if b, ok := d.Resolve(e.Get("EncryptMetadata")).(Boolean); ok {
		c.metadata = bool(b)
	}
	length = d.intParm(e, "Length", 40, nil) / 8
	unknown := refuse(ErrUnsupported, "the file is locked with an unknown method")
	switch {
	case v == 1 || v == 2 || v == 3:
		c.streams, c.strings, c.files = cipherRC4, cipherRC4, cipherRC4
		if v == 1 {
			length = 5
		}
	case v == 4 || v == 5:
		length = 16
		for _, f := range d.Dict(e.Get("CF")).Entries() {
			switch d.Name(d.Dict(f.Value).Get("CFM")) {
			case "V2":
				c.filters[f.Key] = cipherRC4
			case "AESV2", "AESV3":
				c.filters[f.Key] = cipherAES
			default:
				c.filters[f.Key] = cipherNone
			}
		}
		c.streams = c.filters[d.Name(e.Get("StmF"))]
		c.strings = c.filters[d.Name(e.Get("StrF"))]
		c.files = c.streams
		if f := d.Name(e.Get("EFF")); f != "" {
			c.files = c.filters[f]
		}
	default:
		return nil, 0, unknown
	}
	if c.Revision < 2 || c.Revision > 6 || c.Revision >= 5 != (v == 5) {
		return nil, 0, unknown
	}
	c.aes256 = c.Revision >= 5
	if length < 5 || length > 16 {
		length = 5
	}
	return c, length, nil
}

// clearContents reports whether the entry is a signature's /Contents, which is never encrypted (7.6.2).
func clearContents(d *Dict, k Name) bool {
	return k == "Contents" && d.Has("ByteRange") && (d.Get("Type") == Name("Sig") || d.Get("Type") == Name("DocTimeStamp") || d.Has("SubFilter"))
}

// of says how a stream is encrypted.
func (c *crypt) of(d *Document, s *Stream, up *loading) cipherKind {
	switch s.Dict.Get("Type") {
	case Name("XRef"):
		return cipherNone // 7.5.8.2
	case Name("Metadata"):
		if !c.metadata {
			return cipherNone
		}
	}
	if f, parms := d.filters(s, up); len(f) > 0 && f[0] == "Crypt" { // 7.4.10: a filter of its own
		name, _ := d.resolve(parms[0].Get("Name"), up).(Name)
		if name == "" {
			name = "Identity"
		}
		return c.filters[name]
	}
	if s.Dict.Get("Type") == Name("EmbeddedFile") {
		return c.files
	}
	return c.streams
}

func nth(a Array, i int) Object {
	if i < len(a) {
		return a[i]
	}
	return nil
}

// padding is the string of algorithm 2, step a.
var padding = []byte("\x28\xBF\x4E\x5E\x4E\x75\x8A\x41\x64\x00\x4E\x56\xFF\xFA\x01\x08\x2E\x2E\x00\xB6\xD0\x68\x3E\x80\x2F\x0C\xA9\xFE\x64\x53\x69\x7A")

func pad(password []byte) []byte {
	return append(slices.Clone(password[:min(len(password), 32)]), padding...)[:32]
}

// unlock128 tries a password of revisions 2 to 4 (algorithms 6 and 7) and keeps the file key.
func (c *crypt) unlock128(password, u, o, id []byte, length int) {
	user := func(pw []byte) bool {
		key := c.fileKey(pw, o, id, length)
		if c.Revision == 2 {
			if !bytes.Equal(rc4ed(key, padding), u) {
				return false
			}
			c.key = key
			return true
		}
		h := md5.Sum(append(slices.Clone(padding), id...))
		x := rc4ed(key, h[:])
		for i := 1; i <= 19; i++ {
			x = rc4ed(xored(key, byte(i)), x)
		}
		if subtle.ConstantTimeCompare(x, u[:16]) != 1 {
			return false
		}
		c.key = key
		return true
	}
	// The owner's password hides the user's in /O (algorithm 3).
	h := md5.Sum(pad(password))
	key := h[:]
	if c.Revision >= 3 {
		for range 50 {
			h = md5.Sum(key)
			key = h[:]
		}
		key = key[:length]
	} else {
		key = key[:5]
	}
	hidden := slices.Clone(o)
	if c.Revision == 2 {
		hidden = rc4ed(key, hidden)
	} else {
		for i := 19; i >= 0; i-- {
			hidden = rc4ed(xored(key, byte(i)), hidden)
		}
	}
	if len(password) > 0 && user(hidden) {
		c.Owner = true
		return
	}
	user(password)
}

// fileKey computes the file encryption key (algorithm 2).
func (c *crypt) fileKey(password, o, id []byte, length int) []byte {
	h := md5.New()
	h.Write(pad(password))
	h.Write(o)
	_ = binary.Write(h, binary.LittleEndian, c.Permissions) // a hash does not fail
	h.Write(id)
	if c.Revision >= 4 && !c.metadata {
		h.Write([]byte{0xff, 0xff, 0xff, 0xff})
	}
	key := h.Sum(nil)
	if c.Revision == 2 {
		return key[:5]
	}
	for range 50 {
		sum := md5.Sum(key[:length])
		key = sum[:]
	}
	return key[:length]
}

func rc4ed(key, data []byte) []byte {
	c, err := rc4.NewCipher(key)
	if err != nil {
		return nil
	}
	out := make([]byte, len(data))
	c.XORKeyStream(out, data)
	return out
}

func xored(key []byte, v byte) []byte {
	out := make([]byte, len(key))
	for i := range key {
		out[i] = key[i] ^ v
	}
	return out
}

// unlock256 tries a password of revisions 5 and 6 (algorithm 2.A).
func (c *crypt) unlock256(password, u, ue, o, oe []byte) {
	try := func(entry, wrapped, extra []byte) []byte {
		if subtle.ConstantTimeCompare(c.hash(password, entry[32:40], extra), entry[:32]) != 1 {
			return nil
		}
		block, err := aes.NewCipher(c.hash(password, entry[40:48], extra))
		if err != nil {
			return nil
		}
		key := make([]byte, 32)
		cipher.NewCBCDecrypter(block, make([]byte, aes.BlockSize)).CryptBlocks(key, wrapped)
		return key
	}
	if c.key = try(o, oe, u); c.key != nil {
		c.Owner = true
		return
	}
	c.key = try(u, ue, nil)
}

// hash is the hash of revision 5, or algorithm 2.B for revision 6.
func (c *crypt) hash(password, salt, extra []byte) []byte {
	sum := sha256.Sum256(slices.Concat(password, salt, extra))
	k := sum[:]
	if c.Revision == 5 {
		return k
	}
	for round := 0; ; round++ {
		k1 := bytes.Repeat(slices.Concat(password, k, extra), 64)
		block, err := aes.NewCipher(k[:16])
		if err != nil {
			return k[:32]
		}
		e := make([]byte, len(k1))
		cipher.NewCBCEncrypter(block, k[16:32]).CryptBlocks(e, k1)
		rest := 0
		for _, b := range e[:16] {
			rest += int(b) // 256 leaves 1 over when divided by 3, so the digits' sum does
		}
		switch rest % 3 {
		case 0:
			s := sha256.Sum256(e)
			k = s[:]
		case 1:
			s := sha512.Sum384(e)
			k = s[:]
		default:
			s := sha512.Sum512(e)
			k = s[:]
		}
		if round >= 63 && int(e[len(e)-1]) <= round+1-32 { // rounds done, less 32
			return k[:32]
		}
	}
}

// prepare prepares a password for revisions 5 and 6: SASLprep's mappings and NFKC
// (RFC 4013), as UTF-8 of at most 127 bytes.
func prepare(password string) []byte {
	mapped := strings.Map(func(r rune) rune {
		switch {
		case r == 0xad || r == 0x34f || r == 0x1806 || r >= 0x180b && r <= 0x180d || r >= 0x200b && r <= 0x200d || r == 0x2060 || r >= 0xfe00 && r <= 0xfe0f || r == 0xfeff:
			return -1 // RFC 3454, table B.1
		case unicode.Is(unicode.Zs, r):
			return ' ' // table C.1.2
		}
		return r
	}, password)
	b := []byte(norm.NFKC.String(mapped))
	return b[:min(len(b), 127)]
}

// encodeDoc encodes a password in PDFDocEncoding, for revisions 2 to 4.
func encodeDoc(s string) []byte {
	var out []byte
next:
	for _, r := range s {
		for b, c := range pdfDoc {
			if c == r {
				out = append(out, b)
				continue next
			}
		}
		if r < 256 {
			out = append(out, byte(r))
		}
	}
	return out
}

// objectKey gives the key of one object (algorithm 1; 1.A uses the file key itself).
func (c *crypt) objectKey(num, gen int, kind cipherKind) []byte {
	if c.aes256 {
		return c.key
	}
	b := append(slices.Clone(c.key), byte(num), byte(num>>8), byte(num>>16), byte(gen), byte(gen>>8))
	if kind == cipherAES {
		b = append(b, "sAlT"...)
	}
	sum := md5.Sum(b)
	return sum[:min(len(c.key)+5, 16)]
}

func (c *crypt) decrypt(data []byte, num, gen int, kind cipherKind) []byte {
	switch kind {
	case cipherRC4:
		return rc4ed(c.objectKey(num, gen, kind), data)
	case cipherAES:
		n := (len(data) - aes.BlockSize) / aes.BlockSize * aes.BlockSize
		if n <= 0 {
			return nil
		}
		block, err := aes.NewCipher(c.objectKey(num, gen, kind))
		if err != nil {
			return nil
		}
		out := make([]byte, n)
		cipher.NewCBCDecrypter(block, data[:aes.BlockSize]).CryptBlocks(out, data[aes.BlockSize:aes.BlockSize+n])
		if p := int(out[n-1]); p >= 1 && p <= aes.BlockSize {
			out = out[:n-p]
		}
		return out
	}
	return data
}

// object decrypts the strings of an object, and makes its stream decrypt itself when it is read.
func (d *Document) decrypted(o Object, num, gen int, up *loading) Object {
	c := d.crypt
	if c == nil || c.dict.Num == num {
		return o
	}
	switch v := o.(type) {
	case String:
		return String(c.decrypt([]byte(v), num, gen, c.strings))
	case Array:
		for i := range v {
			v[i] = d.decrypted(v[i], num, gen, up)
		}
	case *Dict:
		for i := range v.entries {
			if clearContents(v, v.entries[i].Key) {
				continue
			}
			v.entries[i].Value = d.decrypted(v.entries[i].Value, num, gen, up)
		}
	case *Stream:
		if v.Dict.Get("Type") == Name("XRef") {
			return v
		}
		d.decrypted(v.Dict, num, gen, up)
		if kind := c.of(d, v, up); kind != cipherNone {
			v.open = func(b []byte) ([]byte, error) {
				if c.key == nil {
					return nil, refuse(ErrLocked, "the attached file is locked: it needs the document's password")
				}
				return c.decrypt(b, num, gen, kind), nil
			}
		}
	}
	return o
}
