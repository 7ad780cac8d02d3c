package operation

import (
	"testing"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/sending"
)

// TestWhatIsMeasuredIsWhatCounts: a chassis that says off is off, whatever its meter shows
// of standby; a port that goes on giving did not switch; one in fault is in fault; and
// nothing is called measured that was not.
func TestWhatIsMeasuredIsWhatCounts(t *testing.T) {
	chassis, port := estate.ChassisEnd("host"), estate.SourceEnd("switch", estate.PoE, 7)
	gives := func(is bool, fault string) Reading { return Reading{On: true, Giving: &is, Fault: fault} }
	for _, x := range []struct {
		name    string
		end     estate.End
		was, is Reading // before, and after, it is switched
		off     bool    // or on
		want    StepState
		note    string
	}{
		{"a chassis that is off, with its standby draw", chassis, Reading{On: true, Metered: true, W: 240}, Reading{Metered: true, W: 26}, true, StepDone, "off, and still draws 26 W by its controller"},
		{"a relay that is off, and carries on", outlet, Reading{On: true, Metered: true, W: 240}, Reading{Metered: true, W: 240}, true, StepFail, "still drawing 240.0 W"},
		{"a port that goes on giving", port, gives(true, ""), Reading{Giving: new(true)}, true, StepFail, "is reported off, and goes on giving power: it did not switch"},
		{"a port that gives no more", port, gives(true, ""), Reading{Giving: new(false)}, true, StepDone, ""},
		{"a port that is in fault", port, Reading{Giving: new(false)}, gives(false, "a fault on the line"), false, StepFail, "is on, and gives no power: a fault on the line"},
		{"a port that nothing hangs on", port, Reading{Giving: new(false)}, gives(false, ""), false, StepDone, "on, but nothing takes power from it"},
		{"a port that gives", port, Reading{Giving: new(false)}, gives(true, ""), false, StepDone, ""},
	} {
		t.Run(x.name, func(t *testing.T) {
			kind := On
			if x.off {
				kind = Off
			}
			s := &script{T: t, o: newOp(kind, x.end)}
			s.o.Dark = nil
			see := func(at float64, r Reading) {
				r.At = sec(at)
				s.feed(Measured{At: sec(at), Outlets: map[estate.End]Reading{x.end: r}})
			}
			s.feed(Started{t0})
			see(0.5, x.was)
			s.answered(1, sending.Accepted)
			for at := 2.0; at < 40 && s.o.Steps[0].State == Checking; at++ {
				see(at, x.is)
			}
			if s.o.Steps[0].State == Checking {
				s.expired()
			}
			require.Equal(t, x.want, s.o.Steps[0].State, s.o.Steps[0].Note)
			require.Contains(t, s.o.Steps[0].Note, x.note)
		})
	}
}
