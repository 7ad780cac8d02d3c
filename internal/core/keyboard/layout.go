package keyboard

import (
	"fmt"
	"slices"
	"strings"
)

// A layout says what the keys of each row type: by themselves, with Shift and with AltGr. A blank
// is a key that types nothing, or a dead one, which is not used.
type layout [5]struct{ plain, shift, altGr string }

// firsts are the codes at which the rows begin: the digits, three rows of letters, and the key
// that keyboards of other countries have beside the left Shift.
var firsts = [5]uint16{0x02, 0x10, 0x1e, 0x2c, 0x56}

// layouts are those of devices. The key before the digit 1 ends the row of a: 29 is its code.
var layouts = map[string]layout{
	"us": {
		{"1234567890-=", "!@#$%^&*()_+", ""},
		{"qwertyuiop[]", "QWERTYUIOP{}", ""},
		{"asdfghjkl;'`", `ASDFGHJKL:"~`, ""},
		{"zxcvbnm,./", "ZXCVBNM<>?", ""},
		{`\`, "|", ""},
	},
	"uk": {
		{"1234567890-=", `!"£$%^&*()_+`, "   €"},
		{"qwertyuiop[]", "QWERTYUIOP{}", ""},
		{"asdfghjkl;'`", "ASDFGHJKL:@¬", ""},
		{"zxcvbnm,./", "ZXCVBNM<>?", ""},
		{`\`, "|", ""},
	},
	"de": {
		{"1234567890ß ", `!"§$%&/()=? `, `      {[]}\`},
		{"qwertzuiopü+", "QWERTZUIOPÜ*", "@ €        ~"},
		{"asdfghjklöä ", "ASDFGHJKLÖÄ°", ""},
		{"yxcvbnm,.-", "YXCVBNM;:_", "      µ"},
		{"<", ">", "|"},
	},
	"fr": {
		{`&é"'(-è_çà)=`, "1234567890°+", ` ~#{[|` + "`" + `\ @]}`},
		{"azertyuiop $", "AZERTYUIOP £", "  €        ¤"},
		{"qsdfghjklmù²", "QSDFGHJKLM% ", ""},
		{"wxcvbn,;:!", "WXCVBN?./§", ""},
		{"<", ">", ""},
	},
	"no": {
		{`1234567890+\`, `!"#¤%&/()=?` + "`", ` @£$  {[]}`},
		{"qwertyuiopå ", "QWERTYUIOPÅ^", "  €        ~"},
		{"asdfghjkløæ|", "ASDFGHJKLØÆ§", ""},
		{"zxcvbnm,.-", "ZXCVBNM;:_", ""},
		{"<", ">", ""},
	},
}

// backslash is where the key of that name is on a keyboard of the United States; others have it
// elsewhere, and something else there.
const backslash = 0x2b

// Layouts lists their names.
func Layouts() []string {
	var all []string
	for n := range layouts {
		all = append(all, n)
	}
	slices.Sort(all)
	return all
}

// symOf is the keysym of a character.
func symOf(r rune) uint32 {
	switch {
	case r == '€':
		return 0x20ac
	case r < 0x100:
		return uint32(r)
	}
	return 0x01000000 | uint32(r)
}

// chord is what types a character, or the character, where nothing does.
func (l layout) chord(r rune) (c Chord, missing error) {
	switch r {
	case ' ':
		return Chord{keys["space"]}, nil
	case '\n', '\r':
		return Chord{keys["enter"]}, nil
	case '\t':
		return Chord{keys["tab"]}, nil
	}
	for i, row := range l {
		for _, level := range []struct {
			text string
			held []string
		}{{row.plain, nil}, {row.shift, []string{"shift"}}, {row.altGr, []string{"altgr"}}} {
			at := slices.Index([]rune(level.text), r)
			if at < 0 {
				continue
			}
			for _, m := range level.held {
				c = append(c, keys[m])
			}
			code := firsts[i] + uint16(at)
			if l == layouts["us"] && i == 4 {
				code = backslash
			}
			return append(c, Key{symOf(r), code}), nil
		}
	}
	return nil, fmt.Errorf("%q", r)
}

// Strokes are the keys that type a text on a device with that layout. What cannot be typed there
// is an error, that names all of it, and then nothing is.
func Strokes(text, name string) ([]Chord, error) {
	l, ok := layouts[name]
	if !ok {
		return nil, fmt.Errorf("%q is no layout that is known here: %s are", name, strings.Join(Layouts(), ", "))
	}
	var all []Chord
	var missing []string
	for _, r := range strings.ReplaceAll(text, "\r\n", "\n") {
		c, err := l.chord(r)
		if err != nil {
			if !slices.Contains(missing, err.Error()) {
				missing = append(missing, err.Error())
			}
			continue
		}
		all = append(all, c)
	}
	if len(missing) > 0 {
		return nil, fmt.Errorf("nothing is typed: with the layout %s there is no key for %s", name, strings.Join(missing, ", "))
	}
	return all, nil
}
