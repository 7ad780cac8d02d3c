package keep

import (
	"log/slog"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/observation"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/health"
	"plumbbob/internal/store"
	"plumbbob/internal/store/storetest"
)

// TestOneBadRowHoldsUpNothing: what the database does not take is set aside and
// named once; the journal, verdicts and readings beside it are stored, and so are
// the roll-ups.
func TestOneBadRowHoldsUpNothing(t *testing.T) {
	s := storetest.Open(t)
	k := newKept(t, s)
	k.Health = health.New(slog.New(slog.DiscardHandler))
	now := time.Now().Add(-10 * time.Minute)
	v, absurd := 21.5, 1e300
	long := strings.Repeat("a-long-name-", 6)
	k.Observe(observation.Observation{Device: "pdu", Endpoint: "card", Beside: true, Result: verdict.Result{SentAt: now, OK: true}, Brought: observation.Payloads{observation.Sensors{
		{Name: "x", Series: long, Value: &v}, {Name: "y", Series: "absurd", Value: &absurd}, {Name: "z", Series: "fine", Value: &v},
	}}})
	k.poll(time.Now(), 10, 11)
	k.mu.Lock()
	k.spool.waiting = append(k.spool.waiting, waiting{seriesKey{"lamp", strings.Repeat("n", 70)}, "s", "W", sample{now, 1}}, waiting{seriesKey{"lamp", "unit"}, "s", strings.Repeat("u", 40), sample{now, 1}})
	k.spool.entries = append(k.spool.entries, store.Entry{At: now, Who: strings.Repeat("w", 100), Kind: store.EntrySupply, Text: "bad"}, store.Entry{At: now, Who: "plumbd", Kind: store.EntrySupply, Text: "good"})
	k.spool.verdicts["lamp"] = store.StandingVerdict{Device: "lamp", Site: "s", State: strings.Repeat("v", 20), Since: now}
	k.spool.verdicts["router"] = store.StandingVerdict{Device: "router", Site: "s", State: "hung", Since: now}
	k.mu.Unlock()
	require.NoError(t, k.Flush(t.Context()))
	require.Empty(t, k.spool.waiting)

	entries, err := s.Journal(t.Context(), store.JournalFilter{Limit: 9})
	require.NoError(t, err)
	require.Len(t, entries, 2, "a name that is too long keeps nothing out of the journal")
	require.Len(t, entries[1].Who, 64)
	standing, err := s.Verdicts(t.Context())
	require.NoError(t, err)
	require.Len(t, standing, 1)
	for device, want := range map[estate.Key][]string{"pdu": {DrawSeries, "sensor:a-long-name-a-long-name-a-long-name-a-long-name-c7fa7323", "sensor:fine"}, "router": {DrawSeries}} {
		series, err := s.ListSeries(t.Context(), device)
		require.NoError(t, err)
		names := make([]string, len(series))
		for i, x := range series {
			names[i] = x.Name
		}
		require.Equal(t, want, names, "a long name is shortened, and what cannot be is no measurement")
	}
	list := k.Health.List()
	require.Len(t, list, 3, "a series, a unit and a verdict: %v", list)
	require.NoError(t, k.rollUp(t.Context(), time.Now()))
}
