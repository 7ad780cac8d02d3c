package api

import (
	"context"
	"fmt"
	"strings"
	"time"

	"plumbbob/internal/act"
	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/keep"
)

// controlled finds a device with a controller.
func (s *Server) controlled(key string) (*estate.Device, estate.Endpoint, error) {
	d := s.Keeper.Estate().Device(estate.Key(key))
	if d == nil {
		return nil, estate.Endpoint{}, s.noDevice(key)
	}
	ep, ok := d.Controller()
	if !ok {
		return nil, ep, usage("%s has no management controller that the estate knows: add one under endpoints, with protocol: ipmi", key)
	}
	return d, ep, nil
}

// sensing finds a device with something that measures: a controller, or gear
// that a profile reads.
func (s *Server) sensing(key string) (*estate.Device, estate.Endpoint, error) {
	d, err := device(s, key)
	if err != nil {
		return nil, estate.Endpoint{}, err
	}
	if ep, ok := d.Controller(); ok {
		return d, ep, nil
	}
	if ep, ok := d.CardEndpoint(); ok {
		return d, ep, nil
	}
	_, ep, err := s.controlled(key)
	return d, ep, err
}

const pastStretches = 48

// GetSensors implements the contract.
func (s *Server) GetSensors(ctx context.Context, req contract.GetSensorsRequestObject) (contract.GetSensorsResponseObject, error) {
	d, ep, err := s.sensing(req.Key)
	if err != nil {
		return nil, err
	}
	in := s.Keeper.Inside(d.Key)
	var past map[string][]float64
	if h := req.Params.Hours; h != nil && *h > 0 {
		span := time.Duration(min(*h, 48)) * time.Hour
		now := time.Now()
		if past, err = s.Store.Past(ctx, d.Key, keep.SensorSeries(""), now.Add(-span), now, span/pastStretches); err != nil {
			s.Log.Warn("sensors are shown without their past", "device", d.Key, "because", err)
		}
	}
	out := contract.GetSensors200JSONResponse{Sensors: []contract.Sensor{}}
	if !in.SensorsAt.IsZero() {
		out.At = ptr(in.SensorsAt.UTC())
		out.Fresh = verdict.Fresh(estate.Endpoint{Every: ep.Sensors, Timeout: 4 * ep.Timeout}, in.SensorsAt, time.Now())
	}
	for _, x := range in.Sensors {
		v := contract.Sensor{
			Name: x.Name, Series: x.Series, Kind: x.Kind, Where: x.Where, Value: x.Value, Digits: x.Digits, Text: x.Text(), Level: contract.Level(x.Level), Unit: optional(x.Unit),
		}
		if x.Limits != (reading.Limits{}) {
			v.Limits = limitsView(x.Limits)
		}
		if p := past[keep.SensorSeries(x.Series)]; len(p) > 1 {
			v.Past = &p
		}
		out.Sensors = append(out.Sensors, v)
	}
	return out, nil
}

func optional(s string) *string {
	if s == "" {
		return nil
	}
	return &s
}

// GetEvents implements the contract.
func (s *Server) GetEvents(_ context.Context, req contract.GetEventsRequestObject) (contract.GetEventsResponseObject, error) {
	d, _, err := s.controlled(req.Key)
	if err != nil {
		return nil, err
	}
	in := s.Keeper.Inside(d.Key)
	out := contract.GetEvents200JSONResponse{Full: in.Events.Full, Free: in.Events.Free, Version: in.Events.Version, Events: []contract.GearEvent{}}
	out.At = timeOf(in.EventsAt)
	for i := len(in.Events.Events) - 1; i >= 0; i-- {
		e := in.Events.Events[i]
		if since := req.Params.Since; since != nil && (e.At == nil || e.At.Before(*since)) {
			continue
		}
		v := contract.GearEvent{ID: e.ID, At: e.At, Sensor: e.Sensor, Kind: e.Kind, Text: e.Text, Gone: e.Gone, Level: contract.Level(e.Level), Raw: e.Raw}
		if e.After != nil {
			v.AfterSeconds = ptr(e.After.Seconds())
		}
		out.Events = append(out.Events, v)
	}
	return out, nil
}

