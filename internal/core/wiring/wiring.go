// Package wiring works out whether cables are where the estate says: from who
// fell silent and whose watts changed when an outlet was switched, or, without
// switching anything, from which draws go up and down together.
//
// No I/O and no clock: the runtime switches, measures and hands in what it saw.
package wiring

import (
	"fmt"
	"math"
	"slices"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/reading"
)

// Verdict is what was found of one cable.
type Verdict string

// The verdicts.
const (
	Right   Verdict = "right"   // it is where the estate says
	Wrong   Verdict = "wrong"   // it is somewhere else
	Empty   Verdict = "empty"   // nothing hangs there, as the estate says
	Unknown Verdict = "unknown" // nothing could be told
	Skipped Verdict = "skipped" // it was not tried
)

// A Finding is what was found of one outlet.
type Finding struct {
	Outlet   estate.End   `json:"outlet"`
	Expected []estate.Key `json:"expected"`
	Found    []estate.Key `json:"found"` // who really hangs there, as far as that showed
	Verdict  Verdict      `json:"verdict"`
	Text     string       `json:"text"`
}

// A Trial is what happened around the switching of one outlet.
type Trial struct {
	Outlet  estate.End
	BeforeW *float64     // what the outlet carried; nil when it has no meter
	OffW    *float64     // what it carried while it was off
	Silent  []estate.Key // who stopped answering
	Kept    []estate.Key // who is asked and went on answering
	Lost    []estate.Key // whose other measurement fell: controllers that say what they draw
}

// nothing is a draw in W that a meter shows of an empty socket.
const nothing = 0.5

// Judge says what a trial shows.
func Judge(e *estate.Estate, t Trial) Finding {
	f := Finding{Outlet: t.Outlet, Expected: e.Fed(t.Outlet)}
	for _, k := range append(slices.Clone(t.Silent), t.Lost...) {
		if !slices.Contains(f.Found, k) && direct(e, k, t.Silent) {
			f.Found = append(f.Found, k)
		}
	}
	if t.OffW != nil && *t.OffW > nothing {
		f.Verdict, f.Text = Unknown, fmt.Sprintf("still carries %.1f W while it is off: its contact did not open", *t.OffW)
		return f
	}
	strangers := without(f.Found, f.Expected)
	missing := without(f.Expected, f.Found)
	stayed := both(missing, t.Kept)
	switch {
	case len(strangers) > 0 && len(stayed) > 0:
		f.Verdict, f.Text = Wrong, fmt.Sprintf("%s hangs there, and not %s", keys(strangers), keys(stayed))
	case len(strangers) > 0:
		f.Verdict, f.Text = Wrong, fmt.Sprintf("%s hangs there as well", keys(strangers))
	case len(stayed) > 0:
		f.Verdict, f.Text = Wrong, fmt.Sprintf("%s went on answering without it", keys(stayed))
	case len(f.Expected) == 0 && len(f.Found) == 0 && (t.BeforeW == nil || *t.BeforeW <= nothing):
		f.Verdict, f.Text = Empty, "nothing hangs there, as the estate says"
	case len(f.Expected) == 0:
		f.Verdict, f.Text = Wrong, fmt.Sprintf("something that the estate does not know takes %.1f W", *t.BeforeW)
	case len(missing) == 0:
		f.Verdict, f.Text = Right, fmt.Sprintf("%s fell silent with it", keys(f.Expected))
	case t.BeforeW != nil && *t.BeforeW > nothing:
		f.Verdict, f.Text = Unknown, fmt.Sprintf("%.1f W went with it, but nothing is asked of %s, so who took them cannot be told", *t.BeforeW, keys(missing))
	default:
		f.Verdict, f.Text = Unknown, fmt.Sprintf("nothing showed: %s draws nothing there, and nothing is asked of it", keys(missing))
	}
	return f
}

// direct: a device that is reached only through one that fell silent as well
// fell silent because of that.
func direct(e *estate.Estate, k estate.Key, silent []estate.Key) bool {
	d := e.Device(k)
	if d == nil {
		return false
	}
	if len(d.Network) == 0 {
		return true
	}
	for _, c := range d.Network {
		if !slices.Contains(silent, c.Via.Device) {
			return true
		}
	}
	return false
}

