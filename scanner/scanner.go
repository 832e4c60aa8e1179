// Package scanner speaks to scanners on the network by eSCL (Mopria Alliance, "eSCL Technical Specification" 2.97): what a scanner can do, how it is, jobs, and
// the pages that they give. An address is checked when it is typed and at each connection, so that nothing but scanners is reached through the server.
package scanner

import (
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"path"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// Errors of scanning; each is a sentence.
var (
	ErrAddress   = errors.New("this is not the address of a scanner")
	ErrForbidden = errors.New("this can’t be a scanner’s address, because it points to the server itself or to nothing")
	ErrAway      = errors.New("the scanner doesn’t answer: check that it is switched on and connected")
	ErrNotOne    = errors.New("no scanner that speaks eSCL answers there")
	ErrBusy      = errors.New("the scanner is busy")
	ErrEmpty     = errors.New("the feeder is empty")
	ErrJam       = errors.New("paper is jammed in the feeder")
	ErrOpen      = errors.New("a lid or door of the scanner is open")
	ErrStopped   = errors.New("the scanner stopped")
	ErrTrust     = errors.New("the scanner’s certificate isn’t trusted here")
	ErrLarge     = errors.New("the scanner sent more data than a page can have")
	ErrCant      = errors.New("the scanner can’t do that")
)

// Limits of what a scanner may send.
const (
	mostXML  = 1 << 20
	mostPage = 256 << 20
	longest  = 4 * time.Minute // a page at 600 dpi takes its time
	patience = 20 * time.Second
)

// Rules say where scanners may be.
type Rules struct {
	// Here are addresses of this machine that are scanners all the same: the one that ships with the program.
	Here []netip.AddrPort
	// AnyCertificate takes certificates that no authority signed, as most scanners have them; else they must be valid, or be known.
	AnyCertificate bool
}

// Client reaches one scanner.
type Client struct {
	base  *url.URL
	http  *http.Client
	print string // the certificate that it has to have, where known
	seen  string
}

// Parse reads an address as people type it: a name or number, with a port, or an address as scanners tell it.
func Parse(s string) (*url.URL, error) {
	s = strings.TrimSpace(s)
	if s == "" || len(s) > 300 {
		return nil, ErrAddress
	}
	if !strings.Contains(s, "://") {
		s = "http://" + s
	}
	s = strings.Replace(s, "escl://", "http://", 1)
	s = strings.Replace(s, "escls://", "https://", 1)
	u, err := url.Parse(s)
	if err != nil || u.Hostname() == "" || u.User != nil || u.RawQuery != "" || u.Fragment != "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, ErrAddress
	}
	if p := strings.Trim(u.Path, "/"); p != "" && !strings.EqualFold(p, "eSCL") {
		return nil, fmt.Errorf("%w: enter only its host name or IP address", ErrAddress)
	}
	if p := u.Port(); p != "" {
		if n, err := strconv.Atoi(p); err != nil || !port(n) {
			return nil, fmt.Errorf("%w: scanners are at the ports 80, 443, 631, 8080, 8443, and from 9000 to 9999", ErrForbidden)
		}
	}
	u.Path = "/eSCL/"
	return u, nil
}

func port(n int) bool {
	return n == 80 || n == 443 || n == 631 || n == 8080 || n == 8443 || n >= 9000 && n <= 9999
}

// allowed reports whether a scanner may be at an address of the network.
func (r Rules) allowed(at netip.AddrPort) bool {
	at = netip.AddrPortFrom(at.Addr().Unmap(), at.Port())
	if slices.Contains(r.Here, at) {
		return true
	}
	a := at.Addr().WithZone("")
	if a.IsLoopback() || a.IsUnspecified() || a.IsMulticast() || a.IsLinkLocalUnicast() || a.IsLinkLocalMulticast() || a.IsInterfaceLocalMulticast() {
		return false
	}
	for _, n := range nowhere {
		if n.Contains(a) {
			return false
		}
	}
	return !own(a)
}

