package api

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/ladder"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/plain"
	"plumbbob/internal/orderfile"
	"plumbbob/internal/orders"
	"plumbbob/internal/store"
	"plumbbob/internal/yamltext"
)

// ListLadders implements the contract.
func (s *Server) ListLadders(ctx context.Context, _ contract.ListLaddersRequestObject) (contract.ListLaddersResponseObject, error) {
	under := map[string][]string{}
	all, _ := s.Orders.Runs(ctx, store.RunFilter{Unended: true, Limit: mostRuns}) // without the database none are known
	for _, r := range all {
		if r.Ladder && !r.Over() {
			under[r.Routine] = append(under[r.Routine], r.ID)
		}
	}
	out := contract.ListLadders200JSONResponse{}
	e := s.Keeper.Estate()
	for _, l := range s.Orders.Ladders() {
		out = append(out, ladderView(e, l, under[l.Row.Name]))
	}
	return out, nil
}

func ladderView(e *estate.Estate, l orders.Ladder, under []string) contract.Ladder {
	v := contract.Ladder{
		Name: l.Row.Name, Text: l.Row.Text, SetAt: l.Row.SetAt.UTC(), SetBy: l.Row.SetBy, Armed: l.Armed(), ArmedBy: l.Row.ArmedBy, Fault: l.Fault,
		Unknown: append([]string{}, l.Unknown...), Devices: []string{}, Rungs: []string{}, Holds: []contract.LadderHold{}, Climbs: append([]string{}, under...),
	}
	if l.Armed() {
		v.ArmedAt = new(l.Row.ArmedAt.Time.UTC())
	}
	for _, h := range l.Holds {
		v.Holds = append(v.Holds, contract.LadderHold{Device: string(h.Device), At: h.At.UTC(), Why: h.Why})
	}
	if l.Ladder == nil {
		return v
	}
	v.Title, v.LastingSeconds = l.Title, float32(l.Lasting.Seconds())
	for i := range e.Devices {
		if l.Match.Fits(&e.Devices[i]) {
			v.Devices = append(v.Devices, string(e.Devices[i].Key))
		}
	}
	for _, r := range l.Rungs {
		v.Rungs = append(v.Rungs, rungWords(r))
	}
	return v
}

// rungWords says what a rung does.
func rungWords(r ladder.Rung) string {
	words := "run " + r.Routine
	if r.Routine == "" {
		words = string(r.Kind)
		if r.Means != "" {
			words += " by " + string(r.Means)
		}
	}
	if r.Tries > 1 {
		words += fmt.Sprintf(", up to %d times", r.Tries)
	}
	return words + ", then " + plain.Span(r.Settle) + " to recover"
}

// SetLadders implements the contract.
func (s *Server) SetLadders(ctx context.Context, req contract.SetLaddersRequestObject) (contract.SetLaddersResponseObject, error) {
	all, err := orderfile.ParseLadders(cmp.Or(orZero(req.Body.Name), "ladder"), []byte(req.Body.Text), s.Orders.Around())
	var faults *yamltext.Faults
	if errors.As(err, &faults) {
		return nil, usage("%s", faults)
	}
	if err != nil {
		return nil, err
	}
	out := contract.SetLadders200JSONResponse{Names: []string{}, Lacks: s.ladderLacks(all)}
	now := nowUTC()
	var rows []store.LadderRow
	for _, o := range all {
		out.Names = append(out.Names, o.Ladder.Name)
		rows = append(rows, store.LadderRow{Name: o.Ladder.Name, Text: o.Text, SetAt: now, SetBy: whoIs(ctx).Account})
	}
	if orZero(req.Body.Check) {
		return out, nil
	}
	if err := s.Store.SetLadders(ctx, rows, entry(ctx, store.EntryLadder, "Set ladders, not armed: %s", strings.Join(out.Names, ", "))); err != nil {
		return nil, err
	}
	s.written()
	return out, s.Orders.Refresh(ctx)
}

// ladderLacks lists what keeps ladders from working.
func (s *Server) ladderLacks(all []orderfile.LadderOrder) []string {
	out := []string{}
	e := s.Keeper.Estate()
	for _, o := range all {
		say := func(format string, args ...any) {
			out = append(out, o.Ladder.Name+": "+fmt.Sprintf(format, args...))
		}
		for _, k := range orders.Unknown(e, o.About) {
			say("%s is not in the estate", k)
		}
		fits := 0
		for i := range e.Devices {
			if o.Ladder.Match.Fits(&e.Devices[i]) {
				fits++
			}
		}
		if fits == 0 {
			say("it fits no device")
		}
		if _, err := o.Ladder.Climb("x", s.Orders.Find); err != nil {
			say("%s", err)
		}
		if why := s.whoLacks(o.Ladder.Call); why != "" {
			say("call: %s", why)
		}
		if u := o.Ladder.Uplink; u != nil {
			if why := u.Weak(e, estate.Key(o.Ladder.Match.Devices[0])); why != "" {
				say("nothing is done while %s", why)
			}
		}
		if len(o.Ladder.Call) == 0 {
			say("nobody is called when it is at its end")
		}
	}
	return out
}

