package scanner_test

import (
	"bytes"
	"context"
	"errors"
	"image/jpeg"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/scanner"
	standin "glenrain/standin/scanner"
)

// at serves a handler, and gives the rules by which it may be reached.
func at(t *testing.T, h http.Handler) (string, scanner.Rules) {
	t.Helper()
	s := httptest.NewServer(h)
	t.Cleanup(s.Close)
	host := strings.TrimPrefix(s.URL, "http://")
	return host, scanner.Rules{Here: []netip.AddrPort{netip.MustParseAddrPort(host)}}
}

// reach gives a client to a scanner of this machine, whose port is any.
func reach(t *testing.T, h http.Handler) *scanner.Client {
	t.Helper()
	host, rules := at(t, h)
	c, err := scanner.ForTest(host, rules)
	require.NoError(t, err)
	t.Cleanup(c.Close)
	return c
}

var usual = scanner.Settings{Source: "Feeder", Colour: "Grayscale8", Resolution: 75, Width: 595.28, Height: 841.89}

// pages scans all there is.
func pages(t *testing.T, c *scanner.Client, s scanner.Settings) (list [][]byte, err error) {
	t.Helper()
	j, err := c.Start(t.Context(), s)
	if err != nil {
		return nil, err
	}
	for {
		data, media, err := j.Next(t.Context())
		if errors.Is(err, io.EOF) {
			return list, nil
		}
		if err != nil {
			return list, err
		}
		assert.Equal(t, "image/jpeg", media)
		list = append(list, data)
	}
}

func TestScan(t *testing.T) {
	s := standin.New()
	c := reach(t, s)
	caps, err := c.Capabilities(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "Quay Office Scanner", caps.Name)
	require.NotNil(t, caps.Glass)
	require.NotNil(t, caps.Backs)
	assert.Equal(t, []int{75, 100, 150, 200, 300, 600}, caps.Feeder.Resolutions)
	assert.Equal(t, []string{"BlackAndWhite1", "Grayscale8", "RGB24"}, caps.Glass.Colours)
	st, err := c.Status(t.Context())
	require.NoError(t, err)
	assert.Equal(t, scanner.Status{State: "Idle", Feeder: "ScannerAdfLoaded"}, st)
	both := usual
	both.Duplex = true
	list, err := pages(t, c, both)
	require.NoError(t, err)
	assert.Len(t, list, 8, "four sheets, both sides")
	img, err := jpeg.DecodeConfig(bytes.NewReader(list[0]))
	require.NoError(t, err)
	assert.InDelta(t, 620, img.Width, 1)
	assert.InDelta(t, 877, img.Height, 1)
	_, err = c.Start(t.Context(), usual)
	assert.ErrorIs(t, err, scanner.ErrEmpty)
	glass := usual
	glass.Source = "Platen"
	list, err = pages(t, c, glass)
	require.NoError(t, err)
	assert.Len(t, list, 1)
	// A job that is cancelled gives no more.
	s.Load("letter", standin.Usual()...)
	j, err := c.Start(t.Context(), usual)
	require.NoError(t, err)
	_, _, err = j.Next(t.Context())
	require.NoError(t, err)
	j.Cancel(t.Context())
	_, _, err = j.Next(t.Context())
	assert.ErrorIs(t, err, io.EOF)
	assert.Equal(t, 3, s.Left(), "the rest lies in the feeder still")
}

// Each fault is a sentence, and what came before it is there.
func TestFaults(t *testing.T) {
	for fault, want := range map[string]error{"jam": scanner.ErrJam, "cover open": scanner.ErrOpen, "unplugged": scanner.ErrAway, "stops in mid-page": scanner.ErrAway, "sends too much": scanner.ErrLarge, "leads elsewhere": scanner.ErrStopped} {
		t.Run(fault, func(t *testing.T) {
			s := standin.New()
			c := reach(t, s)
			s.Break(fault, 2)
			list, err := pages(t, c, usual)
			assert.ErrorIs(t, err, want)
			assert.Len(t, list, 2)
			s.Break(fault, 0)
			if fault != "stops in mid-page" && fault != "sends too much" {
				_, err = c.Start(t.Context(), usual)
				assert.Error(t, err)
			}
			s.Break("", 0)
			list, err = pages(t, c, usual)
			require.NoError(t, err, "once mended, it goes on")
			assert.NotEmpty(t, list)
		})
	}
	s := standin.New()
	c := reach(t, s)
	s.Break("busy", 0)
	_, err := c.Start(t.Context(), usual)
	assert.ErrorIs(t, err, scanner.ErrBusy)
	s.Break("speaks nonsense", 0)
	_, err = c.Capabilities(t.Context())
	assert.ErrorIs(t, err, scanner.ErrNotOne)
	s.Break("", 0)
	odd := usual
	odd.Resolution = 123
	_, err = c.Start(t.Context(), odd)
	assert.ErrorIs(t, err, scanner.ErrCant)
	// A page that takes long is waited for, until whoever waits gives up.
	s.Break("busy", 1)
	j, err := c.Start(t.Context(), usual)
	require.NoError(t, err)
	_, _, err = j.Next(t.Context())
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(t.Context(), 700*time.Millisecond)
	defer cancel()
	_, _, err = j.Next(ctx)
	assert.ErrorIs(t, err, context.DeadlineExceeded)
}

