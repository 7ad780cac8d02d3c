package snmpgear

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/gosnmp/gosnmp"

	"plumbbob/internal/core/reading"
	"plumbbob/internal/core/sending"
	"plumbbob/internal/gear"
)

// The groups of UPS-MIB (RFC 1628, section 4). Scalars end in .0.
const (
	upsObjects = "1.3.6.1.2.1.33.1"
	upsIdent   = upsObjects + ".1"
	upsBattery = upsObjects + ".2"
	upsInput   = upsObjects + ".3"
	upsOutput  = upsObjects + ".4"
	upsBypass  = upsObjects + ".5"
	upsAlarm   = upsObjects + ".6"
	upsTest    = upsObjects + ".7"
	upsControl = upsObjects + ".8"
	upsConfig  = upsObjects + ".9"

	upsWellKnownAlarms = upsAlarm + ".3"
	upsWellKnownTests  = upsTest + ".7"
)

const (
	maxPhases = 12 // of an input, an output or a bypass
	maxAlarms = 64
)

// supply is the part of a card that speaks for a UPS.
type supply struct{ *Driver }

var (
	_ gear.Supply        = (*supply)(nil)
	_ gear.SupplyControl = (*supply)(nil)
	_ gear.Output        = (*supply)(nil)
)

// scalars lists the objects of a group from .1.0 to .last.0.
func scalars(group string, last int) []string {
	out := make([]string, last)
	for i := range out {
		out[i] = instance(group, i+1, 0)
	}
	return out
}

// ReadSupply reads everything that the UPS says.
func (d *supply) ReadSupply(ctx context.Context) (reading.Supply, error) {
	var s reading.Supply
	err := d.read.use(ctx, func() error {
		got, err := d.read.get(slices.Concat(
			scalars(upsIdent, 6), scalars(upsBattery, 7), scalars(upsInput, 2), scalars(upsOutput, 3), scalars(upsBypass, 2),
			scalars(upsAlarm, 1), scalars(upsTest, 6), scalars(upsControl, 5), scalars(upsConfig, 10)))
		if err != nil {
			return err
		}
		if _, ok := got[instance(upsBattery, 1, 0)]; !ok {
			return &gear.Error{Kind: gear.Malformed, Outcome: refused, Text: fmt.Sprintf("%s says nothing of a battery: it does not implement UPS-MIB (RFC 1628)", d.o.Name)}
		}
		s = supplyOf(got)
		if s.Inputs, err = d.phases(upsInput+".3.1", got.integer(instance(upsInput, 2, 0)), inputColumns); err != nil {
			return err
		}
		if s.Outputs, err = d.phases(upsOutput+".4.1", got.integer(instance(upsOutput, 3, 0)), outputColumns); err != nil {
			return err
		}
		if s.Bypasses, err = d.phases(upsBypass+".3.1", got.integer(instance(upsBypass, 2, 0)), bypassColumns); err != nil {
			return err
		}
		if got.integer(instance(upsAlarm, 1, 0)) > 0 {
			s.Alarms, err = d.alarms()
		}
		return err
	})
	return s, err
}

