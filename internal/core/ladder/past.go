package ladder

import (
	"slices"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/verdict"
)

// An Episode is one time that a device hung, as it is on record.
type Episode struct {
	Incident string
	Device   *estate.Device
	Feeds    []estate.Key
	From     time.Time
	Until    time.Time // zero: it still does
	Person   time.Time // when a person operated it; zero: nobody did
	By       string
}

// A Would is what a ladder would have made of an episode.
type Would struct {
	Episode
	Acts bool      // it would have acted
	At   time.Time // then
	Why  string    // or why not
	// Alone says that the device came back without anybody: before the ladder would have acted, or, where
	// it would have, after that.
	Alone bool
}

// Past says what a ladder would have made of episodes, by the same gate that it asks now. Of what went
// on around a device then nothing is known, and nothing speaks against acting; each time it would have
// acted once.
func (l *Ladder) Past(all []Episode, now time.Time) []Would {
	slices.SortStableFunc(all, func(a, b Episode) int { return a.From.Compare(b.From) })
	var acts []Act
	out := []Would{}
	for _, e := range all {
		w := Would{Episode: e, At: e.From.Add(l.Lasting)}
		w.Alone = e.Person.IsZero() && !e.Until.IsZero()
		switch {
		case l.Uplink != nil:
			w.Why = "whether a witness answered then is not on record"
		case !e.Until.IsZero() && !e.Until.After(w.At):
			w.Why = "it did not hang for so long"
		case !e.Person.IsZero() && e.Person.Before(w.At):
			w.Why = e.By + " saw to it before"
		case w.At.After(now):
			w.Why = "its time has not come yet"
		default:
			d := l.Gate(0, &Situation{
				Now: w.At, Climb: e.Incident, Device: e.Device, Feeds: e.Feeds, Acts: acts, Proved: true,
				Verdict: verdict.Verdict{State: verdict.Hung, Since: e.From},
			})
			w.Acts, w.Why = d.Answer == Go, d.Why
			if w.Acts {
				acts = append(acts, Act{Ladder: l.Name, Device: e.Device.Key, Site: e.Device.Site, At: w.At, Feeds: e.Feeds, Climb: e.Incident, Over: true})
			}
		}
		out = append(out, w)
	}
	return out
}
