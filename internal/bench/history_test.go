package bench

import (
	"fmt"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/require"

	"plumbbob/internal/store"
	"plumbbob/internal/store/storetest"
)

// BenchmarkCharts: one chart over 30 days of one series, and one over 24 hours
// of 40 series, with a year of roll-ups of 2,000 series in the database.
func BenchmarkCharts(b *testing.B) {
	const series, year = 2000, 365 * 24
	s, db := database(b)
	now := time.Now().UTC().Truncate(time.Hour)
	for at := now.AddDate(-1, 0, 0); !at.After(now); at = at.AddDate(0, 0, 1) {
		require.NoError(b, s.Partition(b.Context(), at, store.DefaultRetention))
	}
	fillYear(b, db, now, series, year)
	for name, c := range map[string]struct {
		span   time.Duration
		series int
	}{"30-days": {30 * 24 * time.Hour, 1}, "24-hours-of-40": {24 * time.Hour, 40}, "a-year": {year * time.Hour, 1}} {
		b.Run(name, func(b *testing.B) {
			for i := 0; b.Loop(); i++ {
				var list []store.Series
				for n := range c.series {
					list = append(list, store.Series{ID: 1 + (i*c.series+n)%series})
				}
				got, _, _, err := s.History(b.Context(), list, now.Add(-c.span), now, 300, now, store.DefaultRetention)
				require.NoError(b, err)
				require.Len(b, got, c.series)
			}
			b.ReportMetric(b.Elapsed().Seconds()*1000/float64(b.N), "ms/chart")
		})
	}
}

// database is a store, and a way past it to fill it.
func database(b *testing.B) (*store.Store, *sqlx.DB) {
	b.Helper()
	c := storetest.Config(b)
	s, err := store.Open(b.Context(), c)
	require.NoError(b, err)
	db, err := sqlx.Open("mysql", c.FormatDSN())
	require.NoError(b, err)
	b.Cleanup(func() { _, _ = s.Close(), db.Close() })
	return s, db
}

func fillYear(b *testing.B, db *sqlx.DB, now time.Time, series, hours int) {
	b.Helper()
	for _, x := range []struct {
		table   string
		stretch int
		rows    int
	}{{"rollup_1h", 3600, hours}, {"rollup_5min", 300, 2 * 24 * 12}} {
		_, err := db.Exec(fmt.Sprintf(`
			INSERT INTO %s (series_id, at, least, mean, greatest, count, known)
			SELECT s.seq, FROM_UNIXTIME(? - h.seq * %d), 90, 100 + MOD(h.seq, 20), 140, 12, %d FROM seq_1_to_%d AS s, seq_1_to_%d AS h`, x.table, x.stretch, x.stretch, series, x.rows), now.Unix())
		require.NoError(b, err)
	}
	_, err := db.Exec(`REPLACE INTO rolled (name, until_at) VALUES ('5min', ?)`, now)
	require.NoError(b, err)
}

// BenchmarkDisk: what a reading and a roll-up take on disk.
func BenchmarkDisk(b *testing.B) {
	s, db := database(b)
	now := time.Now().UTC().Truncate(time.Second)
	require.NoError(b, s.Partition(b.Context(), now, store.DefaultRetention))
	const rows = 1_000_000
	_, err := db.Exec(`INSERT INTO reading (series_id, at, value) SELECT MOD(seq, 500), FROM_UNIXTIME(? - seq / 20), seq FROM seq_1_to_1000000`, now.Unix())
	require.NoError(b, err)
	_, err = db.Exec(`INSERT INTO rollup_5min (series_id, at, least, mean, greatest, count, known) SELECT MOD(seq, 500), FROM_UNIXTIME(? - FLOOR(seq / 500) * 300), 1, 2, 3, 4, 300 FROM seq_1_to_1000000`, now.Unix())
	require.NoError(b, err)
	for b.Loop() {
	}
	// What the server believes about the size of a table is old without this.
	_, err = db.Exec(`ANALYZE TABLE reading, rollup_5min`)
	require.NoError(b, err)
	for table, unit := range map[string]string{"reading": "B/reading", "rollup_5min": "B/rollup"} {
		var size float64
		require.NoError(b, db.Get(&size, `SELECT SUM(data_length + index_length) FROM information_schema.partitions WHERE table_schema = DATABASE() AND table_name = ?`, table))
		b.ReportMetric(size/rows, unit)
	}
}

// BenchmarkRollUp: the last quarter of an hour of 2,000 series rolled up, with
// 800,000 and 8,000,000 readings of the same day before it. Bare reads as many
// readings from a table that holds nothing else, and writes as many stretches.
func BenchmarkRollUp(b *testing.B) {
	const series, recent = 2000, 15 // one reading a minute
	for _, rows := range []int{800_000, 8_000_000} {
		s, db := database(b)
		to := time.Date(2026, 1, 2, 23, 0, 0, 0, time.UTC)
		require.NoError(b, s.Partition(b.Context(), to, store.DefaultRetention))
		run := func(query string, args ...any) {
			_, err := db.Exec(query, args...)
			require.NoError(b, err)
		}
		run(fmt.Sprintf(`INSERT INTO series (id, site, device, name, unit) SELECT seq, 's', CONCAT('d', seq), 'draw', 'W' FROM seq_1_to_%d`, series))
		run(fmt.Sprintf(`INSERT INTO reading (series_id, at, value) SELECT 1 + MOD(seq, %d), FROM_UNIXTIME(? - 3600 - FLOOR(seq / %d) * 15), seq FROM seq_1_to_%d`, series, series, rows), to.Unix())
		run(fmt.Sprintf(`INSERT INTO reading (series_id, at, value) SELECT s.seq, FROM_UNIXTIME(? - m.seq * 60), m.seq FROM seq_1_to_%d AS s, seq_1_to_%d AS m`, series, recent), to.Unix())
		run(`CREATE TABLE bare_reading LIKE reading`)
		run(`INSERT INTO bare_reading SELECT * FROM reading WHERE at >= FROM_UNIXTIME(?)`, to.Unix()-recent*60)
		run(`CREATE TABLE bare_rollup LIKE rollup_5min`)
		b.Run(fmt.Sprintf("%d/bare", rows), func(b *testing.B) {
			for b.Loop() {
				got, err := db.Query(`SELECT series_id, at, value FROM bare_reading ORDER BY series_id, at`)
				require.NoError(b, err)
				for got.Next() {
					var id int
					var at []byte
					var v float64
					require.NoError(b, got.Scan(&id, &at, &v))
				}
				require.NoError(b, got.Err())
				run(fmt.Sprintf(`REPLACE INTO bare_rollup SELECT s.seq, FROM_UNIXTIME(? - m.seq * 300), 1, 2, 3, 4, 300 FROM seq_1_to_%d AS s, seq_1_to_3 AS m`, series), to.Unix())
			}
		})
		b.Run(fmt.Sprintf("%d/rollup", rows), func(b *testing.B) {
			for b.Loop() {
				require.NoError(b, s.RollUp(b.Context(), to.Add(-recent*time.Minute), to))
			}
		})
		var rolled int
		require.NoError(b, db.Get(&rolled, `SELECT COUNT(*) FROM rollup_5min`))
		require.Equal(b, 3*series, rolled)
	}
}
