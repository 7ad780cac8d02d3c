package operation

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/sending"
)

// Moved says whether something was seen to come of it: the device fell silent, or answered
// after that, or what was switched or pressed is otherwise than before.
func (o *Operation) Moved() bool {
	return !o.SilentAt.IsZero() || !o.HeardAt.IsZero() ||
		slices.ContainsFunc(o.Steps, func(s Step) bool { return s.Before != nil && s.After != nil && s.Before.On != s.After.On })
}

// Outcome is what happened so far, in one sentence, with times in the zone of
// the site: "Cycled outlet 3 of skarvoe-pdu: 11.2 W → 0.0 W at 14:07:12, back
// to 10.9 W at 14:07:23, first answer after 41 s (usually 38–47 s)".
func (o *Operation) Outcome(zone *time.Location) string {
	var parts []string
	for i := range o.Steps {
		if p := o.stepWords(&o.Steps[i], zone); p != "" {
			parts = append(parts, p)
		}
	}
	head := o.headline()
	if len(parts) == 0 {
		return head
	}
	sentence := head + ": " + strings.Join(parts, ", ")
	for _, t := range o.Trouble {
		if !strings.Contains(sentence, t) {
			sentence += ". But " + t
		}
	}
	return sentence
}

// saying is how a kind of operation is told of, around the name of what it is
// done to.
type saying struct{ do, done, doing, failed string }

var sayings = map[Kind]saying{
	On:       {"Switch %s on", "Switched %s on", "Switching %s on", "Could not switch %s on"},
	Off:      {"Switch %s off", "Switched %s off", "Switching %s off", "Could not switch %s off"},
	Cycle:    {"Cycle %s", "Cycled %s", "Cycling %s", "Did not complete the cycle of %s"},
	Shutdown: {"Shut %s down", "Shut %s down", "Shutting %s down", "Did not shut %s down"},
	Reset:    {"Reset %s", "Reset %s", "Resetting %s", "Did not reset %s"},
	NMI:      {"Send a diagnostic interrupt to %s", "Sent a diagnostic interrupt to %s", "Sending a diagnostic interrupt to %s", "Could not interrupt %s"},
	Sleep:    {"Put %s to sleep", "Put %s to sleep", "Putting %s to sleep", "Could not put %s to sleep"},
	Restart:  {"Restart %s", "Restarted %s", "Restarting %s", "Could not restart %s"},
}

// Verb says what a kind of operation would do to something: "Switch X off".
func Verb(kind Kind, what string) string {
	return fmt.Sprintf(sayingOf(kind, "", sending.PowerButton, sending.ShortPress).do, what)
}

// sayingOf is how an operation is told of: waking and pressing have words of
// their own.
func sayingOf(kind Kind, means Means, button sending.Button, hold time.Duration) saying {
	switch {
	case means == ByWake:
		return saying{"Wake %s", "Woke %s", "Waking %s", "Could not wake %s"}
	case kind == Press:
		b := fmt.Sprintf("the %s button of %%s for %s", button, exact(hold))
		return saying{"Press " + b, "Pressed " + b, "Pressing " + b, "Did not press " + b}
	}
	return sayings[kind]
}

// ofDevice says whether an operation is told of as one on the device as a
// whole, rather than on what is switched.
func ofDevice(kind Kind, means Means) bool {
	switch kind {
	case Shutdown, Reset, NMI, Sleep, Press:
		return true
	}
	return means == ByWake || means == ByPanel
}

func (o *Operation) headline() string {
	what := o.outletWords()
	if ofDevice(o.Kind, o.Means) {
		what = string(o.Device)
	}
	what += o.Into.Words()
	say := sayingOf(o.Kind, o.Means, o.Button, o.Hold)
	done, doing, failed := say.done, say.doing, say.failed
	switch o.State {
	case Done:
		if o.Kind == Cycle && o.onlySwitchedOn() {
			return fmt.Sprintf("Switched %s on: it was off already", what)
		}
		if !o.wrote() {
			return fmt.Sprintf("Left %s as it was", what)
		}
		return fmt.Sprintf(done, what)
	case Failed:
		if len(o.Trouble) > 0 && !o.anyFailed() {
			return fmt.Sprintf(done, what) + ", but it is the wrong one"
		}
		return fmt.Sprintf(failed, what)
	case Cancelled:
		return fmt.Sprintf("Cancelled by %s while %s", o.CancelBy, strings.ToLower(doing[:1])+fmt.Sprintf(doing[1:], what))
	}
	return fmt.Sprintf(doing, what)
}

func (o *Operation) anyFailed() bool {
	for i := range o.Steps {
		if o.Steps[i].State == StepFail {
			return true
		}
	}
	return false
}

