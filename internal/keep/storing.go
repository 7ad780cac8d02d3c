package keep

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"plumbbob/internal/bus"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/power"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/store"
)

// Remember brings back from the store what Recent returns, since when each device
// has been how it is, and what was known of the inside of boxes. Each part stands
// for itself: one that cannot be read is told of, and left out.
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
	leads, err := k.store.AllLeads(ctx)
	if err != nil {
		return fmt.Errorf("what was found of leads: %w", err)
	}
	k.leads.remember(leads)
	docs, err := k.store.Documents(ctx, docEvents, docSheet, docWeak, docNeighbours)
	if err != nil {
		return fmt.Errorf("what controllers said: %w", err)
	}
	past, err := k.store.Discharges(ctx, keepDischarges)
	if err != nil {
		return fmt.Errorf("past discharges: %w", err)
	}
	said, err := k.store.LineEvents(ctx, "", now.Add(-saidSpan), saidMost)
	if err != nil {
		return fmt.Errorf("what serial lines said: %w", err)
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, x := range said {
		k.evidence.Say(x.Device, verdict.Saying{At: x.At, What: x.Name, Screen: x.Screen})
	}
	for _, v := range standing {
		if _, known := k.before[v.Device]; !known {
			k.before[v.Device] = v
		}
	}
	for key, is := range k.shown {
		if _, waits := k.before[key]; !waits && k.estate.Device(key) != nil {
			k.stands(k.estate.Device(key), is.verdict) // new, and judged before this was known
		}
	}
	k.remembered = true
	before := map[estate.Key][]sample{} // what has been read meanwhile comes after it
	for _, r := range rows {
		if has := k.spool.recent[r.Device]; len(has) == 0 || r.At.Before(has[0].at.Truncate(time.Millisecond)) {
			before[r.Device] = append(before[r.Device], sample{r.At, r.Value})
		}
	}
	for key, list := range before {
		list = append(list, k.spool.recent[key]...)
		k.spool.recent[key] = list[max(0, len(list)-recentCount):]
	}
	for _, d := range past {
		in := k.insideOf(d.Device)
		in.Discharges = append(in.Discharges, d)
	}
	for _, doc := range docs {
		if err := k.insideOf(doc.Device).recall(doc); err != nil {
			k.Health.Ails("document "+doc.Kind+" "+string(doc.Device), fmt.Sprintf("the %s of %s on record cannot be read, and is read from the gear again: %s", doc.Kind, doc.Device, err))
		}
	}
	return nil
}

// What serial lines have said of late is told again after a restart.
const (
	saidSpan = 48 * time.Hour
	saidMost = 1000
)

// recall brings back one document, unless something newer has come meanwhile.
func (in *Inside) recall(doc store.Document) error {
	var at *time.Time
	var into any
	switch doc.Kind {
	case docEvents:
		at, into = &in.EventsAt, &in.Events
	case docSheet:
		at, into = &in.SheetAt, &in.Sheet
	case docWeak:
		at, into = &in.WeakAt, &in.Weak
	case docNeighbours:
		at, into = &in.NeighboursAt, &in.Neighbours
	default:
		return nil
	}
	if at.After(doc.At) {
		return nil
	}
	err := json.Unmarshal(doc.Text, into)
	if err == nil {
		*at = doc.At
	}
	return err
}

// How often what failed in keeping the tables in order is tried again.
const tidyAgain = time.Minute

// storeReadings empties the spool until ctx ends, and once more then.
func (k *Keeper) storeReadings(ctx context.Context) {
	tick := time.NewTicker(flushEvery)
	defer tick.Stop()
	var partition, roll time.Time // when that is due
	for {
		select {
		case <-ctx.Done():
			last, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
			defer cancel()
			_ = k.Flush(last) // what cannot be stored now is lost with us
			return
		case <-tick.C:
		}
		if k.Standby != nil && k.Standby() {
			k.take() // the other one stores the same
			continue
		}
		now := time.Now()
		if now.After(partition) {
			err := k.store.Partition(ctx, now, k.Retention)
			if err == nil {
				err = k.store.DropOld(ctx, now, k.Retention)
			}
			partition = k.tidied(ctx, "partitions", "old readings are not dropped, and new ones pile up in one partition", err, now, time.Hour)
		}
		err := k.Flush(ctx)
		if err == nil && now.After(roll) {
			roll = k.tidied(ctx, "roll-ups", "charts of long spans lack what is new", k.rollUp(ctx, now), now, 0)
		}
		switch {
		case ctx.Err() != nil:
		case errors.Is(err, store.ErrAway):
			k.Health.Ails("store", "the database is away: readings wait in memory: "+err.Error())
		case err != nil:
			k.Health.Ails("store", "the database refuses readings, so they wait in memory: "+err.Error())
		default:
			k.Health.Well("store")
		}
	}
}

