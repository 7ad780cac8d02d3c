package ipmi

import (
	"context"
	"fmt"
	"time"

	"plumbbob/internal/wire/cursor"
)

// WatchdogAction is what the watchdog does to the host when it is not reset in
// time (section 27.6).
type WatchdogAction uint8

// The actions.
const (
	WatchdogNothing WatchdogAction = 0
	WatchdogReset   WatchdogAction = 1
	WatchdogOff     WatchdogAction = 2
	WatchdogCycle   WatchdogAction = 3
)

func (a WatchdogAction) String() string {
	switch a {
	case WatchdogNothing:
		return "nothing"
	case WatchdogReset:
		return "reset"
	case WatchdogOff:
		return "power off"
	case WatchdogCycle:
		return "power cycle"
	}
	return fmt.Sprintf("action %d", uint8(a))
}

// Watchdog is the watchdog timer of a host: a second actor, which may restart
// it by itself (sections 27.6 and 27.7).
type Watchdog struct {
	Running bool
	Use     uint8 // 1 to 5, see UseWords
	Action  WatchdogAction
	Initial time.Duration // in steps of 100 ms
	Present time.Duration
	Quiet   bool // it writes nothing to the event log
	Expired uint8
}

// Armed says whether it may act on the host's power by itself.
func (w Watchdog) Armed() bool { return w.Running && w.Action != WatchdogNothing }

// UseWords says who is to reset the timer.
func (w Watchdog) UseWords() string {
	words := [...]string{"unknown", "firmware", "firmware after start", "start of the operating system", "operating system", "the maker's own"}
	if int(w.Use) < len(words) {
		return words[w.Use]
	}
	return words[0]
}

const (
	watchdogStep    = 100 * time.Millisecond
	watchdogQuiet   = 0x80
	watchdogRunning = 0x40
	watchdogUse     = 0x07
	watchdogMax     = 65535 * watchdogStep
)

// Decode reads the reply to Get Watchdog Timer.
func (w *Watchdog) Decode(r *cursor.Reader) error {
	use, action := r.U8(), r.U8()
	r.U8() // time of the interrupt before
	expired, initial, present := r.U8(), r.U16(), r.U16()
	if err := ended(r, "watchdog timer"); err != nil {
		return err
	}
	*w = Watchdog{
		Running: use&watchdogRunning != 0, Quiet: use&watchdogQuiet != 0, Use: use & watchdogUse, Action: WatchdogAction(action & 0x07),
		Expired: expired, Initial: time.Duration(initial) * watchdogStep, Present: time.Duration(present) * watchdogStep,
	}
	return nil
}

// Append is the inverse of Decode.
func (w Watchdog) Append(b []byte) []byte {
	b = append(b, bit(w.Running, watchdogRunning)|bit(w.Quiet, watchdogQuiet)|w.Use, byte(w.Action), 0, w.Expired)
	b = append(b, le16(uint16(w.Initial/watchdogStep))...)
	return append(b, le16(uint16(w.Present/watchdogStep))...)
}

// Watchdog asks for the watchdog timer.
func (c *Client) Watchdog(ctx context.Context) (w Watchdog, err error) {
	return w, c.Do(ctx, GetWatchdog, nil, &w)
}

// SetWatchdog sets and stops the timer, and reads it back. Whoever is to reset
// it starts it again; stopped, it does nothing.
func (c *Client) SetWatchdog(ctx context.Context, w Watchdog) error {
	if w.Initial < 0 || w.Initial > watchdogMax {
		return fmt.Errorf("ipmi: a watchdog cannot wait %s: at most %s", w.Initial, watchdogMax)
	}
	req := append([]byte{bit(w.Quiet, watchdogQuiet) | max(1, w.Use), byte(w.Action), 0, 0xff}, le16(uint16(w.Initial/watchdogStep))...)
	if err := c.Do(ctx, SetWatchdog, req, nil); err != nil {
		return err
	}
	got, err := c.Watchdog(ctx)
	if err != nil {
		return err
	}
	if got.Action != w.Action || got.Initial != w.Initial.Truncate(watchdogStep) {
		return &NotTakenError{"the watchdog", fmt.Sprintf("%s after %s", w.Action, w.Initial), fmt.Sprintf("%s after %s", got.Action, got.Initial)}
	}
	return nil
}
