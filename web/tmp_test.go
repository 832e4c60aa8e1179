package web

import (
	"bytes"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"
)

func TestTmpSoak(t *testing.T) {
	o := openOffice(t, false)
	c := o.client()
	c.signIn("isla")
	var files []string
	_ = filepath.Walk("/tmp/w/papers", func(p string, i os.FileInfo, err error) error {
		if err == nil && strings.HasSuffix(p, ".pdf") && i.Size() < 40<<20 {
			files = append(files, p)
		}
		return nil
	})
	say := func(f string, a ...any) { fmt.Printf(f+"\n", a...) }
	refused := map[string]int{}
	for i, f := range files {
		data, _ := os.ReadFile(f)
		name := filepath.Base(f)
		start := time.Now()
		lap := func(what string, limit time.Duration) {
			if d := time.Since(start); d > limit {
				say("SLOW %s %s %v", f, what, d.Round(time.Millisecond))
			}
			start = time.Now()
		}
		code, body, _ := c.send(http.MethodPost, "/documents/bring?name="+url.QueryEscape(fmt.Sprint(i, " ", name)), "", bytes.NewReader(data))
		lap("bring", 4*time.Second)
		if code != 200 {
			if code >= 500 {
				say("FIVE %s bring %d %s", f, code, body)
			}
			s := regexp.MustCompile(`“[^”]*”`).ReplaceAllString(body, "“”")
			refused[s[:min(len(s), 160)]]++
			continue
		}
		id := regexp.MustCompile(`"id":(\d+)`).FindStringSubmatch(body)[1]
		for _, st := range []string{"collect", "arrange", "furnish", "review", "release"} {
			code, body := c.get("/desk/" + id + "/" + st)
			if code != 200 {
				say("BAD %s %s %d %.200s", f, st, code, body)
			}
			lap(st, 2*time.Second)
		}
		_, body = c.get("/desk/" + id + "/arrange")
		m := regexp.MustCompile(`(?s)id="pages"[^>]*>(\[.*?\])</script>`).FindStringSubmatch(body)
		keys := regexp.MustCompile(`\["([0-9.]+)",(\d+)`).FindAllStringSubmatch(body, -1)
		if len(keys) == 0 {
			say("NOPAGES %s %v", f, len(m))
			continue
		}
		for _, k := range [][]string{keys[0], keys[len(keys)-1]} {
			code, body := c.get("/desk/" + id + "/picture/" + k[1] + "/" + k[2] + "/400")
			if code != 200 {
				say("PICTURE %s %s %d %.200s", f, k[1], code, body)
			}
			lap("picture", 5*time.Second)
			for _, what := range []string{"words", "hits"} {
				code, body = c.get("/desk/" + id + "/" + what + "/" + k[1] + "?q=the")
				if code != 200 {
					say("%s %s %s %d %.200s", what, f, k[1], code, body)
				}
				lap(what, 2*time.Second)
			}
		}
		code, body = c.get("/desk/" + id + "/find?q=the")
		if code != 200 {
			say("FIND %s %d %.200s", f, code, body)
		}
		lap("find", 5*time.Second)
		code, body = c.get("/find?q=the&doc=" + id)
		if code != 200 {
			say("FINDER %s %d %.200s", f, code, body)
		}
		lap("finder", 3*time.Second)
		// a page turned, numbered, handed out
		state, request := c.seen(id)
		v := url.Values{"seen": {state}, "request": {request}, "station": {"arrange"}, "keys": {keys[0][1]}, "by": {"90"}}
		code, body, _ = c.post("/desk/"+id+"/do/turn", v, "HX-Request", "true")
		if code != 200 {
			say("TURN %s %d %.300s", f, code, body)
		}
		lap("turn", 2*time.Second)
		state, request = c.seen(id)
		v = url.Values{"seen": {state}, "request": {request}, "station": {"furnish"}, "pages": {"all"}, "edge": {"foot"}, "align": {"middle"}, "figures": {"1 2 3"}, "first": {"1"}, "face": {"Sans"}, "size": {"9pt"},
		"colour": {"slate"}, "margin": {"12mm"}, "part": {"page"}, "part-text": {""}}
		code, body, _ = c.post("/desk/"+id+"/do/number", v, "HX-Request", "true")
		if code != 200 {
			say("NUMBER %s %d %.300s", f, code, strings.Join(strings.Fields(body), " "))
		}
		lap("number", 4*time.Second)
		state, request = c.seen(id)
		v = url.Values{"seen": {state}, "request": {request}, "how": {"copy"}, "name": {fmt.Sprint("out ", i)}, "as-it-is": {"yes"}, "signed": {"no"}}
		code, body, h := c.post("/desk/"+id+"/out", v, "HX-Request", "true")
		if code != 204 {
			say("OUT %s %d %.300s", f, code, strings.Join(strings.Fields(body), " "))
			continue
		}
		lap("out", 5*time.Second)
		at := regexp.MustCompile(`out=(\d+)`).FindStringSubmatch(h.Get("HX-Redirect"))
		_, body = c.get("/out/" + at[1])
		_ = os.WriteFile("/tmp/w/soak-out.pdf", []byte(body), 0o600)
		check := func(p string) int {
			cmd := exec.Command("qpdf", "--check", p)
			_ = cmd.Run()
			return cmd.ProcessState.ExitCode()
		}
		if after := check("/tmp/w/soak-out.pdf"); after != 0 && check(f) == 0 {
			say("CHECK %s %d", f, after)
		}
		n, _ := exec.Command("qpdf", "--show-npages", "/tmp/w/soak-out.pdf").Output()
		if strings.TrimSpace(string(n)) != fmt.Sprint(len(keys)) {
			say("COUNT %s %s %d", f, n, len(keys))
		}
		start = time.Now()
	}
	for s, n := range refused {
		say("%d x %s", n, s)
	}
}