// nowhere are networks in which no scanner is: special addresses (RFC 6890 and the registries of IANA that it names), those that lead to others written inside
// them, and those at which machines that are rented keep what only they may know.
var nowhere = func() (list []netip.Prefix) {
	for _, s := range []string{
		"0.0.0.0/8",                                                          // this network (RFC 791); Linux takes 0.0.0.0 for itself
		"100.100.0.0/16",                                                     // of the shared space (RFC 6598), where a provider keeps its machines' data
		"192.0.0.0/24",                                                       // protocol assignments
		"192.0.2.0/24", "198.51.100.0/24", "203.0.113.0/24", "2001:db8::/32", // documentation
		"192.88.99.0/24", "2002::/16", "64:ff9b::/96", "64:ff9b:1::/48", "2001::/32", "::/96", "::ffff:0:0/96", // ways from one version to the other
		"198.18.0.0/15", // benchmarks
		"240.0.0.0/4",   // reserved, and broadcast
		"100::/64",      // discarded
		"fd00:ec2::/32", // where a provider keeps its machines' data
		"fec0::/10",     // site-local, given up
	} {
		list = append(list, netip.MustParsePrefix(s))
	}
	return list
}()

// own reports whether an address is one of this machine.
func own(a netip.Addr) bool {
	list, err := net.InterfaceAddrs()
	if err != nil {
		return true // nothing is known: nothing is allowed
	}
	for _, n := range list {
		if p, err := netip.ParsePrefix(n.String()); err == nil && p.Addr().Unmap() == a {
			return true
		}
	}
	return false
}

// New prepares to reach a scanner. print is the fingerprint of the certificate that was accepted before; empty where none was.
func New(address string, rules Rules, print string) (*Client, error) {
	u, err := Parse(address)
	if err != nil {
		return nil, err
	}
	c := &Client{base: u, print: print}
	dialer := &net.Dialer{Timeout: 6 * time.Second, Control: func(_, address string, _ syscall.RawConn) error { // of each address that a name leads to
		at, err := netip.ParseAddrPort(address)
		if err != nil || !rules.allowed(at) {
			return ErrForbidden
		}
		return nil
	}}
	config := &tls.Config{MinVersion: tls.VersionTLS12, InsecureSkipVerify: true, VerifyConnection: func(s tls.ConnectionState) error { // #nosec: it is verified here
		if len(s.PeerCertificates) == 0 {
			return ErrTrust
		}
		sum := sha256.Sum256(s.PeerCertificates[0].Raw)
		c.seen = hex.EncodeToString(sum[:])
		if c.print != "" {
			if c.print != c.seen {
				return fmt.Errorf("%w: it has another one than before", ErrTrust)
			}
			return nil
		}
		if rules.AnyCertificate {
			return nil
		}
		pool := x509.NewCertPool()
		for _, cert := range s.PeerCertificates[1:] {
			pool.AddCert(cert)
		}
		if _, err := s.PeerCertificates[0].Verify(x509.VerifyOptions{DNSName: s.ServerName, Intermediates: pool}); err != nil {
			return ErrTrust
		}
		return nil
	}}
	c.http = &http.Client{
		Transport:     &http.Transport{DialContext: dialer.DialContext, TLSClientConfig: config, Proxy: nil, ResponseHeaderTimeout: longest, MaxResponseHeaderBytes: 64 << 10, DisableCompression: true},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }, // a scanner that leads elsewhere is none
	}
	return c, nil
}

// Close lets its connections go.
func (c *Client) Close() { c.http.CloseIdleConnections() }

// Print is the fingerprint of the certificate that the scanner showed, to be kept.
func (c *Client) Print() string { return c.seen }

// Address is where it is reached, as it is kept.
func (c *Client) Address() string { return strings.TrimSuffix(c.base.String(), "/eSCL/") }

func (c *Client) send(ctx context.Context, method, where string, body []byte, limit time.Duration) (*http.Response, context.CancelFunc, error) {
	limited, cancel := context.WithTimeout(ctx, limit)
	r, err := http.NewRequestWithContext(limited, method, c.base.JoinPath(where).String(), bytes.NewReader(body))
	if err != nil {
		cancel()
		return nil, nil, ErrAddress
	}
	if body != nil {
		r.Header.Set("Content-Type", "text/xml; charset=utf-8")
	}
	got, err := c.http.Do(r)
	if err != nil {
		cancel()
		return nil, nil, plain(ctx, err)
	}
	return got, cancel, nil
}

