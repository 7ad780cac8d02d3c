package client

import (
	"fmt"
	"strings"
)

// The escape key of plumb serial: one that no line needs, and that the common programs for
// terminals and for lines leave alone.
const usualEscape = 0x1f // Ctrl-_, which is Ctrl-7 or Ctrl-/ on many keyboards

// escapeKey reads the name of a key that is held with Ctrl.
func escapeKey(name string) (byte, error) {
	key, ok := strings.CutPrefix(strings.ToLower(name), "ctrl-")
	if ok && len(key) == 1 && strings.IndexByte(`abcdefghijklmnopqrstuvwxyz\]^_`, key[0]) >= 0 {
		switch b := strings.ToUpper(key)[0] & 0x1f; b {
		case '\r', '\n', '\t', 0x1b, 0x08:
			return 0, fail(ExitUsage, "--escape: %s is a key that every line needs: choose another", name)
		default:
			return b, nil
		}
	}
	return 0, fail(ExitUsage, `--escape: %q is no key with Ctrl: write ctrl-_, ctrl-] or ctrl-x, for instance`, name)
}

func keyName(b byte) string { return fmt.Sprintf("Ctrl-%c", b|0x40) }

// What can be done at a line, by the key behind the escape key.
var lineKeys = []struct {
	key  byte
	does string
}{
	{'b', "send a break"}, {'k', "ask for the keyboard"}, {'g', "give it"}, {'n', "keep it"}, {'t', "take it, as a keeper"},
	{'a', "be alone for 10 min, or not any more"}, {'w', "who is on"}, {'l', "log to a file, or stop"},
	{'r', "reset the device"}, {'c', "cycle its power"}, {'.', "leave"},
}

func lineHelp(escape byte) string {
	var b strings.Builder
	for _, k := range lineKeys {
		fmt.Fprintf(&b, "  %c  %s\n", k.key, k.does)
	}
	fmt.Fprintf(&b, "  %s again sends it to the line\n", keyName(escape))
	return b.String()
}
