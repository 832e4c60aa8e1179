package intake

import (
	"context"
	"errors"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/intake/listing"
)

// A kind more is a row of the table: it is known by its bytes, titled, bounded, read, and takes options.
func TestKindMore(t *testing.T) {
	was := formats
	defer func() { formats = was }()
	formats = append([]format{{
		kind: "soundings", title: "a list of soundings", most: 1000, options: []Option{Encoding},
		is: func(f *file) bool { return f.text() && f.begins("#soundings") },
		read: func(ctx context.Context, in *reading) error {
			text, err := in.text()
			if err != nil {
				return err
			}
			first, rest, ok := strings.Cut(text, "\n")
			if !ok {
				return errors.New("there is nothing below " + first)
			}
			return listing.Write(ctx, in.sheet, in.name, rest, listing.Options{Paper: in.paper})
		},
	}}, formats...)
	read := func(text string) (*Result, error) {
		r := strings.NewReader(text)
		kind := Find(t.Context(), "quay.txt", r, r.Size())
		require.Equal(t, Kind("soundings"), kind)
		return Read(t.Context(), kind, "quay.txt", r, r.Size(), Options{})
	}
	out, err := read("#soundings\nBerth 4: 6.10 m\n")
	require.NoError(t, err)
	assert.Contains(t, string(out.Sheets[0].HTML), "Berth 4: 6.10 m")
	assert.NotContains(t, string(out.Sheets[0].HTML), "#soundings")
	assert.Equal(t, "utf-8", out.Encoding)
	_, err = read("#soundings")
	assert.EqualError(t, err, "there is nothing below #soundings")
	_, err = read("#soundings\n" + strings.Repeat("6.10 m\n", 200))
	assert.ErrorContains(t, err, "the most that can be turned into pages for a list of soundings")
	assert.Equal(t, "a list of soundings", Kind("soundings").Title())
	assert.True(t, Kind("soundings").Takes(Encoding))
	assert.False(t, Kind("soundings").Takes(Sheets))
}

// Each row says what is needed of it, and kinds that are not there, or not turned into pages, are refused in a sentence.
func TestTableOfKinds(t *testing.T) {
	seen := map[Kind]bool{}
	for _, f := range formats {
		assert.False(t, seen[f.kind], "%s stands twice", f.kind)
		seen[f.kind] = true
		assert.True(t, (f.read == nil) != (f.refuses == ""), "%s is read, or refused", f.kind)
		assert.Positive(t, f.most, f.kind)
		if f.kind != Foreign {
			assert.NotEmpty(t, f.title, f.kind)
		}
	}
	for kind, want := range map[Kind]string{Foreign: "this kind of file (pptx) can’t be turned into pages: save it as docx", Zip: "files of this kind can't be turned into pages", "of before": "files of this kind"} {
		var r *Refusal
		_, err := Read(t.Context(), kind, "a.pptx", strings.NewReader("x"), 1, Options{})
		require.ErrorAs(t, err, &r, kind)
		assert.Contains(t, r.Sentence, want)
	}
	// What a package is that can't be opened, or does not say what it holds, its ending tells.
	broken := "PK\x03\x04 and no more"
	for name, want := range map[string]Kind{"a.docx": "docx", "a.xlsm": "xlsx", "a.odt": "odt", "a.ods": "ods", "a.zip": Zip, "a": Zip} {
		assert.Equal(t, want, Find(t.Context(), name, strings.NewReader(broken), int64(len(broken))), name)
	}
	// An ending that is plain text's wins over how it begins; a name without one does not.
	page := "<html><p>x"
	assert.Equal(t, Kind("text"), Find(t.Context(), "a.log", strings.NewReader(page), int64(len(page))))
	assert.Equal(t, Kind("html"), Find(t.Context(), "a", strings.NewReader(page), int64(len(page))))
	assert.Equal(t, None, Find(t.Context(), "a", errorReader{}, 100))
}

// errorReader is a file that can't be read.
type errorReader struct{}

func (errorReader) ReadAt([]byte, int64) (int, error) { return 0, io.ErrUnexpectedEOF }
