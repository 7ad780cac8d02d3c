package ipmigear

import (
	"context"
	"errors"

	"plumbbob/internal/core/reading"
	"plumbbob/internal/gear"
	"plumbbob/internal/wire/ipmi"
)

var restores = map[ipmi.RestorePolicy]reading.Restore{
	ipmi.StayOff: reading.StaysOff, ipmi.AsBefore: reading.AsBefore, ipmi.AlwaysOn: reading.ComesOn, ipmi.RestoreUnknown: reading.RestoreUnk,
}

// ReadChassis asks how the host is: its power first, and then what not every
// controller can say.
func (d *Driver) ReadChassis(ctx context.Context) (reading.Chassis, error) {
	var c reading.Chassis
	err := d.use("read the chassis", func(client *ipmi.Client) error {
		s, err := client.ChassisStatus(ctx)
		if err != nil {
			return err
		}
		c = chassisOf(s)
		if info, open := client.Session(); open && info.Granted < ipmi.ChassisControlCmd.Needs {
			c.LooksAs = info.Granted.String()
		}
		if id, err := client.DeviceID(ctx); err == nil {
			c.Updating = id.Busy
		} else if gone(err) {
			return err
		}
		if state, err := client.PowerState(ctx); err == nil {
			c.State, c.Asleep = state.String(), state.Asleep()
		} else if gone(err) {
			return err
		}
		if p, err := client.Power(ctx); err == nil && p.Active {
			w := float64(p.Now)
			c.Watts = &w
		} else if gone(err) {
			return err
		}
		if w, err := client.Watchdog(ctx); err == nil && w.Armed() {
			c.Watchdog = &reading.Watchdog{Action: w.Action.String(), Left: w.Present, Of: w.Initial, For: w.UseWords()}
		} else if gone(err) {
			return err
		}
		return nil
	})
	return c, err
}

// gone says whether an error is about the controller, and not about one command: a
// refusal, a reply that makes no sense, and what we may not do cost that command only.
func gone(err error) bool {
	_, silent := errors.AsType[*ipmi.SilentError](err)
	_, shut := errors.AsType[*ipmi.OpenError](err)
	return silent || shut
}

func chassisOf(s ipmi.ChassisStatus) reading.Chassis {
	c := reading.Chassis{On: s.PowerOn, Restore: restores[s.Restore], Open: s.Intrusion, Lit: s.Identify}
	for _, f := range []struct {
		is   bool
		text string
	}{
		{s.Overload, "its power supply is overloaded"}, {s.Interlock, "an interlock keeps its power off"},
		{s.PowerFault, "its power supply reports a fault"}, {s.ControlFault, "its power control has failed"},
		{s.DriveFault, "a drive has failed"}, {s.FanFault, "a fan has failed"},
	} {
		if f.is {
			c.Faults = append(c.Faults, f.text)
		}
	}
	return c
}

var controls = map[gear.ChassisCommand]ipmi.ChassisControl{
	gear.ChassisOff: ipmi.PowerDown, gear.ChassisOn: ipmi.PowerUp, gear.ChassisReset: ipmi.HardReset, gear.ChassisNMI: ipmi.Diagnostic, gear.ChassisSoft: ipmi.SoftOff,
}

// CommandChassis sends one command, once.
func (d *Driver) CommandChassis(ctx context.Context, do gear.ChassisCommand) error {
	return d.use("chassis "+string(do), func(c *ipmi.Client) error {
		err := c.Control(ctx, controls[do])
		if _, may := errors.AsType[*ipmi.PrivilegeError](err); may {
			c.LogOut(ctx) // somebody may give our user more, which counts from the next log-in on
		}
		return err
	})
}
