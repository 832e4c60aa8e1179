package desk

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/naming"
	"glenrain/core/pdf/pdftest"
	"glenrain/core/raster"
	"glenrain/core/step"
	"glenrain/desk/background"
	"glenrain/desk/people"
	"glenrain/desk/store"
)

// What holds nothing of a document, and why.
var (
	emptyTables = map[string]string{
		"migrations": "of the database itself", "sqlite_sequence": "of the database itself", "people": "people", "sessions": "of scs, not used", "invites": "people", "signed_ins": "people",
		"devices": "people", "houses": "settings", "folders": "names", "folder_people": "people", "passed_ons": "ids", "gathered": "ids and page sets", "choices": "how screens were left",
		"scanners": "addresses", "manies": "values of work on many documents, without content", "settings": "settings of the office", "learned_words": "words that somebody told the office’s dictionary",
	}
	emptyFields = map[string]string{
		"db": "listed by its tables", "gate": "people", "guests": "who visits", "keyFile": "a path", "dir": "listed by its folders", "lock": "a lock", "registry": "code", "words": "learned_words in memory", "scanners": "rules", "log": "see TestLogHoldsNoContent",
		"now": "a clock", "maxWork": "a limit", "mu": "a lock", "order": "ids", "watch": "ids", "hashing": "a limit", "guesses": "sign-ins", "persons": "people", "opened": "ids", "purged": "ids",
		"others": "the inventory itself", "cleaning": "a lock", "moreChecks": "code", "moreFinishers": "code", "moreMany": "code", "manyMu": "a lock", "endCheckpoints": "code",
	}
	emptyPaths = map[string]string{
		"lock": "a lock", store.DatabaseName: "listed by its tables", store.DatabaseName + "-wal": "emptied by clean", store.DatabaseName + "-shm": "an index of the log", "coming": "emptied at the start; each file goes with its upload",
		"pdfium": "the renderer’s code", "languages": "a setting", uncleanName: "a mark", "fonts": "the office’s fonts", sealKeyName: "the key of secrets", "setting": "emptied at the start; each folder goes with its file",
	}
)

// Whatever is added to the database, the data folder or the desk's memory comes into the inventory, or is named here as holding nothing of documents.
func TestInventoryIsWhole(t *testing.T) {
	d := newDesk(t)
	tables, fields, folders := map[string]bool{}, map[string]bool{}, map[string]bool{}
	for _, h := range d.Holdings() {
		for _, x := range h.Tables {
			tables[x] = true
		}
		for _, x := range h.Fields {
			fields[x] = true
		}
		folders[h.Folder] = true
		assert.True(t, h.Rows != nil || h.Forget != nil, "%s is forgotten somehow", h.Name)
	}
	var names []string
	require.NoError(t, d.db.Raw("SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'page\\_search\\_%' ESCAPE '\\'").Scan(&names).Error)
	require.Greater(t, len(names), 15)
	for _, n := range names {
		assert.True(t, tables[n] != (emptyTables[n] != ""), "the table %s is in the inventory, or holds nothing", n)
	}
	var look func(typ reflect.Type)
	look = func(typ reflect.Type) {
		for i := range typ.NumField() {
			f := typ.Field(i)
			if f.Anonymous { // a room below
				look(f.Type.Elem())
				continue
			}
			assert.True(t, fields[f.Name] != (emptyFields[f.Name] != ""), "the field %s of %s is in the inventory, or holds nothing", f.Name, typ)
		}
	}
	look(reflect.TypeFor[Desk]())
	doc := bring(t, d, "Berths.pdf", pdftest.Text(2))
	_, err := d.Picture(t.Context(), 1, doc.ID, step.Key{Ordinal: 1}, 0, 40, 40)
	require.NoError(t, err)
	d.KeepLanguages("eng")
	d.readings.since().Store([32]byte{1}, []byte("x"))
	entries, err := os.ReadDir(d.dir)
	require.NoError(t, err)
	for _, e := range entries {
		assert.True(t, folders[e.Name()] != (emptyPaths[e.Name()] != ""), "%s in the data folder is in the inventory, or holds nothing", e.Name())
	}
}

// The words that stand in a document which is to be gone, and nowhere else.
var secrets = []string{"Zanzibarquoin", "Velvetharrow"}

// leftovers lists where in a data folder words stand, as they are or packed in PDF's usual way: files that were not there before may hold them packed.
func leftovers(t *testing.T, dir string, before map[string]bool) (where []string) {
	t.Helper()
	require.NoError(t, filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		b, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		rel, _ := filepath.Rel(dir, path)
		if before != nil && !before[rel] && !strings.HasPrefix(rel, store.DatabaseName) && !strings.HasPrefix(rel, "pdfium") {
			where = append(where, rel+" is new")
		}
		low := bytes.ToLower(b)
		for _, w := range secrets {
			w = strings.ToLower(w)
			if bytes.Contains(low, []byte(w)) || bytes.Contains(low, []byte(strings.Join(strings.Split(w, ""), "\x00"))) || len(w) > 7 && bytes.Contains(low, []byte(w[3:])) { // the index keeps what follows a common beginning
				where = append(where, rel+" holds "+w)
			}
		}
		return nil
	}))
	return where
}