// Nothing but scanners is reached: no address of the server itself, no other port, path, or place that a scanner leads to.
func TestAddresses(t *testing.T) {
	for _, bad := range []string{"", "http://", "ftp://scanner", "http://u:p@scanner", "scanner/admin", "http://scanner/eSCL/../x", "scanner?x=1", "scanner#x", "file:///etc/passwd", "scanner:22", "scanner:6379", "scanner:0", "scanner:99999", strings.Repeat("a", 400)} {
		_, err := scanner.Parse(bad)
		assert.Error(t, err, bad)
	}
	for given, want := range map[string]string{"192.168.1.20": "http://192.168.1.20/eSCL/", "scanner.local:8080": "http://scanner.local:8080/eSCL/", "https://scanner/eSCL": "https://scanner/eSCL/", "escls://scanner:443": "https://scanner:443/eSCL/", " [fd00::5]:80 ": "http://[fd00::5]:80/eSCL/"} {
		u, err := scanner.Parse(given)
		require.NoError(t, err, given)
		assert.Equal(t, want, u.String())
	}
	reached := false
	host, _ := at(t, http.HandlerFunc(func(http.ResponseWriter, *http.Request) { reached = true }))
	port := host[strings.LastIndex(host, ":"):]
	for _, h := range []string{"127.0.0.1" + port, "localhost" + port, "[::1]" + port, "0.0.0.0" + port, "[::ffff:127.0.0.1]" + port, "127.1" + port, "169.254.169.254:80", "[fe80::1]:80", "224.0.0.1:80",
		"0.0.0.1:80", "[fd00:ec2::254]:80", "100.100.100.200:80", "[64:ff9b::7f00:1]:80", "[2002:7f00:1::]:80", "[::127.0.0.1]:80", "255.255.255.255:80", "198.18.0.1:80"} {
		c, err := scanner.ForTest(h, scanner.Rules{})
		if err != nil {
			continue
		}
		_, err = c.Capabilities(t.Context())
		if strings.HasPrefix(h, "127.1:") { // where it is taken for a name, there is none
			assert.Error(t, err)
			continue
		}
		assert.ErrorIs(t, err, scanner.ErrForbidden, "%s was tried", h)
	}
	assert.False(t, reached)
	// What does not answer is told in one sentence, whatever the reason: no port, no machine and no name of the network is told by another.
	closed, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	gone := closed.Addr().String()
	require.NoError(t, closed.Close())
	for _, h := range []string{gone, "no-such-scanner.invalid:80"} {
		c, err := scanner.ForTest(h, scanner.Rules{Here: []netip.AddrPort{netip.MustParseAddrPort(gone)}})
		require.NoError(t, err)
		_, err = c.Capabilities(t.Context())
		require.ErrorIs(t, err, scanner.ErrAway)
		assert.Equal(t, scanner.ErrAway.Error(), err.Error(), h)
	}
	// A scanner that leads to other places is not followed.
	other := false
	secret := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { other = true }))
	t.Cleanup(secret.Close)
	c := reach(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodPost {
			w.Header().Set("Location", secret.URL+"/eSCL/ScanJobs/../../admin")
			w.WriteHeader(http.StatusCreated)
			return
		}
		http.Redirect(w, r, secret.URL, http.StatusFound)
	}))
	_, err = c.Capabilities(t.Context())
	assert.ErrorIs(t, err, scanner.ErrNotOne)
	if j, err := c.Start(t.Context(), usual); err == nil {
		_, _, err = j.Next(t.Context())
		assert.Error(t, err)
	}
	assert.False(t, other)
}

