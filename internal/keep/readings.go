package keep

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/power"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/store"
)

// DrawSeries is the name of the series of a device's draw, in W.
const DrawSeries = "draw"

const (
	restateEvery = 5 * time.Minute // a reading that does not change is stored this often
	resolutionW  = 0.2             // W; a smaller change is noise
	resolution   = 0.01            // share; the same for large loads
	flushEvery   = time.Second
	maxSpool     = 500_000 // readings that wait while the store is away, the newest
)

// spool is the readings that wait to be stored.
type spool struct {
	last    map[seriesKey]sample // newest that was spooled
	waiting []waiting
	ids     map[seriesKey]int // of series, owned by storeReadings
	recent  map[estate.Key][]sample
	docs    map[docKey]any
	looked  map[estate.Key]bool // something new is known about their inside

	verdicts map[estate.Key]store.StandingVerdict // that have changed

	entries    []store.Entry // of the journal: what happened by itself
	discharges []power.Discharge
}

// Recent draws are kept in memory for the sparklines of the board.
const (
	RecentSpan  = 30 * time.Minute
	recentCount = 60
)

type sample struct {
	at time.Time
	w  float64
}

// seriesKey names a series within the estate.
type seriesKey struct {
	device estate.Key
	name   string
}

type waiting struct {
	seriesKey
	site estate.Key
	unit string
	sample
}

func newSpool() spool {
	return spool{
		last: map[seriesKey]sample{}, ids: map[seriesKey]int{}, recent: map[estate.Key][]sample{}, verdicts: map[estate.Key]store.StandingVerdict{},
		docs: map[docKey]any{}, looked: map[estate.Key]bool{},
	}
}

// readings spools what the outlets of a PDU say about the devices on them.
func (k *Keeper) readings(pdu *estate.Device, now time.Time) {
	k.reading(pdu, now)
	for _, o := range pdu.Outlets {
		end := estate.End{Device: pdu.Key, Port: o.Port()}
		for _, key := range k.estate.Fed(end) {
			k.reading(k.estate.Device(key), now)
		}
		if x := k.evidence.Outlets[end]; x.Metered && !k.tellsAll(end) {
			k.spool.add(seriesKey{pdu.Key, OutletSeries(o.Port())}, pdu.Site, "W", sample{now, x.W}, max(resolutionW, resolution*x.W))
		}
	}
}

// ChassisSeries is the name of the series of what a controller says that its
// host draws, in W.
const ChassisSeries = "chassis:draw"

// OutletSeries is the name of the series of what an outlet carries, in W.
func OutletSeries(port string) string { return "outlet:" + port }

// tellsAll: what an outlet carries is the draw of the one device on it, and so
// kept as that.
func (k *Keeper) tellsAll(end estate.End) bool {
	fed := k.estate.Fed(end)
	return len(fed) == 1 && len(k.estate.Device(fed[0]).Power) == 1 && len(k.estate.Device(fed[0]).Outlets) == 0
}

func (k *Keeper) reading(d *estate.Device, now time.Time) {
	w, known := verdict.Draw(k.estate, k.evidence, d.Key, now)
	if !known {
		return
	}
	s := sample{now, w}
	k.spool.remember(d.Key, s)
	k.spool.add(seriesKey{d.Key, DrawSeries}, d.Site, "W", s, max(resolutionW, resolution*k.spool.last[seriesKey{d.Key, DrawSeries}].w))
}

// add spools a sample, unless it says what the one before said.
func (s *spool) add(key seriesKey, site estate.Key, unit string, x sample, resolution float64) {
	last, ok := s.last[key]
	if ok && x.at.Sub(last.at) < restateEvery && math.Abs(x.w-last.w) < resolution {
		return
	}
	s.last[key] = x
	s.waiting = append(s.waiting, waiting{key, site, unit, x})
	if over := len(s.waiting) - maxSpool; over > 0 {
		s.waiting = s.waiting[over:]
	}
}

// remember keeps one sample for each stretch of RecentSpan, the newest last.
func (s *spool) remember(key estate.Key, x sample) {
	r := s.recent[key]
	if n := len(r); n > 1 && x.at.Sub(r[n-2].at) < RecentSpan/recentCount {
		r[n-1] = x // the last stretch is not over yet
		return
	}
	r = append(r, x)
	if len(r) > recentCount {
		r = append(r[:0], r[1:]...)
	}
	s.recent[key] = r
}

// Recent returns the draw of a device over the last half hour, in W, oldest
// first. It is for use within See.
func (k *Keeper) Recent(key estate.Key) []float64 {
	r := k.spool.recent[key]
	out := make([]float64, len(r))
	for i, x := range r {
		out[i] = x.w
	}
	return out
}