// plain gives the sentence of an error of the network.
func plain(ctx context.Context, err error) error {
	for _, known := range []error{ErrForbidden, ErrTrust, ErrLarge} {
		if errors.Is(err, known) {
			return known
		}
	}
	if errors.Is(ctx.Err(), context.Canceled) {
		return ctx.Err()
	}
	return ErrAway // why is not said: it would tell what of the network answers, and who names it
}

func (c *Client) xml(ctx context.Context, where string, into any) error {
	got, cancel, err := c.send(ctx, http.MethodGet, where, nil, patience)
	if err != nil {
		return err
	}
	defer cancel()
	defer got.Body.Close()
	switch {
	case got.StatusCode == http.StatusServiceUnavailable:
		return ErrBusy
	case got.StatusCode != http.StatusOK:
		return ErrNotOne
	}
	data, err := io.ReadAll(io.LimitReader(got.Body, mostXML+1))
	if err != nil {
		return plain(ctx, err)
	}
	if len(data) > mostXML {
		return ErrNotOne
	}
	d := xml.NewDecoder(bytes.NewReader(data))
	d.Strict = true
	if err := d.Decode(into); err != nil {
		return ErrNotOne
	}
	return nil
}

// Source is where sheets lie.
type Source struct {
	Name        string // Platen or Feeder, as jobs name it
	Duplex      bool
	Width       int // most, in 300ths of an inch
	Height      int
	Colours     []string // RGB24, Grayscale8, BlackAndWhite1
	Resolutions []int    // dpi
	Formats     []string
}

// Capabilities are what a scanner can do.
type Capabilities struct {
	Name    string
	Serial  string
	Glass   *Source
	Feeder  *Source
	Backs   *Source // the feeder, both sides
	Version string
}

type profileXML struct {
	Colours []string `xml:"ColorModes>ColorMode"`
	Formats []string `xml:"DocumentFormats>DocumentFormat"`
	More    []string `xml:"DocumentFormats>DocumentFormatExt"`
	Exact   []struct {
		X int `xml:"XResolution"`
		Y int `xml:"YResolution"`
	} `xml:"SupportedResolutions>DiscreteResolutions>DiscreteResolution"`
	Range struct {
		Min int `xml:"Min"`
		Max int `xml:"Max"`
	} `xml:"SupportedResolutions>ResolutionRange>XResolutionRange"`
}

type inputXML struct {
	MaxWidth  int          `xml:"MaxWidth"`
	MaxHeight int          `xml:"MaxHeight"`
	Profiles  []profileXML `xml:"SettingProfiles>SettingProfile"`
}

type capabilitiesXML struct {
	XMLName xml.Name  `xml:"ScannerCapabilities"`
	Version string    `xml:"Version"`
	Name    string    `xml:"MakeAndModel"`
	Serial  string    `xml:"SerialNumber"`
	Platen  *inputXML `xml:"Platen>PlatenInputCaps"`
	Simplex *inputXML `xml:"Adf>AdfSimplexInputCaps"`
	Duplex  *inputXML `xml:"Adf>AdfDuplexInputCaps"`
}

func (in *inputXML) source(name string, duplex bool) *Source {
	if in == nil {
		return nil
	}
	s := &Source{Name: name, Duplex: duplex, Width: in.MaxWidth, Height: in.MaxHeight}
	add := func(list *[]string, more ...string) {
		for _, v := range more {
			if v = strings.TrimSpace(v); v != "" && !slices.Contains(*list, v) && len(*list) < 50 {
				*list = append(*list, v)
			}
		}
	}
	for _, p := range in.Profiles {
		add(&s.Colours, p.Colours...)
		add(&s.Formats, p.Formats...)
		add(&s.Formats, p.More...)
		for _, r := range p.Exact {
			if r.X == r.Y && r.X > 0 && r.X <= 4800 && !slices.Contains(s.Resolutions, r.X) && len(s.Resolutions) < 50 {
				s.Resolutions = append(s.Resolutions, r.X)
			}
		}
		if p.Range.Max > 0 && len(p.Exact) == 0 {
			for _, r := range []int{75, 100, 150, 200, 300, 400, 600, 1200} {
				if r >= p.Range.Min && r <= p.Range.Max && !slices.Contains(s.Resolutions, r) {
					s.Resolutions = append(s.Resolutions, r)
				}
			}
		}
	}
	slices.Sort(s.Resolutions)
	return s
}