// supplyOf reads the scalars.
func supplyOf(got answers) reading.Supply {
	num := func(group string, n int, scale float64) *float64 {
		return plausible(got.number(instance(group, n, 0), scale), 0, maxPlausible)
	}
	text := func(n int) string { return got.text(instance(upsIdent, n, 0)) }
	s := reading.Supply{
		Maker: text(1), Model: text(2), Firmware: text(3), Agent: text(4), Name: text(5), Attached: text(6),
		Battery: reading.Battery{
			Status: word(batteryStatus, got.integer(instance(upsBattery, 1, 0))), Minutes: num(upsBattery, 3, 1), Charge: plausible(num(upsBattery, 4, 1), 0, 100),
			V: num(upsBattery, 5, 0.1), A: plausible(got.number(instance(upsBattery, 6, 0), 0.1), -maxPlausible, maxPlausible), C: plausible(got.number(instance(upsBattery, 7, 0), 1), minCelsius, maxCelsius),
		},
		InputBads: num(upsInput, 1, 1),
		Source:    reading.Source(word(outputSource, got.integer(instance(upsOutput, 1, 0)))),
		OutputHz:  num(upsOutput, 2, 0.1), BypassHz: num(upsBypass, 1, 0.1),
		Config: reading.SupplyConfig{
			InV: num(upsConfig, 1, 1), InHz: num(upsConfig, 2, 0.1), OutV: num(upsConfig, 3, 1), OutHz: num(upsConfig, 4, 0.1),
			OutVA: num(upsConfig, 5, 1), OutW: num(upsConfig, 6, 1), LowMinutes: num(upsConfig, 7, 1),
			Audible: word([]string{"disabled", "enabled", "muted"}, got.integer(instance(upsConfig, 8, 0))), LowTransferV: num(upsConfig, 9, 1), HighTransferV: num(upsConfig, 10, 1),
		},
	}
	if on := num(upsBattery, 2, 1); on != nil {
		s.Battery.OnBattery = time.Duration(*on) * time.Second
	}
	s.Test = testOf(got)
	s.Control = reading.Control{
		What:       word([]string{"output", "system"}, got.integer(instance(upsControl, 1, 0))),
		ShutdownIn: countdown(num(upsControl, 2, 1)), StartupIn: countdown(num(upsControl, 3, 1)), RebootFor: countdown(num(upsControl, 4, 1)),
	}
	if auto := got.integer(instance(upsControl, 5, 0)); auto > 0 {
		on := auto == 1
		s.Control.AutoRestart = &on
	}
	return s
}

// What a UPS can mean: a value beyond is a defect of its card, and not known.
const (
	maxPlausible = 1e7 // of anything that RFC 1628 counts: W, VA, V, min, s
	minCelsius   = -60
	maxCelsius   = 200
	maxLoad      = 200 // %, upsOutputPercentLoad
)

func plausible(v *float64, least, most float64) *float64 {
	if v == nil || *v < least || *v > most {
		return nil
	}
	return v
}

// countdown is a time that runs, in s; -1 says that none does.
func countdown(s *float64) *time.Duration {
	if s == nil || *s < 0 {
		return nil
	}
	d := time.Duration(*s) * time.Second
	return &d
}

var (
	batteryStatus = []string{"unknown", "normal", "low", "depleted"}
	outputSource  = []string{"other", "none", "line", "bypass", "battery", "booster", "reducer"}
	testResults   = []string{"passed", "warning", "error", "aborted", "in progress", "none"}
	testKinds     = []string{"none", "abort", "general", "quick battery", "deep calibration"}
)

// word is the word of an enumeration that begins at 1, or "" for a value that
// the standard does not have.
func word(words []string, n int) string {
	if n < 1 || n > len(words) {
		return ""
	}
	return words[n-1]
}

func testOf(got answers) reading.Test {
	t := reading.Test{Result: word(testResults, got.integer(instance(upsTest, 3, 0))), Detail: got.text(instance(upsTest, 4, 0))}
	if id, ok := raw(got[instance(upsTest, 1, 0)]); ok {
		n, _ := indexOf(strings.TrimPrefix(id, upsWellKnownTests+"."))
		if len(n) == 1 {
			t.Kind = word(testKinds, n[0])
		}
	}
	if ms := got.number(instance(upsTest, 6, 0), 10); ms != nil { // TimeInterval: 0.01 s
		t.Took = time.Duration(*ms) * time.Millisecond
	}
	return t
}

// phaseColumns says where the values of a line stand in its table, and in
// what units; 0 is a value that the table does not have.
type phaseColumns struct{ hz, v, a, w, load int }

var (
	inputColumns  = phaseColumns{hz: 2, v: 3, a: 4, w: 5}
	outputColumns = phaseColumns{v: 2, a: 3, w: 4, load: 5}
	bypassColumns = phaseColumns{v: 2, a: 3, w: 4}
)

