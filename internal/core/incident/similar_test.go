package incident

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
)

func TestSimilar(t *testing.T) {
	e, problems := estate.New("t", "here", []estate.Site{{Key: "pier"}}, []estate.Device{
		{Key: "here", Site: "pier"}, {Key: "one", Site: "pier", Role: "router"}, {Key: "two", Site: "pier", Role: "router"}, {Key: "host", Site: "pier", Role: "server"},
	})
	require.Empty(t, problems)
	at := time.Date(2026, 11, 27, 3, 0, 0, 0, time.UTC)
	past := func(id string, device estate.Key, kind string, day int, over bool) *Incident {
		i := &Incident{ID: id, Device: device, Kind: kind, Opened: at.AddDate(0, 0, day)}
		if over {
			i.Ended = i.Opened.Add(time.Hour)
		}
		return i
	}
	now := past("now", "one", "hung", 10, false)
	all := []*Incident{
		now, past("other", "two", "hung", 9, true), past("open", "two", "hung", 8, false), past("host", "host", "hung", 7, true), past("dark", "one", "dark", 6, true),
		past("late", "one", "hung", 5, true), past("early", "one", "hung", 1, true), past("gone", "removed", "hung", 4, true),
	}
	ids := func(found []*Incident) (out []string) {
		for _, i := range found {
			out = append(out, i.ID)
		}
		return out
	}
	require.Equal(t, []string{"late", "early", "other"}, ids(now.Similar(all, e, 5)))
	require.Equal(t, []string{"late"}, ids(now.Similar(all, e, 1)))
	require.Empty(t, past("x", "removed", "dark", 1, false).Similar(all, e, 5))
}
