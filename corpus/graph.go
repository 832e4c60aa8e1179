package main

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
)

// graph is a file as qpdf tells it: objects by their reference, values as JSON has them.
type graph struct {
	objects map[string]any
	trailer map[string]any
}

// stream is a stream object: its dictionary and the hash of its bytes as they are encoded.
type stream struct {
	dict map[string]any
	sum  [32]byte
}

func readGraph(path string) (*graph, error) {
	out, err := said(path, []string{"qpdf", "--json=2", "--json-key=qpdf", "--json-stream-data=inline", "--decode-level=none", "FILE"})
	if len(out) == 0 {
		return nil, fmt.Errorf("qpdf: %w", err)
	}
	var top struct {
		QPDF []json.RawMessage `json:"qpdf"`
	}
	if err := json.Unmarshal(out, &top); err != nil || len(top.QPDF) < 2 {
		return nil, fmt.Errorf("qpdf's JSON can't be read: %v", err)
	}
	var objects map[string]struct {
		Value  json.RawMessage `json:"value"`
		Stream *struct {
			Dict json.RawMessage `json:"dict"`
			Data string          `json:"data"`
		} `json:"stream"`
	}
	if err := json.Unmarshal(top.QPDF[1], &objects); err != nil {
		return nil, err
	}
	g := &graph{objects: map[string]any{}}
	for name, o := range objects {
		if o.Stream != nil {
			dict, _ := number(o.Stream.Dict).(map[string]any)
			g.objects[strings.TrimPrefix(name, "obj:")] = stream{dict, sha256.Sum256([]byte(o.Stream.Data))}
			continue
		}
		v := number(o.Value)
		if name == "trailer" {
			g.trailer, _ = v.(map[string]any)
		} else {
			g.objects[strings.TrimPrefix(name, "obj:")] = v
		}
	}
	return g, nil
}

func number(raw json.RawMessage) any {
	dec := json.NewDecoder(bytes.NewReader(raw))
	dec.UseNumber()
	var v any
	_ = dec.Decode(&v)
	return v
}

// at follows references; what is not there is null.
func (g *graph) at(v any) (any, string) {
	ref := ""
	for range 32 {
		s, ok := v.(string)
		if !ok || !isRef(s) {
			return v, ref
		}
		ref = s
		v = g.objects[s]
	}
	return nil, ref
}

func isRef(s string) bool {
	return strings.HasSuffix(s, " R") && len(s) > 4 && s[0] >= '0' && s[0] <= '9'
}

func (g *graph) dict(v any) map[string]any {
	o, _ := g.at(v)
	switch d := o.(type) {
	case map[string]any:
		return d
	case stream:
		return d.dict
	}
	return nil
}

func (g *graph) name(v any) string { o, _ := g.at(v); s, _ := o.(string); return s }

var inherited = []string{"/Resources", "/MediaBox", "/CropBox", "/Rotate"}

// leaf is a page with what it inherits.
type leaf struct {
	ref  string
	dict map[string]any
}

// leaves walks the page tree.
func (g *graph) leaves() []leaf {
	var out []leaf
	seen := map[string]bool{}
	var walk func(v any, from map[string]any, depth int)
	walk = func(v any, from map[string]any, depth int) {
		o, ref := g.at(v)
		d, ok := o.(map[string]any)
		if !ok || depth > 100 {
			return
		}
		has := map[string]any{}
		for _, k := range inherited {
			if x, ok := d[k]; ok && !isNull(g, x) {
				has[k] = x
			} else if x, ok := from[k]; ok {
				has[k] = x
			}
		}
		kids, _ := g.at(d["/Kids"])
		list, node := kids.([]any)
		if !node {
			whole := map[string]any{}
			for k, x := range d {
				if k != "/Parent" {
					whole[k] = x
				}
			}
			for k, x := range has {
				whole[k] = x
			}
			out = append(out, leaf{ref, whole})
			return
		}
		if seen[ref] && ref != "" {
			return
		}
		seen[ref] = true
		for _, k := range list {
			walk(k, has, depth+1)
		}
	}
	walk(g.dict(g.trailer["/Root"])["/Pages"], nil, 0)
	return out
}

func isNull(g *graph, v any) bool { o, _ := g.at(v); return o == nil }

// pair compares two graphs, object by object.
type pair struct {
	a, b   *graph
	seen   map[[2]string]bool
	pageA  map[string]int // page objects, by their place
	pageB  map[string]int
	queue  [][2]any
	paths  []string
	misses []string
	skip   map[string]bool // keys that are not compared
}

// graphs walks both files from their trailers and says where they differ.
func graphs(before, after string) []string {
	a, err := readGraph(before)
	if err != nil {
		return nil // qpdf can't read the file as it came: nothing to hold it against
	}
	b, err := readGraph(after)
	if err != nil {
		return []string{"qpdf can't read what was written"}
	}
	p := &pair{a: a, b: b, seen: map[[2]string]bool{}, pageA: map[string]int{}, pageB: map[string]int{}}
	la, lb := a.leaves(), b.leaves()
	if len(la) != len(lb) {
		return append([]string{fmt.Sprintf("the graph has %d pages before, %d after", len(la), len(lb))}, unreachable(b)...)
	}
	for i := range la {
		if la[i].ref != "" { // pages may be direct in a file that came
			p.pageA[la[i].ref] = i
		}
		p.pageB[lb[i].ref] = i
	}
	for i := range la {
		p.dicts(la[i].dict, lb[i].dict, fmt.Sprintf("page %d", i+1))
	}
	p.values(a.trailer["/Info"], b.trailer["/Info"], "Info")
	ca, cb := a.dict(a.trailer["/Root"]), b.dict(b.trailer["/Root"])
	p.dicts(without(ca, "/Pages"), without(cb, "/Pages"), "Root")
	p.run()
	return append(p.misses, unreachable(b)...)
}

