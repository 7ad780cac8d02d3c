package labcli

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/incident"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/power"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/core/sending"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/keep"
	"plumbbob/internal/lab"
	"plumbbob/internal/store"
)

// What the demo has been through before it starts: hours of draw, and
// operations that have ended. It is made up, as everything in the demo is.
const (
	pastDraw  = 12 * time.Hour
	pastStep  = time.Minute
	pastFine  = 48 * time.Hour      // in stretches of five minutes
	pastHours = 35 * 24 * time.Hour // in hours
)

// pastCycle is an operation of the demo's past.
type pastCycle struct {
	ago    time.Duration
	device estate.Key
	by     string
	why    string
	back   time.Duration // from power to the first answer
}

var pastCycles = []pastCycle{
	{19 * 24 * time.Hour, "skarvoe-router", "i.marsh", "no answer since the thunderstorm", 47 * time.Second},
	{12*24*time.Hour + 3*time.Hour, "skarvoe-kiosk", "l.oduya", "ticket screen frozen", 52 * time.Second},
	{6*24*time.Hour + 7*time.Hour, "skarvoe-router", "l.oduya", "hung after the firmware update", 38 * time.Second},
	{26 * time.Hour, "skarvoe-cell", "i.marsh", "lost its registration", 24 * time.Second},
	{97 * time.Minute, "skarvoe-router", "l.oduya", "hung again; ticket opened with the maker", 41 * time.Second},
}

func writeHistory(ctx context.Context, s *store.Store, e *estate.Estate, now time.Time) error {
	rng := rand.New(rand.NewPCG(7, 7))
	for _, c := range pastCycles {
		if err := writePast(ctx, s, e, c, now.Add(-c.ago)); err != nil {
			return fmt.Errorf("demo history: %w", err)
		}
	}
	// The partition of each past time has to be there before its readings are.
	for at := now.Add(-pastHours); !at.After(now); at = at.Add(12 * time.Hour) {
		if err := s.Partition(ctx, at, store.DefaultRetention); err != nil {
			return fmt.Errorf("demo history: %w", err)
		}
	}
	if err := s.SetVerdicts(ctx, pastVerdicts(e, now)); err != nil {
		return fmt.Errorf("demo history: %w", err)
	}
	for i := range e.Devices {
		d := &e.Devices[i]
		if len(d.Power) == 0 {
			continue
		}
		id, err := s.SeriesID(ctx, store.Series{Site: d.Site, Device: d.Key, Name: keep.DrawSeries, Unit: "W"})
		if err != nil {
			return fmt.Errorf("demo history: %w", err)
		}
		if err := s.AddReadings(ctx, pastReadings(id, e, d, now, rng)); err != nil {
			return fmt.Errorf("demo history: %w", err)
		}
		if err := writeStretches(ctx, s, id, e, d, now); err != nil {
			return fmt.Errorf("demo history: %w", err)
		}
	}
	if err := s.RollUp(ctx, readFrom(now), now); err != nil {
		return fmt.Errorf("demo history: %w", err)
	}
	return writeSupplies(ctx, s, e, now)
}

// readFrom is from when on the past is made of readings, which are rolled up.
func readFrom(now time.Time) time.Time {
	return now.Add(-pastDraw).Add(time.Hour).Truncate(time.Hour)
}

// writeStretches makes up the roll-ups of a device's draw: a day has its tides,
// and a week its Sundays.
func writeStretches(ctx context.Context, s *store.Store, id int, e *estate.Estate, d *estate.Device, now time.Time) error {
	for res, span := range map[store.Resolution]time.Duration{store.Each5Min: pastFine, store.EachHour: pastHours} {
		var list []reading.Stretch
		for at := now.Add(-span).Truncate(res.Stretch); at.Before(readFrom(now)); at = at.Add(res.Stretch) {
			if d.Site == "skarvoe" && at.After(now.Add(-9*24*time.Hour-3*time.Hour)) && at.Before(now.Add(-9*24*time.Hour)) {
				continue // the link was down for some hours: a gap
			}
			mean := pastWatts(e, d, at, now) * (1 + 0.06*math.Sin(2*math.Pi*float64(at.Hour()-4)/24))
			if at.Weekday() == time.Sunday {
				mean *= 0.96
			}
			list = append(list, reading.Stretch{At: at, Min: mean * 0.97, Mean: mean, Max: mean * 1.05, Count: 12, Known: res.Stretch})
		}
		if err := s.AddStretches(ctx, res, id, list); err != nil {
			return err
		}
	}
	return nil
}

