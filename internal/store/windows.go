package store

import (
	"context"
	"fmt"
	"strconv"
	"time"

	"github.com/jmoiron/sqlx"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/reading"
)

// OpenWindow records that something belongs to somebody for a time, and returns
// the number of that.
func (s *Store) OpenWindow(ctx context.Context, w operation.Window, entry Entry) (id int64, err error) {
	until := w.Until
	if w.Every != "" {
		until = forEver
	}
	err = s.within(ctx, func(tx *sqlx.Tx) error {
		r, err := tx.ExecContext(ctx, `
			INSERT INTO work_window (site, device, who, why, from_at, until_at, tag, every, lasts_s, zone) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
			w.Site, w.Device, w.By, w.Why, w.From, until, w.Tag, w.Every, int(w.Lasts.Seconds()), w.Zone)
		if err != nil {
			return err
		}
		if id, err = r.LastInsertId(); err != nil {
			return err
		}
		return insertEntry(ctx, tx, entry)
	})
	return id, err
}

// forEver is when a window ends that comes again and again.
var forEver = time.Date(9999, 12, 31, 0, 0, 0, 0, time.UTC)

// CloseWindow ends a window before its time. ErrConflict means that it has ended.
func (s *Store) CloseWindow(ctx context.Context, id int64, at time.Time, entry Entry) error {
	return s.within(ctx, func(tx *sqlx.Tx) error {
		if err := changedOne(tx.ExecContext(ctx, `UPDATE work_window SET until_at = ? WHERE id = ? AND until_at > ?`, at, id, at)); err != nil {
			return err
		}
		return insertEntry(ctx, tx, entry)
	})
}

// Windows lists those that have not ended, the one that ends first before the others, and behind them
// those that come again and again, as they are open now or next.
func (s *Store) Windows(ctx context.Context, now time.Time) ([]operation.Window, error) {
	var rows []struct {
		ID     int64      `db:"id"`
		Site   estate.Key `db:"site"`
		Device estate.Key `db:"device"`
		Who    string     `db:"who"`
		Why    string     `db:"why"`
		From   time.Time  `db:"from_at"`
		Until  time.Time  `db:"until_at"`
		Tag    string     `db:"tag"`
		Every  string     `db:"every"`
		Lasts  int        `db:"lasts_s"`
		Zone   string     `db:"zone"`
	}
	err := s.db.SelectContext(ctx, &rows, `SELECT id, site, device, who, why, from_at, until_at, tag, every, lasts_s, zone FROM work_window WHERE until_at > ? ORDER BY until_at, id`, now)
	out := make([]operation.Window, 0, len(rows))
	for _, r := range rows {
		w := operation.Window{
			ID: r.ID, Site: r.Site, Device: r.Device, By: r.Who, Why: r.Why, From: r.From, Until: r.Until, Tag: r.Tag, Every: r.Every, Lasts: time.Duration(r.Lasts) * time.Second, Zone: r.Zone,
		}
		zone, err := time.LoadLocation(w.Zone)
		var at operation.Window
		if err == nil {
			at, err = w.At(now, zone)
		}
		if err != nil {
			s.Health.Ails("window "+strconv.FormatInt(r.ID, 10), fmt.Sprintf("the window %d of %s is left out: %s", r.ID, r.Who, err))
			continue
		}
		out = append(out, at)
	}
	return out, sorted(err)
}

// A CalendarText is a calendar as somebody has given it.
type CalendarText struct {
	Name  string    `db:"name"`
	Text  string    `db:"text"`
	SetAt time.Time `db:"set_at"`
	SetBy string    `db:"set_by"`
}

// SetCalendar adds or replaces a calendar.
func (s *Store) SetCalendar(ctx context.Context, c CalendarText, entries ...Entry) error {
	return s.change(ctx, entries, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `
			INSERT INTO calendar (name, text, set_at, set_by) VALUES (?, ?, ?, ?)
			ON DUPLICATE KEY UPDATE text = VALUES(text), set_at = VALUES(set_at), set_by = VALUES(set_by)`, c.Name, c.Text, c.SetAt, c.SetBy)
		return err
	})
}

// RemoveCalendar forgets a calendar. ErrConflict means that there was none.
func (s *Store) RemoveCalendar(ctx context.Context, name string, entries ...Entry) error {
	return s.changeBy(ctx, entries, `DELETE FROM calendar WHERE name = ?`, name)
}

// Calendars lists all calendars.
func (s *Store) Calendars(ctx context.Context) ([]CalendarText, error) {
	var out []CalendarText
	err := s.db.SelectContext(ctx, &out, `SELECT name, text, set_at, set_by FROM calendar ORDER BY name`)
	return out, sorted(err)
}

// RecentOperations counts the operations at each site since a time.
func (s *Store) RecentOperations(ctx context.Context, since time.Time) (map[estate.Key]int, error) {
	var rows []struct {
		Site estate.Key `db:"site"`
		N    int        `db:"n"`
	}
	err := s.db.SelectContext(ctx, &rows, `SELECT site, COUNT(*) AS n FROM operation WHERE asked_at > ? GROUP BY site`, since)
	out := make(map[estate.Key]int, len(rows))
	for _, r := range rows {
		out[r.Site] = r.N
	}
	return out, sorted(err)
}

// NewestOperations returns the id of the operation on each device that was asked for last.
func (s *Store) NewestOperations(ctx context.Context) (map[estate.Key]string, error) {
	var rows []struct {
		Device estate.Key `db:"device"`
		ID     string     `db:"id"`
	}
	err := s.db.SelectContext(ctx, &rows, `SELECT o.device AS device, o.id AS id FROM operation o
		JOIN (SELECT device, MAX(asked_at) AS at FROM operation GROUP BY device) last ON last.device = o.device AND last.at = o.asked_at`)
	if err != nil {
		return nil, sorted(err)
	}
	out := make(map[estate.Key]string, len(rows))
	for _, r := range rows {
		out[r.Device] = max(out[r.Device], r.ID)
	}
	return out, nil
}

// UsualDraws returns what devices draw on the mean while they run, in W: over
// the stretches since a time in which they drew more than nothing.
func (s *Store) UsualDraws(ctx context.Context, series string, since time.Time) (map[estate.Key]float64, error) {
	var rows []struct {
		Device estate.Key `db:"device"`
		W      float64    `db:"w"`
	}
	err := s.db.SelectContext(ctx, &rows, `
		SELECT s.device AS device, AVG(r.mean) AS w FROM series s JOIN rollup_1h r ON r.series_id = s.id
		WHERE s.name = ? AND r.at > ? AND r.least > 1 GROUP BY s.device`, series, since)
	out := make(map[estate.Key]float64, len(rows))
	for _, r := range rows {
		out[r.Device] = r.W
	}
	return out, sorted(err)
}

// UsualAt returns what devices draw at one hour of the day (UTC) while they run, in W: over
// the hours since a time in which they drew more than nothing, and were measured for half
// of it at least.
func (s *Store) UsualAt(ctx context.Context, series string, hour int, since time.Time) (map[estate.Key]reading.Usual, error) {
	var rows []struct {
		Device estate.Key `db:"device"`
		W      float64    `db:"w"`
		Spread float64    `db:"spread"`
		N      int        `db:"n"`
	}
	err := s.db.SelectContext(ctx, &rows, `
		SELECT s.device AS device, AVG(r.mean) AS w, STDDEV_POP(r.mean) AS spread, COUNT(*) AS n
		FROM series s JOIN rollup_1h r ON r.series_id = s.id
		WHERE s.name = ? AND r.at > ? AND HOUR(r.at) = ? AND r.least > 1 AND r.known >= 1800 GROUP BY s.device`, series, since, hour)
	out := make(map[estate.Key]reading.Usual, len(rows))
	for _, r := range rows {
		out[r.Device] = reading.Usual{W: r.W, Spread: r.Spread, Days: r.N}
	}
	return out, sorted(err)
}
