package arrange

import (
	"context"

	"glenrain/core/pdf"
	"glenrain/core/step"
)

// Turn is the step "turn": it sets /Rotate (ISO 32000-2, 7.7.3.3).
type Turn struct {
	Pages step.Pages `json:"pages" required:"yes" help:"which pages"`
	By    int        `json:"by,omitempty" enum:"0,90,180,270,-90,-180,-270" help:"degrees clockwise from how each page stands now"`
	To    *int       `json:"to,omitempty" help:"degrees clockwise from how the page was made: 0, 90, 180 or 270; instead of by"`
}

// Apply turns the pages.
func (t *Turn) Apply(_ context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	if (t.By == 0) == (t.To == nil) {
		return nil, step.Refuse(`turning needs either "by" or "to"`)
	}
	if t.To != nil && (*t.To < 0 || *t.To > 270 || *t.To%90 != 0) {
		return nil, step.Refuse(`"to" is 0, 90, 180 or 270`)
	}
	refs, err := t.Pages.Refs(doc, env.Keys)
	if err != nil {
		return nil, err
	}
	var turned []pdf.Ref
	for _, r := range refs {
		was := doc.Geometry(r).Rotate
		now := ((was+t.By)%360 + 360) % 360
		if t.To != nil {
			now = *t.To
		}
		if now == was {
			continue
		}
		turned = append(turned, r)
		doc.Edit(r).Set("Rotate", pdf.Integer(now))
	}
	if len(turned) == 0 {
		return nil, step.Refuse("the pages stand that way already")
	}
	how := map[int]string{90: "turned right", -270: "turned right", 270: "turned left", -90: "turned left", 180: "turned upside down", -180: "turned upside down"}[t.By]
	if t.To != nil {
		how = map[int]string{0: "set upright as made", 90: "set to 90° right", 180: "set upside down", 270: "set to 90° left"}[*t.To]
	}
	return &step.Result{
		Pages: env.Keys.Of(turned), Redrawn: step.RedrawPages, Show: env.Keys.Key(turned[0]),
		Sentence: step.Sentence(step.Named(doc.PageIndexes(turned))) + " " + how,
	}, nil
}
