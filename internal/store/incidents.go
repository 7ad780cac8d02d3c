package store

import (
	"context"
	"database/sql"
	"time"

	"github.com/jmoiron/sqlx"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/incident"
)

// SaveIncident records how an incident is now, with what is to be told of it and what the journal
// says. tell may be nil: then nobody is told.
func (s *Store) SaveIncident(ctx context.Context, i *incident.Incident, tell Teller, entries ...Entry) error {
	doc, err := incidentForm.write(i.ID, i)
	if err != nil {
		return err
	}
	return s.within(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `
			INSERT INTO incident (id, site, device, kind, opened_at, ended_at, doc) VALUES (?, ?, ?, ?, ?, ?, ?)
			ON DUPLICATE KEY UPDATE kind = VALUES(kind), ended_at = VALUES(ended_at), doc = VALUES(doc)`,
			i.ID, i.Site, i.Device, i.Kind, i.Opened, sql.NullTime{Time: i.Ended, Valid: !i.Open()}, doc)
		if err != nil {
			return err
		}
		if err := notes(ctx, tx, i, tell); err != nil {
			return err
		}
		for _, e := range entries {
			if err := insertEntry(ctx, tx, e); err != nil {
				return err
			}
		}
		return nil
	})
}

// IncidentFilter says which incidents are wanted; its zero value means all.
type IncidentFilter struct {
	Open       bool       // only those that have not ended
	EndedSince time.Time  // and those that have ended since, with Open
	Device     estate.Key // only of this one
	Text       string     // only where this is found
	Before     string     // only those that opened before this one
	Limit      int
}

var incidentForm = form[incident.Incident]{"incident", incident.Version, func(i *incident.Incident, device estate.Key) { i.Device = device }}

// Incidents lists incidents, the newest first.
func (s *Store) Incidents(ctx context.Context, f IncidentFilter) ([]*incident.Incident, error) {
	out, _, err := list(ctx, s, incidentForm, `
		SELECT id, device, doc FROM incident
		WHERE (? = 0 OR ended_at IS NULL OR ? = 1 AND ended_at > ?) AND (? = '' OR device = ?) AND (? = '' OR LOCATE(?, doc) > 0)
			AND (? = '' OR (opened_at, id) < (SELECT opened_at, id FROM incident WHERE id = ?))
		ORDER BY opened_at DESC, id DESC LIMIT ?`,
		f.Open, !f.EndedSince.IsZero(), f.EndedSince, f.Device, f.Device, f.Text, f.Text, f.Before, f.Before, f.Limit)
	return out, err
}

// Incident finds one incident.
func (s *Store) Incident(ctx context.Context, id string) (*incident.Incident, error) {
	return one(ctx, s, incidentForm, `SELECT id, device, doc FROM incident WHERE id = ?`, id)
}