// Certificates: those nobody signed are taken where the office says so, and then have to stay the same.
func TestCertificates(t *testing.T) {
	s := httptest.NewTLSServer(standin.New())
	t.Cleanup(s.Close)
	host := strings.TrimPrefix(s.URL, "https://")
	rules := scanner.Rules{Here: []netip.AddrPort{netip.MustParseAddrPort(host)}}
	c, err := scanner.ForTest("https://"+host, rules)
	require.NoError(t, err)
	_, err = c.Capabilities(t.Context())
	assert.ErrorIs(t, err, scanner.ErrTrust)
	rules.AnyCertificate = true
	c, err = scanner.ForTest("https://"+host, rules)
	require.NoError(t, err)
	_, err = c.Capabilities(t.Context())
	require.NoError(t, err)
	print := c.Print()
	assert.Len(t, print, 64)
	rules.AnyCertificate = false
	c, err = scanner.ForTestKnown("https://"+host, rules, print)
	require.NoError(t, err)
	_, err = c.Capabilities(t.Context())
	assert.NoError(t, err, "the one that is known")
	c, err = scanner.ForTestKnown("https://"+host, rules, strings.Repeat("0", 64))
	require.NoError(t, err)
	_, err = c.Capabilities(t.Context())
	assert.ErrorIs(t, err, scanner.ErrTrust, "another one")
}

// What a scanner says is bounded, and never believed.
func TestBadScanners(t *testing.T) {
	for name, body := range map[string]string{
		"empty": "", "not xml": "{}", "cut": "<scan:ScannerCapabilities><a>", "endless": strings.Repeat("<a>", 1<<20), "entities": `<!DOCTYPE x [<!ENTITY a "b">]><ScannerCapabilities>&a;</ScannerCapabilities>`,
		"no source": "<ScannerCapabilities><MakeAndModel>x</MakeAndModel></ScannerCapabilities>", "numbers": "<ScannerCapabilities><Platen><PlatenInputCaps><MaxWidth>99999999999999999999</MaxWidth></PlatenInputCaps></Platen></ScannerCapabilities>",
	} {
		c := reach(t, http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, body) }))
		_, err := c.Capabilities(t.Context())
		assert.ErrorIs(t, err, scanner.ErrNotOne, name)
	}
	c := reach(t, http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		_, _ = io.WriteString(w, "<ScannerCapabilities><MakeAndModel>"+strings.Repeat("x\n", 400)+"</MakeAndModel><Platen><PlatenInputCaps><SettingProfiles><SettingProfile>"+strings.Repeat("<ColorModes><ColorMode>a</ColorMode></ColorModes>", 200)+"</SettingProfile></SettingProfiles></PlatenInputCaps></Platen></ScannerCapabilities>")
	}))
	caps, err := c.Capabilities(t.Context())
	require.NoError(t, err)
	assert.LessOrEqual(t, len([]rune(caps.Name)), 100)
	assert.Len(t, caps.Glass.Colours, 1)
}

// Debian's scanimage reads the stand-in, by sane-airscan.
func TestScanimage(t *testing.T) {
	if _, err := exec.LookPath("scanimage"); err != nil {
		t.Skip(err)
	}
	if m, _ := filepath.Glob("/usr/lib/*/sane/libsane-airscan.so*"); len(m) == 0 {
		t.Skip("sane-airscan is not installed")
	}
	s := httptest.NewServer(standin.New())
	t.Cleanup(s.Close)
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "dll.conf"), []byte("airscan\n"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "airscan.conf"), []byte("[devices]\n\"Quay\" = "+s.URL+"/eSCL, eSCL\n[options]\ndiscovery = disable\n"), 0o600))
	scan := func(args ...string) []byte {
		cmd := exec.CommandContext(t.Context(), "scanimage", args...)
		cmd.Env = append(os.Environ(), "SANE_CONFIG_DIR="+dir)
		var out, said bytes.Buffer
		cmd.Stdout, cmd.Stderr = &out, &said
		err := cmd.Run()
		require.NoError(t, err, said.String())
		return out.Bytes()
	}
	list := string(scan("-L"))
	require.Contains(t, list, "Quay")
	img, err := jpeg.DecodeConfig(bytes.NewReader(scan("-d", "airscan:e0:Quay", "--format=jpeg", "--resolution", "100", "--mode", "Gray", "--source", "Flatbed")))
	require.NoError(t, err)
	assert.InDelta(t, 850, img.Width, 30)
	out := filepath.Join(dir, "p%d.jpg")
	scan("-d", "airscan:e0:Quay", "--format=jpeg", "--resolution", "75", "--mode", "Color", "--source", "ADF Duplex", "--batch="+out)
	got, err := filepath.Glob(filepath.Join(dir, "p*.jpg"))
	require.NoError(t, err)
	assert.Len(t, got, 8)
}
