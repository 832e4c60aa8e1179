package shell

import (
	"slices"
	"strings"
	"unicode/utf8"

	"glenrain/web/station"
)

// keyGroup is a part of the key map. The same table is shown on "?" and answers key presses: the scripts look a key up in it, from the
// first group to the last, and ask those who answer its act.
type keyGroup struct {
	Title string
	Keys  []station.Key
}

var everywhereKeys = keyGroup{"Everywhere", []station.Key{
	{Keys: []string{"/"}, Act: "finder", What: "search text, actions, pages and documents"},
	{Keys: []string{"Ctrl+f"}, Act: "finder", What: "search", Typing: true},
	{Keys: []string{"?"}, Act: "keys", What: "show these keyboard shortcuts"},
}}

var deskKeys = keyGroup{"In a document", []station.Key{
	{Keys: []string{"Ctrl+z"}, Act: "undo", What: "undo"},
	{Keys: []string{"Ctrl+y", "Ctrl+Shift+z"}, Act: "redo", What: "redo"},
	{Keys: []string{"e"}, Act: "reader", What: "reader's view and back"},
	{Keys: []string{"1", "2", "3", "4", "5", "6", "7", "8", "9"}, Show: []string{"1", "…", "9"}, Act: "station", What: "go to a station"},
	{Keys: []string{"n"}, Act: "next-match", What: "next match in the text"},
	{Keys: []string{"Shift+n"}, Act: "previous-match", What: "previous match"},
	{Keys: []string{"PageDown"}, Act: "next-page", What: "next page"},
	{Keys: []string{"PageUp"}, Act: "previous-page", What: "previous page"},
}}

var surfaceKeys = map[station.Surface]keyGroup{
	station.Paper: {"On the page", []station.Key{
		{Keys: []string{"Home"}, Act: "first-page", What: "first page"},
		{Keys: []string{"End"}, Act: "last-page", What: "last page"},
		{Keys: []string{"+", "="}, Act: "zoom-in", What: "zoom in", Show: []string{"+"}},
		{Keys: []string{"-"}, Act: "zoom-out", What: "zoom out"},
		{Keys: []string{"0"}, Act: "zoom-page", What: "whole page"},
		{Keys: []string{"w"}, Act: "zoom-width", What: "page width"},
		{Keys: []string{"Escape"}, Act: "end-matches", What: "close the search"},
	}},
	station.Board: {"Among the pages", []station.Key{
		{Keys: []string{"ArrowLeft", "ArrowRight", "ArrowUp", "ArrowDown", "Home", "End"}, Act: "go", What: "move between pages", Show: []string{"←", "→", "↑", "↓", "Home", "End"}},
		{Keys: []string{" "}, Act: "toggle", What: "select or deselect the page"},
		{Keys: []string{"Shift+ArrowLeft", "Shift+ArrowRight", "Shift+ArrowUp", "Shift+ArrowDown", "Shift+Home", "Shift+End"}, Act: "extend", What: "extend the selection", Show: []string{"Shift", "arrow"}},
		{Keys: []string{"Ctrl+a"}, Act: "all", What: "select all, or clear the selection"},
		{Keys: []string{"Escape"}, Act: "none", What: "clear the selection"},
		{Keys: []string{"b"}, Act: "select-again", What: "select the previous selection again"},
		{Keys: []string{"+", "="}, Act: "larger", What: "larger pages", Show: []string{"+"}},
		{Keys: []string{"-"}, Act: "smaller", What: "smaller pages"},
		{Keys: []string{"z"}, Act: "look", What: "enlarge the page"},
	}},
}

// keys are the groups of a station and its job, the one that answers first at the head.
func (s *Server) keys(st *station.Station, j *station.Job) []keyGroup {
	var out []keyGroup
	if len(j.Keys) > 0 {
		out = append(out, keyGroup{"In " + st.Name, j.Keys})
	}
	return shown(append(out, surfaceKeys[st.Shows(j)], deskKeys, everywhereKeys))
}

// shown fills in how people see the keys.
func shown(groups []keyGroup) []keyGroup {
	groups = slices.DeleteFunc(slices.Clone(groups), func(g keyGroup) bool { return len(g.Keys) == 0 })
	out := make([]keyGroup, len(groups))
	for i, g := range groups {
		out[i].Title = g.Title
		for _, k := range g.Keys {
			if k.Show == nil {
				k.Show = show(k.Keys[0])
			}
			out[i].Keys = append(out[i].Keys, k)
		}
	}
	return out
}

// show writes a key for people: "Shift+r" as Shift and R.
func show(key string) []string {
	names := map[string]string{" ": "Space", "ArrowLeft": "←", "ArrowRight": "→", "ArrowUp": "↑", "ArrowDown": "↓", "Escape": "Esc", "PageDown": "Page Down", "PageUp": "Page Up", "-": "−"}
	if key == "+" {
		return []string{key}
	}
	parts := strings.Split(key, "+")
	for i, p := range parts {
		if n, ok := names[p]; ok {
			parts[i] = n
		} else if utf8.RuneCountInString(p) == 1 {
			parts[i] = strings.ToUpper(p)
		}
	}
	return parts
}
