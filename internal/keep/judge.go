package keep

import (
	"context"
	"math"
	"slices"
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
	usual := make(chan struct{})
	go func() {
		defer close(usual)
		k.keepUsual(ctx)
	}()
	defer func() { <-usual }()
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

// JudgeNow judges by what has been observed up to now, for somebody who waits for it.
func (k *Keeper) JudgeNow() { k.judge(time.Now()) }

func (k *Keeper) judge(now time.Time) {
	k.mu.Lock()
	devices, moment := k.verdicts.Judge(now)
	k.takeOver()
	for key := range k.spool.looked {
		if d := k.estate.Device(key); d != nil {
			devices = append(devices, d.Index())
		}
	}
	slices.Sort(devices)
	var changed []estate.Key
	for _, i := range slices.Compact(devices) {
		d := &k.estate.Devices[i]
		w, _ := moment.Draw(d.Key)
		is := shown{k.verdicts.Of(d.Key), w}
		if was, ok := k.shown[d.Key]; !ok || k.spool.looked[d.Key] || differs(was, is) {
			if _, waits := k.before[d.Key]; !waits && k.remembered && was.verdict.State != is.verdict.State {
				k.stands(d, is.verdict)
			}
			k.shown[d.Key] = is
			changed = append(changed, d.Key)
		}
	}
	clear(k.spool.looked)
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
	for key, was := range k.before {
		v := k.verdicts.Of(key)
		if v.State == verdict.Unknown || v.State == "" {
			continue // not known yet
		}
		if string(v.State) == was.State {
			v.Since = was.Since
			k.verdicts.Put(key, v)
		} else if d := k.estate.Device(key); d != nil {
			k.stands(d, v)
		}
		delete(k.before, key)
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
		switch k.verdicts.Of(key).State {
		case verdict.Steady, verdict.Strained, verdict.Hung:
			k.evidence.Unpark(key)
			back = append(back, key)
		}
	}
	return back
}
