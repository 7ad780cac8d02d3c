package keep

import (
	"context"
	"math"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/store"
)

const (
	judgeAtMost  = 100 * time.Millisecond // apart, however much is observed
	judgeAtLeast = 3 * time.Second        // for what changes by time passing, and for numbers
	judgeShare   = 4                      // the pause afterwards, in times of what it took: it never takes the whole machine
)

// Run judges whenever something was observed, and stores readings, until ctx
// ends. It returns the cause.
func (k *Keeper) Run(ctx context.Context) error {
	storing := make(chan struct{})
	go func() {
		defer close(storing)
		k.storeReadings(ctx)
	}()
	defer func() { <-storing }()
	pause := time.NewTimer(judgeAtLeast)
	defer pause.Stop()
	for {
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-k.dirty:
		case <-pause.C:
		}
		began := time.Now()
		k.judge(began)
		pause.Reset(judgeAtLeast)
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(max(judgeAtMost, judgeShare*time.Since(began))):
		}
	}
}

func (k *Keeper) judge(now time.Time) {
	k.mu.Lock()
	moment := verdict.At(k.estate, k.evidence, k.verdicts, now)
	k.verdicts = moment.Judge() // a new map: snapshots hold those before
	k.evidence.News, k.open = false, moment.Open()
	k.takeOver()
	var changed []estate.Key
	for i := range k.estate.Devices {
		key := k.estate.Devices[i].Key
		w, _ := moment.Draw(key)
		is := shown{k.verdicts[key], w}
		looked := k.spool.looked[key]
		delete(k.spool.looked, key)
		if was, ok := k.shown[key]; !ok || looked || differs(was, is) {
			if _, waits := k.standing[key]; !waits && k.remembered && was.verdict.State != is.verdict.State {
				k.stands(&k.estate.Devices[i], is.verdict)
			}
			k.shown[key] = is
			changed = append(changed, key)
		}
	}
	k.spool.unparked = append(k.spool.unparked, k.notParkedAnyMore()...)
	k.mu.Unlock()
	if len(changed) > 0 {
		k.bus.Judged.Publish(changed)
	}
}

// stands has a verdict put on record as the one that stands. Nothing is before it
// is known what stood before the start: that would be lost.
func (k *Keeper) stands(d *estate.Device, v verdict.Verdict) {
	k.spool.verdicts[d.Key] = store.StandingVerdict{Device: d.Key, Site: d.Site, State: string(v.State), Since: v.Since}
}

// takeOver gives a device that is as it was before the service started the
// time since when it has been so.
func (k *Keeper) takeOver() {
	for key, was := range k.standing {
		v := k.verdicts[key]
		if v.State == verdict.Unknown || v.State == "" {
			continue // not known yet
		}
		if string(v.State) == was.State {
			v.Since = was.Since
			k.verdicts[key] = v
		} else if d := k.estate.Device(key); d != nil {
			k.stands(d, v)
		}
		delete(k.standing, key)
	}
}

// How far a draw has to move before that is told: by a share of it, and by some watts at
// the least.
const (
	drawShare = 0.02
	drawLeast = 0.5
)

// differs ignores what changes at every probe: times and counts in reasons.
func differs(a, b shown) bool {
	return math.Abs(a.w-b.w) >= max(drawLeast, drawShare*a.w) || a.verdict.State != b.verdict.State || a.verdict.CutBy != b.verdict.CutBy ||
		a.verdict.Severity != b.verdict.Severity || len(a.verdict.Reasons) != len(b.verdict.Reasons) ||
		a.verdict.State == verdict.Waking && a.verdict.Reasons[0].Text.String() != b.verdict.Reasons[0].Text.String()
}

// notParkedAnyMore drops the wish that a device be off once it has plainly
// been brought back by somebody else.
func (k *Keeper) notParkedAnyMore() []estate.Key {
	var back []estate.Key
	for key := range k.evidence.Parked {
		switch k.verdicts[key].State {
		case verdict.Steady, verdict.Strained, verdict.Hung:
			delete(k.evidence.Parked, key)
			back = append(back, key)
		}
	}
	return back
}