// Capabilities asks what the scanner can do.
func (c *Client) Capabilities(ctx context.Context) (*Capabilities, error) {
	var x capabilitiesXML
	if err := c.xml(ctx, "ScannerCapabilities", &x); err != nil {
		return nil, err
	}
	out := &Capabilities{Name: clean(x.Name), Serial: clean(x.Serial), Version: clean(x.Version), Glass: x.Platen.source("Platen", false), Feeder: x.Simplex.source("Feeder", false), Backs: x.Duplex.source("Feeder", true)}
	if out.Glass == nil && out.Feeder == nil && out.Backs == nil {
		return nil, ErrNotOne
	}
	if out.Name == "" {
		out.Name = "Scanner at " + c.base.Host
	}
	return out, nil
}

func clean(s string) string {
	s = strings.Join(strings.Fields(strings.ToValidUTF8(s, "")), " ")
	if r := []rune(s); len(r) > 100 {
		s = string(r[:100])
	}
	return s
}

// Status is how a scanner is.
type Status struct {
	State  string // Idle, Processing, Testing, Stopped, Down
	Feeder string // ScannerAdfLoaded, ScannerAdfEmpty, ScannerAdfJam, ...
}

// Status asks how the scanner is.
func (c *Client) Status(ctx context.Context) (Status, error) {
	var x struct {
		XMLName xml.Name `xml:"ScannerStatus"`
		State   string   `xml:"State"`
		Feeder  string   `xml:"AdfState"`
	}
	err := c.xml(ctx, "ScannerStatus", &x)
	return Status{clean(x.State), clean(x.Feeder)}, err
}

// wrong gives the sentence for a feeder that can't go on; nil where it can.
func (s Status) wrong() error {
	switch s.Feeder {
	case "ScannerAdfEmpty":
		return ErrEmpty
	case "ScannerAdfJam", "ScannerAdfMispick", "ScannerAdfMultipickDetected":
		return ErrJam
	case "ScannerAdfHatchOpen", "ScannerAdfInputTrayFailed", "ScannerAdfInputTrayOverloaded":
		return ErrOpen
	}
	switch s.State {
	case "Stopped", "Down":
		return ErrStopped
	}
	return nil
}

// Settings are those of one job.
type Settings struct {
	Source     string  // Platen or Feeder
	Duplex     bool    // both sides
	Colour     string  // RGB24, Grayscale8 or BlackAndWhite1
	Resolution int     // dpi
	Width      float64 // of the paper, in points
	Height     float64
	Format     string // image/jpeg, or what the scanner has
}

// Job is one that a scanner works at.
type Job struct {
	c  *Client
	at string // below the base
	s  Settings
	n  int
}

// Start begins a job.
func (c *Client) Start(ctx context.Context, s Settings) (*Job, error) {
	if s.Format == "" {
		s.Format = "image/jpeg"
	}
	per := func(points float64) int { return int(points/72*300 + 0.5) }
	var b bytes.Buffer
	b.WriteString(`<?xml version="1.0" encoding="UTF-8"?>` + "\n" +
		`<scan:ScanSettings xmlns:scan="http://schemas.hp.com/imaging/escl/2011/05/03" xmlns:pwg="http://www.pwg.org/schemas/2010/12/sm"><pwg:Version>2.6</pwg:Version><scan:Intent>Document</scan:Intent>`)
	fmt.Fprintf(&b, `<pwg:ScanRegions><pwg:ScanRegion><pwg:ContentRegionUnits>escl:ThreeHundredthsOfInches</pwg:ContentRegionUnits><pwg:XOffset>0</pwg:XOffset><pwg:YOffset>0</pwg:YOffset><pwg:Width>%d</pwg:Width><pwg:Height>%d</pwg:Height></pwg:ScanRegion></pwg:ScanRegions>`, per(s.Width), per(s.Height))
	text := func(s string) string {
		var e bytes.Buffer
		_ = xml.EscapeText(&e, []byte(s)) // to memory
		return e.String()
	}
	fmt.Fprintf(&b, `<pwg:InputSource>%s</pwg:InputSource><scan:ColorMode>%s</scan:ColorMode><scan:XResolution>%d</scan:XResolution><scan:YResolution>%d</scan:YResolution><pwg:DocumentFormat>%s</pwg:DocumentFormat><scan:DocumentFormatExt>%s</scan:DocumentFormatExt>`,
		text(s.Source), text(s.Colour), s.Resolution, s.Resolution, text(s.Format), text(s.Format))
	if s.Source == "Feeder" {
		fmt.Fprintf(&b, `<scan:Duplex>%t</scan:Duplex>`, s.Duplex)
	}
	b.WriteString(`</scan:ScanSettings>`)
	got, cancel, err := c.send(ctx, http.MethodPost, "ScanJobs", b.Bytes(), patience)
	if err != nil {
		return nil, err
	}
	defer cancel()
	defer got.Body.Close()
	_, _ = io.Copy(io.Discard, io.LimitReader(got.Body, mostXML))
	switch got.StatusCode {
	case http.StatusCreated:
	case http.StatusServiceUnavailable:
		return nil, ErrBusy
	case http.StatusConflict:
		if st, err := c.Status(ctx); err == nil {
			if wrong := st.wrong(); wrong != nil {
				return nil, wrong
			}
		}
		return nil, ErrCant
	case http.StatusBadRequest, http.StatusNotFound, http.StatusUnsupportedMediaType:
		return nil, ErrCant
	default:
		return nil, fmt.Errorf("%w (it answers %d)", ErrStopped, got.StatusCode)
	}
	// The place of the job is below the scanner's own, whatever host it says.
	u, err := url.Parse(got.Header.Get("Location"))
	if err != nil {
		return nil, ErrNotOne
	}
	id := path.Base(u.Path)
	if id == "." || id == "/" || id == ".." || len(id) > 200 || !strings.Contains(u.Path, "ScanJobs") {
		return nil, ErrNotOne
	}
	return &Job{c: c, at: "ScanJobs/" + id, s: s}, nil
}

