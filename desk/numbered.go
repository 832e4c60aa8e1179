package desk

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"gorm.io/gorm"

	"glenrain/core/step"
	"glenrain/desk/office"
)

// Range is a range of numbers of the office: file numbers, codes.
type Range struct {
	Next   int    `json:"next"`
	Before string `json:"before,omitempty"` // what is written before each
	Digits int    `json:"digits,omitempty"` // at least so many, with noughts before them
}

// Number writes the next number.
func (r Range) Number() string {
	return fmt.Sprintf("%s%0*d", r.Before, max(1, min(r.Digits, 20)), r.Next)
}

// errTaken: somebody else took the number meanwhile.
var errTaken = errors.New("someone else took the number first")

// mostTaken is how often a number is tried for that others take meanwhile.
const mostTaken = 20

// DoNumbered does a step that takes the next number of a range. The number is taken within the transaction that stores the step: where the step fails
// it is free, and no two steps have the same. params makes the step's parameters of it.
func (d *Desk) DoNumbered(ctx context.Context, c Change, key string, params func(number string) (json.RawMessage, error)) (*Outcome, error) {
	for range mostTaken {
		was, err := office.Find(d.db.WithContext(ctx), key)
		if err != nil {
			return nil, err
		}
		var r Range
		if was == nil || was.Sealed || json.Unmarshal(was.Value, &r) != nil {
			return nil, step.Refuse("there is no range of numbers “%s”: an administrator must set it first", key)
		}
		if c.Params, err = params(r.Number()); err != nil {
			return nil, err
		}
		r.Next++
		next, err := json.Marshal(r)
		if err != nil {
			return nil, err
		}
		c.with = func(tx *gorm.DB) error {
			res := tx.Model(&office.Setting{}).Where("key = ? and value = ?", key, was.Value).Update("value", next)
			if res.Error == nil && res.RowsAffected == 0 {
				return errTaken
			}
			return res.Error
		}
		out, err := d.Do(ctx, c)
		if !errors.Is(err, errTaken) {
			return out, err
		}
	}
	return nil, step.Refuse("other people took every number that was tried: try again")
}
