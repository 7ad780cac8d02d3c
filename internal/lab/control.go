package lab

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/lab/bmc"
	"plumbbob/internal/lab/phone"
	"plumbbob/internal/lab/post"
	"plumbbob/internal/wire/sms"
)

// DefaultControl is where the lab's control socket is, unless told otherwise.
func DefaultControl() string {
	return filepath.Join(os.TempDir(), fmt.Sprintf("plumb-lab-%d", os.Getuid()), "control")
}

// A fault command: its words, and what it does.
type command struct {
	usage string
	help  string
	args  int
	do    func(w *World, args []string) error
}

var commands = map[string]command{
	"refuse":  named("refuse DEVICE", "it is up, and its services turn away who connects", (*World).Refuse),
	"error":   named("error DEVICE", "its web server answers with an error", (*World).Err),
	"unplug":  named("unplug DEVICE", "its network cable is out", (*World).Unplug),
	"restart": named("restart DEVICE", "it starts anew by itself", (*World).Restart),
	"move": {"move DEVICE DEVICE", "the first hangs on the second, whatever the estate says", 2, func(w *World, a []string) error {
		return w.Move(estate.Key(a[0]), estate.Key(a[1]))
	}},
	"cross": {"cross DEVICE DEVICE", "the leads to their fronts and serial ports are changed over", 2, func(w *World, a []string) error {
		return w.Cross(estate.Key(a[0]), estate.Key(a[1]))
	}},
	"log": {"log DEVICE TEXT", "it sends that over syslog, as a warning", 2, func(w *World, a []string) error {
		return w.Log(estate.Key(a[0]), 4, a[1])
	}},
	"say": {"say DEVICE TEXT", "it writes that to its serial line", 2, func(w *World, a []string) error {
		return w.Say(estate.Key(a[0]), a[1])
	}},
	"baud": {"baud DEVICE BITS", "it talks at another speed on its serial line", 2, func(w *World, a []string) error {
		speed, err := strconv.Atoi(a[1])
		if err != nil || speed < 50 {
			return fmt.Errorf("%q is no number of bits per second", a[1])
		}
		return w.Baud(estate.Key(a[0]), speed)
	}},
	"choose":     counted("choose KVM PORT", "somebody at it has it show that port", (*World).Choose),
	"deafen":     named("deafen DEVICE", "it does not take its keyboard until that is plugged in anew", (*World).Deafen),
	"hang":       named("hang DEVICE", "power on, but silent, until its power is cut", (*World).Hang),
	"line-stuck": named("line-stuck DEVICE", "its line lets nothing through, and says that it is up, until it starts anew", (*World).StickLine),
	"line-down":  named("line-down DEVICE", "its line out of the site is down, and it says so", (*World).DropLine),
	"silence":    named("silence DEVICE", "its management card or controller stops answering", (*World).Silence),
	"weld": {"weld PDU/OUTLET|UPS/output", "the contact stays closed whatever is ordered", 1, func(w *World, a []string) error {
		return withEnds(a, func(e []estate.End) error { return w.Weld(e[0]) })
	}},
	"swap": {"swap PDU/OUTLET PDU/OUTLET", "two cables are not where the estate says", 2, func(w *World, a []string) error {
		return withEnds(a, func(e []estate.End) error { return w.Swap(e[0], e[1]) })
	}},
	"open": {"open PDU/OUTLET", "somebody at the rack switches it off", 1, func(w *World, a []string) error {
		return withEnds(a, func(e []estate.End) error { return w.Flip(e[0], false) })
	}},
	"close": {"close PDU/OUTLET", "somebody at the rack switches it on", 1, func(w *World, a []string) error {
		return withEnds(a, func(e []estate.End) error { return w.Flip(e[0], true) })
	}},
	"off":      named("off DEVICE", "somebody at the rack presses its power button", func(w *World, k estate.Key) error { return w.Press(k, false) }),
	"sleep":    named("sleep DEVICE", "its own power management puts it to sleep", (*World).Sleep),
	"crash":    named("crash DEVICE", "its kernel stops, which its serial line tells", (*World).Crash),
	"stick":    named("stick DEVICE", "it takes no notice of a request to shut down", (*World).Stick),
	"use":      named("use DEVICE", "somebody is working with it", func(w *World, k estate.Key) error { return w.Occupy(k, true) }),
	"leave":    named("leave DEVICE", "nobody is working with it any more", func(w *World, k estate.Key) error { return w.Occupy(k, false) }),
	"lid":      named("lid DEVICE", "somebody opens it", (*World).Lid),
	"full":     named("full DEVICE", "all sessions of its controller are taken", upset(func(f *bmc.Faults) { f.Full = true })),
	"garbage":  named("garbage DEVICE", "its controller answers nonsense", upset(func(f *bmc.Faults) { f.Garbage = true })),
	"obedient": named("obedient DEVICE", "its controller says done, and does nothing", upset(func(f *bmc.Faults) { f.Obedient = true })),
	"update":   named("update DEVICE", "the firmware of its controller is being updated", upset(func(f *bmc.Faults) { f.Updating = true })),
	"forget":   named("forget DEVICE", "its controller drops its sessions", upset(func(f *bmc.Faults) { f.Forgetful = true })),
	"slow": timed("slow DEVICE TIME", "its controller takes this long to answer", func(w *World, k estate.Key, d time.Duration) error {
		return w.Upset(k, func(f *bmc.Faults) { f.Slow = d })
	}),
	"drift": timed("drift DEVICE TIME", "the clock of its controller is ahead", func(w *World, k estate.Key, d time.Duration) error {
		return w.Upset(k, func(f *bmc.Faults) { f.Clock = d })
	}),
	"skew":     timed("skew DEVICE TIME", "the clock of its SNMP engine jumps ahead", (*World).Skew),
	"watchdog": timed("watchdog DEVICE TIME", "its watchdog is armed, and nobody resets it", (*World).Arm),
	"heat":     counted("heat DEVICE DEGREES", "it gets warmer around it", func(w *World, k estate.Key, n int) error { return w.Heat(k, float64(n)) }),
	"fan":      counted("fan DEVICE NUMBER", "a fan stops", (*World).FailFan),
	"supply":   counted("supply DEVICE NUMBER", "a power supply fails", (*World).FailSupply),
	"lose":     {"lose DEVICE PERCENT", "packets to it, and to all behind it, get lost", 2, lose},
	"delay":    timed("delay DEVICE TIME", "packets to it, and to all behind it, are held up", (*World).Delay),
	"blackout": named("blackout SITE", "the utility is gone there", func(w *World, k estate.Key) error { return w.Blackout(k, true) }),
	"utility":  named("utility SITE", "the utility is back there", func(w *World, k estate.Key) error { return w.Blackout(k, false) }),
	"age":      counted("age UPS PERCENT", "so much of its battery's capacity is left", func(w *World, k estate.Key, n int) error { return w.Age(k, float64(n)/100) }),
	"drain":    counted("drain UPS PERCENT", "so much charge is left in its battery", func(w *World, k estate.Key, n int) error { return w.Drain(k, float64(n)) }),
	"door":     named("door DEVICE", "somebody opens the door that it watches", (*World).Door),
	"heal":     {"heal DEVICE|all", "takes back every fault", 1, heal},
}

