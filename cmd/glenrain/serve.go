package main

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"time"

	"glenrain/core/ocr"
	"glenrain/core/typeset"
	"glenrain/demo"
	"glenrain/desk"
	"glenrain/porter"
	"glenrain/scanner"
	standin "glenrain/standin/scanner"
	"glenrain/web"
	"glenrain/web/shell"
)

type serveCommand struct {
	Data    string `required:"" help:"The data folder; it is created if it doesn’t exist."`
	Addr    string `default:"127.0.0.1:8080" help:"Address to serve on."`
	House   string `default:"Glenrain" help:"Name of the office, shown at the top."`
	TLSCert string `name:"tls-cert" help:"Certificate file, for addresses outside this machine."`
	TLSKey  string `name:"tls-key" help:"Key file of the certificate."`
	Proxied bool   `name:"behind-proxy" help:"A trusted proxy in front handles TLS and gives visitors’ addresses in X-Real-IP."`
	SealKey string `name:"seal-key" help:"File with the key that secret settings are kept with (32 bytes); in the data folder if not given. No backup holds it."`
	// AnyScanner: most scanners make their certificates themselves.
	AnyScanner bool `name:"any-scanner-certificate" help:"Accept self-signed scanner certificates; the first one of each scanner is remembered."`

	scanners []netip.AddrPort // of this machine
}

func (c *serveCommand) Run(ctx context.Context) error {
	return c.serve(ctx, func(d *desk.Desk, base string) error {
		empty, err := d.Empty(ctx)
		if err != nil || !empty {
			return err
		}
		token, err := d.InviteFirst(ctx, 24*time.Hour)
		if err == nil {
			fmt.Printf("No one is set up yet. Open this one-time link within a day: %s/enter/%s\n", base, token)
		}
		return err
	})
}

// checkAddr keeps secure cookies possible: another address than loopback needs TLS, or
// a proxy that speaks it.
func (c *serveCommand) checkAddr() error {
	host, _, err := net.SplitHostPort(c.Addr)
	if err != nil {
		return fmt.Errorf("%q isn’t an address: type it like 127.0.0.1:8080", c.Addr)
	}
	if (c.TLSCert == "") != (c.TLSKey == "") {
		return errors.New("give both a certificate and its key")
	}
	ip := net.ParseIP(host)
	loopback := host == "localhost" || ip != nil && ip.IsLoopback()
	if !loopback && c.TLSCert == "" && !c.Proxied {
		return fmt.Errorf("%s can be reached from other machines: give --tls-cert and --tls-key, or --behind-proxy", c.Addr)
	}
	return nil
}

// serve opens the data folder and serves it until ctx ends; ready is called before the
// first request is answered.
func (c *serveCommand) serve(ctx context.Context, ready func(d *desk.Desk, base string) error) error {
	if err := c.checkAddr(); err != nil {
		return useError{err}
	}
	log := slog.New(slog.NewTextHandler(os.Stderr, nil))
	d, err := desk.Open(c.Data, desk.Options{Log: log, SealKey: c.SealKey, Scanners: scanner.Rules{Here: c.scanners, AnyCertificate: c.AnyScanner}})
	if err != nil {
		return err
	}
	defer d.Close()
	go porter.Ahead()
	if _, err := ocr.Find(); err != nil {
		log.Warn(err.Error())
	}
	if err := typeset.Here(); err != nil {
		log.Warn("office files, texts and emails can’t be turned into pages: " + err.Error())
	} else if !typeset.Sandboxed() {
		log.Warn("chromium runs without its own sandbox, because this server runs as root: use a separate user")
	}
	secure := c.TLSCert != "" || c.Proxied
	s, err := web.New(d, web.Options{House: c.House, Secure: secure, Proxied: c.Proxied, Log: log})
	if err != nil {
		return err
	}
	l, err := net.Listen("tcp", c.Addr)
	if err != nil {
		return fmt.Errorf("%s can't be served on: %w", c.Addr, err)
	}
	base := "http://" + l.Addr().String()
	if c.TLSCert != "" {
		base = "https://" + l.Addr().String()
	}
	fmt.Printf("Glenrain is at %s\n", base)
	if err := ready(d, base); err != nil {
		_ = l.Close()
		return err
	}
	server := &http.Server{
		Handler: s.Handler(), ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: shell.MaxHeader,
		ErrorLog: slog.NewLogLogger(log.Handler(), slog.LevelWarn),
	}
	server.RegisterOnShutdown(s.Stop)
	done := make(chan error, 1)
	go func() {
		if c.TLSCert != "" {
			done <- server.ServeTLS(l, c.TLSCert, c.TLSKey)
			return
		}
		done <- server.Serve(l)
	}()
	select {
	case err := <-done:
		return err
	case <-ctx.Done():
	}
	stop, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	return server.Shutdown(stop)
}

