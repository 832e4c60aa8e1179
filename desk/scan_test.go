package desk

import (
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/pdf/pdftest"
	"glenrain/core/raster"
	"glenrain/desk/people"
	"glenrain/scanner"
	standin "glenrain/standin/scanner"
)

// scanDesk opens a desk that may reach the scanner which ships with the program, and gives that with its address.
func scanDesk(t *testing.T) (*Desk, *standin.Scanner, string) {
	t.Helper()
	l, err := standin.Listen()
	require.NoError(t, err)
	s := standin.New()
	server := &http.Server{Handler: s, ReadHeaderTimeout: time.Minute}
	go func() { _ = server.Serve(l) }()
	t.Cleanup(func() { _ = server.Close() })
	d, err := Open(t.TempDir(), Options{PDFiumCache: raster.CacheForTests(), Scanners: scanner.Rules{Here: []netip.AddrPort{l.Addr().(*net.TCPAddr).AddrPort()}}})
	require.NoError(t, err)
	t.Cleanup(func() { _ = d.Close() })
	somebody(t, d, "isla", people.Administrator)
	return d, s, l.Addr().String()
}

// A scanner that is busy for a while is waited for, and what came of the scan goes with its document: its pictures, too.
func TestScanIntoADocument(t *testing.T) {
	d, s, address := scanDesk(t)
	s.Load("letter", standin.Sheet{Front: "letter"}, standin.Sheet{Front: "table"}, standin.Sheet{Front: "form"})
	row, err := d.AddScanner(t.Context(), 1, address)
	require.NoError(t, err)
	other := bring(t, d, "Tides.pdf", pdftest.Text(2))
	before := files(t, d)
	doc := bring(t, d, "Soundings.pdf", pdftest.Noted("Soundings", "BT ET"))
	s.Break("busy", 1)
	go func() {
		time.Sleep(900 * time.Millisecond)
		s.Break("", 0)
	}()
	w, err := d.Scan(t.Context(), Scanning{Person: 1, Scanner: row.ID, Document: doc.ID, Settings: ScanSettings{Source: "Feeder", Colour: "Grayscale8", Resolution: 75, Width: 595, Height: 842}})
	require.NoError(t, err)
	p := w.Wait(t.Context())
	require.NoError(t, p.Err)
	got, ok := d.Scanned(1, w.ID)
	require.True(t, ok)
	assert.Empty(t, got.Problem)
	assert.Len(t, got.Keys, 3, "it was busy after the first page, and then went on")
	assert.Zero(t, d.Store.Pinned(), "each picture is named by its step")
	require.Greater(t, len(files(t, d)), len(before))
	require.NoError(t, d.Bin(t.Context(), 1, []uint{doc.ID}))
	require.NoError(t, d.Purge(t.Context(), 1, doc.ID))
	assert.Equal(t, before, files(t, d), "no picture of the scan is left")
	_, ok = d.Scanned(1, w.ID)
	assert.False(t, ok)
	_, err = d.Look(t.Context(), 1, other.ID)
	require.NoError(t, err)

	// One that stays busy is told so.
	s.Break("busy", 0)
	_, err = d.Scan(t.Context(), Scanning{Person: 1, Scanner: row.ID, Settings: ScanSettings{Source: "Platen", Colour: "Grayscale8", Resolution: 75, Width: 595, Height: 842}})
	assert.ErrorContains(t, err, "busy")
}

func files(t *testing.T, d *Desk) []string {
	t.Helper()
	list, err := filepath.Glob(filepath.Join(d.dir, "files", "*", "*"))
	require.NoError(t, err)
	_, err = os.Stat(d.dir)
	require.NoError(t, err)
	return list
}

// What is no scanner is told in one sentence, whatever it is, and not tried for ever; a scanner that is there is added all the same later.
func TestAddressesWithoutScanners(t *testing.T) {
	d, s, address := scanDesk(t)
	other, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	require.NoError(t, other.Close())
	said := map[string]bool{}
	for _, fault := range []string{"unplugged", "speaks nonsense", "leads elsewhere"} {
		s.Break(fault, 0)
		_, err := d.AddScanner(t.Context(), 1, address)
		require.Error(t, err)
		said[err.Error()] = true
	}
	_, err = d.AddScanner(t.Context(), 1, "no-such-scanner.invalid")
	require.Error(t, err)
	said[err.Error()] = true
	assert.Len(t, said, 1, "%v", said)
	s.Break("", 0)
	row, err := d.AddScanner(t.Context(), 1, address)
	require.NoError(t, err)
	require.NoError(t, d.RemoveScanner(t.Context(), 1, row.ID))
	s.Break("unplugged", 0)
	for range 6 {
		_, err = d.AddScanner(t.Context(), 1, address)
		require.ErrorIs(t, err, errNoScanner)
	}
	s.Break("", 0)
	_, err = d.AddScanner(t.Context(), 1, address)
	require.ErrorContains(t, err, "you have tried 10 addresses")
	tomas := somebody(t, d, "tomas", people.Member)
	_, err = d.AddScanner(t.Context(), tomas, address)
	require.NoError(t, err, "others are not kept from it")
}
