package operation

import (
	"slices"
	"time"

	"plumbbob/internal/core/clock"
	"plumbbob/internal/core/estate"
)

// A Window is a time in which a device, or a whole site, belongs to somebody
// who works on it.
type Window struct {
	ID     int64
	Site   estate.Key
	Device estate.Key // empty: the whole site
	Tag    string     // instead: all devices with it, wherever they are
	By     string
	Why    string
	From   time.Time
	Until  time.Time

	// One that comes again and again: From and Until are those of the time that it is open, or is next.
	Every string        // as clock.At takes it; empty: it comes once
	Lasts time.Duration // each time
	Zone  string        // whose clocks count
}

// Covers says whether a device belongs to it.
func (w Window) Covers(d *estate.Device) bool {
	switch {
	case w.Tag != "":
		return slices.Contains(d.Tags, w.Tag)
	case w.Device != "":
		return w.Device == d.Key
	}
	return w.Site == d.Site
}

// At is a window as it is open at a moment, or is next, by the clocks of its zone. Its error says why
// that cannot be told.
func (w Window) At(now time.Time, zone *time.Location) (Window, error) {
	if w.Every == "" {
		return w, nil
	}
	c, err := clock.At(w.Every, zone)
	if err != nil {
		return w, err
	}
	begins, n := c.Between(now.Add(-w.Lasts), now, 1)
	if n == 0 {
		begins = []time.Time{c.Next(now)}
	}
	w.From, w.Until = begins[0].UTC(), begins[0].Add(w.Lasts).UTC()
	return w, nil
}

// What names what a window is about.
func (w Window) What() string {
	switch {
	case w.Tag != "":
		return "what is tagged " + w.Tag
	case w.Device != "":
		return string(w.Device)
	}
	return string(w.Site)
}
