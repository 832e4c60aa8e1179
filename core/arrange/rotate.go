package arrange

import (
	"context"

	"glenrain/core/pdf"
	"glenrain/core/step"
)

// Rotate is the step "rotate": it sets /Rotate (ISO 32000-2, 7.7.3.3).
type Rotate struct {
	Pages step.Pages `json:"pages" required:"yes" help:"which pages"`
	By    int        `json:"by,omitempty" enum:"0,90,180,270,-90,-180,-270" help:"degrees clockwise from each page’s current rotation"`
	To    *int       `json:"to,omitempty" help:"degrees clockwise from the page’s original orientation: 0, 90, 180 or 270; replaces by"`
}

// Apply rotates the pages.
func (t *Rotate) Apply(_ context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	if (t.By == 0) == (t.To == nil) {
		return nil, step.Refuse(`rotating needs either "by" or "to"`)
	}
	if t.To != nil && (*t.To < 0 || *t.To > 270 || *t.To%90 != 0) {
		return nil, step.Refuse(`"to" is 0, 90, 180 or 270`)
	}
	refs, err := t.Pages.Refs(doc, env.Keys)
	if err != nil {
		return nil, err
	}
	var rotated []pdf.Ref
	for _, r := range refs {
		was := doc.Geometry(r).Rotate
		now := ((was+t.By)%360 + 360) % 360
		if t.To != nil {
			now = *t.To
		}
		if now == was {
			continue
		}
		rotated = append(rotated, r)
		doc.Edit(r).Set("Rotate", pdf.Integer(now))
	}
	if len(rotated) == 0 {
		return nil, step.Refuse("the pages are already that way round")
	}
	how := map[int]string{90: "rotated right", -270: "rotated right", 270: "rotated left", -90: "rotated left", 180: "rotated 180 degrees", -180: "rotated 180 degrees"}[t.By]
	if t.To != nil {
		how = map[int]string{0: "reset to the original rotation", 90: "set to 90 degrees right", 180: "set to 180 degrees", 270: "set to 90 degrees left"}[*t.To]
	}
	return &step.Result{
		Pages: env.Keys.Of(rotated), Redrawn: step.RedrawPages, Show: env.Keys.Key(rotated[0]),
		Sentence: step.Sentence(step.NamedIn(doc, doc.PageIndexes(rotated))) + " " + how,
	}, nil
}
