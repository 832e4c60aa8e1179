package desk

import "context"

// Act is something that a person does in the house, as the gate asks about it.
type Act string

// The acts there are.
const (
	ActLook    Act = "look"     // at a document, its pages and its text
	ActAdd     Act = "add"      // files, and documents combined of others
	ActChange  Act = "change"   // steps, undo, redo
	ActRename  Act = "rename"   //
	ActBin     Act = "bin"      // delete to the Bin, restore
	ActHandOut Act = "hand out" //
)

// may is the one gate: it is asked before every act, with the document that it is about (nil for a new one). Whoever is signed in may
// do everything so far; roles are decided here.
func (d *Desk) may(_ context.Context, person uint, act Act, document *Document) error {
	if person == 0 {
		return ErrNobody
	}
	if document != nil {
		d.log.Debug("act", "person", person, "act", act, "document", document.ID)
	}
	return nil
}

// Look gives a document at its head to a person.
func (d *Desk) Look(ctx context.Context, person, id uint) (*Snapshot, error) {
	s, err := d.Snapshot(ctx, id)
	if err != nil {
		return nil, err
	}
	return s, d.may(ctx, person, ActLook, &s.Document)
}