// phases reads a table of lines. Voltages are in whole volts RMS, currents and
// frequencies in tenths.
func (d *supply) phases(entry string, count int, c phaseColumns) ([]reading.Phase, error) {
	var names []string
	n := min(max(count, 0), maxPhases)
	for row := 1; row <= n; row++ {
		for _, column := range []int{c.hz, c.v, c.a, c.w, c.load} {
			if column > 0 {
				names = append(names, instance(entry, column, row))
			}
		}
	}
	got, err := d.read.get(names)
	if err != nil {
		return nil, err
	}
	var out []reading.Phase
	for row := 1; row <= n; row++ {
		value := func(column int, scale float64) *float64 {
			if column == 0 {
				return nil
			}
			return plausible(got.number(instance(entry, column, row), scale), 0, maxPlausible)
		}
		out = append(out, reading.Phase{Hz: value(c.hz, 0.1), V: value(c.v, 1), A: value(c.a, 0.1), W: value(c.w, 1), Load: plausible(value(c.load, 1), 0, maxLoad)})
	}
	return out, nil
}

// alarms reads the table of alarms that are present.
func (d *supply) alarms() ([]reading.Alarm, error) {
	cells, err := d.read.walk(upsAlarm+".2.1.2", maxAlarms)
	if err != nil {
		return nil, err
	}
	var out []reading.Alarm
	for _, c := range cells {
		id, _ := raw(c.value)
		a := reading.Alarm{Name: id, Text: "alarm " + id, Level: reading.Warning}
		if n, ok := indexOf(strings.TrimPrefix(id, upsWellKnownAlarms+".")); ok && len(n) == 1 && n[0] >= 1 && n[0] <= len(wellKnownAlarms) {
			a = wellKnownAlarms[n[0]-1]
		}
		out = append(out, a)
	}
	return out, nil
}

// wellKnownAlarms are those of RFC 1628, upsWellKnownAlarms, in their order.
var wellKnownAlarms = []reading.Alarm{
	{Name: "upsAlarmBatteryBad", Text: "the battery is bad", Level: reading.Warning},
	{Name: "upsAlarmOnBattery", Text: "it draws from its battery", Level: reading.Warning},
	{Name: "upsAlarmLowBattery", Text: "the battery is low", Level: reading.Critical},
	{Name: "upsAlarmDepletedBattery", Text: "the battery is depleted", Level: reading.Critical},
	{Name: "upsAlarmTempBad", Text: "a temperature is out of tolerance", Level: reading.Warning},
	{Name: "upsAlarmInputBad", Text: "its input is out of tolerance", Level: reading.Warning},
	{Name: "upsAlarmOutputBad", Text: "its output is out of tolerance", Level: reading.Critical},
	{Name: "upsAlarmOutputOverload", Text: "its output carries more than it can", Level: reading.Critical},
	{Name: "upsAlarmOnBypass", Text: "it is on bypass", Level: reading.Warning},
	{Name: "upsAlarmBypassBad", Text: "the bypass is out of tolerance", Level: reading.Warning},
	{Name: "upsAlarmOutputOffAsRequested", Text: "its output is off, as requested", Level: reading.Warning},
	{Name: "upsAlarmUpsOffAsRequested", Text: "it is off, as requested", Level: reading.Warning},
	{Name: "upsAlarmChargerFailed", Text: "its charger has failed", Level: reading.Critical},
	{Name: "upsAlarmUpsOutputOff", Text: "its output is off", Level: reading.Critical},
	{Name: "upsAlarmUpsSystemOff", Text: "the system is off", Level: reading.Critical},
	{Name: "upsAlarmFanFailure", Text: "a fan has failed", Level: reading.Warning},
	{Name: "upsAlarmFuseFailure", Text: "a fuse has failed", Level: reading.Critical},
	{Name: "upsAlarmGeneralFault", Text: "a fault has been found", Level: reading.Warning},
	{Name: "upsAlarmDiagnosticTestFailed", Text: "its last self-test failed", Level: reading.Warning},
	{Name: "upsAlarmCommunicationsLost", Text: "the card has lost touch with the UPS", Level: reading.Critical},
	{Name: "upsAlarmAwaitingPower", Text: "its output is off and it waits for power to return", Level: reading.Critical},
	{Name: "upsAlarmShutdownPending", Text: "a shutdown is counting down", Level: reading.Warning},
	{Name: "upsAlarmShutdownImminent", Text: "it will shut down within seconds", Level: reading.Critical},
	{Name: "upsAlarmTestInProgress", Text: "a self-test is running", Level: reading.Fine},
}

