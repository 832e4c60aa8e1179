package house

import (
	"encoding/json"
	"os/exec"
	"path"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// jobs are the rooms of core that are jobs; they never import one another.
var jobs = []string{"edit", "annotate", "arrange", "bookmark", "furnish", "recognize"}

// rooms are those below the jobs, lowest first: a room imports only rooms before it.
var rooms = []string{"child", "pdf", "typeset", "intake", "raster", "font", "picture", "scan", "ocr", "spelling", "content", "layout", "draw", "nav", "annot", "field", "structure", "claim", "step", "compare", "finding", "naming", "outgoing"}

// inDesk are the rooms of the desk, lowest first: each imports only those before it. The desk itself puts them together, and is all that screens know.
var inDesk = []string{"formerly", "store", "background", "people", "office"}

// mayDesk tells whether a room of the desk, or the desk itself, may import a room outside core.
func mayDesk(at, own string) bool {
	if own == "porter" || own == "scanner" {
		return true
	}
	to, below := strings.CutPrefix(own, "desk/")
	if at == "desk" {
		return below
	}
	i, j := slices.Index(inDesk, strings.TrimPrefix(at, "desk/")), slices.Index(inDesk, to)
	return below && j >= 0 && j < i
}

// mayWeb tells which rooms outside core a room of web may import: web itself has the list of all; the contract knows the desk; the shell,
// stations and screens know the contract and the desk, and not one another.
func mayWeb(at, own string) bool {
	switch at {
	case "web":
		return own == "desk" || strings.HasPrefix(own, "web/")
	case "web/station":
		return own == "desk"
	}
	return own == "desk" || own == "web/station" || own == "docs" && at == "web/help"
}

// top is the room that a room within it belongs to: "intake" for "intake/docx".
func top(room string) string {
	name, _, _ := strings.Cut(room, "/")
	return name
}

func TestImports(t *testing.T) {
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports,Deps", "glenrain/...").Output()
	require.NoError(t, err)
	dec := json.NewDecoder(strings.NewReader(string(out)))
	seen := 0
	for dec.More() {
		var p struct {
			ImportPath    string
			Imports, Deps []string
		}
		require.NoError(t, dec.Decode(&p))
		seen++
		at := strings.TrimPrefix(p.ImportPath, "glenrain/")
		room, inCore := strings.CutPrefix(at, "core/")
		for _, imp := range p.Imports {
			own, ours := strings.CutPrefix(imp, "glenrain/")
			to, toCore := strings.CutPrefix(own, "core/")
			switch {
			case inCore && !ours:
				for _, never := range []string{"gorm.io", "database/sql", "net/http", "html/template", "github.com/go-chi", "glebarez"} {
					if strings.HasPrefix(imp, never) {
						t.Errorf("%s imports %s: core knows no web, no database and no templates", at, imp)
					}
				}
			case inCore && ours && !toCore:
				t.Errorf("%s imports %s: core stands below desk, web and the rest", at, own)
			case inCore && slices.Contains(jobs, room) && slices.Contains(jobs, to):
				t.Errorf("%s imports %s: jobs never import one another", at, own)
			case inCore && slices.Contains(rooms, top(room)):
				i, j := slices.Index(rooms, top(room)), slices.Index(rooms, top(to))
				if j < 0 || j > i {
					t.Errorf("%s imports %s: arrows point down only", at, own)
				}
			case at == "scanner" && ours:
				t.Errorf("scanner imports %s: it speaks to the device, and knows nothing of the house", own)
			case at == "porter" && ours && !toCore:
				t.Errorf("porter imports %s", own)
			case top(at) == "desk" && ours && !toCore && !mayDesk(at, own):
				t.Errorf("%s imports %s: arrows point down only", at, own)
			case ours && !toCore && (at == "web" || strings.HasPrefix(at, "web/")) && !mayWeb(at, own):
				t.Errorf("%s imports %s: stations and screens know the contract, the desk and core alone; the shell knows no station", at, own)
			}
		}
		if inCore && room != "house" && !slices.Contains(jobs, room) && !slices.Contains(rooms, room) && room != "jobs" && path.Dir(room) == "." {
			t.Errorf("core/%s stands in no list of the house: put it into one", room)
		}
		if inCore {
			for _, dep := range p.Deps {
				if dep == "database/sql" || strings.HasPrefix(dep, "gorm.io") {
					t.Errorf("%s comes to %s by way of others", at, dep)
				}
			}
		}
	}
	require.Greater(t, seen, 15)
}
