package reading

import "time"

// A Sample is one value of a series.
type Sample struct {
	At    time.Time
	Value float64
}

// A Stretch is what a series was over a time: its least, mean and greatest
// value. The mean is weighted with time.
type Stretch struct {
	At             time.Time
	Min, Mean, Max float64
	Count          int           // of the readings in it
	Known          time.Duration // for how much of it something is known
}

// Hold is how long a reading holds when no newer one comes: a little longer
// than the time after which one that has not changed is stated again. After
// that there is a gap.
const Hold = 6 * time.Minute

// RollUp turns the samples of one series, in order of time, into stretches of
// equal length between two times. Samples from before the first are for what
// holds at its beginning. A stretch of which nothing is known is left out.
func RollUp(samples []Sample, from, to time.Time, long time.Duration) []Stretch {
	var out []Stretch
	var sum float64 // of value times seconds, in the newest stretch
	add := func(at, until time.Time, v float64, fresh bool) {
		begin := at.Truncate(long)
		if n := len(out); n == 0 || !out[n-1].At.Equal(begin) {
			out = append(out, Stretch{At: begin, Min: v, Max: v})
			sum = 0
		}
		x := &out[len(out)-1]
		x.Min, x.Max = min(x.Min, v), max(x.Max, v)
		if fresh {
			x.Count++
		}
		d := until.Sub(at)
		x.Known += d
		sum += v * d.Seconds()
		if x.Known > 0 {
			x.Mean = max(x.Min, min(x.Max, sum/x.Known.Seconds())) // rounding must not carry it out of the band
		} else {
			x.Mean = v
		}
	}
	for i, s := range samples {
		end := earliest(s.At.Add(Hold), to)
		if i+1 < len(samples) {
			end = earliest(end, samples[i+1].At)
		}
		fresh := !s.At.Before(from)
		for at := latest(s.At, from); at.Before(end) || fresh && at.Before(to); fresh = false {
			next := earliest(end, at.Truncate(long).Add(long))
			add(at, latest(next, at), s.Value, fresh)
			if !next.After(at) {
				break
			}
			at = next
		}
	}
	return out
}

func earliest(a, b time.Time) time.Time {
	if a.Before(b) {
		return a
	}
	return b
}

func latest(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// Summary is what a series was over all of its stretches.
type Summary struct {
	Mean, Peak float64
	PeakAt     time.Time
	Known      time.Duration
	Integral   float64 // of value times hours: energy in Wh, of a power in W
}

// Summarize adds up stretches.
func Summarize(list []Stretch) Summary {
	var s Summary
	for i, x := range list {
		s.Known += x.Known
		s.Integral += x.Mean * x.Known.Hours()
		if i == 0 || x.Max > s.Peak {
			s.Peak, s.PeakAt = x.Max, x.At
		}
	}
	if s.Known > 0 {
		s.Mean = s.Integral / s.Known.Hours()
	} else if len(list) > 0 {
		s.Mean = list[0].Mean
	}
	return s
}
