package desk

import (
	"context"
	"errors"
	"strings"
	"time"

	"gorm.io/gorm"

	"glenrain/core/step"
	"glenrain/desk/people"
)

// keptRequests is how long a request's id is remembered.
const keptRequests = 30 * 24 * time.Hour

// asked finds what came of a request that was carried out already; nil where it was not, or has no id.
func (d *Desk) asked(ctx context.Context, person uint, id string) (*Request, error) {
	if id == "" {
		return nil, nil
	}
	var r Request
	err := d.db.WithContext(ctx).First(&r, "id = ? and person_id = ?", id, person).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return nil, nil
	}
	return &r, err
}

// errAsked: the same request was carried out meanwhile.
var errAsked = step.Refuse("this request was already used for something else")

// answer writes down, within the transaction that makes it, what came of a request.
func (d *Desk) answer(tx *gorm.DB, r Request) error {
	if r.ID == "" {
		return nil
	}
	r.At = d.now()
	err := tx.Create(&r).Error
	if err != nil && strings.Contains(err.Error(), "UNIQUE") {
		return errAsked
	}
	return err
}

// expire removes what has run out: sessions, one-time addresses, requests.
func (d *Desk) expire() error {
	now := d.now()
	return errors.Join(
		d.db.Where("expiry < ?", time.Now()).Delete(&people.Session{}).Error,
		d.db.Where("expiry < ?", now).Delete(&people.Invite{}).Error,
		d.db.Where("at < ?", now.Add(-keptRequests)).Delete(&Request{}).Error,
		d.db.Where("expiry < ? or seen_at < ?", now, now.Add(-people.Idle)).Delete(&people.SignedIn{}).Error,
		d.db.Where("seen_at < ?", now.Add(-people.Remembered)).Delete(&people.Device{}).Error,
	)
}

// expireEvery is how often a server that runs on looks for what has run out.
const expireEvery = 6 * time.Hour
