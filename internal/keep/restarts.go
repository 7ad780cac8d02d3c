package keep

import (
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/core/verdict"
)

// What shows that a device has started anew, also when nobody missed it: its uptime, the
// counter of its starts, its controller's log and what that says of the last start, its draw.

// A device that started so much later than it was known to has restarted; its clock may
// drift meanwhile. A counter of hundredths of a second begins anew after 497 days.
const (
	restartLeast = time.Minute
	uptimeWraps  = 490 * 24 * time.Hour
)

// sameRestart is how far apart the times may be that are told of one restart: some of what
// tells of it is read every quarter of an hour.
const sameRestart = 20 * time.Minute

// starts is what was last known of how a device started.
type starts struct {
	booted time.Time
	count  int
	cause  string
}

// restarted takes in that a device has started anew between two times.
func (k *Keeper) restarted(d *estate.Device, from, at time.Time, how string) {
	k.measured(operation.Restarted{From: from, At: at, Device: d.Key, How: how})
	ours := k.operated[d.Key]
	switch {
	case k.evidence.Operating[d.Key] != "", !ours.IsZero() && from.Before(ours.Add(verdict.BootTime(d))):
		return // that was our doing
	case at.Sub(k.evidence.Restarted[d.Key].At).Abs() < sameRestart:
		return
	}
	k.evidence.Restart(d.Key, verdict.Restart{At: at, How: how})
	k.event(d, at.UTC(), "It restarted by itself, as "+how+": nobody asked for that here")
}

// sheetTells looks at what a type plate says of the last start.
func (k *Keeper) sheetTells(d *estate.Device, in *Inside, s reading.Sheet, at time.Time) {
	was := in.starts
	now := starts{was.booted, s.Starts, s.LastStart}
	if s.Up > 0 {
		now.booted = at.Add(-s.Up)
	}
	in.starts = now
	switch {
	case s.Up > 0 && !was.booted.IsZero() && now.booted.Sub(was.booted) >= restartLeast:
		// Hundredths of a second begin anew by themselves, which the counter of starts shows.
		wrapped := at.Sub(was.booted) > uptimeWraps || s.Starts > 0 && s.Starts == was.count
		if !wrapped {
			k.restarted(d, now.booted, now.booted, "its uptime says")
		}
	case was.count > 0 && s.Starts > was.count:
		k.restarted(d, in.SheetAt, at, "the counter of its agent's starts says")
	case was.cause != "" && s.LastStart != "" && s.LastStart != was.cause:
		k.restarted(d, in.SheetAt, at, "its controller says: the last start was by "+s.LastStart)
	}
}

// logTells looks for starts in what is new in an event log. What it stamps is by the clock
// of the controller, so all that counts is when it was read.
func (k *Keeper) logTells(d *estate.Device, in *Inside, now reading.EventLog, at time.Time) {
	known := map[string]bool{}
	for _, e := range in.Events.Events {
		known[e.Raw] = true
	}
	for _, e := range now.Events {
		if e.Starts && !known[e.Raw] {
			k.restarted(d, in.EventsAt, at, "its controller's log says: "+e.Text)
			return
		}
	}
}

// A dip is a draw that fell to nothing.
type dip struct {
	at     time.Time
	before float64 // W
	low    float64
}

// What is a dip, and how long it may be and still be a restart.
const (
	dipShare = 0.1
	dipLeast = 2.0 // W; less than that falls to nothing by itself
	dipMost  = 10 * time.Minute
)

// drawTells looks for a draw that falls to nothing and comes back, of what hangs on one
// outlet alone and answered before and after.
func (k *Keeper) drawTells(end estate.End, was verdict.Outlet, is reading.Outlet, at time.Time) {
	fed := k.estate.Fed(end)
	if len(fed) != 1 || !is.Metered || !was.Metered {
		return
	}
	d := k.estate.Device(fed[0])
	if len(d.Power) != 1 || len(d.Probes) == 0 || len(d.Outlets) > 0 {
		return
	}
	low, dipped := k.dips[d.Key]
	switch {
	case was.W > dipLeast && is.W <= dipShare*was.W:
		k.dips[d.Key] = dip{at, was.W, is.W}
	case dipped && is.W >= low.before/2:
		delete(k.dips, d.Key)
		answers, _, _, _ := verdict.Heard(k.estate, k.evidence, d.Key, at)
		if answers && at.Sub(low.at) < dipMost {
			k.restarted(d, low.at, low.at, "its draw says, which fell to "+verdict.Watts(low.low)+" and came back")
		}
	}
}
