package garage

import (
	"context"
	"strconv"
	"strings"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/keyboard"
	"plumbbob/internal/gear"
)

// Screens are the ways to see the screen of a device: its own endpoints first, then the KVMs
// that it is wired to. One that cannot be used is left out while there is another.
func (g *Garage) Screens(k estate.Key) (all []gear.View, err error) {
	g.mu.Lock()
	e := g.estate
	d := e.Device(k)
	g.mu.Unlock()
	if d == nil {
		return nil, notSent(gear.Unreachable, "%s is not in the estate any more", k)
	}
	err = notSent(gear.Unsupported, "no screen of %s is in the estate: state an endpoint with protocol rfb, or a video cable to a KVM that has one", k)
	for _, at := range e.ScreensOf(d) {
		v, cannot := g.view(e, at)
		if cannot != nil {
			err = cannot
			continue
		}
		all = append(all, v)
	}
	if len(all) > 0 {
		return all, nil
	}
	return nil, err
}

func (g *Garage) view(e *estate.Estate, at estate.ScreenAt) (gear.View, error) {
	v := gear.View{Name: at.ID.String()}
	driver, err := g.Open(at.ID)
	if err != nil {
		return v, err
	}
	s, ok := gear.As[gear.Screen](driver)
	if !ok {
		return v, notSent(gear.Unsupported, "%s has no screen", at.ID)
	}
	v.Attach = s.Attach
	ep, _ := e.Device(at.ID.Device).Endpoint(at.ID.Name)
	v.LookOnly = ep.Protocol == estate.Camera
	if k, err := Card[gear.Keyboard](g, at.ID.Device); err == nil {
		v.Replug = k.Replug
	}
	if d, err := Card[gear.Pretending](g, at.ID.Device); err == nil {
		v.Edid = d
	}
	behind := at.Port != "" && at.Switch != at.ID.Device
	if outer := e.ShownBy(at.ID.Device); behind && ep.Shows == "" && len(outer) > 1 {
		return v, notSent(gear.Unsupported, "%s is behind %s, which shows one of %s itself: state an endpoint there that always shows its port, with shows", at.Switch, at.ID.Device, keys(outer))
	}
	if at.Port == "" || ep.Shows != "" && !behind {
		return v, nil
	}
	if v.Port, err = g.port(e, at, ep); v.Port == nil && err == nil {
		if shown := e.ShownBy(at.Switch); len(shown) > 1 {
			return v, notSent(gear.Unsupported, "%s shows one of %s, and cannot be told from here which: state an endpoint whose profile maps its channel, a command for port, or port-keys", at.Switch, keys(shown))
		}
	}
	return v, err
}

// How the keys are pressed that choose a port, and how long a KVM is given to obey that cannot
// be asked whether it has.
const (
	portKeyHeld = 30 * time.Millisecond
	portSettles = time.Second
)

// port is how a KVM is told which of its ports it shows; nil: nothing is known of that.
func (g *Garage) port(e *estate.Estate, at estate.ScreenAt, ep estate.Endpoint) (*gear.Port, error) {
	p := &gear.Port{KVM: at.ID.String(), Name: at.Port}
	kvm := e.Device(at.Switch)
	if _, ok := kvm.CardEndpoint(); ok {
		switch c, err := Card[gear.Channel](g, kvm.Key); {
		case err == nil:
			return p, byCard(p, c)
		case gear.KindOf(err) != gear.Unsupported:
			return nil, err
		}
	}
	if lines := kvm.CommandLines(estate.PortCommand); len(lines) > 0 {
		line, err := g.CommandLine(estate.EndpointID{Device: kvm.Key, Name: lines[0].Name})
		if err != nil {
			return nil, err
		}
		byCommand(p, line, lines[0].Commands[estate.PortCommand])
		return p, nil
	}
	if ep.PortKeys == "" {
		return nil, nil
	}
	return p, byKeys(p, ep.PortKeys)
}

// byCard has a port be chosen, and read back, by the card of its KVM.
func byCard(p *gear.Port, c gear.Channel) error {
	n, err := strconv.Atoi(p.Name)
	if err != nil {
		return notSent(gear.Unsupported, "port %q of %s is no number: it is chosen by that", p.Name, p.KVM)
	}
	p.Shown = func(ctx context.Context) (string, error) {
		n, err := c.ShownPort(ctx)
		return strconv.Itoa(n), err
	}
	p.Show = func(ctx context.Context, _ gear.Attached) error { return c.ShowPort(ctx, n) }
	return nil
}

// byCommand has a port be chosen by what is told on the command line of its KVM.
func byCommand(p *gear.Port, line gear.CommandLine, text string) {
	p.Show = func(ctx context.Context, _ gear.Attached) error {
		if err := line.Tell(ctx, strings.ReplaceAll(text, "{port}", p.Name)); err != nil {
			return err
		}
		return wait(ctx, portSettles)
	}
}

// byKeys has a port be chosen by keys that its KVM keeps for itself.
func byKeys(p *gear.Port, text string) error {
	chords, err := keyboard.Row(strings.ReplaceAll(text, "{port}", p.Name))
	if err != nil {
		return notSent(gear.Unsupported, "the port-keys of %s: %s", p.KVM, err)
	}
	p.Show = func(ctx context.Context, a gear.Attached) error {
		for _, c := range chords {
			err := c.Press(func(down bool, k keyboard.Key) error { return a.Key(down, k.Sym, k.Code) }, func() { _ = wait(ctx, portKeyHeld) })
			if err != nil {
				return err
			}
			if err := wait(ctx, portKeyHeld); err != nil {
				return err
			}
		}
		return wait(ctx, portSettles)
	}
	return nil
}

func wait(ctx context.Context, d time.Duration) error {
	select {
	case <-ctx.Done():
		return context.Cause(ctx)
	case <-time.After(d):
		return nil
	}
}

func keys(all []estate.Key) string {
	words := make([]string, len(all))
	for i, k := range all {
		words[i] = string(k)
	}
	return strings.Join(words, ", ")
}
