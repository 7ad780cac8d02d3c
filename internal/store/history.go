package store

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/reading"
)

// A Resolution is how finely something is kept.
type Resolution struct {
	Name    string
	Stretch time.Duration // 0: every reading
	table   string
	month   bool // partitioned by month, not by day
}

// The resolutions, the finest first.
var (
	EachReading = Resolution{"readings", 0, "reading", false}
	Each5Min    = Resolution{"5min", 5 * time.Minute, "rollup_5min", true}
	EachHour    = Resolution{"1h", time.Hour, "rollup_1h", true}
)

// Retention is for how long each resolution is kept, and records that have
// ended. The journal is kept for ever: each entry proves those before it.
type Retention struct{ Readings, Each5Min, EachHour, Records, Lines time.Duration }

// DefaultRetention is two days, sixty days and three years, and two weeks of what serial
// lines say.
var DefaultRetention = Retention{48 * time.Hour, 60 * 24 * time.Hour, 3 * 365 * 24 * time.Hour, 3 * 365 * 24 * time.Hour, 14 * 24 * time.Hour}

// ListSeries lists what is kept of a device.
func (s *Store) ListSeries(ctx context.Context, device estate.Key) ([]Series, error) {
	var out []Series
	err := s.db.SelectContext(ctx, &out, `SELECT id, site, device, name, unit FROM series WHERE device = ? ORDER BY name`, device)
	return out, sorted(err)
}

// SeriesNamed returns the series of a device with that name: one, or none.
func (s *Store) SeriesNamed(ctx context.Context, device estate.Key, name string) ([]Series, error) {
	var out []Series
	err := s.db.SelectContext(ctx, &out, `SELECT id, site, device, name, unit FROM series WHERE device = ? AND name = ?`, device, name)
	return out, sorted(err)
}

// rollSeries is how many series are rolled up at a time: their readings lie
// together, so that nothing is read but what is rolled up.
const rollSeries = 500

// RollUp brings the roll-ups up to date: what was read between two times goes
// into stretches of five minutes, and those into hours. It can be repeated.
func (s *Store) RollUp(ctx context.Context, from, to time.Time) error {
	from, to = from.Truncate(Each5Min.Stretch), to.Truncate(Each5Min.Stretch)
	var ids []int
	if err := s.db.SelectContext(ctx, &ids, `SELECT id FROM series ORDER BY id`); err != nil {
		return sorted(err)
	}
	for some := range slices.Chunk(ids, rollSeries) {
		for at := from; at.Before(to); at = at.Add(time.Hour) {
			if err := s.roll5Min(ctx, some, at, earlier(at.Add(time.Hour), to)); err != nil {
				return fmt.Errorf("roll up: %w", err)
			}
		}
		if err := s.rollHours(ctx, some, from.Truncate(time.Hour), to); err != nil {
			return fmt.Errorf("roll up: %w", err)
		}
	}
	return s.exec(ctx, `INSERT INTO rolled (name, until_at) VALUES ('5min', ?) ON DUPLICATE KEY UPDATE until_at = GREATEST(until_at, VALUES(until_at))`, to)
}

func (s *Store) rollHours(ctx context.Context, ids []int, from, to time.Time) error {
	query, args, err := sqlx.In(`
		INSERT INTO rollup_1h (series_id, at, least, mean, greatest, count, known)
		SELECT series_id, FROM_UNIXTIME(FLOOR(UNIX_TIMESTAMP(at) / 3600) * 3600) AS hour,
			MIN(least), SUM(mean * known) / SUM(known), MAX(greatest), LEAST(SUM(count), 65535), SUM(known)
		FROM rollup_5min FORCE INDEX (PRIMARY) WHERE series_id IN (?) AND at >= ? AND at < ? AND known > 0 GROUP BY series_id, hour
		ON DUPLICATE KEY UPDATE least = VALUES(least), mean = VALUES(mean), greatest = VALUES(greatest), count = VALUES(count), known = VALUES(known)`,
		ids, from, to)
	if err != nil {
		return err
	}
	return s.exec(ctx, query, args...)
}

