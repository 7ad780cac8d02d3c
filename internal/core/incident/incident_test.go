package incident

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/verdict"
)

var (
	zero    = time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	pier, _ = estate.New("t", "router", []estate.Site{{Key: "pier", Zone: time.UTC}}, []estate.Device{{Key: "router", Site: "pier"}, {Key: "switch", Site: "pier"}, {Key: "kiosk", Site: "pier"}})
)

func found(s verdict.State, cutBy ...estate.Key) verdict.Verdict {
	v := verdict.Verdict{State: s, Reasons: []verdict.Reason{{Stance: verdict.Note, Text: verdict.Say("a note")}, {Stance: verdict.For, Text: verdict.Say("no answer")}, {Stance: verdict.For, Text: verdict.Say("draws 11 W")}, {Stance: verdict.For, Text: verdict.Say("more")}}}
	if len(cutBy) > 0 {
		v.CutBy = cutBy[0]
	}
	return v
}

// TestWhatWasMissed: it is told until somebody has seen it, whatever the device does.
func TestWhatWasMissed(t *testing.T) {
	b := &book{T: t, now: zero}
	steady := map[estate.Key]verdict.Verdict{"router": found(verdict.Steady)}
	look := func(missed map[estate.Key]string) []Change {
		return b.Look(World{Estate: pier, Now: b.now, Verdicts: steady, Missed: missed}, b.id)
	}
	require.Equal(t, "Opened: Cycle router was missed", look(map[estate.Key]string{"router": "Cycle router was missed"})[0].Text)
	require.Empty(t, look(nil))
	_, err := b.Of("router").Acknowledge("ann", "", b.now)
	require.NoError(t, err)
	require.Equal(t, "Ended after 0 s: ann has seen it", look(nil)[0].Text)
}

// TestPowerIsOwed: it is told as long as it lasts, by whatever verdict.
func TestPowerIsOwed(t *testing.T) {
	b := &book{T: t, now: zero}
	look := func(owed map[estate.Key]string, is verdict.State) []Change {
		return b.Look(World{Estate: pier, Now: b.now, Verdicts: map[estate.Key]verdict.Verdict{"router": found(is)}, Owed: owed}, b.id)
	}
	owed := map[estate.Key]string{"router": "power is owed to router"}
	require.Equal(t, "Opened: power is owed to router", look(owed, verdict.Waking)[0].Text)
	require.Empty(t, look(owed, verdict.Waking))
	require.Equal(t, "Ended after 0 s: it is steady again", look(nil, verdict.Steady)[0].Text)
}

// book is a book that is told of the pier.
type book struct {
	*testing.T
	Book
	n   int
	now time.Time
}

func (b *book) id() string { b.n++; return fmt.Sprint("i", b.n) }

// after looks once more, and returns what the journal says.
func (b *book) after(d time.Duration, late map[estate.Key]string, router, swit verdict.Verdict) []string {
	b.now = b.now.Add(d)
	texts := []string{}
	for _, c := range b.Look(World{Estate: pier, Now: b.now, Late: late, Verdicts: map[estate.Key]verdict.Verdict{"router": router, "switch": swit, "kiosk": found(verdict.Steady)}}, b.id) {
		texts = append(texts, c.Text)
	}
	return texts
}

