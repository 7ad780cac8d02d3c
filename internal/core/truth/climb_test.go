package truth

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/ladder"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/plain"
	"plumbbob/internal/core/verdict"
)

// A climber is a ladder that is armed for everything. It changes nothing: what it would do first to
// each device that hangs is counted, against what is so.
type climber struct {
	ladder *ladder.Ladder
	acts   []ladder.Act
	done   map[estate.Key]time.Time // since when a device hung at which it has acted
}

// climbAfter is for how long a device has to hang.
const climbAfter = 2 * time.Minute

func newClimber() *climber {
	l := &ladder.Ladder{Name: "all", Lasting: climbAfter, Limits: ladder.Usual, Rungs: []ladder.Rung{{Kind: operation.Cycle, Means: operation.ByOutlet, Tries: 1}}}
	return &climber{ladder: l, done: map[estate.Key]time.Time{}}
}

// look asks the gate of each device that is believed to hang.
func (c *climber) look(r *run, acts func(k estate.Key)) {
	for _, k := range r.order {
		v := r.vs[k]
		if v.State != verdict.Hung || k == "here" || v.Since.Equal(c.done[k]) {
			continue
		}
		d := r.e.Device(k)
		s := &ladder.Situation{
			Now: r.now, Climb: string(k), Device: d, Verdict: v, Acts: c.acts, Proved: true, Preview: &operation.Preview{Means: operation.ByOutlet},
			Started: begin.Add(-time.Hour),
		}
		for _, end := range r.e.FeedsOf(k) {
			s.Feeds = append(s.Feeds, end.Device)
		}
		for _, ups := range r.e.SuppliesOf(k) {
			if x, known := r.ev.Supplies[ups]; known && x.OnBattery() {
				s.Battery = ups
			}
		}
		if c.ladder.Gate(0, s).Answer != ladder.Go || answersNow(r, k) {
			continue
		}
		c.done[k] = v.Since
		c.acts = append(c.acts, ladder.Act{Ladder: "all", Device: k, Site: d.Site, At: r.now, Feeds: s.Feeds, Climb: string(k), Over: true})
		acts(k)
	}
}

// answersNow asks a device once more, as is done just before something is done to it. The chances of
// the world stay what they would be without that.
func answersNow(r *run, k estate.Key) bool {
	was := r.rng
	r.rng = rand.New(rand.NewPCG(uint64(r.now.UnixNano()), uint64(len(k))))
	defer func() { r.rng = was }()
	s := subject{Device: k}
	if d := r.e.Device(k); len(d.Probes) == 0 { // gear has a card alone
		s.Name = d.Endpoints[0].Name
	}
	a := r.question(s)
	return a.r.OK || a.r.Wrong
}

// climbed is what ladders would have done.
type climbed struct {
	acted  map[string]int // by what was so
	after  []float64      // from the fault to the first rung, in s
	helped int            // hangs at which one would have acted
	alone  int            // and that were over before
}

// acts counts one.
func (y *tally) acts(f fault, b *belief, passed time.Duration) {
	what := string(b.truth)
	switch {
	case b.truth == hangs:
		y.climbs.after = append(y.climbs.after, passed.Seconds())
		b.climbed = true
	case b.truth == isOff && f.lies:
		what = "off, where gear says that it is on"
	case b.truth == well && f.lossy:
		what = "well, its way loses packets"
	case b.truth == well && strings.Contains(f.name, "wrong cable"):
		what = "well, one wrong cable in the estate"
	}
	y.climbs.acted[what]++
}

// ended counts how the hangs of an episode were over.
func (y *tally) ended(beliefs map[estate.Key]*belief) {
	for _, b := range beliefs {
		switch {
		case b.climbed:
			y.climbs.helped++
		case b.hung:
			y.climbs.alone++
		}
	}
}

func (c *climbed) table() string {
	var b strings.Builder
	fmt.Fprintf(&b, "With ladders armed everywhere, for what has hung for %s, each cable proved, and each device asked once more before: what they would have acted upon first. What is well may not be among it. What cannot be told has rows of its own: a host whose own last cable is out, or that is broken, looks as one that hangs; one that starts by itself just then has hung.\n\n| what it was | times |\n| --- | --- |\n", plain.Span(climbAfter))
	for _, what := range []string{string(hangs), string(well), "well, one wrong cable in the estate", "well, its way loses packets", "off, where gear says that it is on", string(sleeping), string(isOff), string(noPower), string(dead), string(noCable), string(noCard), string(starting), string(cutOff), string(refusing)} {
		if n := c.acted[what]; n > 0 || what == string(well) {
			fmt.Fprintf(&b, "| %s | %d |\n", what, n)
		}
	}
	quantile := func(q float64) float64 { return (&tally{delays: map[string][]float64{"": c.after}}).quantile("", q) }
	fmt.Fprintf(&b, "\nOf the hangs %d would have had a rung climbed, and %d were over before, or were not believed. From the fault to the first rung: half within %.0f s, 90 %% within %.0f s, 99 %% within %.0f s, of which a ladder waits %.0f s.\n\n", c.helped, c.alone, quantile(0.5), quantile(0.9), quantile(0.99), climbAfter.Seconds())
	return b.String()
}

// holds says what must not be among it.
func (c *climbed) holds(t require.TestingT) {
	for _, what := range []sure{well, sleeping, cutOff, refusing} {
		require.Zero(t, c.acted[string(what)], "acted upon: %s", what)
	}
}
