package store

import (
	"context"
	"encoding/json"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/wiring"
)

// SaveLeads keeps what was found of the leads of a device.
func (s *Store) SaveLeads(ctx context.Context, k estate.Key, l wiring.Leads) error {
	doc, err := json.Marshal(l)
	if err != nil {
		return err
	}
	return s.exec(ctx, `REPLACE INTO lead_check (device, doc) VALUES (?, ?)`, k, doc)
}

// AllLeads returns what was found, by device; what cannot be read any more is left out.
func (s *Store) AllLeads(ctx context.Context) (map[estate.Key]wiring.Leads, error) {
	var rows []struct {
		Device estate.Key `db:"device"`
		Doc    []byte     `db:"doc"`
	}
	if err := s.db.SelectContext(ctx, &rows, `SELECT device, doc FROM lead_check`); err != nil {
		return nil, sorted(err)
	}
	out := make(map[estate.Key]wiring.Leads, len(rows))
	for _, r := range rows {
		var l wiring.Leads
		if json.Unmarshal(r.Doc, &l) == nil {
			out[r.Device] = l
		}
	}
	return out, nil
}

// Beside returns the means of two series of a device, or of two devices, in the stretches
// of time in which both were measured.
func (s *Store) Beside(ctx context.Context, one, other SeriesKey, from, to time.Time, stretch time.Duration) (ones, others []float64, err error) {
	var rows []struct {
		One   float64 `db:"one"`
		Other float64 `db:"other"`
	}
	const means = `SELECT FLOOR(UNIX_TIMESTAMP(at) / ?) AS k, AVG(value) AS value FROM reading JOIN series ON series.id = reading.series_id
		WHERE series.device = ? AND series.name = ? AND at >= ? AND at < ? GROUP BY k`
	err = s.db.SelectContext(ctx, &rows, `SELECT x.value AS one, y.value AS other FROM (`+means+`) AS x JOIN (`+means+`) AS y USING (k) ORDER BY k`,
		stretch.Seconds(), one.Device, one.Name, from, to, stretch.Seconds(), other.Device, other.Name, from, to)
	for _, r := range rows {
		ones, others = append(ones, r.One), append(others, r.Other)
	}
	return ones, others, sorted(err)
}