// tidied says how that went, and returns when it is due again.
func (k *Keeper) tidied(ctx context.Context, name, means string, err error, now time.Time, every time.Duration) time.Time {
	switch {
	case ctx.Err() != nil:
	case err != nil && !errors.Is(err, store.ErrAway):
		k.Health.Ails(name, means+": "+err.Error())
	case err == nil:
		k.Health.Well(name)
		return now.Add(every)
	}
	return now.Add(tidyAgain)
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

// batch is what is being stored.
type batch struct {
	entries    []store.Entry
	verdicts   []store.StandingVerdict
	docs       []store.Document
	discharges []power.Discharge
	unparked   []estate.Key
	readings   []waiting
}

// take empties the spool into a batch.
func (k *Keeper) take() (b batch, sites func(estate.Key) estate.Key) {
	k.mu.Lock()
	defer k.mu.Unlock()
	s := &k.spool
	s.unparked = slices.DeleteFunc(s.unparked, func(d estate.Key) bool {
		_, again := k.evidence.Parked[d] // somebody has switched it off anew
		return again
	})
	b = batch{s.entries, slices.Collect(maps.Values(s.verdicts)), documents(s.docs, k.estate, time.Now()), s.discharges, s.unparked, s.waiting}
	s.entries, s.discharges, s.unparked, s.waiting = nil, nil, nil, nil
	clear(s.verdicts)
	clear(s.docs)
	return b, siteOf(k.estate)
}

// giveBack spools what could not be stored, ahead of what has come meanwhile.
func (k *Keeper) giveBack(b batch) {
	k.mu.Lock()
	defer k.mu.Unlock()
	s := &k.spool
	s.entries = append(b.entries, s.entries...)
	s.discharges = append(b.discharges, s.discharges...)
	s.unparked = append(b.unparked, s.unparked...)
	s.waiting = append(b.readings, s.waiting...)
	for _, v := range b.verdicts {
		if _, newer := s.verdicts[v.Device]; !newer {
			s.verdicts[v.Device] = v
		}
	}
	for _, d := range b.docs {
		if key := (docKey{d.Device, d.Kind}); s.docs[key] == nil {
			s.docs[key] = json.RawMessage(d.Text)
		}
	}
}

// Flush stores what waits now, kind by kind and, where the database will not have
// something, row by row: one bad row spoils only itself. The journal comes first.
// What cannot be stored for the moment goes on waiting.
func (k *Keeper) Flush(ctx context.Context) error {
	b, sites := k.take()
	var errs [6]error
	wrote := len(b.entries)
	b.entries, errs[0] = storeEach(k, b.entries, func(e store.Entry) string { return "journal " + e.Text }, func(es []store.Entry) error {
		return k.store.Write(ctx, es...)
	})
	if wrote > len(b.entries) {
		k.bus.Journal.Publish(bus.NewEntry{})
	}
	b.verdicts, errs[1] = storeEach(k, b.verdicts, func(v store.StandingVerdict) string { return "verdict of " + string(v.Device) }, func(vs []store.StandingVerdict) error {
		return k.store.SetVerdicts(ctx, vs)
	})
	b.docs, errs[2] = storeEach(k, b.docs, func(d store.Document) string { return d.Kind + " of " + string(d.Device) }, func(ds []store.Document) error {
		return k.store.SetDocuments(ctx, ds)
	})
	b.discharges, errs[3] = storeEach(k, b.discharges, func(d power.Discharge) string { return "discharge of " + string(d.Device) }, func(ds []power.Discharge) error {
		return k.store.AddDischarges(ctx, ds, sites)
	})
	b.readings, errs[4] = storeEach(k, b.readings, func(w waiting) string { return fmt.Sprintf("readings of %s %s", w.device, w.name) }, func(ws []waiting) error {
		return k.addReadings(ctx, ws)
	})
	b.unparked, errs[5] = storeEach(k, b.unparked, func(d estate.Key) string { return "return of " + string(d) }, func(ds []estate.Key) error {
		var errs []error
		for _, d := range ds {
			errs = append(errs, k.store.Unpark(ctx, d))
		}
		return errors.Join(errs...)
	})
	k.giveBack(b)
	return errors.Join(errs[:]...)
}

// storeEach stores rows together and, when the database will not have one of them,
// in halves, until it is found: that one is set aside and named once. It returns
// what has to wait, and why.
func storeEach[T any](k *Keeper, rows []T, name func(T) string, add func([]T) error) (left []T, err error) {
	if len(rows) == 0 {
		return nil, nil
	}
	err = add(rows)
	switch {
	case err == nil:
		return nil, nil
	case !errors.Is(err, store.ErrRow):
		return rows, err
	case len(rows) == 1:
		k.Health.Ails("row "+name(rows[0]), fmt.Sprintf("the database does not take the %s, so it is set aside: %s", name(rows[0]), err))
		return nil, nil
	}
	half := len(rows) / 2
	left, err = storeEach(k, rows[:half], name, add)
	if err != nil {
		return append(left, rows[half:]...), err
	}
	return storeEach(k, rows[half:], name, add)
}

func siteOf(e *estate.Estate) func(estate.Key) estate.Key {
	return func(k estate.Key) estate.Key {
		if d := e.Device(k); d != nil {
			return d.Site
		}
		return ""
	}
}

// addReadings finds the series that each sample belongs to, and stores them.
func (k *Keeper) addReadings(ctx context.Context, ws []waiting) error {
	if err := k.number(ctx, ws); err != nil {
		return err
	}
	rows := make([]store.Reading, 0, len(ws))
	for _, w := range ws {
		if w.at.Before(k.rolled) && (k.late.IsZero() || w.at.Before(k.late)) {
			k.late = w.at
		}
		rows = append(rows, store.Reading{SeriesID: k.spool.ids[w.seriesKey], At: w.at, Value: w.w})
	}
	return k.store.AddReadings(ctx, rows)
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
