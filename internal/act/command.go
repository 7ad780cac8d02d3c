package act

import (
	"context"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/sending"
	"plumbbob/internal/gear"
	"plumbbob/internal/gear/garage"
)

// gearCommands carries out the commands of the machine on real gear.
type gearCommands struct{ garage *garage.Garage }

// carriers is how what the machine says is carried out at each kind of end. Which
// steps each can carry out is for operation.CanDo to say.
var carriers = map[estate.EndKind]func(context.Context, *garage.Garage, operation.Send) error{
	estate.Source:      switchSource,
	estate.Output:      switchOutput,
	estate.Chassis:     commandChassis,
	estate.Panel:       pressButton,
	estate.CommandLine: tell,
	estate.OwnComputer: func(ctx context.Context, g *garage.Garage, c operation.Send) error {
		return g.Restart(ctx, c.Outlet.Endpoint(), c.Cold)
	},
	estate.NetworkCard: func(ctx context.Context, g *garage.Garage, c operation.Send) error {
		return g.Wake(ctx, c.Outlet.Device)
	},
}

// carryOut has the gear do one thing; gear.OutcomeOf tells what became of one
// that failed.
func (g gearCommands) carryOut(ctx context.Context, c operation.Send) error {
	if !operation.CanDo(c.Do, c.Outlet) {
		return &gear.Error{Kind: gear.Unsupported, Outcome: sending.NotSent, Text: "nothing here can do " + string(c.Do) + " at " + c.Outlet.Place()}
	}
	return carriers[c.Outlet.Kind()](ctx, g.garage, c)
}

func switchSource(ctx context.Context, g *garage.Garage, c operation.Send) error {
	driver, err := g.Outlets(c.Outlet.Device)
	if err != nil {
		return err
	}
	if c.Do != operation.GearCycle {
		return driver.SwitchOutlet(ctx, c.Outlet.Outlet(), c.Do == operation.SwitchOn)
	}
	cycler, ok := driver.(gear.OutletCycler) // the part that switches is the one that cycles
	if !ok {
		return &gear.Error{Kind: gear.Unsupported, Outcome: sending.NotSent, Text: string(c.Outlet.Device) + " cannot cycle an outlet by itself"}
	}
	return cycler.CycleOutlet(ctx, c.Outlet.Outlet(), c.Hold)
}

func switchOutput(ctx context.Context, g *garage.Garage, c operation.Send) error {
	output, err := garage.Supply[gear.Output](g, c.Outlet.Device)
	if err != nil {
		return err
	}
	if c.Do == operation.GearCycle {
		return output.CycleOutput(ctx, c.Hold)
	}
	return output.SwitchOutput(ctx, c.Do == operation.SwitchOn)
}

// chassisCommands are what the steps on a chassis send.
var chassisCommands = map[operation.StepKind]gear.ChassisCommand{
	operation.SwitchOff: gear.ChassisOff, operation.SwitchOn: gear.ChassisOn, operation.SoftOff: gear.ChassisSoft,
	operation.StepReset: gear.ChassisReset, operation.StepNMI: gear.ChassisNMI,
}

func commandChassis(ctx context.Context, g *garage.Garage, c operation.Send) error {
	do, known := chassisCommands[c.Do]
	if !known { // it is about where the next start leads
		return lead(ctx, g, c)
	}
	chassis, err := garage.Controller[gear.Chassis](g, c.Outlet.Device)
	if err != nil {
		return err
	}
	return chassis.CommandChassis(ctx, do)
}

// bootDevices are the names under which controllers know where a start may lead.
var bootDevices = map[operation.Into]string{
	operation.IntoSetup: "setup", operation.IntoDiagnostics: "diagnostics", operation.IntoDisk: "disk", operation.IntoNetwork: "network", operation.IntoDisc: "cd",
}

const bootAsUsual = "normal"

// lead tells a controller where the next start leads, which it reads back; or sees whether
// that has been taken. Whether the firmware is an old one stays as it is.
func lead(ctx context.Context, g *garage.Garage, c operation.Send) error {
	setter, err := garage.Controller[gear.BootSetter](g, c.Outlet.Device)
	if err != nil {
		return err
	}
	was, err := setter.ReadBoot(ctx)
	if err != nil {
		return err
	}
	refused := func(why string) error {
		return &gear.Error{Kind: gear.Unsupported, Outcome: sending.Refused, Text: why}
	}
	want := gear.Boot{Device: bootAsUsual, UEFI: was.UEFI}
	switch {
	case c.Do == operation.StepTaken && was.Device != bootAsUsual:
		return refused("its controller still has it for the next start")
	case c.Do == operation.StepTaken, c.Do == operation.StepTakeBack && was.Device == bootAsUsual:
		return nil
	case c.Do == operation.StepInto && was.Persistent && was.Device != bootAsUsual:
		return refused("its controller is set to have every start go to " + was.Device + ", which would be lost: see plumb controller boot " + string(c.Outlet.Device))
	case c.Do == operation.StepInto:
		want.Device = bootDevices[c.Into]
	}
	err = setter.SetBoot(ctx, want)
	if err != nil && gear.OutcomeOf(err) == sending.Accepted { // what it accepted, and does not read back, is not set
		err = &gear.Error{Kind: gear.Malformed, Outcome: sending.Unclear, Text: err.Error(), Err: err}
	}
	return err
}

// press is one button, and for how long.
type press struct {
	button sending.Button
	hold   time.Duration
}

// presses are what the steps on a front panel do to its buttons. Power goes on
// and off by the same button: each step has looked at the light before.
var presses = map[operation.StepKind]press{
	operation.SwitchOn: {sending.PowerButton, sending.ShortPress}, operation.SwitchOff: {sending.PowerButton, sending.LongPress},
	operation.SoftOff: {sending.PowerButton, sending.ShortPress}, operation.StepReset: {sending.ResetButton, sending.ShortPress},
}

func pressButton(ctx context.Context, g *garage.Garage, c operation.Send) error {
	board, lead, err := g.Panel(c.Outlet.Device)
	if err != nil {
		return err
	}
	p := presses[c.Do]
	if c.Do == operation.StepPress {
		p = press{c.Button, c.Hold}
	}
	return board.PressButton(ctx, lead, p.button, p.hold)
}

func tell(ctx context.Context, g *garage.Garage, c operation.Send) error {
	line, err := g.CommandLine(c.Outlet.Endpoint())
	if err != nil {
		return err
	}
	return line.Tell(ctx, c.Text)
}
