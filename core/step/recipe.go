package step

import (
	"bytes"
	"encoding/json"
)

// Call is a step as it is written down: its name and its parameters.
type Call struct {
	Name   string          `json:"name"`
	Params json.RawMessage `json:"params,omitempty"`
}

// List is a list of steps to run one after another: {"steps":[{"name":...,"params":{...}}]}.
type List struct {
	Steps []Call `json:"steps"`
}

// ParseList reads a list of steps and refuses what it does not know.
func (g *Registry) ParseList(data []byte) ([]Step, []Call, error) {
	dec := json.NewDecoder(bytes.NewReader(data))
	dec.DisallowUnknownFields()
	var l List
	if err := dec.Decode(&l); err != nil {
		return nil, nil, badParams("list", err)
	}
	if l.Steps == nil {
		return nil, nil, Refuse(`the list of steps is missing: it should be {"steps":[...]}`)
	}
	var out []Step
	for _, c := range l.Steps {
		s, err := g.New(c.Name, c.Params)
		if err != nil {
			return nil, nil, err
		}
		out = append(out, s)
	}
	return out, l.Steps, nil
}
