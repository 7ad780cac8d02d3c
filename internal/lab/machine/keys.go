package machine

import "time"

// keys makes keys of the bytes that a terminal sends for them. An escape that nothing
// follows is the key of that name, a moment later.
type keys struct {
	held []byte
	at   time.Time
}

// escapeAlone is how long an escape waits for the rest of a sequence.
const escapeAlone = 150 * time.Millisecond

var sequences = map[string]string{
	"[A": "up", "[B": "down", "[C": "right", "[D": "left", "OA": "up", "OB": "down", "OC": "right", "OD": "left",
	"[3~": "delete", "OQ": "f2", "[12~": "f2", "[21~": "f10", "[24~": "f12",
}

func (k *keys) add(b byte, now time.Time) []string {
	if len(k.held) == 0 {
		switch {
		case b == 0x1b:
			k.held, k.at = []byte{b}, now
			return nil
		case b == '\r':
			return []string{"enter"}
		case b == 0x7f:
			return []string{"delete"}
		case b == '\b':
			return []string{"backspace"}
		case b >= ' ' && b < 0x7f:
			return []string{string(b)}
		}
		return nil
	}
	if b == 0x1b {
		k.held = append(k.held[:0], b)
		k.at = now
		return []string{"escape"}
	}
	k.held = append(k.held, b)
	body := string(k.held[1:])
	ends := b >= '@' && b <= '~' && (len(body) > 1 || b != '[' && b != 'O')
	if !ends && len(body) < 8 {
		return nil
	}
	k.held = nil
	if name := sequences[body]; name != "" {
		return []string{name}
	}
	return nil
}

// late is the escape key, once nothing has followed it.
func (k *keys) late(now time.Time) string {
	if len(k.held) != 1 || now.Sub(k.at) < escapeAlone {
		return ""
	}
	k.held = nil
	return "escape"
}
