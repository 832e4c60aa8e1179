package pdf

import (
	"bytes"
	"runtime"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// packedPages is a file of pages in many object streams, in the order of a book: a node for ten pages each.
func packedPages(t *testing.T, n int) []byte {
	t.Helper()
	d := New()
	root := d.Add(nil)
	var tops Array
	for range n / 10 {
		node := d.Add(nil)
		var kids Array
		for range 10 {
			kids = append(kids, d.Add(NewDict("Type", Name("Page"), "Parent", node, "MediaBox", Array{Integer(0), Integer(0), Integer(595), Integer(842)})))
		}
		d.Set(node, NewDict("Type", Name("Pages"), "Parent", root, "Kids", kids, "Count", Integer(10)))
		tops = append(tops, node)
	}
	d.Set(root, NewDict("Type", Name("Pages"), "Kids", tops, "Count", Integer(n)))
	d.Edit(d.Root()).Set("Pages", root)
	var b bytes.Buffer
	require.NoError(t, d.WriteFull(t.Context(), &b, FullOptions{KeepNumbers: true}))
	return b.Bytes()
}

// What is unpacked ahead by other cores comes to the same as what the walk unpacks itself, also where streams are damaged.
func TestUnpackedAhead(t *testing.T) {
	data := packedPages(t, 3000)
	streams := bytes.Count(data, []byte("/ObjStm"))
	require.Greater(t, streams, 2*fewStreams)
	damaged := bytes.Clone(data)
	for at, k := 0, 0; ; k++ { // every fifth stream
		i := bytes.Index(damaged[at:], []byte("/ObjStm"))
		if i < 0 {
			break
		}
		at += i + 7
		if k%5 == 4 {
			s := at + bytes.Index(damaged[at:], []byte("stream")) + 20
			copy(damaged[s:], bytes.Repeat([]byte{0xff}, 40))
		}
	}
	read := func(data []byte) (pages []Ref, wrong []string) {
		d, wrong, err := OpenMended(t.Context(), bytes.NewReader(data), int64(len(data)), "")
		require.NoError(t, err)
		list, err := d.Pages()
		require.NoError(t, err)
		for _, p := range list {
			pages = append(pages, p.Ref)
		}
		assert.Nil(t, d.shared.ahead, "nothing goes on when the walk is over")
		return pages, wrong
	}
	for name, data := range map[string][]byte{"sound": data, "damaged": damaged} {
		cores := runtime.GOMAXPROCS(1)
		alone, wrong := read(data)
		for range 10 {
			runtime.GOMAXPROCS(4)
			pages, said := read(data)
			assert.Equal(t, alone, pages, name)
			assert.Equal(t, wrong, said, name)
		}
		runtime.GOMAXPROCS(cores)
		assert.Equal(t, name == "sound", len(alone) == 3000, "%s: %d pages", name, len(alone))
	}
}

// Streams that refer to one another hold up nobody: each is asked for while the other is being unpacked.
func TestUnpackedAheadInACircle(t *testing.T) {
	data := packedPages(t, 3000)
	// The length of each stream is said to be an object of the next one: none can be read, and the file is refused or repaired, at once.
	circle := bytes.ReplaceAll(data, []byte("/Length "), []byte("/Length 9 0 R %"))
	d, _, err := OpenMended(t.Context(), bytes.NewReader(circle), int64(len(circle)), "")
	if err != nil {
		assert.ErrorIs(t, err, ErrDamaged)
		return
	}
	assert.Nil(t, d.shared.ahead)
}
