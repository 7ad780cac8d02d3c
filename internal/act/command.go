package act

import (
	"context"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/gear"
	"plumbbob/internal/gear/garage"
)

// gearCommands carries out the commands of the machine on real gear.
type gearCommands struct{ garage *garage.Garage }

// carryOut has the gear do one thing; gear.OutcomeOf tells what became of one
// that failed.
func (g gearCommands) carryOut(ctx context.Context, c operation.Send) error {
	if name := c.Outlet.EndpointName(); name != "" {
		return g.garage.Restart(ctx, estate.EndpointID{Device: c.Outlet.Device, Name: name}, c.Cold)
	}
	if name := c.Outlet.CommandName(); name != "" {
		line, err := g.garage.CommandLine(estate.EndpointID{Device: c.Outlet.Device, Name: name})
		if err != nil {
			return err
		}
		return line.Tell(ctx, c.Text)
	}
	switch c.Outlet.Port {
	case estate.ChassisPort:
		chassis, err := garage.Controller[gear.Chassis](g.garage, c.Outlet.Device)
		if err != nil {
			return err
		}
		return chassis.CommandChassis(ctx, chassisCommands[c.Do])
	case estate.OutputPort:
		output, err := garage.Supply[gear.Output](g.garage, c.Outlet.Device)
		if err != nil {
			return err
		}
		if c.Do == operation.GearCycle {
			return output.CycleOutput(ctx, c.Hold)
		}
		return output.SwitchOutput(ctx, c.Do == operation.SwitchOn)
	case estate.WakePort:
		return g.garage.Wake(ctx, c.Outlet.Device)
	case estate.PanelPort:
		board, lead, err := g.garage.Panel(c.Outlet.Device)
		if err != nil {
			return err
		}
		p := presses[c.Do]
		if c.Do == operation.Push {
			p = press{c.Button, c.Hold}
		}
		return board.PressButton(ctx, lead, p.button, p.hold)
	}
	driver, err := g.garage.Outlets(c.Outlet.Device)
	if err != nil {
		return err
	}
	if c.Do != operation.GearCycle {
		return driver.SwitchOutlet(ctx, c.Outlet.Outlet(), c.Do == operation.SwitchOn)
	}
	cycler, ok := driver.(gear.OutletCycler) // the part that switches is the one that cycles
	if !ok {
		return &gear.Error{Kind: gear.Unsupported, Outcome: operation.NotSent, Text: string(c.Outlet.Device) + " cannot cycle an outlet by itself"}
	}
	return cycler.CycleOutlet(ctx, c.Outlet.Outlet(), c.Hold)
}

// chassisCommands are what the steps on a chassis send.
var chassisCommands = map[operation.StepKind]gear.ChassisCommand{
	operation.SwitchOff: gear.ChassisOff, operation.SwitchOn: gear.ChassisOn, operation.SoftOff: gear.ChassisSoft,
	operation.Strike: gear.ChassisReset, operation.Interrupt: gear.ChassisNMI,
}

// press is one button, and for how long.
type press struct {
	button operation.Button
	hold   time.Duration
}

// presses are what the steps on a front panel do to its buttons. Power goes on
// and off by the same button: each step has looked at the light before.
var presses = map[operation.StepKind]press{
	operation.SwitchOn: {operation.PowerButton, operation.ShortPress}, operation.SwitchOff: {operation.PowerButton, operation.LongPress},
	operation.SoftOff: {operation.PowerButton, operation.ShortPress}, operation.Strike: {operation.ResetButton, operation.ShortPress},
}
