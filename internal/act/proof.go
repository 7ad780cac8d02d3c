package act

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/durable"
	"plumbbob/internal/store"
)

// facts are what is measured and seen of a device now: its power, what its
// controller and its front say, how its probes answer, its sensors, and what was
// lately said on its lines. What is long is kept beside the record of the operation.
func (a *Actor) facts(k estate.Key, of string) (out []operation.Fact) {
	w := a.Keeper.World()
	d := w.Estate.Device(k)
	if d == nil {
		return nil
	}
	zone := w.Estate.Zone(k)
	add := func(name, format string, args ...any) {
		out = append(out, operation.Fact{Name: name, Text: fmt.Sprintf(format, args...)})
	}
	onOff := map[bool]string{true: "on", false: "off"}
	for _, end := range w.Estate.FeedsOf(k) {
		if o, known := w.Evidence.Outlets[end]; known && o.Metered {
			add(end.Place(), "%s, %s", onOff[o.On], verdict.Watts(o.W))
		} else if known {
			add(end.Place(), "%s", onOff[o.On])
		}
	}
	if c, known := w.Evidence.Chassis[k]; known {
		add("chassis", "%s, %s", onOff[c.On], c.State)
	}
	if l, known := w.Evidence.Panels[k]; known {
		add("power light", "%s", onOff[l.On])
	}
	for i, p := range d.Probes {
		switch pulse := w.Evidence.Probes[verdict.ProbeID{Device: k, Index: i}]; {
		case pulse.Answers():
			add(p.String(), "answers in %s, at %s", verdict.Millis(pulse.RTT), pulse.LastAnswer.In(zone).Format("15:04:05"))
		case pulse.Silent():
			add(p.String(), "silent since %s", pulse.SilentSince.In(zone).Format("15:04:05"))
		}
	}
	for _, s := range a.Keeper.Inside(k).Sensors {
		if text := s.Text(); text != "" {
			add(s.Name, "%s", text)
		}
	}
	if a.Screen != nil {
		if rows := a.Screen(k); len(rows) > 0 {
			add("screen of its serial line", "%s", strings.Join(rows, "\n"))
			out[len(out)-1].Line = true
		}
	}
	if f := a.picture(w, d, of); f != nil {
		add("picture of its screen", "%s", time.Now().In(zone).Format("15:04:05"))
		out[len(out)-1].File, out[len(out)-1].Line = f, true
	}
	heard := a.Garage.LastLines(d, transcriptLines)
	for _, name := range slices.Sorted(maps.Keys(heard)) {
		lines := heard[name]
		if len(lines) == 0 {
			continue
		}
		add("last lines of "+name, "%s", strings.Join(lines[max(0, len(lines)-proofLines):], "\n"))
		out[len(out)-1].Line = true
		if len(lines) > proofLines {
			out[len(out)-1].File = a.keep(store.File{
				ID: durable.NewID(), Site: d.Site, Of: of, Type: "text/plain", At: time.Now().UTC(), Content: []byte(strings.Join(lines, "\n") + "\n"),
			})
		}
	}
	return out
}

// pictureWithin is how long a picture may take: it is worth having, and an operation waits for
// it no longer.
const pictureWithin = 2 * time.Second

// picture takes one of the screen of a device, unless that is known not to answer.
func (a *Actor) picture(w operation.World, d *estate.Device, of string) *operation.File {
	answers := func(at estate.ScreenAt) bool { return w.Evidence.Endpoints[at.ID].Answers() }
	if a.Picture == nil || !slices.ContainsFunc(w.Estate.ScreensOf(d), answers) {
		return nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), pictureWithin)
	defer cancel()
	png, err := a.Picture(ctx, d.Key)
	if err != nil {
		a.Log.Warn("no picture of a screen could be taken as proof", "device", d.Key, "because", err)
		return nil
	}
	return a.keep(store.File{ID: durable.NewID(), Site: d.Site, Of: of, Type: "image/png", At: time.Now().UTC(), Content: png})
}

// How many lines of a serial line are proof: in the record, and beside it.
const (
	proofLines      = 8
	transcriptLines = 1000
)

// keepWithin is how long a file may take to be kept. It is worth having, and nothing
// waits for it.
const keepWithin = 30 * time.Second

// keep keeps a file beside a record, and goes on at once.
func (a *Actor) keep(f store.File) *operation.File {
	a.mu.Lock()
	ctx := a.ctx
	a.mu.Unlock()
	if ctx == nil {
		return nil
	}
	a.work.Go(func() {
		within, cancel := context.WithTimeout(context.WithoutCancel(ctx), keepWithin)
		defer cancel()
		for {
			err := a.Store.SaveFile(within, f)
			if err == nil {
				return
			}
			if !errors.Is(err, store.ErrAway) || !durable.Pause(within, durable.RecordAgain) {
				a.Log.Warn("a file beside the record of an operation is lost", "operation", f.Of, "because", err)
				return
			}
		}
	})
	return &operation.File{ID: f.ID, Type: f.Type, Size: len(f.Content)}
}

// File returns a file beside the record of an operation.
func (a *Actor) File(ctx context.Context, of, id string) (store.File, error) {
	return a.Store.File(ctx, of, id)
}
