package api

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/act"
	"plumbbob/internal/core/group"
	"plumbbob/internal/core/operation"
)

// A timetable reads from the first to the last, in whichever order the plan is kept.
func TestGroupPreviewIsInTheOrderOfTime(t *testing.T) {
	p := &act.GroupPreview{
		Group:    &group.Group{Members: []group.Member{{Device: "late"}, {Device: "early"}}},
		Slots:    []group.Slot{{Device: "late", Begins: 9 * time.Second}, {Device: "early"}},
		Previews: []*operation.Preview{{}, {}},
	}
	v := groupPreviewView(p)
	require.Equal(t, "early", v.Slots[0].Device)
	require.Equal(t, 9.0, v.Slots[1].BeginsSeconds)
}
