package arrange

import (
	"context"
	"fmt"

	"glenrain/core/nav"
	"glenrain/core/pdf"
	"glenrain/core/step"
)

// Label is the step "label".
type Label struct {
	Pages  step.Pages `json:"pages" required:"yes" help:"which pages; they are counted in order"`
	Style  string     `json:"style" enum:"1 2 3,i ii iii,I II III,a b c,A B C,no number" help:"number style"`
	Prefix string     `json:"prefix,omitempty" help:"text before the number, such as A-"`
	First  int        `json:"first" min:"1" max:"1000000" help:"the number of the first page"`
}

// styles are the names of numbering styles (ISO 32000-2, table 161).
var styles = map[string]pdf.Name{"1 2 3": "D", "i ii iii": "r", "I II III": "R", "a b c": "a", "A B C": "A", "no number": ""}

// maxPrefix is how many characters a prefix has at most.
const maxPrefix = 100

// Apply sets what the pages are called (12.4.2).
func (l *Label) Apply(_ context.Context, doc *pdf.Document, env *step.Env) (*step.Result, error) {
	at, err := l.Pages.Resolve(doc, env.Keys)
	if err != nil {
		return nil, err
	}
	if len(at) == 0 {
		return nil, step.Refuse("no page is selected")
	}
	if len([]rune(l.Prefix)) > maxPrefix {
		return nil, step.Refuse("the text before the number can have up to %d characters", maxPrefix)
	}
	if styles[l.Style] == "" && l.Prefix == "" {
		return nil, step.Refuse("a label without a number needs some text")
	}
	labels := nav.Labels(doc)
	if labels == nil {
		labels = nav.Placed(doc)
	}
	before := make([]nav.Label, len(labels))
	copy(before, labels)
	for i, n := range at {
		labels[n] = nav.Label{Style: styles[l.Style], Prefix: l.Prefix, Number: l.First + i}
	}
	same := true
	for i := range labels {
		same = same && labels[i].String() == before[i].String()
	}
	if same && doc.Catalog().Has("PageLabels") {
		return nil, step.Refuse("the pages already have these labels")
	}
	nav.SetLabels(doc, labels)
	all, err := doc.Pages()
	if err != nil {
		return nil, err
	}
	res := &step.Result{Named: true}
	for _, n := range at {
		res.Pages = append(res.Pages, env.Keys.Key(all[n].Ref))
	}
	res.Show = res.Pages[0]
	first, last := labels[at[0]].String(), labels[at[len(at)-1]].String()
	res.Sentence = fmt.Sprintf("%s labelled %s", step.Sentence(step.Named(at)), first)
	if first != last {
		res.Sentence += " to " + last
	}
	if twice := nav.Twice(labels); twice != "" {
		res.Warnings = append(res.Warnings, fmt.Sprintf("More than one page is labelled %s now: it is the label of the first.", twice))
	}
	return res, nil
}

// LabelsRemove is the step "labels-remove".
type LabelsRemove struct{}

// Apply takes the labels away: pages are called by their place.
func (l *LabelsRemove) Apply(_ context.Context, doc *pdf.Document, _ *step.Env) (*step.Result, error) {
	if !doc.Catalog().Has("PageLabels") {
		return nil, step.Refuse("the pages have no labels")
	}
	doc.Edit(doc.Root()).Delete("PageLabels")
	return &step.Result{All: true, Named: true, Sentence: "Page labels removed"}, nil
}
