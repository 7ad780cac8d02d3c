package store

import (
	"context"

	"github.com/jmoiron/sqlx"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/setting"
)

// SaveSetting records a change of how gear is set up, and how far it has come. An
// ended one does not change any more.
func (s *Store) SaveSetting(ctx context.Context, c *setting.Change) error {
	doc, err := settingForm.write(c.ID, c)
	if err != nil {
		return err
	}
	return s.stepBy(ctx, `
		INSERT INTO setting (id, site, device, state, who, asked_at, doc) VALUES (?, ?, ?, ?, ?, ?, ?)
		ON DUPLICATE KEY UPDATE state = IF(ended_at IS NULL, VALUES(state), state), doc = IF(ended_at IS NULL, VALUES(doc), doc)`,
		c.ID, c.Site, c.Device, c.State, c.By, c.Asked, doc)
}

// EndSetting records the end of a change with the journal entry about it.
// ErrConflict: that has been done before.
func (s *Store) EndSetting(ctx context.Context, c *setting.Change, entry Entry) error {
	doc, err := settingForm.write(c.ID, c)
	if err != nil {
		return err
	}
	return s.step(ctx, func(tx *sqlx.Tx) error {
		err := changedOne(tx.ExecContext(ctx, `UPDATE setting SET state = ?, ended_at = ?, doc = ? WHERE id = ? AND ended_at IS NULL`, c.State, c.Ended, doc, c.ID))
		if err != nil {
			return err
		}
		return insertEntry(ctx, tx, entry)
	})
}

var settingForm = form[setting.Change]{"setting", setting.Version, func(c *setting.Change, device estate.Key) { c.Device = device }}

// UnendedSettings lists the changes of which it is not known what became of them.
func (s *Store) UnendedSettings(ctx context.Context) ([]*setting.Change, error) {
	out, _, err := list(ctx, s, settingForm, `SELECT id, device, doc FROM setting WHERE ended_at IS NULL ORDER BY asked_at, id`)
	return out, err
}
