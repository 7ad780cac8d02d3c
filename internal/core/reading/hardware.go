package reading

import "slices"

// hardware are the kinds of sensors that tell of parts which somebody has to replace; a temperature or a
// voltage out of bounds may have its cause elsewhere. Those of IPMI are in its table 42-3, and those
// without a value tell of states, such as that a drive has failed.
var hardware = []string{"fan", "cooling device", "power supply", "power unit", "memory", "drive bay", "battery", "processor"}

// broken are the alarms of a UPS (RFC 1628, upsWellKnownAlarms) that tell of such parts.
var broken = []string{
	"upsAlarmBatteryBad", "upsAlarmChargerFailed", "upsAlarmFanFailure", "upsAlarmFuseFailure", "upsAlarmGeneralFault", "upsAlarmDiagnosticTestFailed",
}

// Broken lists what of the hardware of a device is out of bounds, in words. supply is nil where it is no UPS.
func Broken(sensors []Sensor, supply *Supply) (out []string) {
	for _, s := range sensors {
		if s.Level.Worse(Fine) && slices.Contains(hardware, s.Kind) {
			out = append(out, s.Trouble())
		}
	}
	if supply == nil {
		return out
	}
	for _, a := range supply.Alarms {
		if slices.Contains(broken, a.Name) {
			out = append(out, a.Text)
		}
	}
	return out
}