// FaultUsage lists the fault commands with what each does.
func FaultUsage() string {
	var lines []string
	for _, c := range commands {
		lines = append(lines, fmt.Sprintf("  %-28s %s", c.usage, c.help))
	}
	slices.Sort(lines)
	return strings.Join(lines, "\n")
}

func withEnds(args []string, f func([]estate.End) error) error {
	ends := make([]estate.End, len(args))
	for i, a := range args {
		end, err := estate.ParseEnd(a)
		if err != nil {
			return fmt.Errorf("%w: name the outlet PDU/NUMBER", err)
		}
		ends[i] = end
	}
	return f(ends)
}

func lose(w *World, a []string) error {
	percent, err := strconv.ParseFloat(strings.TrimSuffix(a[1], "%"), 64)
	if err != nil {
		return fmt.Errorf("%q is not a percentage such as 20%%", a[1])
	}
	return w.Lose(estate.Key(a[0]), percent/100)
}

// named, timed and counted make the commands that take a device, and perhaps
// a time or a number.
func named(usage, help string, do func(*World, estate.Key) error) command {
	return command{usage, help, 1, func(w *World, a []string) error { return do(w, estate.Key(a[0])) }}
}

func timed(usage, help string, do func(*World, estate.Key, time.Duration) error) command {
	return command{usage, help, 2, func(w *World, a []string) error {
		d, err := time.ParseDuration(a[1])
		if err != nil {
			return fmt.Errorf("%q is not a time such as 300ms", a[1])
		}
		return do(w, estate.Key(a[0]), d)
	}}
}

func counted(usage, help string, do func(*World, estate.Key, int) error) command {
	return command{usage, help, 2, func(w *World, a []string) error {
		n, err := strconv.Atoi(a[1])
		if err != nil {
			return fmt.Errorf("%q is not a whole number", a[1])
		}
		return do(w, estate.Key(a[0]), n)
	}}
}

func upset(f func(*bmc.Faults)) func(*World, estate.Key) error {
	return func(w *World, k estate.Key) error { return w.Upset(k, f) }
}

func heal(w *World, a []string) error {
	if a[0] == "all" {
		a[0] = ""
	}
	return w.Heal(estate.Key(a[0]))
}

// Do carries out one fault command.
func (w *World) Do(args []string) error {
	if len(args) == 0 {
		return errors.New("say what is to go wrong")
	}
	c, ok := commands[args[0]]
	if !ok {
		return fmt.Errorf("there is no fault %q; there are:\n%s", args[0], FaultUsage())
	}
	if len(args)-1 != c.args {
		return fmt.Errorf("write: plumb-lab fault %s", c.usage)
	}
	return c.do(w, args[1:])
}