// onlySwitchedOn: a cycle that found nothing to switch off.
func (o *Operation) onlySwitchedOn() bool {
	off := true
	for i := range o.Steps {
		if s := &o.Steps[i]; s.Kind == SwitchOff && s.MaySent || s.Kind == GearCycle || s.SawOff != nil {
			off = false
		}
	}
	return off && o.wrote()
}

// stepWords says what one step found, or "" when that says nothing new.
func (o *Operation) stepWords(s *Step, zone *time.Location) string {
	if s.State == StepFail {
		return s.Note
	}
	clock := func(t time.Time) string { return t.In(zone).Format("15:04:05") }
	switch {
	case s.State == Skipped && s.Kind == SoftOff, s.State == Skipped && s.Kind == SwitchOff && o.Kind != Shutdown:
		return s.Note
	case s.State == StepDone && s.Kind == SoftOff:
		return "off at " + clock(s.Ended) + fmt.Sprintf(", after %s", short(s.Ended.Sub(s.Sent)))
	case s.State == StepDone && s.Kind == StepTakeBack:
		return s.Note
	case s.State == StepDone && s.Kind == StepTaken:
		return "its firmware took that at " + clock(s.Ended)
	case s.State == StepDone && (s.Kind == StepReset || s.Kind == StepNMI || s.Kind == StepWake):
		return join("at "+clock(s.Sent), s.Note)
	case s.State == StepDone && s.Kind == StepSleep:
		return join(fmt.Sprintf("silent at %s, after %s", clock(o.SilentAt), short(o.SilentAt.Sub(s.Sent))), s.Note)
	case s.State == StepDone && s.Kind == StepPress:
		return join(pushWords(s, clock), s.Note)
	case s.State == StepDone && s.Kind == StepRestart && s.SawOff != nil:
		return join(fmt.Sprintf("away at %s, back after %s", clock(s.SawOff.At), short(s.Ended.Sub(s.SawOff.At))), s.Note)
	case s.State == StepDone && s.Kind == StepRestart:
		return join("at "+clock(s.Sent), s.Note)
	case s.State != StepDone:
		return ""
	case s.Kind == SwitchOff && s.Before != nil && s.After != nil && s.After.Metered:
		return fmt.Sprintf("%.1f W → %.1f W at %s", s.Before.W, s.After.W, clock(s.Ended))
	case s.Kind == SwitchOff:
		return join("off at "+clock(s.Ended), s.Note)
	case s.Kind == SwitchOn && s.After != nil && s.After.Metered:
		to := "back to "
		switch {
		case o.Kind == On || o.onlySwitchedOn():
			to = ""
		case o.anyFailed():
			to = "on again with "
		}
		if s.Outlet.Kind() == estate.Chassis && o.Means != ByChassis {
			return join("chassis of "+string(s.Outlet.Device)+" on at "+clock(s.Ended), s.Note)
		}
		return join(fmt.Sprintf("%s%.1f W at %s", to, s.After.W, clock(s.Ended)), s.Note)
	case s.Kind == SwitchOn && s.Outlet.Kind() == estate.Chassis && o.Means != ByChassis:
		return join("chassis of "+string(s.Outlet.Device)+" on at "+clock(s.Ended), s.Note)
	case s.Kind == SwitchOn:
		return join("on at "+clock(s.Ended), s.Note)
	case s.Kind == GearCycle:
		return o.gearCycleWords(s, clock)
	case s.Kind == Answer:
		return o.answerWords()
	}
	return ""
}

// pushWords says what a press did, by the light.
func pushWords(s *Step, clock func(time.Time) string) string {
	light := map[bool]string{true: "on", false: "off"}
	at := "at " + clock(s.Sent)
	switch {
	case s.Before == nil || s.After == nil:
		return at
	case s.Before.On == s.After.On:
		return at + ", and its light stayed " + light[s.After.On]
	}
	return fmt.Sprintf("%s, and its light went %s", at, light[s.After.On])
}

func (o *Operation) gearCycleWords(s *Step, clock func(time.Time) string) string {
	var w string
	switch {
	case s.Before != nil && s.SawOff != nil && s.SawOff.Metered:
		w = fmt.Sprintf("by the gear itself, %.1f W → %.1f W at %s", s.Before.W, s.SawOff.W, clock(s.SawOff.At))
	case !o.SilentAt.IsZero():
		w = fmt.Sprintf("by the gear itself, out of our sight; %s fell silent at %s", o.Device, clock(o.SilentAt))
	default:
		w = "by the gear itself"
	}
	if s.After != nil && s.After.Metered {
		w += fmt.Sprintf(", %.1f W again when read at %s", s.After.W, clock(s.After.At))
	}
	return join(w, s.Note)
}

