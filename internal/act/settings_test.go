package act

import (
	"encoding/json"
	"errors"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/setting"
	"plumbbob/internal/durable"
	"plumbbob/internal/lab/labtest"
	"plumbbob/internal/store"
	"plumbbob/internal/store/storetest"
)

// TestSettingsOfGear: looked at, recorded, sent, read back; and after a crash in
// the middle it is found out what became of them, without sending them again.
func TestSettingsOfGear(t *testing.T) {
	t.Parallel()
	l, s := labtest.Start(t, labtest.Options{Speed: 40}), storetest.Open(t)
	interrupted := func(device estate.Key, state setting.State, blind bool, want Setting) string {
		text, err := json.Marshal(want)
		require.NoError(t, err)
		c := &setting.Change{V: setting.Version, ID: durable.NewID(), Device: device, Site: "skarvoe", Kind: store.EntryOutlet, Want: text, Words: []string{"changed by a service that died"}, Blind: blind, By: "admin", Asked: time.Now().UTC(), State: state}
		require.NoError(t, s.SaveSetting(t.Context(), c))
		return c.ID
	}
	left := func(name string) Setting { return Setting{Outlet: &OutletSetting{Port: "4", Name: &name}} }
	r, stop := start(t, l, s, filepath.Join(t.TempDir(), "ledger"))
	journal := func(text string) []store.Entry {
		t.Helper()
		var found []store.Entry
		require.Eventually(t, func() bool {
			all, err := s.Journal(t.Context(), store.JournalFilter{Kind: store.EntryOutlet, Limit: 50})
			require.NoError(t, err)
			found = found[:0]
			for _, e := range all {
				if e.Text == text {
					found = append(found, e)
				}
			}
			return len(found) > 0
		}, soon, often, text)
		return found
	}
	change := func(want Setting) (p Planned, err error) {
		require.Eventually(t, func() bool {
			p, err = r.ChangeSetting(t.Context(), "skarvoe-pdu", want, "tidying", operation.Asker{Name: "i.marsh"})
			return err == nil || !errors.Is(err, ErrNotReady)
		}, soon, often)
		return p, err
	}
	name := "boiler room"
	p, err := change(left(name))
	require.NoError(t, err)
	require.Len(t, p.Words, 1)
	require.Contains(t, p.Words[0], "→ boiler room")
	e := journal(p.Words[0])
	require.Len(t, e, 1)
	require.Equal(t, []string{"i.marsh", "tidying", "done"}, []string{e[0].Who, e[0].Why, e[0].Result})
	p, err = change(left(name))
	require.NoError(t, err)
	require.Empty(t, p.Words, "it is so already")
	_, err = change(Setting{})
	var usage *operation.UsageError
	require.ErrorAs(t, err, &usage)
	_, err = change(Setting{Outlet: &OutletSetting{Port: "99", Name: &name}})
	require.ErrorAs(t, err, &usage)
	stop()

	interrupted("skarvoe-pdu", setting.Sending, false, left(name))
	interrupted("skarvoe-pdu", setting.Sending, false, left("never kept"))
	interrupted("skarvoe-pdu", setting.Sending, true, left(name))
	_, stop = start(t, l, s, filepath.Join(t.TempDir(), "ledger"))
	defer stop()
	const words = "changed by a service that died"
	journal(words + " (read back: the service was interrupted while it was sent)")
	e = journal(words + ": it was not kept: the service was interrupted while it was sent")
	require.Equal(t, "failed", e[0].Result)
	journal(words + ": the service was interrupted while it was sent: whether it happened cannot be read back")
	unended, err := s.UnendedSettings(t.Context())
	require.NoError(t, err)
	require.Empty(t, unended)
}