type demoCommand struct {
	Data string `help:"The data folder; the current user’s default if empty."`
	Addr string `default:"127.0.0.1:8080" help:"Address to serve on."`
}

func (c *demoCommand) Run(ctx context.Context) error {
	if c.Data == "" {
		var err error
		if c.Data, err = demoFolder(); err != nil {
			return err
		}
	}
	s := serveCommand{Data: c.Data, Addr: c.Addr, House: demo.House}
	l, err := listenScanner()
	if err != nil {
		return err
	}
	defer l.Close()
	s.scanners = []netip.AddrPort{l.Addr().(*net.TCPAddr).AddrPort()}
	go serveScanner(l)
	return s.serve(ctx, func(d *desk.Desk, base string) error {
		p, err := demo.Fill(ctx, d)
		if err != nil {
			return fmt.Errorf("making the demo data: %w", err)
		}
		if _, err := d.AddScanner(ctx, p.ID, l.Addr().String()); err != nil {
			return fmt.Errorf("the scanner to try: %w", err)
		}
		fmt.Printf("A scanner to try is at http://%s\n", l.Addr())
		token, err := d.InviteToEnter(ctx, p.ID, 24*time.Hour)
		if err != nil {
			return err
		}
		fmt.Printf("Sign in as %s by opening this address: %s/enter/%s\n(or with the name %q and the password %q)\nThe demo data is in %s.\n",
			p.Name, base, token, p.SignIn, demo.Password, c.Data)
		return nil
	})
}

// listenScanner finds a port for the scanner that ships with the program, among those that scanners are at.
func listenScanner() (l net.Listener, err error) {
	for port := 9180; port < 9200; port++ {
		if l, err = net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port)); err == nil {
			return l, nil
		}
	}
	return nil, fmt.Errorf("no port is free for the scanner to try: %w", err)
}

func serveScanner(l net.Listener) {
	s := standin.New()
	s.Pace = 700 * time.Millisecond
	server := &http.Server{Handler: s, ReadHeaderTimeout: 10 * time.Second}
	_ = server.Serve(l) // it ends with the program
}

type scannerCommand struct {
	Addr string `default:"127.0.0.1:9180" help:"Address to serve on."`
}

// Run serves the scanner that ships with the program, alone.
func (c *scannerCommand) Run(ctx context.Context) error {
	l, err := net.Listen("tcp", c.Addr)
	if err != nil {
		return fmt.Errorf("%s can't be served on: %w", c.Addr, err)
	}
	fmt.Printf("The scanner is at http://%s, and speaks eSCL there.\n", l.Addr())
	context.AfterFunc(ctx, func() { _ = l.Close() })
	serveScanner(l)
	return nil
}

// demoFolder gives the folder of the demo's data, in a place that only this user can look into, under a name that nobody can guess.
func demoFolder() (string, error) {
	cache, err := os.UserCacheDir()
	if err != nil {
		return os.MkdirTemp("", "glenrain-demo-")
	}
	home := filepath.Join(cache, "glenrain")
	if err := os.MkdirAll(home, 0o700); err != nil {
		return os.MkdirTemp("", "glenrain-demo-")
	}
	if err := os.Chmod(home, 0o700); err != nil {
		return "", err
	}
	if was, err := filepath.Glob(filepath.Join(home, "demo-*")); err == nil && len(was) > 0 {
		return was[0], nil
	}
	return os.MkdirTemp(home, "demo-")
}