func earlier(a, b time.Time) time.Time {
	if a.Before(b) {
		return a
	}
	return b
}

// RolledUntil is how far the roll-ups have come; zero when they have not begun.
func (s *Store) RolledUntil(ctx context.Context) (time.Time, error) {
	var at []time.Time
	err := s.db.SelectContext(ctx, &at, `SELECT until_at FROM rolled WHERE name = '5min'`)
	if err != nil || len(at) == 0 {
		return time.Time{}, sorted(err)
	}
	return at[0], nil
}

// roll5Min works out the stretches of an hour at the most. The mean is weighted
// with time, which needs each series in order: SQL is no good at that.
func (s *Store) roll5Min(ctx context.Context, ids []int, from, to time.Time) error {
	query, args, err := sqlx.In(`
		SELECT series_id, at, value FROM reading FORCE INDEX (PRIMARY)
		WHERE series_id IN (?) AND at >= ? AND at < ? ORDER BY series_id, at`, ids, from.Add(-reading.Hold), to)
	if err != nil {
		return err
	}
	rows, err := s.db.QueryxContext(ctx, query, args...)
	if err != nil {
		return sorted(err)
	}
	defer func() { _ = rows.Close() }()
	w := &rollWriter{s: s, table: Each5Min.table}
	id := 0
	var samples []reading.Sample
	for rows.Next() {
		var r Reading
		if err := rows.StructScan(&r); err != nil {
			return sorted(err)
		}
		if r.SeriesID != id {
			w.add(ctx, id, reading.RollUp(samples, from, to, Each5Min.Stretch))
			id, samples = r.SeriesID, samples[:0]
		}
		samples = append(samples, reading.Sample{At: r.At, Value: r.Value})
	}
	if err := rows.Err(); err != nil {
		return sorted(err)
	}
	w.add(ctx, id, reading.RollUp(samples, from, to, Each5Min.Stretch))
	return w.flush(ctx)
}

// AddStretches stores stretches of one series at a resolution.
func (s *Store) AddStretches(ctx context.Context, res Resolution, id int, list []reading.Stretch) error {
	w := &rollWriter{s: s, table: res.table}
	w.add(ctx, id, list)
	return w.flush(ctx)
}

// rollWriter gathers stretches into large statements.
type rollWriter struct {
	s     *Store
	table string
	args  []any
	n     int
	err   error
}

func (w *rollWriter) add(ctx context.Context, id int, list []reading.Stretch) {
	for _, x := range list {
		w.args = append(w.args, id, x.At, x.Min, x.Mean, x.Max, min(x.Count, 65535), int(x.Known.Seconds()+0.5))
		w.n++
		if w.n == MaxBatch {
			_ = w.flush(ctx) // its error is kept
		}
	}
}

func (w *rollWriter) flush(ctx context.Context) error {
	if w.n == 0 || w.err != nil {
		return w.err
	}
	w.err = w.s.exec(ctx, `
		INSERT INTO `+w.table+` (series_id, at, least, mean, greatest, count, known) VALUES (?, ?, ?, ?, ?, ?, ?)`+strings.Repeat(`, (?, ?, ?, ?, ?, ?, ?)`, w.n-1)+`
		ON DUPLICATE KEY UPDATE least = VALUES(least), mean = VALUES(mean), greatest = VALUES(greatest), count = VALUES(count), known = VALUES(known)`, w.args...)
	w.args, w.n = w.args[:0], 0
	return w.err
}

// coarse is how much coarser than asked for a resolution may be: a stretch of
// four minutes is drawn as well from those of five.
const coarse = 0.8

