package api

import (
	"context"
	"time"

	"plumbbob/internal/act"
	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/gear"
)

// GetController implements the contract.
func (s *Server) GetController(ctx context.Context, req contract.GetControllerRequestObject) (contract.GetControllerResponseObject, error) {
	d, _, err := s.controlled(req.Key)
	if err != nil {
		return nil, err
	}
	got, err := s.Watcher.Settings(ctx, d.Key)
	if err != nil {
		return nil, err
	}
	return contract.GetController200JSONResponse(settingsView(got)), nil
}

func settingsView(g gear.Settings) contract.ControllerSettings {
	out := contract.ControllerSettings{
		Network: contract.ControllerNetwork{
			Address: &g.Network.Address, Mask: &g.Network.Mask, Gateway: &g.Network.Gateway, Source: &g.Network.Source, Mac: &g.Network.MAC, Vlan: &g.Network.VLAN,
		},
		Users: []contract.ControllerUser{}, Slots: g.Slots, DriftSeconds: g.Drift.Seconds(), Clock: timeOf(g.Clock),
		Alerts:   contract.ControllerAlerts{Enabled: g.Alerts.Enabled, Community: g.Alerts.Community, Destinations: []contract.AlertDestination{}},
		Watchdog: contract.ControllerWatchdog{Running: &g.Watchdog.Running, Action: g.Watchdog.Action, Use: &g.Watchdog.Use, Seconds: g.Watchdog.Initial.Seconds(), LeftSeconds: ptr(g.Watchdog.Left.Seconds())},
		Restore:  string(g.Restore), Boot: contract.ControllerBoot{Device: g.Boot.Device, Persistent: &g.Boot.Persistent, Uefi: &g.Boot.UEFI},
		LimitW: g.Limit, Name: g.Name, Sessions: g.Sessions[0], SessionSlots: g.Sessions[1], Suite: g.Suite, Changeable: []contract.SettingPart{},
	}
	for _, p := range g.Changeable {
		out.Changeable = append(out.Changeable, contract.SettingPart(p))
	}
	for _, u := range g.Users {
		out.Users = append(out.Users, contract.ControllerUser{ID: u.ID, Name: &u.Name, Privilege: &u.Privilege, Enabled: &u.Enabled, LogsIn: &u.LogsIn})
	}
	for _, a := range g.Alerts.Destinations {
		out.Alerts.Destinations = append(out.Alerts.Destinations, contract.AlertDestination{Number: a.Number, Address: a.Address})
	}
	return out
}

// ChangeController implements the contract.
func (s *Server) ChangeController(ctx context.Context, req contract.ChangeControllerRequestObject) (contract.ChangeControllerResponseObject, error) {
	d, _, err := s.controlled(req.Key)
	if err != nil {
		return nil, err
	}
	want := controllerSetting(req.Body)
	apply := req.Body.Apply != nil && *req.Body.Apply
	// The light harms nobody; everything else is for who looks after the gear.
	if apply && !want.Light() {
		if err := atLeast(ctx, operation.Steward); err != nil {
			return nil, err
		}
	}
	var p act.Planned
	if apply {
		p, err = s.change(ctx, d.Key, act.Setting{Controller: want}, req.Body.Why)
	} else {
		p, err = s.Actor.PlanSetting(ctx, d.Key, act.Setting{Controller: want})
	}
	if err != nil {
		return nil, err
	}
	return contract.ChangeController200JSONResponse{Changes: append([]string{}, p.Words...), Warnings: append([]string{}, p.Warnings...), Applied: apply && len(p.Words) > 0}, nil
}

// controllerSetting reads what is to be different.
func controllerSetting(b *contract.ControllerChange) *act.ControllerSetting {
	s := &act.ControllerSetting{
		SetClock: b.SetClock != nil && *b.SetClock, TestAlert: b.TestAlert, Restore: (*reading.Restore)(b.Restore), LimitW: b.LimitW, Name: b.Name,
	}
	if n := b.Network; n != nil {
		s.Network = &act.NetworkSetting{Address: text(n.Address), Mask: text(n.Mask), Gateway: text(n.Gateway), Source: text(n.Source), VLAN: n.Vlan}
	}
	if u := b.User; u != nil {
		s.User = &act.UserSetting{ID: u.ID, Name: u.Name, Privilege: u.Privilege, Password: u.Password, Enabled: u.Enabled}
	}
	if x := b.Alert; x != nil {
		s.Alert = &gear.AlertChange{Number: x.Number, Address: x.Address, Community: text(x.Community)}
	}
	if x := b.Watchdog; x != nil {
		s.Watchdog = &gear.WatchdogChange{Action: x.Action, Initial: time.Duration(x.Seconds * float64(time.Second))}
	}
	if x := b.Boot; x != nil {
		s.Boot = &gear.Boot{Device: x.Device, Persistent: x.Persistent != nil && *x.Persistent, UEFI: x.Uefi == nil || *x.Uefi}
	}
	if b.IdentifySeconds != nil {
		s.Identify = ptr(time.Duration(*b.IdentifySeconds) * time.Second)
	}
	return s
}
