package keep

import (
	"math"
	"slices"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/power"
	"plumbbob/internal/core/reading"
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

	maxSeriesName = 63 // bytes
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
	unparked   []estate.Key // that have been brought back by somebody else
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

// LightSeries is the name of the series of the power light on a device's front: 1 when it
// is lit.
const LightSeries = "panel:light"

const lightChanged = 0.5

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
	if !reading.Sane(x.w) {
		return // what cannot be is shown where it is read, and is no measurement
	}
	key.name = reading.Bounded(key.name, maxSeriesName)
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

// remember keeps one sample for each stretch of RecentSpan, the newest last. It
// writes a new list each time: a snapshot may hold the one before.
func (s *spool) remember(key estate.Key, x sample) {
	r := s.recent[key]
	if n := len(r); n > 1 && x.at.Sub(r[n-2].at) < RecentSpan/recentCount {
		r = r[:n-1] // the last stretch is not over yet
	}
	r = r[max(0, len(r)+1-recentCount):]
	s.recent[key] = append(slices.Clip(r), x)
}

// Recent returns the draw of a device over the last half hour, in W, oldest
// first. It is for use within See.
func (k *Keeper) Recent(key estate.Key) []float64 {
	return draws(k.spool.recent[key])
}
