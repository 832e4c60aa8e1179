package desk

import (
	"encoding/json"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"io"
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"glenrain/core/step"
)

// sourced are the steps that take something from elsewhere: what an administrator did with a page of a closed document, and what somebody else makes of
// it to see more. FROM stands for the source.
var sourced = map[string][2]string{
	"insert":          {`{"from":"FROM","pages":"1","to":"end","name":"Notes"}`, `{"from":"FROM","pages":"all","to":"end","name":"Notes"}`},
	"replace":         {`{"pages":"1","from":"FROM","with":"1"}`, `{"pages":"1-3","from":"FROM","with":"all"}`},
	"bring-objects":   {`{"from":"FROM","from_page":1,"objects":[{"what":"paragraph","at":0,"x":0,"y":20}],"page":"1"}`, `{"from":"FROM","from_page":2,"objects":[{"what":"paragraph","at":0,"x":0,"y":20}],"page":"1"}`},
	"add-picture":     {`{"from":"FROM","page":"1","x":40,"y":40,"width":100}`, `{"from":"FROM","page":"1","x":40,"y":40,"width":200}`},
	"replace-picture": {`{"from":"FROM","page":"1","picture":0}`, `{"from":"FROM","page":"1","picture":0,"everywhere":true}`},
	"recognize":       {`{"pages":"all","languages":"eng","made":"FROM"}`, `{"pages":"1","languages":"eng","made":"FROM"}`},
}