func (o *Operation) answerWords() string {
	took := o.CameBackIn()
	if took == 0 {
		return "it answers"
	}
	w := "first answer after " + short(took)
	if o.Usual.N > 1 {
		w += fmt.Sprintf(" (usually %s)", o.Usual)
	}
	return w
}

// String writes a range of times: "38–47 s".
func (u Usual) String() string {
	lo, hi := short(u.Min), short(u.Max)
	if lo == hi {
		return lo
	}
	if strings.HasSuffix(lo, " s") && strings.HasSuffix(hi, " s") {
		lo = strings.TrimSuffix(lo, " s")
	}
	return lo + "–" + hi
}

// CameBackIn is the time from power to the first answer, or 0 when the
// operation has not seen it.
func (o *Operation) CameBackIn() time.Duration {
	if o.HeardAt.IsZero() {
		return 0
	}
	var power time.Time
	for i := range o.Steps {
		s := &o.Steps[i]
		switch {
		case (s.Kind == SwitchOn || s.Kind == StepReset) && s.State == StepDone && s.MaySent:
			power = s.Sent
		case s.Kind == GearCycle && s.MaySent && s.Sent.Before(o.HeardAt):
			power = s.Sent.Add(o.Hold)
		}
	}
	if power.IsZero() || o.HeardAt.Before(power) {
		return 0
	}
	return o.HeardAt.Sub(power)
}

func (o *Operation) outletWords() string {
	if len(o.Outlets) == 0 {
		return "nothing"
	}
	words := make([]string, len(o.Outlets))
	for i, e := range o.Outlets {
		words[i] = place(e)
	}
	return strings.Join(words, " and ")
}

func join(a, b string) string {
	if b == "" {
		return a
	}
	return a + " (" + b + ")"
}

// short writes a duration for people: "41 s", "4 min".
func short(d time.Duration) string {
	if d < 2*time.Minute {
		return fmt.Sprintf("%d s", int(d.Round(time.Second).Seconds()))
	}
	return fmt.Sprintf("%d min", int(d.Round(time.Minute).Minutes()))
}

// Doing is what the operation is doing just now, in words.
func (o *Operation) Doing() string {
	s := o.Current()
	if s == nil {
		return o.headline()
	}
	at := place(s.Outlet)
	var now string
	switch {
	case s.Kind == SoftOff:
		now = "waiting for the operating system to shut down"
	case s.Kind == StepReset && s.State == Checking:
		now = "seeing whether it falls silent"
	case s.Kind == StepInto:
		now = "telling its controller where the next start leads"
	case s.Kind == StepTaken:
		now = "seeing whether its firmware has taken that"
	case s.Kind == StepTakeBack:
		now = "taking back where the next start leads"
	case s.Kind == StepReset:
		now = "pressing reset"
	case s.Kind == StepNMI:
		now = "sending the interrupt"
	case s.Kind == StepWake:
		now = "sending a magic packet"
	case s.Kind == StepSleep:
		now = "seeing whether it falls asleep"
	case s.Kind == StepPress:
		now = "pressing its button"
	case s.Kind == StepRestart && s.SawOff != nil:
		now = "waiting until " + at + " is back"
	case s.Kind == StepRestart:
		now = "starting " + at + " anew"
	case s.Kind == Wait && o.endsOff():
		now = "seeing who falls silent"
	case s.Kind == Wait:
		now = "waiting before power returns"
	case s.Kind == Answer:
		now = "waiting for its first answer"
	case s.Kind == GearCycle && s.MaySent:
		now = fmt.Sprintf("%s is cycling %s by itself", s.Outlet.Device, at)
	case s.State == Retrying:
		now = "trying again to switch " + at + " on: " + s.Note
	case s.Kind == SwitchOff:
		now = "switching " + at + " off"
	default:
		now = "switching " + at + " on"
	}
	return fmt.Sprintf("%s by %s is running: %s", o.Kind, o.By, now)
}

// Draws adds up what was measured before and after, over the outlets.
func (o *Operation) Draws() (before, after *float64) {
	sum := func(to **float64, r *Reading) {
		if r == nil || !r.Metered {
			return
		}
		if *to == nil {
			*to = new(float64)
		}
		**to += r.W
	}
	for _, end := range o.Outlets {
		var first, last *Reading
		for i := range o.Steps {
			s := &o.Steps[i]
			if s.Outlet != end {
				continue
			}
			if first == nil {
				first = s.Before
			}
			if s.After != nil {
				last = s.After
			}
		}
		sum(&before, first)
		sum(&after, last)
	}
	return before, after
}
