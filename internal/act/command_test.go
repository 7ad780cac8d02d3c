package act

import (
	"testing"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/sending"
	"plumbbob/internal/gear"
)

// What the machine may ask of an end, somebody carries out; and what cannot be done
// to it is refused before anything is sent.
func TestEveryKindOfEndHasItsCarrier(t *testing.T) {
	id := estate.EndpointID{Device: "kiln", Name: "line"}
	ends := map[estate.EndKind]estate.End{
		estate.Source: estate.SourceEnd("pdu", estate.PoE, 3), estate.Output: estate.OutputEnd("ups"), estate.Chassis: estate.ChassisEnd("kiln"),
		estate.Panel: estate.PanelEnd("kiln"), estate.NetworkCard: estate.WakeEnd("kiln"), estate.CommandLine: id.CommandEnd(),
		estate.OwnComputer: id.OwnEnd(), estate.Whole: {Device: "kiln"}, estate.NetworkPort: {Device: "kiln", Port: "gi0/1"},
	}
	steps := []operation.StepKind{
		operation.SwitchOff, operation.SwitchOn, operation.GearCycle, operation.SoftOff, operation.StepReset, operation.StepNMI,
		operation.StepWake, operation.StepSleep, operation.StepPress, operation.StepRestart,
	}
	done := map[operation.StepKind]bool{}
	for _, kind := range estate.EndKinds {
		end := ends[kind]
		require.Equal(t, kind, end.Kind(), end)
		back, err := estate.ParseEnd(end.String())
		require.NoError(t, err)
		require.Equal(t, end, back)
		for _, step := range steps {
			if operation.CanDo(step, end) {
				require.Contains(t, carriers, kind, "%s at %s", step, end)
				done[step] = true
				continue
			}
			err := gearCommands{}.carryOut(t.Context(), operation.Send{Do: step, Outlet: end})
			require.Equal(t, gear.Unsupported, gear.KindOf(err), "%s at %s", step, end)
			require.Equal(t, sending.NotSent, gear.OutcomeOf(err))
		}
	}
	require.Len(t, done, len(steps), "every step can be carried out somewhere")
}