// tests are the well-known tests (upsWellKnownTests), by what they are asked for with.
var tests = map[string]int{gear.TestAbort: 2, gear.TestGeneral: 3, gear.TestQuick: 4, gear.TestDeep: 5}

// CommandSupply tells the UPS one thing, and reads it back.
func (d *supply) CommandSupply(ctx context.Context, c gear.SupplyCommand) error {
	return d.write.use(ctx, func() error {
		switch c.Do {
		case gear.TestGeneral, gear.TestQuick, gear.TestDeep, gear.TestAbort:
			return d.test(tests[c.Do])
		case gear.SupplyCancel:
			return d.cancel()
		case gear.SupplyAutoStart:
			v := 2
			if c.On {
				v = 1
			}
			return d.keeps(instance(upsControl, 5, 0), v, "auto-restart")
		}
		return d.unsupported(c.Do)
	})
}

// test takes the spin lock before it names the test, so that of two managers
// only one begins (RFC 1628, upsTestSpinLock).
func (d *supply) test(n int) error {
	lock := instance(upsTest, 2, 0)
	got, err := d.write.get([]string{lock})
	if err != nil {
		return err
	}
	id := gosnmp.SnmpPDU{Name: instance(upsTest, 1, 0), Type: gosnmp.ObjectIdentifier, Value: instance(upsWellKnownTests, n)}
	if _, has := got[lock]; !has {
		return d.write.set(0, id)
	}
	return d.write.set(0, integer(lock, got.integer(lock)), id)
}

// The countdowns of upsControl. Each is -1 while it does not run.
const (
	upsShutdown = 2 // upsShutdownAfterDelay
	upsStartup  = 3 // upsStartupAfterDelay
	upsReboot   = 4 // upsRebootWithDuration
)

// SwitchOutput has the output go on or off at once.
func (d *supply) SwitchOutput(ctx context.Context, on bool) error {
	n := upsShutdown
	if on {
		n = upsStartup
	}
	return d.write.use(ctx, func() error { return d.write.set(0, integer(instance(upsControl, n, 0), 0)) })
}

// CycleOutput has the output go off at once, and come on by itself.
func (d *supply) CycleOutput(ctx context.Context, hold time.Duration) error {
	seconds := int(min(hold, gear.CyclesAtMost).Seconds())
	return d.write.use(ctx, func() error { return d.write.set(0, integer(instance(upsControl, upsReboot, 0), seconds)) })
}

// cancel takes back a shutdown that counts down. What is to come on is left to
// come on: a UPS that forgets a reboot, or a start, leaves its output off for good.
func (d *supply) cancel() error {
	shutdown, source := instance(upsControl, upsShutdown, 0), instance(upsOutput, 1, 0)
	got, err := d.write.get([]string{shutdown, source})
	if err != nil {
		return err
	}
	if word(outputSource, got.integer(source)) == string(reading.SourceNone) {
		return &gear.Error{Kind: gear.Unsupported, Outcome: sending.NotSent, Text: fmt.Sprintf("the output of %s is off: there is nothing to be taken back; plumb on switches it on", d.o.Name)}
	}
	if got.integer(shutdown) < 0 {
		return &gear.Error{Kind: gear.Unsupported, Outcome: sending.NotSent, Text: fmt.Sprintf("no shutdown of %s counts down: there is nothing to be taken back", d.o.Name)}
	}
	return d.keeps(shutdown, -1, "that its shutdown is taken back")
}

// keeps writes a setting and reads it back.
func (d *supply) keeps(oid string, v int, what string) error {
	if err := d.write.set(setRetries, integer(oid, v)); err != nil {
		return err
	}
	got, err := d.write.get([]string{oid})
	if err != nil {
		return err
	}
	if got.integer(oid) != v {
		return unkept(d.o.Name, what)
	}
	return nil
}
