package api

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/core/sending"
	"plumbbob/internal/gear"
	"plumbbob/internal/keep"
)

// TestGearProblems: gear that is away, that will not, and what makes no sense
// are three different things.
func TestGearProblems(t *testing.T) {
	for _, c := range []struct {
		err    *gear.Error
		status int
		kind   contract.ProblemKind
	}{
		{&gear.Error{Kind: gear.Unreachable, Text: "x"}, 502, contract.GearUnreachable},
		{&gear.Error{Kind: gear.BadSecret, Text: "x"}, 502, contract.GearRefused},
		{&gear.Error{Kind: gear.Malformed, Outcome: sending.Accepted, Text: "x"}, 502, contract.GearRefused},
		{&gear.Error{Kind: gear.Unsupported, Outcome: sending.NotSent, Text: "x"}, 422, contract.Usage},
	} {
		p := problemOf(c.err)
		require.Equal(t, c.status, p.Status)
		require.Equal(t, c.kind, p.Kind)
		require.Equal(t, "x", *p.Detail)
	}
}

func TestChassisView(t *testing.T) {
	g := seen(t, "skarvoe-router")
	watts := 52.74
	g.ev.Controller("skarvoe-recorder", reading.Chassis{At: g.now, On: true, State: "S0, working", Restore: reading.ComesOn, Watts: &watts, Watchdog: &reading.Watchdog{Action: "reset", Left: time.Minute, For: "operating system"}})
	g.inside = func(k estate.Key) *keep.Inside {
		v := 97.0
		return &keep.Inside{Sensors: []reading.Sensor{{Name: "CPU 1 temp", Unit: "°C", Value: &v, Level: reading.Critical}}, Weak: []reading.Weakness{{Name: "clock", Text: "t", Remedy: "r"}}}
	}
	d := g.device(g.e.Device("skarvoe-recorder"))
	require.Equal(t, "armed: reset in 60 s unless its operating system is heard of", *d.Chassis.Watchdog)
	require.Equal(t, 52.7, *d.Chassis.W)
	require.True(t, d.Chassis.Fresh)
	require.Equal(t, contract.Telling{Name: "CPU 1 temp", Text: "97 °C", Level: contract.LevelCritical}, *d.Summary.Telling)
	require.Equal(t, 1, *d.Summary.Weaknesses)
	require.Equal(t, []contract.Weakness{{Name: "clock", Text: "t", Remedy: "r"}}, d.Weaknesses)
	require.Nil(t, g.device(g.e.Device("skarvoe-router")).Chassis, "it has no controller")
}
