package api

import (
	"context"
	"slices"
	"strings"
	"time"

	"plumbbob/internal/act"
	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/power"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/gear"
)

// supplied finds a UPS.
func (s *Server) supplied(key string) (*estate.Device, error) {
	d, err := device(s, key)
	if err == nil && d.Supply == nil {
		err = usage("%s is no UPS, as far as the estate knows: add ups: {} to it if it is one", d.Key)
	}
	return d, err
}

// GetSupply implements the contract.
func (s *Server) GetSupply(ctx context.Context, req contract.GetSupplyRequestObject) (contract.GetSupplyResponseObject, error) {
	d, err := s.supplied(req.Key)
	if err != nil {
		return nil, err
	}
	out := s.supplyView(d)
	s.toDo(ctx, &out.Brief)
	return contract.GetSupply200JSONResponse(out), nil
}

// toDo adds how long shutting down takes what hangs on a UPS; without the database that is not known.
func (s *Server) toDo(ctx context.Context, b *contract.SupplyBrief) {
	if took, err := s.Orders.ToDo(ctx, estate.Key(b.Device)); err == nil && took > 0 {
		b.MinutesToDo = new(tenth(took.Minutes()))
	}
}

func (s *Server) supplyView(d *estate.Device) (out contract.Supply) {
	s.Keeper.See(func(e *estate.Estate, ev *verdict.Evidence, vs map[estate.Key]verdict.Verdict, now time.Time) {
		out = s.glance(e, ev, vs, now).supply(d)
	})
	return out
}

func (g glance) discharges(k estate.Key) []power.Discharge {
	if in := g.inside(k); in != nil {
		return in.Discharges
	}
	return nil
}

func (g glance) supplyBrief(d *estate.Device) contract.SupplyBrief {
	x := g.ev.Supplies[d.Key]
	ep, _ := d.OutletEndpoint()
	b := g.world().Battery(d, g.discharges(d.Key))
	out := contract.SupplyBrief{
		Device: string(d.Key), Words: d.Words(), Site: string(d.Site), State: "not heard yet", Level: contract.LevelAbsent, LowMinutes: b.LowMinutes,
		Fresh: !x.At.IsZero() && verdict.Fresh(ep, x.At, g.now), Shed: ptr([]string{}),
	}
	if x.At.IsZero() {
		return out
	}
	out.State, out.At, out.Since, out.OnBattery = x.State(), ptr(x.At.UTC()), ptr(x.Since.UTC()), x.OnBattery()
	worst, bad := reading.Worst(x.Troubles())
	out.Level = contract.LevelFine
	if bad {
		out.Level = contract.Level(worst.Level)
	}
	if w, known := x.W(); known {
		out.LoadW = ptr(tenth(w))
	}
	if load, known := x.Load(); known {
		out.Load = &load
	}
	if rating := g.world().Of(d)[0].RatingW; rating > 0 {
		out.RatingW = &rating
	}
	out.Charge, out.Minutes, out.BatteryV, out.Temperature = x.Battery.Charge, x.Battery.Minutes, x.Battery.V, x.Battery.C
	if len(x.Inputs) > 0 {
		out.InputV = x.Inputs[0].V
	}
	if len(x.Outputs) > 0 {
		out.OutputV = x.Outputs[0].V
	}
	if b.ByPast != nil {
		out.MinutesByPast, out.Discharges = minutesOf(b.ByPast), &b.Discharges
		out.Disagree = &b.Disagree
	}
	out.MinutesAfterShed = minutesOf(b.AfterShed)
	if b.ShedW > 0 {
		out.ShedW = ptr(tenth(b.ShedW))
	}
	for _, h := range b.Shed {
		*out.Shed = append(*out.Shed, string(h.Device))
	}
	return out
}

func minutesOf(d *time.Duration) *float64 {
	if d == nil {
		return nil
	}
	return ptr(tenth(d.Minutes()))
}