// writeSupplies gives the UPSes a past: their discharges, and what became of
// their charge.
func writeSupplies(ctx context.Context, s *store.Store, e *estate.Estate, now time.Time) error {
	list := pastDischarges(e, now)
	if err := s.AddDischarges(ctx, list, func(k estate.Key) estate.Key { return e.Device(k).Site }); err != nil {
		return fmt.Errorf("demo history: %w", err)
	}
	for i := range e.Devices {
		d := &e.Devices[i]
		if d.Supply == nil {
			continue
		}
		id, err := s.SeriesID(ctx, store.Series{Site: d.Site, Device: d.Key, Name: keep.SeriesCharge, Unit: "%"})
		if err != nil {
			return fmt.Errorf("demo history: %w", err)
		}
		for res, span := range map[store.Resolution]time.Duration{store.Each5Min: pastFine, store.EachHour: pastHours} {
			if err := s.AddStretches(ctx, res, id, pastCharge(list, d.Key, now.Add(-span), now, res.Stretch)); err != nil {
				return fmt.Errorf("demo history: %w", err)
			}
		}
	}
	return nil
}

// pastCharge is full, but for the hours after a discharge.
func pastCharge(list []power.Discharge, k estate.Key, from, to time.Time, long time.Duration) []reading.Stretch {
	const hoursToFill = 3.0
	var out []reading.Stretch
	for at := from.Truncate(long); at.Before(to.Truncate(long)); at = at.Add(long) {
		x := reading.Stretch{At: at, Min: 100, Mean: 100, Max: 100, Count: 1, Known: long}
		for _, d := range list {
			since := at.Sub(d.Began.Truncate(long)).Hours()
			if d.Device == k && since >= 0 && since < hoursToFill {
				x.Min = min(100, d.To+(100-d.To)*since/hoursToFill)
				x.Mean = (x.Min + 100) / 2
			}
		}
		out = append(out, x)
	}
	return out
}

// pastDischarges makes up the times that the UPSes lived on their batteries:
// an outage in a storm, and self-tests. They drain faster than in proportion,
// so what a UPS reckons itself is more than its past bears out.
func pastDischarges(e *estate.Estate, now time.Time) []power.Discharge {
	var list []power.Discharge
	for i := range e.Devices {
		d := &e.Devices[i]
		if d.Supply == nil {
			continue
		}
		w := pastWatts(e, d, now, now)
		for ago, took := range map[time.Duration]time.Duration{
			26*24*time.Hour + 5*time.Hour: 7*time.Minute + 20*time.Second, 12 * 24 * time.Hour: 95 * time.Second, 5*24*time.Hour + 2*time.Hour: 3 * time.Minute,
		} {
			began := now.Add(-ago)
			list = append(list, power.Discharge{Device: d.Key, Began: began, Ended: began.Add(took), W: w, From: 100, To: 100 - lab.Drained(d, w, took)})
		}
	}
	return list
}

// pastVerdicts: everything has been steady since it was last cycled, or for weeks.
func pastVerdicts(e *estate.Estate, now time.Time) []store.StandingVerdict {
	var out []store.StandingVerdict
	for i := range e.Devices {
		d := &e.Devices[i]
		since := now.Add(-24*24*time.Hour - time.Duration(i)*5*time.Hour)
		for _, c := range pastCycles {
			if at := now.Add(-c.ago); c.device == d.Key && at.After(since) {
				since = at
			}
		}
		out = append(out, store.StandingVerdict{Device: d.Key, Site: d.Site, State: string(verdict.Steady), Since: since})
	}
	return out
}

// pastReadings makes up the draw of a device, with a dip where it was cycled.
func pastReadings(id int, e *estate.Estate, d *estate.Device, now time.Time, rng *rand.Rand) []store.Reading {
	var rs []store.Reading
	for at := now.Add(-pastDraw); at.Before(now.Add(-pastStep)); at = at.Add(pastStep) {
		w := pastWatts(e, d, at, now)
		rs = append(rs, store.Reading{SeriesID: id, At: at, Value: w * (1 + 0.015*math.Sin(at.Sub(now).Hours()*9) + 0.01*(rng.Float64()-0.5))})
	}
	for _, c := range pastCycles {
		if c.device != d.Key || c.ago > pastDraw {
			continue
		}
		cut := now.Add(-c.ago).Add(2 * time.Second)
		w := lab.Watts(d)
		for after, share := range map[time.Duration]float64{0: 0, 9 * time.Second: 0, 11 * time.Second: 1.5, 14 * time.Second: 1.12, 10*time.Second + c.back: 1} {
			rs = append(rs, store.Reading{SeriesID: id, At: cut.Add(after), Value: w * share})
		}
	}
	return rs
}

