package keyboard

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestChords(t *testing.T) {
	for text, want := range map[string]Chord{
		"ctrl-alt-delete": {{0xffe3, 0x1d}, {0xffe9, 0x38}, {0xffff, 0xd3}},
		"Ctrl+Alt+Del":    {{0xffe3, 0x1d}, {0xffe9, 0x38}, {0xffff, 0xd3}},
		"f12":             {{0xffc9, 0x58}}, "esc": {{0xff1b, 0x01}}, "q": {{'q', 0x10}}, "-": {{'-', 0x0c}}, "page-up": {{0xff55, 0xc9}},
		"alt-page-up": {{0xffe9, 0x38}, {0xff55, 0xc9}}, "ctrl--": {{0xffe3, 0x1d}, {'-', 0x0c}}, "shift": {{0xffe1, 0x2a}},
	} {
		c, err := Parse(text)
		require.NoError(t, err, text)
		require.Equal(t, want, c, text)
	}
	for _, text := range []string{"", "f13", "ctrl-", "ctrl-alt", "é", "enter-x"} {
		if c, err := Parse(text); text != "ctrl-alt" {
			require.Error(t, err, "%s %v", text, c)
		}
	}
}

// TestLayouts: the same text needs other keys elsewhere, and what cannot be typed is named.
func TestLayouts(t *testing.T) {
	for name, want := range map[string][]Chord{
		"us": {{{'y', 0x15}}, {keys["shift"], {'@', 0x03}}, {{'\\', 0x2b}}},
		"uk": {{{'y', 0x15}}, {keys["shift"], {'@', 0x28}}, {{'\\', 0x56}}},
		"de": {{{'y', 0x2c}}, {keys["altgr"], {'@', 0x10}}, {keys["altgr"], {'\\', 0x0c}}},
		"no": {{{'y', 0x15}}, {keys["altgr"], {'@', 0x03}}, {{'\\', 0x0d}}},
	} {
		got, err := Strokes(`y@\`, name)
		require.NoError(t, err, name)
		require.Equal(t, want, got, name)
	}
	_, err := Strokes("naïve €œ", "us")
	require.EqualError(t, err, `nothing is typed: with the layout us there is no key for 'ï', '€', 'œ'`)
	_, err = Strokes("x", "zz")
	require.EqualError(t, err, `"zz" is no layout that is known here: de, fr, no, uk, us are`)
	for _, name := range Layouts() {
		for r := rune('!'); r < 0x7f; r++ {
			if c, err := Strokes(string(r), name); err != nil && name == "us" {
				t.Errorf("%s: %q: %v", name, r, c)
			}
		}
	}
}

// TestPress: what was pressed is let go of, whatever fails, and the first thing that failed is said.
func TestPress(t *testing.T) {
	c, err := Parse("ctrl-alt-delete")
	require.NoError(t, err)
	for fails, want := range map[int]string{-1: "+d +8 +S held -S -8 -d", 0: "+d -d", 1: "+d +8 -8 -d", 4: "+d +8 +S held -S -8 -d"} {
		var did []string
		n := 0
		err := c.Press(func(down bool, k Key) error {
			did = append(did, map[bool]string{true: "+", false: "-"}[down]+string("d8S"[map[uint16]int{0x1d: 0, 0x38: 1, 0xd3: 2}[k.Code]]))
			if n++; n-1 == fails {
				return fmt.Errorf("failed at %d", n-1)
			}
			return nil
		}, func() { did = append(did, "held") })
		require.Equal(t, want, strings.Join(did, " "))
		if fails < 0 {
			require.NoError(t, err)
		} else {
			require.EqualError(t, err, fmt.Sprintf("failed at %d", fails))
		}
	}
}
