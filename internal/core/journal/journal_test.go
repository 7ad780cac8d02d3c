package journal

import (
	"encoding/json"
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

var noon = time.Date(2026, 3, 1, 12, 0, 0, 123456789, time.FixedZone("", 3600))

// chain seals so many entries.
func chain(n int) []Entry {
	list := make([]Entry, n)
	prev := First
	for i := range list {
		w := float64(i) * 1.25
		list[i] = Entry{At: noon.Add(time.Duration(i) * time.Second), RecordedAt: noon, Who: "admin", Device: "skarvoe-router", Text: "Cycled outlet 3", BeforeW: &w}
		list[i].Seal(int64(i+1), prev)
		prev = list[i].Hash
	}
	return list
}

func verify(list []Entry) (c Chain, err error) {
	for i := range list {
		if err = c.Add(&list[i]); err != nil {
			return c, err
		}
	}
	return c, nil
}

func TestWhatWasDoneToAJournalShows(t *testing.T) {
	for _, c := range []struct {
		name string
		harm func([]Entry) []Entry
		want string
	}{
		{"nothing", func(l []Entry) []Entry { return l }, ""},
		{"a part of it begins anywhere", func(l []Entry) []Entry { return l[2:] }, ""},
		{"a text altered", func(l []Entry) []Entry { l[2].Text = "Nothing happened"; return l }, "entry 3: was altered: its hash is not that of its text"},
		{"a draw altered", func(l []Entry) []Entry { *l[2].BeforeW = 7; return l }, "entry 3: was altered: its hash is not that of its text"},
		{"a time altered", func(l []Entry) []Entry { l[2].At = noon; return l }, "entry 3: was altered: its hash is not that of its text"},
		{"one removed", func(l []Entry) []Entry { return slices.Delete(l, 2, 3) }, "entry 3: is missing, up to 3: it was removed"},
		{"several removed", func(l []Entry) []Entry { return slices.Delete(l, 1, 3) }, "entry 2: is missing, up to 3: it was removed"},
		{"two swapped", func(l []Entry) []Entry { l[3], l[4] = l[4], l[3]; return l }, "entry 4: is missing, up to 4: it was removed"},
		{"one twice", func(l []Entry) []Entry { return slices.Insert(l, 3, l[2]) }, "entry 3: stands behind 3: the order was changed"},
		{"one replaced, and sealed anew", func(l []Entry) []Entry {
			l[2].Text = "Nothing happened"
			l[2].Seal(3, l[1].Hash)
			return l
		}, "entry 4: does not carry the hash of 3: one of the two was replaced"},
		{"the beginning cut off, and counted anew", func(l []Entry) []Entry {
			l[2].Seal(1, l[1].Hash)
			return l[2:3]
		}, "entry 1: is the first, and carries the hash of one before it: those were removed"},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := verify(c.harm(chain(6)))
			if c.want == "" {
				require.NoError(t, err)
				return
			}
			require.EqualError(t, err, c.want)
		})
	}
}

// TestAnyChangeShows: whatever entry is touched, the chain does not hold, or
// its head is another.
func TestAnyChangeShows(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(1, 12).Draw(t, "entries")
		list := chain(n)
		head := list[n-1].Hash
		e := &list[rapid.IntRange(0, n-1).Draw(t, "which")]
		text := rapid.String().Draw(t, "text")
		if text == e.Text {
			return
		}
		e.Text = text
		if rapid.Bool().Draw(t, "sealed anew") {
			e.Seal(e.ID, e.Prev)
		}
		c, err := verify(list)
		require.True(t, err != nil || c.Head != head)
	})
}

func TestWhatIsSealedCanBeReadAgain(t *testing.T) {
	e := Entry{At: noon, RecordedAt: noon, Text: "broken \xff text"}
	e.Seal(1, First)
	require.Equal(t, time.UTC, e.At.Location())
	require.Zero(t, e.At.Nanosecond()%int(time.Millisecond))
	require.Equal(t, "broken � text", e.Text)
	require.Equal(t, e.Hash, e.Sum())
}

// TestAllBreaks: what is behind a break is looked at as well, one that somebody has
// acknowledged is no news, and one that changes afterwards is.
func TestAllBreaks(t *testing.T) {
	prove := func(list []Entry, head int64) Proof {
		p := Proof{Whole: true}
		for i := range list {
			p.Add(&list[i])
		}
		p.End(head)
		return p
	}
	say := func(bs []Break) (words []string) {
		for _, b := range bs {
			words = append(words, wordsOf(b))
		}
		return words
	}
	list := chain(12)
	list[2].Text = "Nothing happened"
	list = slices.Delete(list, 5, 7) // entries 6 and 7
	list[7].Text = "Nor here"        // entry 10
	broken := prove(list, 12)
	require.Equal(t, []string{
		"entry 3 was altered: its hash is not that of its text", "entry 6 is missing, up to 7: it was removed", "entry 10 was altered: its hash is not that of its text",
	}, say(broken.Open))
	for _, b := range broken.Open {
		ack := Entry{At: noon, Who: "ann", Kind: KindBreak, Text: b.Acknowledges(), Why: "an exercise"}
		ack.Seal(list[len(list)-1].ID+1, list[len(list)-1].Hash)
		list = append(list, ack)
	}
	seen := prove(list, 15)
	require.Empty(t, seen.Open)
	require.Len(t, seen.Breaks, 3)
	require.Equal(t, "entry 6 is missing, up to 7: it was removed (acknowledged by ann, entry 14: an exercise)", wordsOf(seen.Breaks[1]))
	list[2].Text = "Nothing at all happened"
	require.Equal(t, []string{"entry 3 was altered: its hash is not that of its text"}, say(prove(list, 15).Open), "it is another break now")
	require.Equal(t, []string{"entry 16 is missing, up to 20: it was removed"}, say(prove(list, 20).Open)[1:])
	require.Equal(t, "entry 1 is missing, up to 3: it was removed", wordsOf(prove(chain(9)[3:], 9).Open[0]))
}

// wordsOf is what a break is, and who has seen it.
func wordsOf(b Break) string {
	text := fmt.Sprintf("entry %d %s", b.ID, b.Text)
	if b.Seen != nil {
		text += fmt.Sprintf(" (acknowledged by %s, entry %d: %s)", b.Seen.By, b.Seen.Entry, b.Seen.Why)
	}
	return text
}

// TestALineOfAFile has all that is sealed, and a part that was taken out is gone on from.
func TestALineOfAFile(t *testing.T) {
	list := chain(5)
	for i := range list {
		text, err := json.Marshal(list[i])
		require.NoError(t, err)
		var e Entry
		require.NoError(t, json.Unmarshal(text, &e))
		require.Equal(t, list[i].Hash, e.Sum())
	}
	p := Proof{Whole: true, Chain: Behind(2, list[1].Hash)}
	for i := range list[2:] {
		p.Add(&list[2+i])
	}
	p.End(5)
	require.Empty(t, p.Open)
	p = Proof{Whole: true, Chain: Behind(2, list[0].Hash)}
	p.Add(&list[2])
	p.End(3)
	require.Equal(t, "entry 3 does not carry the hash of 2: one of the two was replaced", wordsOf(p.Open[0]))
}
