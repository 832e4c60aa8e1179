package people

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"time"

	"glenrain/core/step"
	"glenrain/desk/store"
)

// AtMachine is the people of a data folder, for whoever has the machine. A server may work on the folder meanwhile.
type AtMachine struct {
	d    *Register
	done func() error
}

// OpenPeople opens the people of a data folder, which a server of this version must have opened before.
func OpenPeople(dir string) (*AtMachine, error) {
	path := filepath.Join(dir, store.DatabaseName)
	if _, err := os.Stat(path); err != nil {
		return nil, fmt.Errorf("%s is no data folder: %w", dir, err)
	}
	db, done, err := store.OpenDatabase("file:" + path + "?_pragma=synchronous(FULL)&_pragma=busy_timeout(10000)&_txlock=immediate")
	if err != nil {
		return nil, err
	}
	d := NewRegister(db, slog.New(slog.DiscardHandler), time.Now, nil)
	if !db.Migrator().HasTable(&Record{}) {
		_ = done()
		return nil, step.Refuse("this data folder is of an earlier version: start the server on it once")
	}
	return &AtMachine{d, done}, nil
}

// Close closes the folder.
func (m *AtMachine) Close() error { return m.done() }

// List lists the people.
func (m *AtMachine) List(ctx context.Context) ([]PersonView, error) {
	var rows []Person
	if err := m.d.db.WithContext(ctx).Order("name collate nocase").Find(&rows, "removed_at is null").Error; err != nil {
		return nil, err
	}
	out := make([]PersonView, len(rows))
	for i, p := range rows {
		out[i] = PersonView{Person: p}
		var n int64
		if err := m.d.db.WithContext(ctx).Table("documents").Where("owner_id = ?", p.ID).Count(&n).Error; err != nil {
			return nil, err
		}
		out[i].Documents = int(n)
	}
	return out, nil
}

// Invite makes an address to join with a role.
func (m *AtMachine) Invite(ctx context.Context, role Role, who string) (string, error) {
	return m.d.Join(ctx, 0, role, who)
}

// Reset makes an address to set a new password for whoever signs in with a name.
func (m *AtMachine) Reset(ctx context.Context, signIn string) (string, error) {
	var p Person
	if err := m.d.db.WithContext(ctx).Limit(1).Find(&p, "sign_in = ? and removed_at is null", strings.ToLower(strings.TrimSpace(signIn))).Error; err != nil {
		return "", err
	}
	if p.ID == 0 {
		return "", step.Refuse("no one signs in with the name %q", signIn)
	}
	return m.d.Reset(ctx, 0, p.ID)
}