// The control socket takes one JSON list of words a line, and answers with
// one JSON object a line.
type reply struct {
	Error string     `json:"error,omitempty"`
	State []BoxState `json:"state,omitempty"`

	Letters []post.Letter `json:"letters,omitempty"`
	Texts   []phone.Text  `json:"texts,omitempty"`
}

func (l *Lab) serveControl(ctx context.Context) error {
	if err := os.MkdirAll(filepath.Dir(l.o.Control), 0o700); err != nil {
		return fmt.Errorf("lab: control socket: %w", err)
	}
	if c, err := net.Dial("unix", l.o.Control); err == nil {
		_ = c.Close()
		return fmt.Errorf("lab: another lab runs already, with its control socket at %s: stop it first", l.o.Control)
	}
	_ = os.Remove(l.o.Control) // left behind by a lab that was killed
	ln, err := net.Listen("unix", l.o.Control)
	if err != nil {
		return fmt.Errorf("lab: control socket: %w", err)
	}
	context.AfterFunc(ctx, func() { _ = ln.Close() })
	l.tasks.Go(func() error { return l.each(ctx, ln, func(c net.Conn) { l.control(ctx, c) }) })
	return nil
}

func (l *Lab) control(ctx context.Context, c net.Conn) {
	stop := context.AfterFunc(ctx, func() { _ = c.Close() })
	defer stop()
	defer func() { _ = c.Close() }()
	in := bufio.NewScanner(c)
	for in.Scan() {
		var words []string
		var r reply
		if err := json.Unmarshal(in.Bytes(), &words); err != nil {
			r.Error = "not a list of words"
		} else if len(words) == 0 {
			r.Error = "no words"
		} else if len(words) == 1 && words[0] == "state" {
			r.State = l.State()
		} else if words[0] == "mail" && l.Post != nil {
			r.Error = l.mail(words[1:], &r.Letters)
		} else if words[0] == "text" {
			r.Error = l.text(words[1:], &r.Texts)
		} else if len(words) == 1 && words[0] == "call" {
			l.callIn(ctx, c, c)
			return
		} else if err := l.Do(words); err != nil {
			r.Error = err.Error()
		}
		if json.NewEncoder(c).Encode(r) != nil {
			return
		}
	}
}

// mail shows the letters that have come, or has the mail server take none for a while.
func (l *Lab) mail(words []string, letters *[]post.Letter) (fault string) {
	switch {
	case len(words) == 0:
		*letters = l.Post.Letters()
	case len(words) == 1 && (words[0] == "down" || words[0] == "up"):
		l.Post.Shut(words[0] == "down")
	default:
		return "write: plumb-lab mail, or plumb-lab mail down or up"
	}
	return ""
}

// text shows the text messages that went out, or has one come from a number.
func (l *Lab) text(words []string, texts *[]phone.Text) (fault string) {
	switch {
	case len(words) == 0:
		*texts = l.Phone.Texts()
		return ""
	case len(words) == 1:
		return "write: plumb-lab text, or plumb-lab text NUMBER TEXT"
	}
	pdu, err := sms.Deliver(words[0], strings.Join(words[1:], " "))
	if err != nil {
		return err.Error()
	}
	l.Phone.Receive(pdu)
	return ""
}

// Tell sends one command to a running lab.
func Tell(control string, words ...string) ([]BoxState, error) {
	r, err := tell(control, words)
	return r.State, err
}

// Letters are the mails that came to a running lab; with down or up, its mail server takes none
// from then on, or does again.
func Letters(control string, words ...string) ([]post.Letter, error) {
	r, err := tell(control, append([]string{"mail"}, words...))
	return r.Letters, err
}

// Texts are the text messages that went out of a running lab; with a number and a text, that one comes.
func Texts(control string, words ...string) ([]phone.Text, error) {
	r, err := tell(control, append([]string{"text"}, words...))
	return r.Texts, err
}

func tell(control string, words []string) (r reply, err error) {
	c, err := dialControl(control)
	if err != nil {
		return r, err
	}
	defer func() { _ = c.Close() }()
	if err := json.NewEncoder(c).Encode(words); err != nil {
		return r, fmt.Errorf("lab: %w", err)
	}
	if err := json.NewDecoder(c).Decode(&r); err != nil {
		return r, fmt.Errorf("lab: %w", err)
	}
	if r.Error != "" {
		return r, errors.New(r.Error)
	}
	return r, nil
}

// Call calls the modem of the service's machine, and returns what is heard there.
func Call(control string) (net.Conn, error) {
	c, err := dialControl(control)
	if err != nil {
		return nil, err
	}
	return c, json.NewEncoder(c).Encode([]string{"call"})
}

func dialControl(control string) (net.Conn, error) {
	c, err := net.Dial("unix", control)
	if err != nil {
		return nil, fmt.Errorf("no lab runs with its control socket at %s: start one with plumb-lab or make demo", control)
	}
	return c, nil
}