func paths(t *testing.T, dir string) map[string]bool {
	out := map[string]bool{}
	require.NoError(t, filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
		rel, _ := filepath.Rel(dir, path)
		out[rel] = true
		return err
	}))
	return out
}

// Of a document that was purged nothing is left in the data folder, byte by byte, nor in memory, wherever it was: after work of all kinds with it.
func TestPurgedIsGone(t *testing.T) {
	d := newDesk(t)
	ctx := t.Context()
	other := bring(t, d, "Tides.pdf", pdftest.Text(4))
	require.NoError(t, d.ReadAll(ctx, 1))
	mustDo(t, d, other.ID, "rotate", `{"pages":"1","by":90}`)
	before := paths(t, d.dir)
	doc := bring(t, d, "Secret.pdf", pdftest.Noted("The "+secrets[0]+" berth", "BT /F 12 Tf 5 10 Td ("+secrets[1]+" pilots) Tj ET"))
	at := func() *Snapshot {
		s, err := d.Snapshot(ctx, doc.ID)
		require.NoError(t, err)
		return s
	}
	require.NoError(t, d.ReadAll(ctx, 1))
	_, err := d.Search(ctx, 1, secrets[0], 9)
	require.NoError(t, err)
	for _, c := range [][2]string{
		{"edit-paragraph", `{"page":"1","paragraph":0,"text":"The ` + secrets[0] + ` quay of ` + secrets[1] + `"}`},
		{"replace-text", `{"pages":"all","pairs":[{"find":"quay","with":"` + secrets[1] + `"}]}`},
		{"mark-text", `{"page":"1","quads":[[20,245,120,245,20,262,120,262]],"how":"highlight","text":"` + secrets[0] + `"}`},
		{"blank", `{"to":"end","count":2}`},
		{"number", `{"pages":"all","wording":[{"text":"` + secrets[1] + ` "},{"field":"page"}]}`},
	} {
		_, err := do(t, d, doc.ID, at().State.ID, c[0], c[1])
		require.NoError(t, err, c[0])
	}
	pic := image.NewGray(image.Rect(0, 0, 8, 8))
	pic.SetGray(1, 1, color.Gray{Y: 200})
	var file bytes.Buffer
	require.NoError(t, png.Encode(&file, pic))
	_, err = d.DoWith(ctx, Change{Document: doc.ID, Seen: at().State.ID, RequestID: "pic", Person: 1, Name: "add-picture"}, &file, func(from string) (json.RawMessage, error) {
		return json.RawMessage(fmt.Sprintf(`{"from":%q,"page":"1","x":40,"y":40,"width":100}`, from)), nil
	})
	require.NoError(t, err)
	_, err = d.Undo(ctx, doc.ID, at().State.ID, 1)
	require.NoError(t, err)
	require.NoError(t, d.CallState(ctx, 1, doc.ID, at().State.ID, "With "+secrets[0]))
	_, err = d.Picture(ctx, 1, doc.ID, step.Key{Ordinal: 1}, at().Pages()[0].Version, 400, 400)
	require.NoError(t, err)
	_, err = d.HandOut(ctx, &background.Work{}, Order{Document: doc.ID, Seen: at().State.ID, Person: 1, Name: "Out", AsItIs: true, RequestID: "out"})
	require.NoError(t, err)
	_, err = handMany(t, d, Handing{Documents: []uint{other.ID, doc.ID}, Person: 1, RequestID: "zip", Zip: "Both", AsItIs: true, Pattern: naming.Pattern{{Field: "name"}}})
	require.NoError(t, err)
	d.readings.since().Store([32]byte{7}, []byte(secrets[0]))
	heldBySomebody := 0
	d.Hold("a screen’s memory", func(document uint) {
		if document == doc.ID {
			heldBySomebody++
		}
	})
	late := at()
	w := d.Start(1, "Something", func(context.Context, *background.Work) (any, error) { return &Outcome{Snapshot: late}, nil })
	w.Wait(ctx)
	w2, err := d.RecognizeMany(ctx, 1, []uint{other.ID}, "eng")
	if err == nil {
		w2.Wait(ctx)
	}
	require.NotEmpty(t, leftovers(t, d.dir, before))

	require.NoError(t, d.Bin(ctx, 1, []uint{doc.ID}))
	require.NoError(t, d.Purge(ctx, 1, doc.ID))
	// What was under way when it was purged brings nothing back.
	_, err = d.readTexts(ctx, &Snapshot{Document: late.Document, State: State{ID: late.State.ID + 1000}, PDF: late.PDF, Keys: late.Keys, base: late.base, parts: []raster.Part{{Data: pdftest.Text(1)}}, versions: map[step.Key]uint{{Ordinal: 1}: 99}, sizes: newSizes(), found: &found{}}, 1)
	require.ErrorIs(t, err, store.ErrMissing)
	d.pictures.keep(doc.ID, d.pictures.path(doc.ID, step.Key{Ordinal: 1}, 0, 40, 40), []byte(secrets[0]))
	require.Eventually(t, func() bool {
		_, err := os.Stat(filepath.Join(d.dir, uncleanName))
		return os.IsNotExist(err)
	}, 20*time.Second, 20*time.Millisecond, "cleaning ends")
	assert.Empty(t, leftovers(t, d.dir, before))
	assert.Equal(t, 1, heldBySomebody)
	got, isTold := w.Look().Result.(*Told)
	require.True(t, isTold, "%T", w.Look().Result)
	assert.NotContains(t, got.Sentence, secrets[0])
	var lines []people.Record
	require.NoError(t, d.db.Where("document_id = ?", doc.ID).Find(&lines).Error)
	assert.True(t, slices.ContainsFunc(lines, func(r people.Record) bool { return r.What == "changed" && r.Detail == "" && r.Document == "Secret" }), "that it was changed is known")
	assert.True(t, slices.ContainsFunc(lines, func(r people.Record) bool { return r.What == "handed out" && r.Detail == "Out.pdf" }), "and under which name it left")
	assert.Error(t, d.db.Model(&people.Record{}).Where("id = ?", lines[0].ID).Update("who", "nobody").Error, "no line can be changed otherwise")
	assert.Error(t, d.db.Model(&people.Record{}).Where("what = ?", "handed out").Update("detail", "").Error)
	d.mu.Lock()
	for _, l := range d.live {
		assert.False(t, l.snap != nil && l.snap.Document.ID == doc.ID)
	}
	d.mu.Unlock()
	s, err := d.Look(ctx, 1, other.ID)
	require.NoError(t, err)
	_, err = d.Picture(ctx, 1, other.ID, s.Pages()[1].Key, s.Pages()[1].Version, 40, 40)
	require.NoError(t, err, "the others are as they were")
}

