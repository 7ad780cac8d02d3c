package orders

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/observation"
	"plumbbob/internal/core/verdict"
)

const wayOut = `plumb-ladder: 1
name: help
for: {devices: [switch]}
lasting: 1m
uplink: {witnesses: [office, quay, boat]}
rungs: [{do: reset, settle: 10s}]
`

// beyond has the uplink answer, and what is beyond it or not.
func (w *world) beyond(answers bool) {
	for range 4 {
		w.asked = w.asked.Add(time.Second)
		for k, ok := range map[estate.Key]bool{"switch": true, "office": answers, "quay": answers, "boat": answers} {
			site := k
			if k == "switch" {
				site = "pier"
			}
			w.Keeper.Observe(observation.Observation{Site: site, Device: k, Result: verdict.Result{SentAt: w.asked, OK: ok}})
		}
	}
	w.Keeper.JudgeNow()
}

// TestUplinkAtItsEnd: a way out that could not be had back is left alone until a witness has answered.
func TestUplinkAtItsEnd(t *testing.T) {
	w := begin(t)
	w.acted, w.asked = time.Now().Add(-time.Hour), time.Now().Add(-30*time.Second)
	w.ladder(wayOut, true)
	w.beyond(true)
	w.at(time.Now())
	require.Empty(t, w.hands.did(), "nothing is amiss")
	w.beyond(false)
	w.at(time.Now())
	require.Equal(t, "switch", w.hands.did())
	require.Equal(t, "failed", w.states("help"))
	w.seen = map[string]bool{}
	w.quickly()
	w.at(time.Now())
	require.Equal(t, "switch", w.hands.did(), "it is at its end")
	require.Len(t, w.Ladder("help").Holds, 1)

	w.beyond(true)
	w.at(time.Now())
	require.Empty(t, w.Ladder("help").Holds, "a witness has answered")
	w.quickly()
	w.beyond(false)
	w.at(time.Now())
	require.Equal(t, "switch switch", w.hands.did(), "and it goes on")
}