func (g glance) supply(d *estate.Device) contract.Supply {
	x := g.ev.Supplies[d.Key]
	out := contract.Supply{
		Brief: g.supplyBrief(d), BatteryStatus: optional(x.Battery.Status), Source: optional(string(x.Source)), BatteryA: x.Battery.A, OutputHz: x.OutputHz, BypassHz: x.BypassHz,
		InputBads: x.InputBads, Inputs: phaseViews(x.Inputs), Outputs: phaseViews(x.Outputs), Bypasses: phaseViews(x.Bypasses), Alarms: []contract.SupplyAlarm{},
		Sheet:      named("maker", x.Maker, "model", x.Model, "firmware", x.Firmware, "card", x.Agent, "name", x.Name, "what hangs on it", x.Attached),
		Discharges: []contract.Discharge{},
	}
	if x.Battery.OnBattery > 0 {
		out.SecondsOnBattery = ptr(int(x.Battery.OnBattery.Seconds()))
	}
	for _, a := range x.Alarms {
		out.Alarms = append(out.Alarms, contract.SupplyAlarm{Name: a.Name, Text: a.Text, Level: contract.Level(a.Level)})
	}
	out.Test = named("last self-test", x.Test.Kind, "result", x.Test.Result, "detail", x.Test.Detail)
	if x.Test.Took > 0 {
		out.Test = append(out.Test, contract.NamedText{Name: "took", Text: short(x.Test.Took)})
	}
	out.Control = controlWords(x.Control)
	c := x.Config
	out.Config = named("nominal input", measure(c.InV, "V"), "nominal output", measure(c.OutV, "V"), "carries", measure(c.OutW, "W"), "carries apparent", measure(c.OutVA, "VA"),
		"low battery at", measure(c.LowMinutes, "min"), "beeper", c.Audible, "transfers below", measure(c.LowTransferV, "V"), "transfers above", measure(c.HighTransferV, "V"))
	past := slices.Clone(g.discharges(d.Key))
	slices.Reverse(past)
	for _, p := range past {
		out.Discharges = append(out.Discharges, contract.Discharge{Began: p.Began.UTC(), Ended: p.Ended.UTC(), W: tenth(p.W), From: p.From, To: p.To})
	}
	return out
}

func controlWords(c reading.Control) []contract.NamedText {
	out := named("a shutdown stops", c.What)
	for name, d := range map[string]*time.Duration{"shuts down in": c.ShutdownIn, "starts in": c.StartupIn, "stays off for": c.RebootFor} {
		if d != nil {
			out = append(out, contract.NamedText{Name: name, Text: short(*d)})
		}
	}
	if c.AutoRestart != nil {
		out = append(out, contract.NamedText{Name: "comes on when the utility returns", Text: map[bool]string{true: "yes", false: "no"}[*c.AutoRestart]})
	}
	return out
}

// named makes a list of pairs, leaving out what is empty.
func named(pairs ...string) []contract.NamedText {
	out := []contract.NamedText{}
	for i := 0; i+1 < len(pairs); i += 2 {
		if pairs[i+1] != "" {
			out = append(out, contract.NamedText{Name: pairs[i], Text: pairs[i+1]})
		}
	}
	return out
}

func measure(v *float64, unit string) string {
	if v == nil {
		return ""
	}
	return verdict.Figure(*v) + " " + unit
}

func phaseViews(ps []reading.Phase) []contract.PhaseReading {
	out := []contract.PhaseReading{}
	for _, p := range ps {
		out = append(out, contract.PhaseReading{Hz: p.Hz, V: p.V, A: p.A, W: p.W, Load: p.Load})
	}
	return out
}

// CommandSupply implements the contract: what leaves its output alone. That is
// switched by operations.
func (s *Server) CommandSupply(ctx context.Context, req contract.CommandSupplyRequestObject) (contract.CommandSupplyResponseObject, error) {
	d, err := s.supplied(req.Key)
	if err != nil {
		return nil, err
	}
	b := req.Body
	c := gear.SupplyCommand{Do: string(b.Do), On: b.On != nil && *b.On}
	switch {
	case !slices.Contains(gear.SupplyCommands, c.Do):
		return nil, usage("%q is not something that a UPS can be told: it can be %s; its output is switched by an operation with the means output", c.Do, strings.Join(gear.SupplyCommands, ", "))
	case c.Do == gear.SupplyAutoStart && b.On == nil:
		return nil, usage("say whether auto-restart is to be on or off")
	}
	if _, err := s.change(ctx, d.Key, act.Setting{Supply: &c}, b.Why); err != nil {
		return nil, err
	}
	return contract.CommandSupply200JSONResponse(s.supplyView(d)), nil
}
