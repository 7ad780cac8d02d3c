package api

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/serial"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/core/wiring"
	"plumbbob/internal/keep"
	"plumbbob/internal/screen"
	"plumbbob/internal/store"
)

// What is looked at of a light and a draw, and of operations.
const (
	lightSpan    = 7 * 24 * time.Hour
	lightStretch = 10 * time.Minute
	pressesMost  = 100              // operations that are looked through for a press
	surelySeen   = 15 * time.Second // a start that takes as long is not missed
	heardSpan    = 24 * time.Hour
	heardMost    = 400 // lines of text
)

// GetLeads implements the contract.
func (s *Server) GetLeads(ctx context.Context, req contract.GetLeadsRequestObject) (contract.GetLeadsResponseObject, error) {
	out, err := s.leads(ctx, req.Key, false)
	return contract.GetLeads200JSONResponse(out), err
}

// CheckLeads implements the contract.
func (s *Server) CheckLeads(ctx context.Context, req contract.CheckLeadsRequestObject) (contract.CheckLeadsResponseObject, error) {
	out, err := s.leads(ctx, req.Key, true)
	return contract.CheckLeads200JSONResponse(out), err
}

func (s *Server) leads(ctx context.Context, key string, asks bool) (contract.Leads, error) {
	e := s.Keeper.Estate()
	d := e.Device(estate.Key(key))
	if d == nil {
		return contract.Leads{}, usage("there is no device %q: plumb board lists them", key)
	}
	if len(d.Panel) == 0 && !d.HasLine() && len(d.Video) == 0 {
		return contract.Leads{}, usage("of %s the estate has neither panel leads, nor a serial line, nor a video cable", key)
	}
	found := wiring.Leads{At: time.Now().UTC()}
	for _, lead := range d.Panel {
		light, err := s.light(ctx, e, d, lead)
		if err != nil && !errors.Is(err, store.ErrAway) {
			return contract.Leads{}, err
		}
		press, err := s.newestPress(ctx, d)
		if err != nil && !errors.Is(err, store.ErrAway) {
			return contract.Leads{}, err
		}
		found.All = append(found.All, light, wiring.Button(lead.String(), press))
	}
	if len(d.Serial) > 0 {
		line, err := s.serialLead(ctx, e, d, asks)
		if err != nil {
			return contract.Leads{}, err
		}
		found.All = append(found.All, line)
	}
	if len(d.Video) > 0 && len(e.ScreensOf(d)) > 0 {
		found.All = append(found.All, s.screenLeads(ctx, e, d, asks)...)
	}
	return leadsView(found), s.keepLeads(ctx, d, found)
}

// screenLeads looks at what stands on the screen of a device; with asks, a KVM is told to show it,
// and a key is pressed whose light comes back.
func (s *Server) screenLeads(ctx context.Context, e *estate.Estate, d *estate.Device, asks bool) []wiring.Lead {
	w := whoIs(ctx)
	at, up := d.Video[0].String(), s.isUp(d.Key)
	keys := wiring.Tapped{At: at, Expected: up, Why: "that is done on request"}
	seen := wiring.Picture{At: at, Expected: up}
	if asks { // the keys first: with them it is shown
		var err error
		keys.Why = ""
		if keys.Lights, keys.Answered, err = s.Broker.Tap(ctx, d.Key, w.Account, operation.Role(w.Role)); err != nil {
			keys.Why = err.Error()
		}
	}
	within, cancel := context.WithTimeout(ctx, screenWithin)
	defer cancel()
	p, err := s.Broker.Glimpse(within, d.Key, pictureSettle, asks)
	if err != nil {
		seen.Why = err.Error()
	} else {
		seen.Up = true
		if t, is := screen.Read(p); is {
			seen.Text = strings.Join(t.Rows, "\n")
		}
	}
	return []wiring.Lead{wiring.Screen(d.Key, keysOf(e), seen), wiring.Keyboard(keys)}
}

func (s *Server) isUp(k estate.Key) bool {
	v := s.Keeper.Verdict(k).State
	return v == verdict.Steady || v == verdict.Strained
}

func keysOf(e *estate.Estate) []estate.Key {
	all := make([]estate.Key, len(e.Devices))
	for i := range e.Devices {
		all[i] = e.Devices[i].Key
	}
	return all
}