// run compares what waits.
func (p *pair) run() {
	for len(p.queue) > 0 && len(p.misses) < 5 {
		q, path := p.queue[len(p.queue)-1], p.paths[len(p.paths)-1]
		p.queue, p.paths = p.queue[:len(p.queue)-1], p.paths[:len(p.paths)-1]
		p.values(q[0], q[1], path)
	}
	p.queue, p.paths = nil, nil
}

func without(d map[string]any, key string) map[string]any {
	out := map[string]any{}
	for k, v := range d {
		if k != key {
			out[k] = v
		}
	}
	return out
}

func (p *pair) miss(path string, format string, args ...any) {
	if len(p.misses) < 5 {
		if len(path) > 160 {
			path = "…" + path[len(path)-150:]
		}
		p.misses = append(p.misses, "graph: "+path+" "+fmt.Sprintf(format, args...))
	}
}

func (p *pair) values(x, y any, path string) {
	a, refA := p.a.at(x)
	b, refB := p.b.at(y)
	if refA != "" && refB != "" {
		key := [2]string{refA, refB}
		if p.seen[key] {
			return
		}
		p.seen[key] = true
	}
	i, pa := p.pageA[refA]
	j, pb := p.pageB[refB]
	if (pa || pb) && refA != "" {
		if p.skip != nil && pa && i < 0 {
			return // a page that is not here
		}
		if pa != pb || i != j {
			p.miss(path, "leads to another page")
		}
		return
	}
	if p.a.isNode(a) && p.b.isNode(b) {
		return
	}
	if d, ok := a.(map[string]any); ok && b == nil && refA != "" && p.a.name(d["/Type"]) == "/Page" {
		return // a page outside the page tree is not written, on purpose
	}
	switch v := a.(type) {
	case stream:
		w, ok := b.(stream)
		if !ok {
			p.miss(path, "was a stream")
			return
		}
		if v.sum != w.sum {
			p.miss(path, "has other bytes")
		}
		p.dicts(without(v.dict, "/Length"), without(w.dict, "/Length"), path)
	case map[string]any:
		w, ok := b.(map[string]any)
		if !ok {
			p.miss(path, "was a dictionary")
			return
		}
		p.dicts(v, w, path)
	case []any:
		w, ok := b.([]any)
		if !ok || len(v) != len(w) {
			p.miss(path, "is another array")
			return
		}
		for i := range v {
			p.later(v[i], w[i], path)
		}
	case json.Number:
		w, ok := b.(json.Number)
		f, err1 := v.Float64()
		g, err2 := w.Float64()
		if !ok || err1 != nil || err2 != nil || f-g > 1e-9 || g-f > 1e-9 {
			p.miss(path, "is %v, was %v", b, a)
		}
	default:
		if a != b {
			p.miss(path, "is %.40v, was %.40v", b, a)
		}
	}
}

func (g *graph) isNode(v any) bool {
	d, ok := v.(map[string]any)
	return ok && g.name(d["/Type"]) == "/Pages"
}

func (p *pair) later(x, y any, path string) {
	p.queue = append(p.queue, [2]any{x, y})
	p.paths = append(p.paths, path)
}

func (p *pair) dicts(a, b map[string]any, path string) {
	for _, k := range slices.Sorted(maps.Keys(a)) { // in the same order in each run
		v := a[k]
		if p.skip[k] {
			continue
		}
		if w, ok := b[k]; ok {
			p.later(v, w, path+k)
		} else if !isNull(p.a, v) {
			if d := p.a.dict(v); p.a.name(d["/Type"]) == "/Page" {
				continue
			}
			p.miss(path+k, "is gone")
		}
	}
	for _, k := range slices.Sorted(maps.Keys(b)) {
		if _, ok := a[k]; !ok && !p.skip[k] && !isNull(p.b, b[k]) {
			p.miss(path+k, "is new")
		}
	}
}

// unreachable says whether a written file holds objects that nothing leads to.
func unreachable(g *graph) []string {
	seen := map[string]bool{}
	todo := []any{g.trailer}
	for len(todo) > 0 {
		v := todo[len(todo)-1]
		todo = todo[:len(todo)-1]
		switch x := v.(type) {
		case string:
			if isRef(x) && !seen[x] {
				seen[x] = true
				todo = append(todo, g.objects[x])
			}
		case []any:
			todo = append(todo, x...)
		case map[string]any:
			for _, e := range x {
				todo = append(todo, e)
			}
		case stream:
			for _, e := range x.dict {
				todo = append(todo, e)
			}
		}
	}
	n := 0
	for name, o := range g.objects {
		s, isStream := o.(stream)
		if isStream && (s.dict["/Type"] == "/ObjStm" || s.dict["/Type"] == "/XRef") {
			continue
		}
		if !seen[name] {
			n++
		}
	}
	if n > 0 {
		return []string{fmt.Sprintf("%d objects can't be reached", n)}
	}
	return nil
}