// Remember brings back from the store, at the start, what Recent returns and
// since when each device has been how it is.
func (k *Keeper) Remember(ctx context.Context) error {
	now := time.Now()
	standing, err := k.store.Verdicts(ctx)
	if err != nil {
		return fmt.Errorf("standing verdicts: %w", err)
	}
	rows, err := k.store.RecentReadings(ctx, DrawSeries, now.Add(-RecentSpan), now, RecentSpan/recentCount)
	if err != nil {
		return fmt.Errorf("recent draws: %w", err)
	}
	if err := k.rememberInside(ctx); err != nil {
		return err
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, v := range standing {
		k.standing[v.Device] = v
	}
	for _, r := range rows {
		k.spool.recent[r.Device] = append(k.spool.recent[r.Device], sample{r.At, r.Value})
	}
	return nil
}

// storeReadings empties the spool until ctx ends, and once more then.
func (k *Keeper) storeReadings(ctx context.Context) {
	tick := time.NewTicker(flushEvery)
	defer tick.Stop()
	var partitioned time.Time
	away := false
	for {
		select {
		case <-ctx.Done():
			last, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
			defer cancel()
			_ = k.Flush(last) // what cannot be stored now is lost with us
			return
		case <-tick.C:
		}
		if time.Since(partitioned) > time.Hour {
			if err := k.store.Partition(ctx, time.Now(), k.Retention); err == nil {
				partitioned = time.Now()
			}
		}
		err := k.Flush(ctx)
		if err == nil {
			err = k.rollUp(ctx, time.Now())
		}
		if gone := errors.Is(err, store.ErrAway); gone != away {
			away = gone
			if away {
				k.log.Warn("the database is away: readings wait in memory", "because", err)
			} else {
				k.log.Info("the database is back: readings are stored again")
			}
		} else if err != nil && !gone && ctx.Err() == nil {
			k.log.Error("readings could not be stored", "because", err)
		}
	}
}

const (
	rollAfter = 15 * time.Second // after the end of a stretch: for what comes a little late
	rollAgain = 10 * time.Minute // before what was rolled up: for what came late
)

// rollUp brings the roll-ups up to date once another stretch is over. What was
// stored late, as after the database was away, is rolled up again.
func (k *Keeper) rollUp(ctx context.Context, now time.Time) error {
	to := now.Add(-rollAfter).Truncate(store.Each5Min.Stretch)
	if !to.After(k.rolled) {
		return nil
	}
	if k.rolled.IsZero() {
		until, err := k.store.RolledUntil(ctx)
		if err != nil {
			return err
		}
		k.rolled = until
		if oldest := now.Add(-k.Retention.Readings); until.Before(oldest) {
			k.rolled = oldest
		}
	}
	from := k.rolled.Add(-rollAgain)
	if !k.late.IsZero() && k.late.Before(from) {
		from = k.late
	}
	if err := k.store.RollUp(ctx, from, to); err != nil {
		return err
	}
	k.rolled, k.late = to, time.Time{}
	return nil
}

// Flush stores what waits now. What cannot be stored goes on waiting.
func (k *Keeper) Flush(ctx context.Context) error {
	k.mu.Lock()
	batch := k.spool.waiting
	k.spool.waiting = nil
	verdicts := slices.Collect(maps.Values(k.spool.verdicts))
	clear(k.spool.verdicts)
	changed := k.spool.docs
	k.spool.docs = map[docKey]any{}
	docs := documents(changed, k.estate, time.Now())
	entries, discharges := k.spool.entries, k.spool.discharges
	k.spool.entries, k.spool.discharges = nil, nil
	sites := siteOf(k.estate)
	k.mu.Unlock()
	rows, err := k.rows(ctx, batch)
	if err == nil {
		err = errors.Join(k.store.AddReadings(ctx, rows), k.store.SetVerdicts(ctx, verdicts), k.store.SetDocuments(ctx, docs))
	}
	if err == nil {
		err = k.store.AddDischarges(ctx, discharges, sites)
	}
	wrote := len(entries) > 0
	for err == nil && len(entries) > 0 {
		if err = k.store.Write(ctx, entries[0]); err == nil {
			entries = entries[1:]
		}
	}
	if wrote && err == nil {
		k.Written()
	}
	if err != nil {
		k.mu.Lock()
		k.spool.entries = append(entries, k.spool.entries...)
		k.spool.discharges = append(discharges, k.spool.discharges...)
		for _, v := range verdicts {
			if _, newer := k.spool.verdicts[v.Device]; !newer {
				k.spool.verdicts[v.Device] = v
			}
		}
		for key, doc := range changed {
			if _, newer := k.spool.docs[key]; !newer {
				k.spool.docs[key] = doc
			}
		}
		k.spool.waiting = append(batch, k.spool.waiting...)
		k.mu.Unlock()
	}
	return err
}

func siteOf(e *estate.Estate) func(estate.Key) estate.Key {
	return func(k estate.Key) estate.Key {
		if d := e.Device(k); d != nil {
			return d.Site
		}
		return ""
	}
}

// rows finds the series that each sample belongs to.
func (k *Keeper) rows(ctx context.Context, batch []waiting) ([]store.Reading, error) {
	if err := k.number(ctx, batch); err != nil {
		return nil, err
	}
	rows := make([]store.Reading, 0, len(batch))
	for _, w := range batch {
		if w.at.Before(k.rolled) && (k.late.IsZero() || w.at.Before(k.late)) {
			k.late = w.at
		}
		rows = append(rows, store.Reading{SeriesID: k.spool.ids[w.seriesKey], At: w.at, Value: w.w})
	}
	return rows, nil
}

// number learns the numbers of the series that are not known yet, all at once:
// at the start that is every one.
func (k *Keeper) number(ctx context.Context, batch []waiting) error {
	var missing []store.Series
	asked := map[seriesKey]bool{}
	for _, w := range batch {
		if _, known := k.spool.ids[w.seriesKey]; !known && !asked[w.seriesKey] {
			asked[w.seriesKey] = true
			missing = append(missing, store.Series{Site: w.site, Device: w.device, Name: w.name, Unit: w.unit})
		}
	}
	found, err := k.store.SeriesIDs(ctx, missing)
	if err != nil {
		return err
	}
	for _, x := range missing {
		id, ok := found[store.SeriesKey{Device: x.Device, Name: x.Name}]
		if !ok { // the database finds names alike that are not to us
			if id, err = k.store.SeriesID(ctx, x); err != nil {
				return err
			}
		}
		k.spool.ids[seriesKey{x.Device, x.Name}] = id
	}
	return nil
}