// keepLeads keeps what was found, so that the device says which leads are proved.
func (s *Server) keepLeads(ctx context.Context, d *estate.Device, found wiring.Leads) error {
	if slices.Equal(s.Keeper.LeadsOf(d.Key).All, found.All) {
		return nil
	}
	s.Keeper.SetLeads(d.Key, found)
	err := s.Store.SaveLeads(ctx, d.Key, found)
	if errors.Is(err, store.ErrAway) {
		return nil
	}
	return err
}

// light looks at the power light of a device beside its draw, and at those of the others at
// the same board.
func (s *Server) light(ctx context.Context, e *estate.Estate, d *estate.Device, lead estate.End) (wiring.Lead, error) {
	to := time.Now().UTC()
	of := func(k estate.Key) (wiring.Lights, error) {
		lights, draws, err := s.Store.Beside(ctx, store.SeriesKey{Device: k, Name: keep.LightSeries}, store.SeriesKey{Device: d.Key, Name: keep.DrawSeries}, to.Add(-lightSpan), to, lightStretch)
		return wiring.LightsOf(lights, draws, verdict.Idle(d)), err
	}
	own, err := of(d.Key)
	others := map[estate.Key]wiring.Lights{}
	for i := range e.Devices {
		x := &e.Devices[i]
		if x.Key != d.Key && err == nil && slices.ContainsFunc(x.Panel, func(p estate.End) bool { return p.Device == lead.Device }) {
			others[x.Key], err = of(x.Key)
		}
	}
	return wiring.Light(lead.String(), own, others), err
}

// newestPress is what came of the newest operation that pressed a button of a device.
func (s *Server) newestPress(ctx context.Context, d *estate.Device) (*wiring.Press, error) {
	ops, err := s.Store.Operations(ctx, store.OperationFilter{Device: d.Key, Limit: pressesMost})
	for _, o := range ops {
		if o.State == operation.Running || !slices.Contains(o.Outlets, estate.PanelEnd(d.Key)) {
			continue
		}
		p := &wiring.Press{At: o.Ended, Worked: o.Moved(), Sure: o.Usual.N > 0 && o.Usual.Min >= surelySeen, Outcome: o.Outcome(time.UTC)}
		for _, k := range o.Bystanders {
			if strings.Contains(strings.Join(o.Trouble, "\n"), string(k)) {
				p.Others = append(p.Others, k)
			}
		}
		return p, nil
	}
	return nil, err
}

// serialLead looks at what the line of a device says; with asks, to a newline.
func (s *Server) serialLead(ctx context.Context, e *estate.Estate, d *estate.Device, asks bool) (wiring.Lead, error) {
	w := whoIs(ctx)
	l := wiring.Line{At: d.Serial[0].String(), Up: true, Expected: s.isUp(d.Key)}
	if asks {
		a, err := s.Broker.Ask(ctx, d.Key, w.Account, operation.Role(w.Role))
		if err != nil {
			return wiring.Lead{}, err
		}
		l.Up, l.Why, l.Asked, l.Said = a.Up, a.Line, a.Asked, a.Said
	} else {
		l.Said = s.heardLately(ctx, d.Key)
	}
	return wiring.Serial(d.Key, keysOf(e), l), nil
}

// heardLately is the newest of what a line has said, as far as it is kept.
func (s *Server) heardLately(ctx context.Context, k estate.Key) string {
	to := time.Now()
	from := to.Add(-heardSpan)
	var text []string
	_ = s.Store.LineParts(ctx, k, from, to, true, func(kept store.LinePart) bool {
		lines := serial.Lines(within(kept, from, to))
		slices.Reverse(lines)
		for _, l := range lines {
			text = append(text, l.Text)
		}
		return len(text) < heardMost
	})
	slices.Reverse(text)
	return strings.Join(text, "\n")
}

func leadsView(l wiring.Leads) contract.Leads {
	out := contract.Leads{At: l.At, Leads: []contract.Lead{}}
	for _, x := range l.All {
		v := contract.Lead{Kind: contract.LeadKind(x.Kind), At: x.At, Verdict: contract.LeadVerdict(x.Verdict), Text: x.Text}
		if x.Try != "" {
			v.Try = ptr(x.Try)
		}
		out.Leads = append(out.Leads, v)
	}
	return out
}