// ClearEvents implements the contract. A copy of the log is kept first.
func (s *Server) ClearEvents(ctx context.Context, req contract.ClearEventsRequestObject) (contract.ClearEventsResponseObject, error) {
	d, _, err := s.controlled(req.Key)
	if err != nil {
		return nil, err
	}
	if _, err := s.change(ctx, d.Key, act.Setting{Log: &act.LogSetting{Version: req.Body.Version}}, req.Body.Why); err != nil {
		return nil, err
	}
	return contract.ClearEvents204Response{}, nil
}

// GetSheet implements the contract.
func (s *Server) GetSheet(_ context.Context, req contract.GetSheetRequestObject) (contract.GetSheetResponseObject, error) {
	d := s.Keeper.Estate().Device(estate.Key(req.Key))
	if d == nil {
		return nil, s.noDevice(req.Key)
	}
	return contract.GetSheet200JSONResponse(s.sheet(d)), nil
}

// ListSheets implements the contract.
func (s *Server) ListSheets(context.Context, contract.ListSheetsRequestObject) (contract.ListSheetsResponseObject, error) {
	out := contract.ListSheets200JSONResponse{}
	e := s.Keeper.Estate()
	for i := range e.Devices {
		out = append(out, s.sheet(&e.Devices[i]))
	}
	return out, nil
}

func (s *Server) sheet(d *estate.Device) contract.Sheet {
	in := s.Keeper.Inside(d.Key)
	x := in.Sheet
	out := contract.Sheet{
		Device: string(d.Key), Site: string(d.Site), Words: d.Words(), Place: optional(d.Place), At: timeOf(in.SheetAt),
		Maker: optional(x.Maker), Product: optional(x.Product), Part: optional(x.Part), Version: optional(x.Version), Serial: optional(x.Serial), Asset: optional(x.Asset),
		Board: optional(strings.TrimSpace(x.BoardMaker + " " + x.Board)), BoardSerial: optional(x.BoardSerial), BoardPart: optional(x.BoardPart), BoardMade: x.BoardMade,
		ChassisPart: optional(x.ChassisPart), ChassisSerial: optional(x.ChassisSerial), GUID: optional(x.GUID), Firmware: optional(x.Firmware), Protocol: optional(x.Protocol),
		Address: optional(x.Address), Mac: optional(x.MAC), Name: optional(x.Name), Faults: append([]string{}, x.Faults...),
	}
	out.Ports = ptr(s.portsOf(d))
	if len(x.More) > 0 {
		out.More = &x.More
	}
	if x.OnFor > 0 {
		out.OnHours = ptr(int(x.OnFor.Hours()))
	}
	return out
}

// portsOf lists the switch ports that a device is heard on, and what the
// estate has where nobody has heard it.
func (s *Server) portsOf(d *estate.Device) []string {
	out := []string{}
	e := s.Keeper.Estate()
	for _, c := range d.Network {
		found := false
		for _, n := range s.Keeper.Inside(c.Via.Device).Neighbours {
			if n.Name == string(d.Key) {
				out, found = append(out, fmt.Sprintf("%s %s, heard there", c.Via.Device, n.Port)), true
			}
		}
		if !found && c.Via.Port != "" && e.Device(c.Via.Device) != nil {
			out = append(out, fmt.Sprintf("%s port %s, as the estate has it", c.Via.Device, c.Via.Port))
		}
	}
	return out
}

// chassis is what a device's controller says of it.
func (g glance) chassis(d *estate.Device) *contract.Chassis {
	ep, ok := d.Controller()
	c, known := g.ev.Chassis[d.Key]
	if !ok || !known {
		return nil
	}
	out := &contract.Chassis{
		At: ptr(c.At.UTC()), Fresh: verdict.Fresh(ep, c.At, g.now), On: c.On, Asleep: c.Asleep, State: optional(c.State), Restore: string(c.Restore),
		W: tenthOf(c.Watts), Lit: &c.Lit, Faults: append([]string{}, c.Faults...),
	}
	if c.Watchdog != nil {
		left := max(0, c.Watchdog.Left-g.now.Sub(c.At))
		out.Watchdog = ptr(fmt.Sprintf("armed: %s in %d s unless its %s is heard of", c.Watchdog.Action, int(left.Seconds()), c.Watchdog.For))
	}
	return out
}

func weaknessViews(ws []reading.Weakness) []contract.Weakness {
	out := []contract.Weakness{}
	for _, w := range ws {
		out = append(out, contract.Weakness{Name: w.Name, Text: w.Text, Remedy: w.Remedy})
	}
	return out
}
