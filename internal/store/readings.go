package store

import (
	"context"
	"fmt"
	"strings"
	"time"

	"plumbbob/internal/core/estate"
)

// Series is the readings of one sensor.
type Series struct {
	ID     int        `db:"id"`
	Site   estate.Key `db:"site"`
	Device estate.Key `db:"device"`
	Name   string     `db:"name"`
	Unit   string     `db:"unit"`
}

// SeriesID finds a series, and makes it when it is new.
func (s *Store) SeriesID(ctx context.Context, x Series) (int, error) {
	err := s.exec(ctx, `
		INSERT INTO series (site, device, name, unit) VALUES (?, ?, ?, ?)
		ON DUPLICATE KEY UPDATE site = VALUES(site), unit = VALUES(unit)`, x.Site, x.Device, x.Name, x.Unit)
	if err != nil {
		return 0, err
	}
	var id int
	err = s.db.GetContext(ctx, &id, `SELECT id FROM series WHERE device = ? AND name = ?`, x.Device, x.Name)
	return id, sorted(err)
}

// SeriesIDs finds many series at once, and makes those that are new.
func (s *Store) SeriesIDs(ctx context.Context, list []Series) (map[SeriesKey]int, error) {
	out := make(map[SeriesKey]int, len(list))
	for len(list) > 0 {
		n := min(len(list), MaxBatch)
		args := make([]any, 0, 4*n)
		pairs := make([]any, 0, 2*n)
		for _, x := range list[:n] {
			args = append(args, x.Site, x.Device, x.Name, x.Unit)
			pairs = append(pairs, x.Device, x.Name)
		}
		err := s.exec(ctx, `INSERT INTO series (site, device, name, unit) VALUES (?, ?, ?, ?)`+strings.Repeat(`, (?, ?, ?, ?)`, n-1)+`
			ON DUPLICATE KEY UPDATE site = VALUES(site), unit = VALUES(unit)`, args...)
		if err != nil {
			return nil, err
		}
		var rows []Series
		err = s.db.SelectContext(ctx, &rows, `SELECT id, device, name FROM series WHERE (device, name) IN ((?, ?)`+strings.Repeat(`, (?, ?)`, n-1)+`)`, pairs...)
		if err != nil {
			return nil, sorted(err)
		}
		for _, r := range rows {
			out[SeriesKey{r.Device, r.Name}] = r.ID
		}
		list = list[n:]
	}
	return out, nil
}

// SeriesKey names a series within the estate.
type SeriesKey struct {
	Device estate.Key
	Name   string
}

// Reading is one measured value.
type Reading struct {
	SeriesID int       `db:"series_id"`
	At       time.Time `db:"at"`
	Value    float64   `db:"value"`
}

// MaxBatch is how many readings go into one statement.
const MaxBatch = 1000

// AddReadings stores readings; one that is stored already is left as it is.
func (s *Store) AddReadings(ctx context.Context, rs []Reading) error {
	for len(rs) > 0 {
		n := min(len(rs), MaxBatch)
		args := make([]any, 0, 3*n)
		for _, r := range rs[:n] {
			args = append(args, r.SeriesID, r.At, r.Value)
		}
		query := `INSERT IGNORE INTO reading (series_id, at, value) VALUES (?, ?, ?)` + strings.Repeat(`, (?, ?, ?)`, n-1)
		if err := s.exec(ctx, query, args...); err != nil {
			return fmt.Errorf("store readings: %w", err)
		}
		rs = rs[n:]
	}
	return nil
}

// DeviceReading is a reading with the device that it is of.
type DeviceReading struct {
	Device estate.Key `db:"device"`
	At     time.Time  `db:"at"`
	Value  float64    `db:"value"`
}

// RecentReadings returns one mean for each stretch of time of every device's
// series with this name, oldest first.
func (s *Store) RecentReadings(ctx context.Context, name string, from, to time.Time, stretch time.Duration) ([]DeviceReading, error) {
	var rs []DeviceReading
	err := s.db.SelectContext(ctx, &rs, `
		SELECT series.device, MIN(at) AS at, AVG(value) AS value
		FROM reading JOIN series ON series.id = reading.series_id
		WHERE series.name = ? AND at >= ? AND at < ?
		GROUP BY series.device, FLOOR(UNIX_TIMESTAMP(at) / ?)
		ORDER BY series.device, at`, name, from, to, stretch.Seconds())
	return rs, sorted(err)
}

// Past returns, for every series of a device whose name begins with prefix, the
// mean of each stretch of time in which there was a reading, oldest first.
func (s *Store) Past(ctx context.Context, device estate.Key, prefix string, from, to time.Time, stretch time.Duration) (map[string][]float64, error) {
	var rows []struct {
		Name  string  `db:"name"`
		Value float64 `db:"value"`
	}
	err := s.db.SelectContext(ctx, &rows, `
		SELECT series.name, AVG(value) AS value
		FROM reading JOIN series ON series.id = reading.series_id
		WHERE series.device = ? AND LEFT(series.name, ?) = ? AND at >= ? AND at < ?
		GROUP BY series.name, FLOOR(UNIX_TIMESTAMP(at) / ?)
		ORDER BY series.name, MIN(at)`, device, len(prefix), prefix, from, to, stretch.Seconds())
	out := map[string][]float64{}
	for _, r := range rows {
		out[r.Name] = append(out[r.Name], r.Value)
	}
	return out, sorted(err)
}