func pastWatts(e *estate.Estate, d *estate.Device, at, now time.Time) float64 {
	w := lab.Watts(d)
	if d.Supply != nil { // what it gives out
		w = 0
		for i := range e.Devices {
			for _, c := range e.Devices[i].Power {
				if c.From.Device == d.Key {
					w += pastWatts(e, &e.Devices[i], at, now) / float64(len(e.Devices[i].Power))
				}
			}
		}
		return w
	}
	for _, o := range d.Outlets {
		for _, k := range e.Fed(estate.End{Device: d.Key, Port: o.Port()}) {
			w += pastWatts(e, e.Device(k), at, now) / float64(len(e.Device(k).Power)) // each feed carries its share
		}
	}
	return w
}

// writePast runs the real machine through a cycle that went well, so that the
// record of it is what a real one would be.
func writePast(ctx context.Context, s *store.Store, e *estate.Estate, c pastCycle, at time.Time) error {
	d := e.Device(c.device)
	if d == nil || len(e.FeedsOf(c.device)) == 0 {
		return nil
	}
	end := e.FeedsOf(c.device)[0]
	id := strings.ToLower(fmt.Sprintf("past%06d", int(c.ago.Minutes())))
	o := &operation.Operation{
		ID:       id,
		Order:    operation.Order{Kind: operation.Cycle, Device: d.Key, Site: d.Site, Outlets: []estate.End{end}, By: c.by, Why: c.why, Asked: at, Hold: operation.DefaultHold},
		Plan:     operation.Plan{Settle: time.Second, IdleW: 0.5, AnswerWithin: 4 * time.Minute, GoesDark: true, Dark: []estate.Key{d.Key}},
		Progress: operation.Progress{Saved: at},
	}
	o.Lay(true)
	asked := store.Entry{At: at, Site: o.Site, Device: o.Device, Who: c.by, Kind: store.EntryOperationAsked, Text: o.Outcome(time.UTC), Why: c.why, Result: "asked", OperationID: id}
	if err := s.CreateOperation(ctx, o, asked); err != nil {
		return err
	}
	play(o, d, end, at, c.back)
	before, after := o.Draws()
	ended := store.Entry{
		At: o.Ended, Site: o.Site, Device: o.Device, Who: c.by, Kind: store.EntryOperationEnded, Text: o.Outcome(e.Zone(d.Key)), Why: c.why,
		Result: string(o.State), OperationID: id, BeforeW: before, AfterW: after,
	}
	if err := s.EndOperation(ctx, o, ended); err != nil {
		return err
	}
	return s.SaveIncident(ctx, pastIncident(e, d, o, lab.Watts(d)), nil)
}

// pastIncident is what a past cycle has ended.
func pastIncident(e *estate.Estate, d *estate.Device, o *operation.Operation, w float64) *incident.Incident {
	i := &incident.Incident{
		ID: "i" + o.ID[1:], Device: d.Key, Site: d.Site, Kind: string(verdict.Hung), Text: fmt.Sprintf("has not answered, and draws %s", verdict.Watts(w)),
		Opened: o.Asked.Add(-noticed), Ended: o.Ended.Add(2 * time.Second), Ending: "it is steady again", Tried: []string{o.ID},
		Seen: &incident.Remark{By: o.By, At: o.Asked.Add(-noticed / 2)}, Notes: []incident.Remark{{By: o.By, At: o.Asked, Text: o.Why}},
	}
	for _, side := range e.OnlyBehind(d.Key) {
		if side.Name == "" {
			i.Explains = append(i.Explains, side.Device)
		}
	}
	return i
}

// noticed is how long before a past cycle the device had fallen silent.
const noticed = 8 * time.Minute

func play(o *operation.Operation, d *estate.Device, end estate.End, at time.Time, back time.Duration) {
	w := lab.Watts(d)
	measured := func(on bool, w float64) operation.Event {
		return operation.Measured{At: at, Outlets: map[estate.End]operation.Reading{end: {At: at, On: on, Metered: true, W: w}}}
	}
	step := func(after time.Duration, ev func() operation.Event) {
		at = at.Add(after)
		o.Step(ev())
	}
	step(0, func() operation.Event { return operation.Started{At: at} })
	step(400*time.Millisecond, func() operation.Event { return measured(true, w) })
	step(200*time.Millisecond, func() operation.Event { return operation.Answered{At: at, Outcome: sending.Accepted} })
	step(900*time.Millisecond, func() operation.Event { return measured(false, 0) })
	step(o.Hold, func() operation.Event { return operation.Expired{At: at, Deadline: o.Current().Deadline} })
	step(400*time.Millisecond, func() operation.Event { return measured(false, 0) })
	sent := at
	step(200*time.Millisecond, func() operation.Event { return operation.Answered{At: at, Outcome: sending.Accepted} })
	step(700*time.Millisecond, func() operation.Event { return measured(true, w*0.98) })
	step(back-at.Sub(sent), func() operation.Event { return operation.Heard{At: at, Device: d.Key} })
}