// Whoever may not see a document gets no more of it, whichever step names it as a source, and whether the step is done, previewed, changed or undone.
func TestSourcesOfOthers(t *testing.T) {
	h := newHouse(t)
	var kinds []string
	for _, k := range h.registry.Kinds() {
		if slices.ContainsFunc(k.Describe().Fields, func(f step.Field) bool { return strings.HasPrefix(f.Type, "source") }) {
			kinds = append(kinds, k.Name)
		}
	}
	require.ElementsMatch(t, kinds, slices.Collect(maps.Keys(sourced)), "a step that names a source is tried here")
	state, file := fmt.Sprintf("state:%d", h.closed.HeadID), "sha256:"+h.closed.OriginalSHA
	at := func() *Snapshot {
		s, err := h.Look(t.Context(), h.isla, h.open.ID)
		require.NoError(t, err)
		return s
	}
	n := 0
	change := func(person uint, name, params, from string) Change {
		n++
		return Change{Document: h.open.ID, Seen: at().State.ID, Person: person, Name: name, RequestID: fmt.Sprintf("r%d", n), Params: []byte(strings.ReplaceAll(params, "FROM", from))}
	}
	for name, params := range sourced {
		for _, p := range params {
			for _, from := range []string{state, file, "path:/etc/hostname", "state:999999", "sha256:", "nothing"} {
				c := change(h.petra, name, p, from)
				before := at().State.ID
				_, err := h.Do(t.Context(), c)
				refuses[*step.Refusal](t, err, "")
				assert.Regexp(t, "doesn’t exist, or you have no access|can't be named so", err.Error(), "%s %s", name, from)
				_, err = h.Preview(t.Context(), c, Previewed{At: step.Key{Ordinal: 1}, W: 50, H: 50})
				refuses[*step.Refusal](t, err, "")
				assert.Regexp(t, "doesn’t exist, or you have no access|can't be named so", err.Error(), "a preview of %s %s", name, from)
				assert.Equal(t, before, at().State.ID)
			}
		}
	}
	// What an administrator brought from there stays as it is.
	for _, name := range []string{"insert", "replace", "bring-objects"} {
		params := sourced[name]
		first, err := h.Do(t.Context(), change(h.isla, "rotate", `{"pages":"2","by":90}`, ""))
		require.NoError(t, err, name)
		out, err := h.Do(t.Context(), change(h.isla, name, params[0], state))
		require.NoError(t, err, name)
		_, err = h.Do(t.Context(), change(h.isla, "rotate", `{"pages":"3","by":90}`, ""))
		require.NoError(t, err, name)
		before := at()
		for _, p := range []string{params[1], params[0]} {
			for _, from := range []string{state, file} {
				_, err = h.Revise(t.Context(), Revision{Document: h.open.ID, Seen: before.State.ID, Person: h.petra, Step: out.Step.ID, Params: json.RawMessage(strings.ReplaceAll(p, "FROM", from))})
				refuses[*step.Refusal](t, err, "")
				assert.Regexp(t, "a document that you can’t see|can't be named so", err.Error(), "%s %s", name, from)
				assert.Equal(t, before.State.ID, at().State.ID, "nothing was changed")
			}
		}
		// The one who sees it changes it, and its author is then who did.
		changed, err := h.Revise(t.Context(), Revision{Document: h.open.ID, Seen: before.State.ID, Person: h.tomas, Step: out.Step.ID, Params: json.RawMessage(strings.ReplaceAll(params[1], "FROM", state))})
		require.NoError(t, err, name)
		trail, err := h.Trail(t.Context(), changed.Snapshot, 0, 9)
		require.NoError(t, err)
		assert.Equal(t, h.tomas, trail[1].PersonID)
		undone, err := h.Undo(t.Context(), h.open.ID, changed.Snapshot.State.ID, h.petra)
		require.NoError(t, err)
		assert.Equal(t, before.Document.Pages, undone.Snapshot.Document.Pages)
		// Steps before it are undone alone by anybody, and it brings what it brought; so it does when it is redone.
		alone, err := h.Revise(t.Context(), Revision{Document: h.open.ID, Seen: undone.Snapshot.State.ID, Person: h.petra, Step: first.Step.ID})
		require.NoError(t, err, name)
		assert.Equal(t, before.Document.Pages, alone.Snapshot.Document.Pages)
		turned, err := h.Revise(t.Context(), Revision{Document: h.open.ID, Seen: alone.Snapshot.State.ID, Person: h.petra, Step: stepNamed(t, h.Desk, alone.Snapshot, name)})
		require.NoError(t, err, "it can be undone")
		_, err = h.Redo(t.Context(), h.open.ID, turned.Snapshot.State.ID, h.petra)
		refuses[*step.Refusal](t, err, "nothing to redo")
		for s := turned.Snapshot; s.CanUndo(); {
			u, err := h.Undo(t.Context(), h.open.ID, s.State.ID, h.isla)
			require.NoError(t, err)
			s = u.Snapshot
		}
	}
	// A file that was kept for a step is named by that step, and by no other.
	pic := image.NewGray(image.Rect(0, 0, 4, 4))
	pic.SetGray(1, 1, color.Gray{Y: 200})
	sent := func(w io.Writer) error { return png.Encode(w, pic) }
	pr, pw := io.Pipe()
	go func() { _ = pw.CloseWithError(sent(pw)) }()
	c := change(h.petra, "add-picture", "", "")
	put, err := h.DoWith(t.Context(), c, pr, func(from string) (json.RawMessage, error) {
		return json.RawMessage(strings.ReplaceAll(sourced["add-picture"][0], "FROM", from)), nil
	})
	require.NoError(t, err)
	own := step.NamedSources(stepOf(t, h.Desk, put.Step))
	require.Len(t, own, 1)
	wider := strings.ReplaceAll(sourced["add-picture"][1], "FROM", own[0])
	out, err := h.Revise(t.Context(), Revision{Document: h.open.ID, Seen: at().State.ID, Person: h.petra, Step: put.Step.ID, Params: json.RawMessage(wider)})
	require.NoError(t, err)
	last := stepNamed(t, h.Desk, out.Snapshot, "add-picture")
	_, err = h.Revise(t.Context(), Revision{Document: h.open.ID, Seen: at().State.ID, Person: h.petra, Step: last, Params: json.RawMessage(strings.ReplaceAll(sourced["add-picture"][1], "FROM", file))})
	refuses[*step.Refusal](t, err, "can't be named so")
	_, err = h.Do(t.Context(), Change{Document: h.open.ID, Seen: at().State.ID, Person: h.petra, Name: "add-picture", RequestID: "again", Params: json.RawMessage(wider)})
	refuses[*step.Refusal](t, err, "can't be named so")
}

func stepOf(t *testing.T, d *Desk, row *Step) step.Step {
	s, err := d.registry.New(row.Name, json.RawMessage(row.Params))
	require.NoError(t, err)
	return s
}

// stepNamed gives the newest step of that name.
func stepNamed(t *testing.T, d *Desk, s *Snapshot, name string) uint {
	trail, err := d.Trail(t.Context(), s, 0, 20)
	require.NoError(t, err)
	i := slices.IndexFunc(trail, func(r Step) bool { return r.Name == name })
	require.GreaterOrEqual(t, i, 0)
	return trail[i].ID
}