func noLadder(name string) error {
	return &missing{fmt.Sprintf("there is no ladder %q: plumb ladder list shows them", name)}
}

// ArmLadder implements the contract.
func (s *Server) ArmLadder(ctx context.Context, req contract.ArmLadderRequestObject) (contract.ArmLadderResponseObject, error) {
	words, at := "Ladder %s only says what it would do from now on", time.Time{}
	if req.Body.Armed {
		if l := s.Orders.Ladder(req.Name); l != nil && l.Ladder == nil {
			return nil, usage("the ladder %s cannot be read, and cannot be armed: %s", req.Name, l.Fault)
		}
		words, at = "Ladder %s is armed: it acts from now on", nowUTC()
	}
	return contract.ArmLadder204Response{}, s.changeLadder(ctx, req.Name, words, func(e store.Entry) error {
		return s.Store.ArmLadder(ctx, req.Name, at, whoIs(ctx).Account, e)
	})
}

// RemoveLadder implements the contract.
func (s *Server) RemoveLadder(ctx context.Context, req contract.RemoveLadderRequestObject) (contract.RemoveLadderResponseObject, error) {
	return contract.RemoveLadder204Response{}, s.changeLadder(ctx, req.Name, "Ladder %s removed", func(e store.Entry) error { return s.Store.RemoveLadder(ctx, req.Name, e) })
}

func (s *Server) changeLadder(ctx context.Context, name, words string, change func(store.Entry) error) error {
	err := change(entry(ctx, store.EntryLadder, words, name))
	if errors.Is(err, store.ErrConflict) {
		return noLadder(name)
	}
	if err != nil {
		return err
	}
	s.written()
	return s.Orders.Refresh(ctx)
}

// ResetLadder implements the contract.
func (s *Server) ResetLadder(ctx context.Context, req contract.ResetLadderRequestObject) (contract.ResetLadderResponseObject, error) {
	if s.Orders.Ladder(req.Name) == nil {
		return nil, noLadder(req.Name)
	}
	device := orZero(req.Body.Device)
	words := "Ladder %s goes on"
	if device != "" {
		words += " at " + device
	}
	e := entry(ctx, store.EntryLadder, words, req.Name)
	e.Device = estate.Key(device)
	err := s.Store.ResetHold(ctx, req.Name, estate.Key(device), nowUTC(), e)
	if errors.Is(err, store.ErrConflict) {
		return nil, usage("the ladder %s is not at its end there: plumb ladder show %s says where it is", req.Name, req.Name)
	}
	if err != nil {
		return nil, err
	}
	s.written()
	return contract.ResetLadder204Response{}, s.Orders.Refresh(ctx)
}

// TryLadder implements the contract.
func (s *Server) TryLadder(ctx context.Context, req contract.TryLadderRequestObject) (contract.TryLadderResponseObject, error) {
	l := s.Orders.Ladder(req.Name)
	switch {
	case l == nil:
		return nil, noLadder(req.Name)
	case l.Ladder == nil:
		return nil, usage("the ladder %s cannot be read: %s", req.Name, l.Fault)
	}
	since := nowUTC().AddDate(0, 0, -cmp.Or(orZero(req.Params.Days), 90))
	past, err := s.Orders.Past(ctx, l, since)
	if err != nil {
		return nil, err
	}
	out := contract.TryLadder200JSONResponse{Since: since, Times: []contract.LadderWould{}}
	previews := map[estate.Key]string{}
	for _, w := range past {
		k := w.Device.Key
		v := contract.LadderWould{Incident: w.Incident, Device: string(k), From: w.From.UTC(), Acts: w.Acts, At: w.At.UTC(), Why: w.Why, Alone: w.Alone}
		if !w.Until.IsZero() {
			v.Until = new(w.Until.UTC())
		}
		if w.Acts {
			out.Acts++
			if w.Alone {
				out.Alone++
			}
			if _, known := previews[k]; !known {
				previews[k] = s.firstRung(ctx, l, k)
			}
			v.Preview = previews[k]
		}
		out.Times = append(out.Times, v)
	}
	return out, nil
}

// firstRung is what the first rung of a ladder would do at a device now.
func (s *Server) firstRung(ctx context.Context, l *orders.Ladder, k estate.Key) string {
	r := l.Rungs[0]
	if r.Routine != "" {
		return "run " + r.Routine
	}
	ok, says := s.Orders.TryOne(ctx, operation.Intent{Kind: r.Kind, Device: k, Means: r.Means, Hold: r.Hold}, l.Row.Name)
	if !ok {
		return says
	}
	return operation.Verb(r.Kind, string(k)) + " " + says
}