func TestOneIncidentForOneCause(t *testing.T) {
	b := &book{T: t, now: zero}
	steady, hung := found(verdict.Steady), found(verdict.Hung)
	require.Empty(t, b.after(0, nil, steady, steady))
	require.Empty(t, b.after(0, nil, found(verdict.Waking), found(verdict.CutOff, "router")), "somebody cycles it, and that is no trouble")
	require.Equal(t, []string{"Opened: router is hung: no answer; draws 11 W"}, b.after(time.Second, nil, hung, found(verdict.Unknown)))
	require.Equal(t, []string{""}, b.after(time.Second, nil, hung, found(verdict.CutOff, "router")), "what it explains is news, and no entry")
	require.Empty(t, b.after(time.Second, nil, hung, found(verdict.CutOff, "router")))
	i := b.Of("router")
	require.Equal(t, []estate.Key{"switch"}, i.Explains)
	require.Len(t, b.Open(), 1, "the switch behind it is no incident of its own")
	require.Same(t, i, b.Find("i1"))

	require.Same(t, i, b.Tried("router", "op1", b.now))
	require.Nil(t, b.Tried("router", "op1", b.now))
	require.Nil(t, b.Tried("kiosk", "op2", b.now))
	require.Empty(t, b.after(time.Minute, nil, found(verdict.Waking), steady), "as long as it wakes nobody knows")
	i.Explains = nil
	require.Equal(t, []string{""}, b.after(0, nil, found(verdict.Waking), found(verdict.CutOff, "router")), "what it cuts off meanwhile is its doing")
	require.Equal(t, []estate.Key{"switch"}, i.Explains)
	require.Equal(t, []string{"Ended after 2 min: it is steady again"}, b.after(time.Minute, nil, steady, steady))
	require.False(t, i.Open())
	require.Equal(t, []string{"op1"}, i.Tried)

	require.Equal(t, []string{"Back again: router is dark: no answer; draws 11 W"}, b.after(SoonAgain, nil, found(verdict.Dark), steady))
	require.Equal(t, []any{"i1", 1, "dark"}, []any{i.ID, i.Again, i.Kind})
	require.Equal(t, []string{"Now router is hung: no answer; draws 11 W"}, b.after(time.Second, nil, hung, steady))
	require.Len(t, b.after(time.Second, nil, found(verdict.Parked), steady), 1)
	require.Equal(t, "it is parked", i.Ending)
	require.Empty(t, b.after(SoonAgain+time.Second, nil, steady, steady))
	require.Equal(t, []string{"Opened: router is hung: no answer; draws 11 W"}, b.after(time.Second, nil, hung, steady))
	require.Equal(t, "i2", b.Of("router").ID, "much later it is another one")
}

func TestWhatDoesNotComeBackInTime(t *testing.T) {
	b := &book{T: t, now: zero}
	steady, waking := found(verdict.Steady), found(verdict.Waking)
	late := map[estate.Key]string{"router": "router has not come back after 90 s (usually 38–47 s)"}
	require.Empty(t, b.after(0, late, steady, steady), "it is there")
	require.Equal(t, []string{"Opened: switch is hung, and 1 behind it are cut off"}, b.after(0, late, found(verdict.CutOff, "switch"), found(verdict.Hung)), "something else is in the way")
	require.Equal(t, []string{"Ended after 1 s: it is steady again"}, b.after(time.Second, nil, steady, steady))
	require.Equal(t, []string{"Opened: router has not come back after 90 s (usually 38–47 s)"}, b.after(time.Second, late, waking, steady))
	require.Equal(t, Late, b.Of("router").Kind)
	require.Equal(t, []string{"Ended after 1 s: it is steady again"}, b.after(time.Second, late, steady, steady))
	require.Equal(t, []string{"Back again: router has not come back after 90 s (usually 38–47 s)"}, b.after(time.Second, late, waking, found(verdict.CutOff, "router")))
	require.Equal(t, []string{"Now router is hung, and 1 behind it are cut off"}, b.after(time.Second, late, found(verdict.Hung), found(verdict.CutOff, "router")))
	require.Empty(t, b.after(time.Second, nil, found(verdict.Waking), found(verdict.CutOff, "router")), "it is being cycled again")
	b.now = b.now.Add(time.Hour)
	require.Equal(t, "Ended after 1 h: it is not in the estate any more", b.Look(World{Estate: estate.Empty(), Now: b.now}, b.id)[0].Text)
}

