package desk

import (
	"context"
	"strings"

	"glenrain/desk/people"
)

// MadeBy gives what came of a request of a person's to split a document: documents, also those in the Bin, or a zip.
func (d *Desk) MadeBy(ctx context.Context, person uint, request string) (docs []Document, zip *HandOut, err error) {
	if len(request) < 16 || strings.ContainsAny(request, `%_\`) {
		return nil, nil, nil
	}
	var ids []uint
	err = d.db.WithContext(ctx).Model(&Request{}).Where("person_id = ? and id like ? and hand_out_id = 0", person, request+"-%").Order("document_id").Pluck("document_id", &ids).Error
	if err != nil {
		return nil, nil, err
	}
	for _, id := range ids {
		row, err := d.row(ctx, id)
		if err != nil {
			continue
		}
		act := people.ActLook
		if row.BinnedAt != nil {
			act = people.ActRestore
		}
		if d.may(ctx, person, act, row) != nil {
			continue
		}
		docs = append(docs, *row)
	}
	was, err := d.asked(ctx, person, request)
	if err == nil && was != nil && was.HandOutID != 0 {
		zip, err = d.HandedOut(ctx, person, was.HandOutID)
	}
	return docs, zip, err
}
