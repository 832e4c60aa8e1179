package scanner

import "net/url"

// ForTest reaches a scanner at any port of this machine.
func ForTest(host string, rules Rules) (*Client, error) { return ForTestKnown(host, rules, "") }

// ForTestKnown reaches one whose certificate is known.
func ForTestKnown(host string, rules Rules, print string) (*Client, error) {
	c, err := New("http://scanner", rules, print)
	if err != nil {
		return nil, err
	}
	scheme := "http"
	if len(host) > 8 && host[:8] == "https://" {
		scheme, host = "https", host[8:]
	}
	c.base, err = url.Parse(scheme + "://" + host + "/eSCL/")
	return c, err
}
