// Package keyboard is the keys of keyboards: what they are called, where they are, what they mean, and which of them type a text in a layout.
package keyboard

import (
	"errors"
	"fmt"
	"slices"
	"strings"
)

// A Key is one key: its meaning as a keysym of X, and its position as a scan code of set 1, with
// the prefix E0 as the high bit.
type Key struct {
	Sym  uint32
	Code uint16
}

// A Chord is keys that are pressed one after the other, and let go in the opposite order.
type Chord []Key

// keys are those that type nothing, by name; a name may be said in other ways as well.
var keys = map[string]Key{
	"escape": {0xff1b, 0x01}, "backspace": {0xff08, 0x0e}, "tab": {0xff09, 0x0f}, "enter": {0xff0d, 0x1c}, "space": {' ', 0x39},
	"ctrl": {0xffe3, 0x1d}, "shift": {0xffe1, 0x2a}, "alt": {0xffe9, 0x38}, "altgr": {0xfe03, 0xb8}, "super": {0xffeb, 0xdb}, "menu": {0xff67, 0xdd},
	"caps-lock": {0xffe5, 0x3a}, "num-lock": {0xff7f, 0x45}, "scroll-lock": {0xff14, 0x46}, "print-screen": {0xff61, 0xb7}, "pause": {0xff13, 0xc6},
	"insert": {0xff63, 0xd2}, "delete": {0xffff, 0xd3}, "home": {0xff50, 0xc7}, "end": {0xff57, 0xcf}, "page-up": {0xff55, 0xc9}, "page-down": {0xff56, 0xd1},
	"up": {0xff52, 0xc8}, "down": {0xff54, 0xd0}, "left": {0xff51, 0xcb}, "right": {0xff53, 0xcd},
	"f1": {0xffbe, 0x3b}, "f2": {0xffbf, 0x3c}, "f3": {0xffc0, 0x3d}, "f4": {0xffc1, 0x3e}, "f5": {0xffc2, 0x3f}, "f6": {0xffc3, 0x40},
	"f7": {0xffc4, 0x41}, "f8": {0xffc5, 0x42}, "f9": {0xffc6, 0x43}, "f10": {0xffc7, 0x44}, "f11": {0xffc8, 0x57}, "f12": {0xffc9, 0x58},
	"minus": {'-', 0x0c}, "plus": {'+', 0x0d},
}

var alsoCalled = map[string]string{"esc": "escape", "return": "enter", "del": "delete", "ins": "insert", "control": "ctrl", "sysrq": "print-screen", "pgup": "page-up", "pgdn": "page-down", "win": "super"}

// Names lists the keys that have one.
func Names() []string {
	var all []string
	for n := range keys {
		all = append(all, n)
	}
	slices.Sort(all)
	return all
}

// modifiers are keys that are held while others are pressed.
var modifiers = []string{"ctrl", "shift", "alt", "altgr", "super"}

// MostTogether is how many keys a chord may have.
const MostTogether = 5

// Parse reads a chord by the names of its keys: "ctrl-alt-delete", "f2", "a". Letters, digits and
// marks are those of a keyboard with the layout of the United States.
func Parse(text string) (Chord, error) {
	rest := strings.ToLower(strings.TrimSpace(text))
	var c Chord
	for rest != "" {
		name := rest
		for _, m := range modifiers {
			for _, sep := range []string{"-", "+"} {
				if strings.HasPrefix(rest, m+sep) && len(rest) > len(m)+1 {
					name = m
				}
			}
		}
		k, ok := find(name)
		if !ok {
			return nil, fmt.Errorf("%q is no key: keys are letters, digits, marks and %s; those that are held come first, as in ctrl-alt-delete", text, strings.Join(Names(), ", "))
		}
		c = append(c, k)
		rest = strings.TrimPrefix(rest, name)
		if rest != "" {
			rest = rest[1:]
		}
	}
	if len(c) == 0 || len(c) > MostTogether {
		return nil, fmt.Errorf("%q is no key, or more than %d at once", text, MostTogether)
	}
	return c, nil
}

// Press presses its keys one after the other, has them held, and lets them go the other way round:
// also one that may not have been pressed. Its error is the first.
func (c Chord) Press(key func(down bool, k Key) error, held func()) (err error) {
	pressed := 0
	for ; pressed < len(c) && err == nil; pressed++ {
		err = key(true, c[pressed])
	}
	if err == nil {
		held()
	}
	for pressed--; pressed >= 0; pressed-- {
		if failed := key(false, c[pressed]); err == nil {
			err = failed
		}
	}
	return err
}

// Row reads chords that are pressed one after the other: "scroll-lock scroll-lock 2".
func Row(text string) (all []Chord, err error) {
	for _, word := range strings.Fields(text) {
		c, err := Parse(word)
		if err != nil {
			return nil, err
		}
		all = append(all, c)
	}
	if len(all) == 0 {
		return nil, errors.New("there are no keys in it")
	}
	return all, nil
}

func find(name string) (Key, bool) {
	if full, ok := alsoCalled[name]; ok {
		name = full
	}
	if k, ok := keys[name]; ok {
		return k, true
	}
	if c, missing := layouts["us"].chord([]rune(name)[0]); missing == nil && len([]rune(name)) == 1 && len(c) == 1 {
		return c[0], true
	}
	return Key{}, false
}
