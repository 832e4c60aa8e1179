// Package mail reads e-mail (RFC 5322, RFC 2045): its text becomes a page with who wrote to whom, when and about what, and its attachments
// are given one by one.
package mail

import (
	"bytes"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"net/mail"
	"path"
	"strings"

	"golang.org/x/net/html/charset"

	"glenrain/core/intake/encoded"
	"glenrain/core/intake/page"
	"glenrain/core/intake/prose"
)

// Attachment is a file that a mail carries.
type Attachment struct {
	Name string
	Data []byte
}

// Limits of one mail.
const (
	maxDepth = 12
	maxParts = 2000
	maxBytes = 160 << 20
)

// ErrFormat: the file is no mail.
var ErrFormat = errors.New("it can’t be read as an email")

// message is what was found in a mail.
type message struct {
	header mail.Header
	text   string // of the first part in plain text
	html   string
	files  []Attachment
	inline map[string][]byte // pictures by their Content-ID
	parts  int
	bytes  int64
	ctx    context.Context
}

func read(ctx context.Context, r io.Reader) (*message, error) {
	m, err := mail.ReadMessage(r)
	if err != nil || len(m.Header) == 0 {
		return nil, ErrFormat
	}
	out := &message{header: m.Header, inline: map[string][]byte{}, ctx: ctx}
	return out, out.part(textHeader(m.Header), m.Body, 0)
}

type header interface{ Get(string) string }

func textHeader(h mail.Header) header { return h }

// part reads a part and those in it.
func (m *message) part(h header, body io.Reader, depth int) error {
	if err := m.ctx.Err(); err != nil {
		return err
	}
	if m.parts++; m.parts > maxParts || depth > maxDepth {
		return errors.New("it has more parts than can be opened")
	}
	kind, params, err := mime.ParseMediaType(h.Get("Content-Type"))
	if err != nil {
		kind = "text/plain"
	}
	if strings.HasPrefix(kind, "multipart/") && params["boundary"] != "" {
		parts := multipart.NewReader(body, params["boundary"])
		for {
			p, err := parts.NextRawPart()
			if errors.Is(err, io.EOF) {
				return nil
			}
			if err != nil {
				if m.parts > 1 { // what came before is there
					return nil
				}
				return ErrFormat
			}
			if err := m.part(p.Header, p, depth+1); err != nil {
				return err
			}
		}
	}
	switch strings.ToLower(h.Get("Content-Transfer-Encoding")) {
	case "base64":
		body = base64.NewDecoder(base64.StdEncoding, &clean{body})
	case "quoted-printable":
		body = quotedprintable.NewReader(body)
	}
	data, err := io.ReadAll(io.LimitReader(body, maxBytes-m.bytes+1))
	if m.bytes += int64(len(data)); m.bytes > maxBytes {
		return errors.New("it unpacks to more than 160 MB")
	}
	if err != nil && len(data) == 0 {
		return nil
	}
	how, hparams, _ := mime.ParseMediaType(h.Get("Content-Disposition"))
	name := decoded(cmpName(hparams["filename"], params["name"]))
	if id := strings.Trim(h.Get("Content-Id"), "<>"); id != "" && strings.HasPrefix(kind, "image/") {
		m.inline[id] = data
	}
	switch {
	case how != "attachment" && name == "" && kind == "text/plain" && m.text == "":
		m.text = decodeText(data, params["charset"])
	case how != "attachment" && name == "" && kind == "text/html" && m.html == "":
		m.html = decodeText(data, params["charset"])
	case how == "inline" && strings.HasPrefix(kind, "image/") && h.Get("Content-Id") != "": // it stands in the text
	case kind == "message/rfc822":
		m.files = append(m.files, Attachment{named(name, m.parts, ".eml"), data})
	case name != "" || how == "attachment":
		ext := ""
		if list, _ := mime.ExtensionsByType(kind); len(list) > 0 {
			ext = list[0]
		}
		m.files = append(m.files, Attachment{named(name, m.parts, ext), data})
	}
	return nil
}

func cmpName(a, b string) string {
	if a != "" {
		return a
	}
	return b
}

func named(name string, no int, ext string) string {
	if name = path.Base(strings.ReplaceAll(name, "\\", "/")); name == "." || name == "/" || name == "" {
		return fmt.Sprintf("attachment %d%s", no, ext)
	}
	return name
}

// clean drops what is no base64, as RFC 2045, 6.8 asks.
type clean struct{ r io.Reader }

func (c *clean) Read(b []byte) (int, error) {
	for {
		n, err := c.r.Read(b)
		k := 0
		for _, v := range b[:n] {
			if v >= 'A' && v <= 'Z' || v >= 'a' && v <= 'z' || v >= '0' && v <= '9' || v == '+' || v == '/' || v == '=' {
				b[k] = v
				k++
			}
		}
		if k > 0 || err != nil {
			return k, err
		}
	}
}

func decodeText(data []byte, label string) string {
	text, _ := encoded.Decode(data, strings.ToLower(label))
	return text
}

// words decodes encoded words in headers (RFC 2047).
var words = mime.WordDecoder{CharsetReader: func(label string, in io.Reader) (io.Reader, error) { return charset.NewReaderLabel(label, in) }}

func decoded(s string) string {
	if out, err := words.DecodeHeader(s); err == nil {
		return out
	}
	return s
}

// Attachments gives the files that a mail carries.
func Attachments(ctx context.Context, r io.Reader) ([]Attachment, error) {
	m, err := read(ctx, r)
	if err != nil {
		return nil, err
	}
	return m.files, nil
}

// Write writes the text of a mail with its heading.
func Write(ctx context.Context, s *page.Sheet, r io.Reader, p page.Paper) error {
	m, err := read(ctx, r)
	if err != nil {
		return err
	}
	s.Title = decoded(m.header.Get("Subject"))
	title := s.Title
	if title == "" {
		title = "An email without a subject"
	}
	s.CSS("h1{font-size:15pt!important}table.head{font-size:9.5pt;margin-bottom:14pt}table.head th,table.head td{border:0;background:none;padding:1pt 8pt 1pt 0}")
	s.Raw("<h1>", page.Escape(title), `</h1><table class="head">`)
	for _, name := range []string{"From", "To", "Cc", "Date"} {
		if v := decoded(m.header.Get(name)); v != "" {
			s.Raw(`<tr><th scope="row">`, name, "</th><td>", page.Escape(v), "</td></tr>")
		}
	}
	if len(m.files) > 0 {
		names := make([]string, len(m.files))
		for i, f := range m.files {
			names[i] = f.Name
		}
		s.Raw(`<tr><th scope="row">Attached</th><td>`, page.Escape(strings.Join(names, ", ")), "</td></tr>")
	}
	s.Raw("</table>")
	if m.text == "" && m.html != "" {
		return prose.HTML(ctx, s, m.html, func(name string) []byte { return m.inline[strings.TrimPrefix(name, "cid:")] }, p)
	}
	var b bytes.Buffer
	for para := range strings.SplitSeq(strings.TrimSpace(m.text), "\n\n") {
		b.WriteString("<p>" + strings.ReplaceAll(page.Escape(strings.TrimRight(para, "\n")), "\n", "<br>") + "</p>")
	}
	return prose.HTML(ctx, s, b.String(), nil, p)
}