// History returns series of one device between two times, each as about so
// many stretches: the least, the mean and the greatest of each, oldest first.
// Stretches of which nothing is known are left out. now and keep say which
// resolution is there for that time.
func (s *Store) History(ctx context.Context, series []Series, from, to time.Time, points int, now time.Time, keep Retention) (map[int][]reading.Stretch, Resolution, time.Duration, error) {
	long := to.Sub(from) / time.Duration(max(1, points))
	to = earlier(to, now) // nothing holds in the future
	if len(series) == 0 {
		return nil, EachReading, long, nil
	}
	res := EachReading
	if float64(long) >= coarse*float64(Each5Min.Stretch) || from.Before(now.Add(-keep.Readings)) {
		res, long = Each5Min, max(long, Each5Min.Stretch)
	}
	if long >= EachHour.Stretch || from.Before(now.Add(-keep.Each5Min)) {
		res, long = EachHour, max(long, EachHour.Stretch)
	}
	long = max(long.Round(time.Second), time.Second)
	ids := make([]int, len(series))
	for i, x := range series {
		ids[i] = x.ID
	}
	out, err := s.stretches(ctx, res, ids, from, to, long)
	if err != nil || res == EachReading {
		return out, res, long, err
	}
	// The newest is not rolled up yet.
	until, err := s.RolledUntil(ctx)
	if err != nil || !until.Before(to) {
		return out, res, long, err
	}
	tail, err := s.stretches(ctx, EachReading, ids, latest(until, from), to, long)
	for id, list := range tail {
		if n := len(out[id]); n > 0 && len(list) > 0 && list[0].At.Equal(out[id][n-1].At) {
			out[id] = out[id][:n-1] // half of it was rolled up: the newer half tells as much
		}
		out[id] = append(out[id], list...)
	}
	return out, res, long, err
}