func without(list, other []estate.Key) (out []estate.Key) {
	for _, k := range list {
		if !slices.Contains(other, k) {
			out = append(out, k)
		}
	}
	return out
}

func both(list, other []estate.Key) (out []estate.Key) {
	for _, k := range list {
		if slices.Contains(other, k) {
			out = append(out, k)
		}
	}
	return out
}

func keys(ks []estate.Key) string {
	text := ""
	for i, k := range ks {
		if i > 0 {
			text += ", "
		}
		text += string(k)
	}
	return text
}

// A Load is the history of one outlet, or of one device that measures what it
// draws by itself: a controller.
type Load struct {
	Outlet estate.End // of an outlet
	Device estate.Key // of a device
	Past   []reading.Stretch
}

// What two loads must have in common before anything is said of them.
const (
	fewest    = 12   // stretches in which both are known
	lively    = 0.01 // the share of its mean by which a load must move
	alike     = 0.8  // correlation from which on two are the same
	unlike    = 0.3  // and below which they are not
	minWatts  = 5.0  // W, beneath which a meter's noise is all there is
	clearlead = 0.2  // by how much another must be more alike
)

// Compare says, of each outlet that feeds a device which measures its own draw,
// whether the two go up and down together. Nothing is switched.
func Compare(e *estate.Estate, outlets, devices []Load) []Finding {
	var out []Finding
	for _, o := range outlets {
		for _, k := range e.Fed(o.Outlet) {
			i := slices.IndexFunc(devices, func(d Load) bool { return d.Device == k })
			if i >= 0 {
				out = append(out, compare(o, devices[i], devices))
			}
		}
	}
	return out
}

func compare(o, own Load, all []Load) Finding {
	f := Finding{Outlet: o.Outlet, Expected: []estate.Key{own.Device}, Verdict: Unknown}
	r, n, moved := correlation(o.Past, own.Past)
	switch {
	case n < fewest:
		f.Text = fmt.Sprintf("too little is known of both at the same time: %d stretches of %d", n, fewest)
		return f
	case !moved:
		f.Text = "neither moves enough to be told from the other"
		return f
	}
	best, bestR := own.Device, r
	for _, d := range all {
		if other, _, ok := correlation(o.Past, d.Past); ok && other > bestR+clearlead {
			best, bestR = d.Device, other
		}
	}
	switch {
	case best != own.Device && bestR >= alike:
		f.Verdict, f.Found = Wrong, []estate.Key{best}
		f.Text = fmt.Sprintf("moves with %s (%.2f), and not with %s (%.2f)", best, bestR, own.Device, r)
	case r >= alike:
		f.Verdict, f.Found, f.Text = Right, []estate.Key{own.Device}, fmt.Sprintf("moves with what %s says that it draws (%.2f)", own.Device, r)
	case r < unlike:
		f.Verdict, f.Text = Wrong, fmt.Sprintf("does not move with what %s says that it draws (%.2f)", own.Device, r)
	default:
		f.Text = fmt.Sprintf("moves with %s only a little (%.2f)", own.Device, r)
	}
	return f
}

// correlation is Pearson's, over the stretches in which both are known; moved
// says whether both move enough for it to mean anything.
func correlation(a, b []reading.Stretch) (r float64, n int, moved bool) {
	at := map[time.Time]float64{}
	for _, x := range a {
		at[x.At] = x.Mean
	}
	var xs, ys []float64
	for _, y := range b {
		if x, ok := at[y.At]; ok {
			xs, ys = append(xs, x), append(ys, y.Mean)
		}
	}
	mx, sx := spread(xs)
	my, sy := spread(ys)
	if len(xs) < 2 || mx < minWatts || sx < lively*mx || sy < lively*my {
		return 0, len(xs), false
	}
	for i := range xs {
		r += (xs[i] - mx) * (ys[i] - my)
	}
	return r / float64(len(xs)) / sx / sy, len(xs), true
}

func spread(v []float64) (mean, deviation float64) {
	for _, x := range v {
		mean += x / float64(len(v))
	}
	for _, x := range v {
		deviation += (x - mean) * (x - mean) / float64(len(v))
	}
	return mean, math.Sqrt(deviation)
}