// Next gives the next page: its bytes and their media type. io.EOF is the end. A page that is not ready is waited for.
func (j *Job) Next(ctx context.Context) (data []byte, media string, err error) {
	for wait := 0; ; wait++ {
		data, media, err = j.next(ctx)
		if !errors.Is(err, ErrBusy) {
			return data, media, err
		}
		if wait >= 120 {
			return nil, "", ErrBusy
		}
		select {
		case <-ctx.Done():
			return nil, "", ctx.Err()
		case <-time.After(500 * time.Millisecond):
		}
	}
}

func (j *Job) next(ctx context.Context) ([]byte, string, error) {
	got, cancel, err := j.c.send(ctx, http.MethodGet, j.at+"/NextDocument", nil, longest)
	if err != nil {
		return nil, "", err
	}
	defer cancel()
	defer got.Body.Close()
	switch got.StatusCode {
	case http.StatusOK:
	case http.StatusServiceUnavailable:
		return nil, "", ErrBusy
	case http.StatusNotFound, http.StatusGone: // all pages were given, or there is something in the way
		if j.s.Source == "Feeder" {
			if st, err := j.c.Status(ctx); err == nil {
				if wrong := st.wrong(); wrong != nil && !(errors.Is(wrong, ErrEmpty) && j.n > 0) {
					return nil, "", wrong
				}
			}
		}
		if j.n == 0 {
			return nil, "", ErrEmpty
		}
		return nil, "", io.EOF
	case http.StatusConflict, http.StatusInternalServerError:
		if st, err := j.c.Status(ctx); err == nil {
			if wrong := st.wrong(); wrong != nil {
				return nil, "", wrong
			}
		}
		return nil, "", ErrStopped
	default:
		return nil, "", fmt.Errorf("%w (it answers %d)", ErrStopped, got.StatusCode)
	}
	data, err := io.ReadAll(io.LimitReader(got.Body, mostPage+1))
	if err != nil {
		return nil, "", plain(ctx, err)
	}
	if len(data) > mostPage {
		return nil, "", ErrLarge
	}
	if n := got.ContentLength; n >= 0 && int64(len(data)) != n {
		return nil, "", fmt.Errorf("%w (only part of a page arrived)", ErrAway)
	}
	media, _, _ := strings.Cut(got.Header.Get("Content-Type"), ";")
	j.n++
	return data, strings.TrimSpace(media), nil
}

// Cancel tells the scanner that no more pages are wanted.
func (j *Job) Cancel(ctx context.Context) {
	got, cancel, err := j.c.send(ctx, http.MethodDelete, j.at, nil, patience)
	if err == nil {
		_ = got.Body.Close()
		cancel()
	}
}