func latest(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

func (s *Store) stretches(ctx context.Context, res Resolution, ids []int, from, to time.Time, long time.Duration) (map[int][]reading.Stretch, error) {
	out := map[int][]reading.Stretch{}
	if res == EachReading {
		return out, s.fine(ctx, out, ids, from, to, long)
	}
	query, args, err := sqlx.In(`
		SELECT series_id, CAST(FLOOR(UNIX_TIMESTAMP(at) / ?) AS INTEGER) AS n, MIN(least) AS least, SUM(mean * known) / SUM(known) AS mean, MAX(greatest) AS greatest, SUM(count) AS count, SUM(known) AS known
		FROM `+res.table+` WHERE series_id IN (?) AND at >= ? AND at < ? AND known > 0
		GROUP BY series_id, n ORDER BY series_id, n`, long.Seconds(), ids, from.Truncate(res.Stretch), to)
	if err != nil {
		return nil, fmt.Errorf("history: %w", err)
	}
	var rows []struct {
		ID       int     `db:"series_id"`
		N        int64   `db:"n"`
		Least    float64 `db:"least"`
		Mean     float64 `db:"mean"`
		Greatest float64 `db:"greatest"`
		Count    int     `db:"count"`
		Known    int64   `db:"known"`
	}
	if err := s.db.SelectContext(ctx, &rows, query, args...); err != nil {
		return nil, sorted(err)
	}
	for _, r := range rows {
		at := time.Unix(r.N*int64(long.Seconds()), 0).UTC()
		out[r.ID] = append(out[r.ID], reading.Stretch{At: at, Min: r.Least, Mean: r.Mean, Max: r.Greatest, Count: r.Count, Known: time.Duration(r.Known) * time.Second})
	}
	return out, nil
}

func (s *Store) fine(ctx context.Context, out map[int][]reading.Stretch, ids []int, from, to time.Time, long time.Duration) error {
	query, args, err := sqlx.In(`
		SELECT series_id, at, value FROM reading WHERE series_id IN (?) AND at >= ? AND at < ? ORDER BY series_id, at`, ids, from.Add(-reading.Hold), to)
	if err != nil {
		return fmt.Errorf("history: %w", err)
	}
	var rows []Reading
	if err := s.db.SelectContext(ctx, &rows, query, args...); err != nil {
		return sorted(err)
	}
	samples := map[int][]reading.Sample{}
	for _, r := range rows {
		samples[r.SeriesID] = append(samples[r.SeriesID], reading.Sample{At: r.At, Value: r.Value})
	}
	for id, list := range samples {
		out[id] = reading.RollUp(list, from, to, long)
	}
	return nil
}

// Uses returns, of every device that has a series with this name, what it was
// over a time: from the hours where they are there, and else from five minutes.
func (s *Store) Uses(ctx context.Context, name string, from, to time.Time) (map[estate.Key]reading.Summary, error) {
	res := EachHour
	if to.Sub(from) < 48*time.Hour {
		res = Each5Min
	}
	var rows []struct {
		Device estate.Key `db:"device"`
		Wh     float64    `db:"wh"`
		Peak   float64    `db:"peak"`
		Known  float64    `db:"known"`
	}
	err := s.db.SelectContext(ctx, &rows, `
		SELECT series.device, SUM(mean * known) / 3600 AS wh, MAX(greatest) AS peak, SUM(known) AS known
		FROM `+res.table+` JOIN series ON series.id = series_id
		WHERE series.name = ? AND at >= ? AND at < ? AND known > 0 GROUP BY series.device`, name, from, to)
	out := map[estate.Key]reading.Summary{}
	for _, r := range rows {
		known := time.Duration(r.Known) * time.Second
		out[r.Device] = reading.Summary{Integral: r.Wh, Peak: r.Peak, Known: known, Mean: r.Wh / known.Hours()}
	}
	return out, sorted(err)
}

// Partition makes the partitions for the time around now, and drops those of
// what is older than it is to be kept.
func (s *Store) Partition(ctx context.Context, now time.Time, keep Retention) error {
	for _, x := range []struct {
		res  Resolution
		keep time.Duration
	}{{EachReading, keep.Readings}, {Each5Min, keep.Each5Min}, {EachHour, keep.EachHour}} {
		if err := s.partition(ctx, x.res, now.UTC(), now.Add(-x.keep).UTC()); err != nil {
			return fmt.Errorf("partitions of %s: %w", x.res.table, err)
		}
	}
	return nil
}

// begin is when the partition begins in which a time lies, and next when the
// one after it does.
func (r Resolution) begin(at time.Time) time.Time {
	if r.month {
		return time.Date(at.Year(), at.Month(), 1, 0, 0, 0, 0, time.UTC)
	}
	return time.Date(at.Year(), at.Month(), at.Day(), 0, 0, 0, 0, time.UTC)
}

func (r Resolution) next(at time.Time) time.Time {
	if r.month {
		return r.begin(at).AddDate(0, 1, 0)
	}
	return r.begin(at).AddDate(0, 0, 1)
}

const partitionName = "p20060102"

func (s *Store) partition(ctx context.Context, res Resolution, now, oldest time.Time) error {
	var names []string
	err := s.db.SelectContext(ctx, &names, `
		SELECT partition_name FROM information_schema.partitions
		WHERE table_schema = DATABASE() AND table_name = ?`, res.table)
	if err != nil {
		return sorted(err)
	}
	have := map[string]bool{}
	newest := ""
	for _, n := range names {
		have[n] = true
		if n != "pmax" && n > newest {
			newest = n
		}
	}
	var add []string
	at := res.begin(res.begin(now).Add(-time.Hour)) // yesterday, or last month
	for range 4 {
		// Only behind the last one: a range cannot be added in between.
		if name := at.Format(partitionName); !have[name] && name > newest {
			add = append(add, fmt.Sprintf(`PARTITION %s VALUES LESS THAN ('%s')`, name, res.next(at).Format(time.DateOnly)))
		}
		at = res.next(at)
	}
	if len(add) > 0 {
		err := s.exec(ctx, `ALTER TABLE `+res.table+` REORGANIZE PARTITION pmax INTO (`+strings.Join(add, ", ")+`, PARTITION pmax VALUES LESS THAN (MAXVALUE))`)
		if err != nil {
			return err
		}
	}
	drop := res.begin(oldest).Format(partitionName)
	for _, n := range names {
		if n != "pmax" && n < drop {
			if err := s.exec(ctx, `ALTER TABLE `+res.table+` DROP PARTITION `+n); err != nil {
				return err
			}
		}
	}
	return nil
}
