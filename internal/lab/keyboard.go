package lab

// Scan codes of set 1; a byte with the high bit set stands for one behind E0.
const (
	codeCtrl, codeCtrlRight   = 0x1d, 0x9d
	codeShift, codeShiftRight = 0x2a, 0x36
	codeAlt, codeAltRight     = 0x38, 0xb8
	codeDelete                = 0xd3
)

// The rows of a keyboard, by where they begin, as the box has them.
var keyRows = []struct {
	first          uint16
	plain, shifted string
}{
	{0x02, "1234567890-=", "!@#$%^&*()_+"},
	{0x10, "qwertyuiop[]", "QWERTYUIOP{}"},
	{0x1e, "asdfghjkl;'`", "ASDFGHJKL:\"~"},
	{0x2b, "\\zxcvbnm,./", "|ZXCVBNM<>?"},
	{0x39, " ", " "},
}

// What other keys are, as a terminal sends them, and as keysyms.
var otherKeys = map[uint16]struct {
	text string
	sym  uint32
}{
	0x01: {"\x1b", 0xff1b}, 0x0e: {"\x7f", 0xff08}, 0x0f: {"\t", 0xff09}, 0x1c: {"\r", 0xff0d}, 0x9c: {"\r", 0xff8d},
	0x3c: {"\x1bOQ", 0xffbf}, 0x44: {"\x1b[21~", 0xffc7}, 0x58: {"\x1b[24~", 0xffc9},
	0xc8: {"\x1b[A", 0xff52}, 0xd0: {"\x1b[B", 0xff54}, 0xcd: {"\x1b[C", 0xff53}, 0xcb: {"\x1b[D", 0xff51}, codeDelete: {"\x1b[3~", 0xffff},
	0x46: {"", 0xff14}, 0x45: {"", 0xff7f}, 0x3a: {"", 0xffe5},
	codeCtrl: {"", 0xffe3}, codeCtrlRight: {"", 0xffe4}, codeShift: {"", 0xffe1}, codeShiftRight: {"", 0xffe2}, codeAlt: {"", 0xffe9}, codeAltRight: {"", 0xffea},
}

// codeOf is the key that a keysym is of, where it is no character.
func codeOf(sym uint32) uint16 {
	for code, k := range otherKeys {
		if k.sym == sym {
			return code
		}
	}
	return 0
}

// typedBy is what a key types: by its code, or, where that is not known, by its keysym.
func typedBy(code uint16, sym uint32, shift, ctrl bool) string {
	if k, ok := otherKeys[code]; ok {
		return k.text
	}
	b := byte(0)
	for _, row := range keyRows {
		keys := row.plain
		if shift {
			keys = row.shifted
		}
		if code >= row.first && int(code-row.first) < len(keys) {
			b = keys[code-row.first]
		}
	}
	if code == 0 && sym >= ' ' && sym < 0x7f {
		b = byte(sym)
	}
	switch {
	case b == 0:
		return ""
	case ctrl:
		return string(rune(b & 0x1f))
	}
	return string(rune(b))
}
