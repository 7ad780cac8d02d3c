package garage

import (
	"context"
	"strings"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/gear"
)

// A Screen is a way to see the screen of a device.
type Screen struct {
	Name   string // of the endpoint
	Attach func(ctx context.Context) (gear.Attached, error)
}

// Screens are the ways to see the screen of a device: its own endpoints first, then the KVMs
// that it is wired to. One that cannot be used is left out while there is another.
func (g *Garage) Screens(k estate.Key) (all []Screen, err error) {
	g.mu.Lock()
	e := g.estate
	d := e.Device(k)
	g.mu.Unlock()
	if d == nil {
		return nil, notSent(gear.Unreachable, "%s is not in the estate any more", k)
	}
	err = notSent(gear.Unsupported, "no screen of %s is in the estate: state an endpoint with protocol rfb, or a video cable to a KVM that has one", k)
	for _, at := range e.ScreensOf(d) {
		if shown := e.ShownBy(at.ID.Device); at.Port != "" && len(shown) > 1 {
			err = notSent(gear.Unsupported, "%s shows one of %s, and cannot be told from here which", at.ID.Device, keys(shown))
			continue
		}
		driver, openErr := g.Open(at.ID)
		if openErr != nil {
			err = openErr
			continue
		}
		if s, ok := gear.As[gear.Screen](driver); ok {
			all = append(all, Screen{at.ID.String(), s.Attach})
		}
	}
	if len(all) > 0 {
		return all, nil
	}
	return nil, err
}

func keys(all []estate.Key) string {
	words := make([]string, len(all))
	for i, k := range all {
		words[i] = string(k)
	}
	return strings.Join(words, ", ")
}
