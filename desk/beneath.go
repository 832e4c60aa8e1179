package desk

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"glenrain/core/step"
	"glenrain/desk/people"
)

// mostBeneath is how many of others' steps one's own may lie beneath and still be undone.
const mostBeneath = 200

// othersOnTop reports whether the newest step of a trail is somebody else's. What was done to the trail is nobody's.
func (d *Desk) othersOnTop(ctx context.Context, document, seen, person uint) (bool, error) {
	if err := d.seen(ctx, person, document, people.ActLook); err != nil {
		return false, err
	}
	head, err := d.Snapshot(ctx, document)
	if err != nil {
		return false, err
	}
	if st := head.State; st.ID != seen || st.StepID == 0 || st.Act != "" && st.WithoutID == 0 {
		return false, nil
	}
	var top Step
	err = d.db.WithContext(ctx).Select("person_id").Limit(1).Find(&top, "id = ?", head.State.StepID).Error
	return err == nil && top.PersonID != person && person != 0, err
}

// undoBeneath undoes a person's newest step although others did something since: their steps are run again without it. If one of them can't be, nothing is
// changed, and the refusal names it. A person who did nothing here undoes nothing so: what others did is undone by name.
func (d *Desk) undoBeneath(ctx context.Context, document, seen, person uint) (*Outcome, error) {
	what := ""
	own := func(head *Snapshot) (rows []Step, i int, err error) {
		rows, err = d.Trail(ctx, head, 0, mostBeneath+1)
		return rows, slices.IndexFunc(rows, func(r Step) bool { return r.PersonID == person }), err
	}
	comment := func(head *Snapshot) bool {
		rows, i, err := own(head)
		return err == nil && i >= 0 && d.registry.Comments(rows[i].Name)
	}
	out, err := d.onHead(ctx, document, seen, person, comment, func(head *Snapshot) (*Snapshot, error) {
		rows, i, err := own(head)
		if err != nil {
			return nil, err
		}
		if i < 0 {
			names, err := d.People(ctx)
			if err != nil {
				return nil, err
			}
			return nil, step.Refuse("the last change, “%s”, is by %s, and none of the latest changes is yours: to undo it, choose it in the trail", rows[0].Sentence, names[rows[0].PersonID])
		}
		target, later := rows[i], rows[:i]
		if slices.ContainsFunc(later, func(r Step) bool { return r.Together != "" }) {
			return nil, step.Refuse("pages were moved between this document and another one after your last change: move them back first")
		}
		if target.Together != "" {
			return nil, step.Refuse("your last change moved pages between two documents, and this one was changed since: move the pages back")
		}
		ids := make([]uint, i+1)
		for k, r := range rows[:i+1] {
			ids[k] = r.StateID
		}
		var acts []string
		if err := d.db.WithContext(ctx).Model(&State{}).Where("id in ? and act <> '' and coalesce(without_id, 0) = 0", ids).Order("id desc").Limit(1).Pluck("act", &acts).Error; err != nil {
			return nil, err
		}
		if len(acts) > 0 {
			return nil, step.Refuse("others changed the document after “%s”: choose a version in the trail to return to", acts[0])
		}
		slices.Reverse(later)
		what = target.Sentence
		return d.runOn(ctx, head, target.parent, later, false, State{BackID: head.State.ID, Act: fmt.Sprintf("“%s” undone", what), WithoutID: target.ID}, person)
	})
	if err == nil {
		out.Undone = what
	}
	return out, err
}

// marksSince gives the steps of a trail by others than a person that only annotate, and are not in the trail of a state, oldest first. A step that was
// run again has the time, the person and the parameters that it had.
func (d *Desk) marksSince(ctx context.Context, head *Snapshot, state *State, person uint) ([]Step, error) {
	now, err := d.Trail(ctx, head, 0, mostReplayed)
	if err != nil {
		return nil, err
	}
	then, err := d.Trail(ctx, &Snapshot{Document: head.Document, State: *state}, 0, mostReplayed)
	if err != nil {
		return nil, err
	}
	type key struct {
		at           int64
		person       uint
		name, params string
	}
	of := func(r Step) key { return key{r.At.UnixNano(), r.PersonID, r.Name, r.Params} }
	there := map[key]bool{}
	for _, r := range then {
		there[of(r)] = true
	}
	var out []Step
	for _, r := range now {
		if r.PersonID != person && d.registry.Annotates(r.Name) && !there[of(r)] {
			out = append(out, r)
		}
	}
	slices.Reverse(out)
	return out, nil
}

// returnWith makes a state of before the newest one, with marks that others added since. Those whose pages or text are not there then go; how many stands
// in what it says.
func (d *Desk) returnWith(ctx context.Context, head *Snapshot, state *State, marks []Step, act string, person uint) (*Snapshot, string, error) {
	timed, cancel := d.limited(ctx)
	defer cancel()
	at, err := d.load(ctx, head.Document, state.ID)
	if err != nil {
		return nil, "", err
	}
	type again struct {
		list  []*ran
		files []string
	}
	all, err := bounded(timed, d, act, func(ctx context.Context) (a again, err error) {
		for _, m := range marks {
			one, kept, err := d.runAll(ctx, at, []Step{m}, false)
			a.files = append(a.files, kept...)
			var refused *step.Refusal
			switch {
			case errors.As(err, &refused):
				continue
			case err != nil:
				return a, err
			}
			a.list = append(a.list, one...)
			at = one[0].after(d.Store)
		}
		return a, nil
	}, func(a again) { d.tidy(a.files...) })
	list, files := all.list, all.files
	if err != nil {
		d.tidy(files...)
		return nil, "", err
	}
	if lost := len(marks) - len(list); lost > 0 {
		act += fmt.Sprintf("; %s by others removed, because what they marked is not in this version", step.Count(lost, "change to marks"))
	}
	if len(list) == 0 {
		d.tidy(files...)
		snap, err := d.comeAgain(ctx, head, state.ID, act, person)
		return snap, act, err
	}
	snap, err := d.commit(ctx, head, list, State{BackID: head.State.ID, Act: act}, person)
	if err != nil {
		d.tidy(files...)
		return nil, "", fmt.Errorf("storing the trail: %w", err)
	}
	d.Store.Unpin(files...)
	return snap, act, nil
}