// A server that is stopped between a purge and its cleaning goes on with it when it starts again.
func TestPurgedIsCleanedLater(t *testing.T) {
	dir := t.TempDir()
	d := openDesk(t, dir)
	doc := bring(t, d, "Secret.pdf", pdftest.Noted(secrets[0], "BT ET"))
	_, err := d.Picture(t.Context(), 1, doc.ID, step.Key{Ordinal: 1}, 0, 40, 40)
	require.NoError(t, err)
	require.NoError(t, d.ReadAll(t.Context(), 1))
	require.NoError(t, d.db.Delete(&Document{}, doc.ID).Error) // as if it had been stopped there
	require.NoError(t, d.db.Where("document_id = ?", doc.ID).Delete(&PageText{}).Error)
	d.readings.since().Store([32]byte{7}, []byte(secrets[0]))
	require.NoError(t, os.WriteFile(filepath.Join(dir, uncleanName), nil, 0o600))
	require.NoError(t, d.Close())
	d = openDesk(t, dir)
	defer d.Close()
	assert.NoDirExists(t, d.pictures.folder(doc.ID))
	assert.NoDirExists(t, filepath.Join(dir, "readings"))
	require.Eventually(t, func() bool {
		_, err := os.Stat(filepath.Join(dir, uncleanName))
		return os.IsNotExist(err)
	}, 20*time.Second, 20*time.Millisecond)
}

// A file that is exported while its document is purged is not kept.
func TestPurgedWhileExported(t *testing.T) {
	d := newDesk(t)
	doc := bring(t, d, "Secret.pdf", pdftest.Text(1))
	other := bring(t, d, "Tides.pdf", pdftest.Text(2))
	for _, h := range []*HandOut{{DocumentID: doc.ID, Name: "One.zip", PersonID: 1}, {DocumentID: other.ID, Also: fmt.Sprintf("[%d]", doc.ID), Name: "Two.zip", PersonID: 1}} {
		err := d.handZip(t.Context(), &background.Work{}, h, []zipped{{"a.pdf", func(w io.Writer) error {
			_ = d.Bin(t.Context(), 1, []uint{doc.ID})
			_ = d.Purge(t.Context(), 1, doc.ID)
			_, err := io.WriteString(w, "what it held")
			return err
		}}}, "")
		require.ErrorIs(t, err, store.ErrMissing)
		assert.NoFileExists(t, d.Store.Path(h.SHA))
	}
	var n int64
	require.NoError(t, d.db.Model(&HandOut{}).Count(&n).Error)
	assert.Zero(t, n)
}