func TestWhatPeopleSay(t *testing.T) {
	i := &Incident{ID: "i1", Device: "router", Opened: zero}
	text, err := i.Acknowledge("ada", "on my way", zero)
	require.NoError(t, err)
	require.Equal(t, "Seen, and seen to: on my way", text)
	text, err = i.Shelve("ada", "", zero.Add(time.Hour), zero)
	require.NoError(t, err)
	require.Equal(t, "Shelved until 1 Mar 13:00 UTC", text)
	require.True(t, i.ShelvedAt(zero))
	require.False(t, i.ShelvedAt(zero.Add(time.Hour)), "by itself")
	text, err = i.Shelve("ada", "", zero, zero)
	require.NoError(t, err)
	require.Equal(t, "Taken off the shelf", text)
	_, err = i.Note("bo", "fuse looks burnt", zero)
	require.NoError(t, err)
	c := i.Clone()
	c.Notes[0].By = "cy"
	require.Equal(t, "bo", i.Notes[0].By)
	require.Equal(t, time.Hour, i.Lasted(zero.Add(time.Hour)))

	over := &Incident{ID: "i2", Opened: zero, Ended: zero.Add(time.Minute)}
	require.Equal(t, time.Minute, over.Lasted(zero.Add(time.Hour)))
	for _, bad := range []func() (string, error){
		func() (string, error) { return i.Acknowledge("bo", "", zero) },
		func() (string, error) { return over.Acknowledge("bo", "", zero) },
		func() (string, error) { return i.Note("bo", " ", zero) },
		func() (string, error) { return i.Note("bo", strings.Repeat("x", MaxNote+1), zero) },
		func() (string, error) { return i.Shelve("bo", "", zero, zero) },
		func() (string, error) { return over.Shelve("bo", "", zero.Add(time.Hour), zero) },
		func() (string, error) { return i.Shelve("bo", "", zero.Add(2*MaxShelf), zero) },
		func() (string, error) {
			i.Notes = make([]Remark, maxNotes)
			return i.Note("bo", "more", zero)
		},
	} {
		_, err := bad()
		var usage *UsageError
		var late *StateError
		require.True(t, errors.As(err, &usage) || errors.As(err, &late), "%v", err)
		require.NotEmpty(t, err.Error())
	}
}

// TestTheBookIsInOrder: whatever is believed, one device has one open incident at
// most, opens and ends take turns, and what is steady has none.
func TestTheBookIsInOrder(t *testing.T) {
	states := []verdict.State{verdict.Steady, verdict.Hung, verdict.Dark, verdict.Waking, verdict.Parked, verdict.Unknown, verdict.Strained}
	rapid.Check(t, func(t *rapid.T) {
		var b Book
		n, now := 0, zero
		open := map[string]bool{}
		for range rapid.IntRange(1, 60).Draw(t, "looks") {
			now = now.Add(time.Duration(rapid.IntRange(1, 400).Draw(t, "seconds")) * time.Second)
			vs := map[estate.Key]verdict.Verdict{}
			for i := range pier.Devices {
				vs[pier.Devices[i].Key] = found(rapid.SampledFrom(states).Draw(t, "state"))
			}
			for _, c := range b.Look(World{Estate: pier, Now: now, Verdicts: vs}, func() string { n++; return fmt.Sprint(n) }) {
				if c.Text != "" && !strings.HasPrefix(c.Text, "Now ") && open[c.ID] == c.Open() {
					t.Fatalf("%s: %s, but open was %t", c.ID, c.Text, open[c.ID])
				}
				open[c.ID] = c.Open()
			}
			for _, i := range b.Open() {
				if s := vs[i.Device].State; !i.Open() || s == verdict.Steady || s == verdict.Parked {
					t.Fatalf("%s is open, and %s is %s", i.ID, i.Device, s)
				}
			}
			for k, v := range vs {
				if (v.State == verdict.Hung || v.State == verdict.Dark) && b.Of(k) == nil {
					t.Fatalf("%s is %s without an incident", k, v.State)
				}
			}
		}
	})
}
