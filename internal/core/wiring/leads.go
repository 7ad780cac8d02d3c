package wiring

import (
	"fmt"
	"strings"
	"time"
	"unicode/utf8"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/plain"
)

// A LeadKind is what a lead carries.
type LeadKind string

// The kinds of leads.
const (
	LightLead  LeadKind = "light"  // from the power light on the front
	ButtonLead LeadKind = "button" // to its buttons
	SerialLead LeadKind = "serial"
	ScreenLead LeadKind = "screen"
	KeysLead   LeadKind = "keyboard"
)

// A Lead is what was found of one.
type Lead struct {
	Kind    LeadKind `json:"kind"`
	At      string   `json:"at"` // the port that it is plugged into
	Verdict Verdict  `json:"verdict"`
	Text    string   `json:"text"`
	Try     string   `json:"try,omitempty"`
}

// Leads is what was found of a device's, and when.
type Leads struct {
	At  time.Time `json:"at"`
	All []Lead    `json:"all"`
}

// Proved says whether all leads of a kind that were looked at are where the estate says.
func (l Leads) Proved(kind LeadKind) bool {
	any := false
	for _, x := range l.All {
		if x.Kind == kind {
			if any = true; x.Verdict != Right {
				return false
			}
		}
	}
	return any
}

// Lights counts stretches of time in which a light was lit, or dark, throughout, by whether
// its device had power then.
type Lights struct{ LitOn, LitOff, DarkOn, DarkOff int }

// Known says for how many stretches that is.
func (l Lights) Known() int { return l.LitOn + l.LitOff + l.DarkOn + l.DarkOff }

func (l Lights) wrong() int { return l.LitOff + l.DarkOn }

// LightsOf counts. Stretches in which something changed prove nothing.
func LightsOf(lights, draws []float64, off float64) (l Lights) {
	for i, v := range lights {
		if i >= len(draws) || v > 0.02 && v < 0.98 {
			continue
		}
		switch lit, on := v >= 0.98, draws[i] > off; {
		case lit && on:
			l.LitOn++
		case lit:
			l.LitOff++
		case on:
			l.DarkOn++
		default:
			l.DarkOff++
		}
	}
	return l
}

// leastStretches is how many have to agree, or not, before anything is said of a light.
const leastStretches = 3

// Light judges the lead of a light. Others are the lights of the other devices at the same
// board, as they would fit the draw of this one, by device.
func Light(at string, own Lights, others map[estate.Key]Lights) Lead {
	f := Lead{Kind: LightLead, At: at, Verdict: Unknown}
	if own.Known() < leastStretches {
		f.Text, f.Try = "its light and its draw are not known for long enough yet", "look again in an hour"
		return f
	}
	if own.wrong()*10 > own.Known() {
		f.Verdict = Wrong
		for k, o := range others {
			if o.LitOn >= leastStretches && o.DarkOff >= leastStretches && o.wrong() == 0 {
				f.Text, f.Try = fmt.Sprintf("the light that is stated for %s follows this device", k), "two leads are swapped: change them over at the board, or in the estate"
				return f
			}
		}
		f.Text, f.Try = "the light does not follow the power of the device", "the lead is on the wrong pins, or the wrong way round: turn it at the front panel's header, or see which pins are for the power light"
		if own.LitOn+own.LitOff == 0 {
			f.Text = "the light was never seen lit, with the device drawing power"
		}
		return f
	}
	switch {
	case own.LitOn >= leastStretches && own.DarkOff >= leastStretches:
		f.Verdict, f.Text = Right, "the light was lit while it drew power, and dark while it did not"
	case own.LitOn >= leastStretches:
		f.Text, f.Try = "the light is lit and the device draws power, but neither was seen otherwise", "it is proved when the device has been off for a while, or by a press that is agreed to"
	default:
		f.Text, f.Try = "the light is dark and the device draws nothing, but neither was seen otherwise", "it is proved when the device has been on for a while"
	}
	return f
}

// A Press is what came of pressing a button of a device, by an operation.
type Press struct {
	At      time.Time
	Worked  bool
	Sure    bool // it would have been seen, had it worked
	Outcome string
	Others  []estate.Key // who fell silent, or started anew, instead
}

// Button judges the lead to the buttons by the newest press; nil: there was none.
func Button(at string, p *Press) Lead {
	f := Lead{Kind: ButtonLead, At: at, Verdict: Unknown}
	switch {
	case p == nil:
		f.Text, f.Try = "no button was pressed by this lead yet", "reset it by its front once, with a preview, and see who starts anew"
	case p.Worked:
		f.Verdict, f.Text = Right, "a press moved this device: "+p.Outcome
	case len(p.Others) > 0:
		f.Verdict, f.Text, f.Try = Wrong, fmt.Sprintf("a press moved %s instead", p.Others[0]), "two leads are swapped: change them over at the board, or in the estate"
	default:
		f.Text, f.Try = "nothing was seen to come of a press: "+p.Outcome, "the pair for the button is not on its pins, or the wrong way round; a light that follows says that the cable itself is there"
		if p.Sure {
			f.Verdict = Wrong
		}
	}
	return f
}

// A Line is what was seen of a serial line.
type Line struct {
	At       string
	Up       bool // it could be called
	Why      string
	Asked    bool   // a newline was sent
	Said     string // since then, or lately
	Expected bool   // the device is up, so that an answer could come
}

// garbled says that a text cannot be read: the sign of a port that is set otherwise.
func garbled(text string) bool {
	odd, all := 0, 0
	for len(text) > 0 {
		r, n := utf8.DecodeRuneInString(text)
		if r == utf8.RuneError || r < ' ' && r != '\r' && r != '\n' && r != '\t' && r != 0x1b {
			odd++
		}
		all++
		text = text[n:]
	}
	return all >= 4 && odd*4 > all
}

// naming are the words of a text that a name can be, in small letters, each with the last
// line that has it.
func naming(text string) map[string]string {
	lines := map[string]string{}
	for _, line := range strings.FieldsFunc(text, func(r rune) bool { return r == '\r' || r == '\n' }) {
		for _, word := range strings.FieldsFunc(strings.ToLower(line), noName) {
			lines[word] = line
		}
	}
	return lines
}

// noName says whether a character cannot be of the name of a device.
func noName(r rune) bool { return r != '-' && (r < 'a' || r > 'z') && (r < '0' || r > '9') }

// quoted is a line as it is shown.
func quoted(line string) string { return fmt.Sprintf("%q", strings.TrimSpace(plain.Line(line))) }

// named judges by the names in a text, if there is one.
func (f *Lead) named(d estate.Key, all []estate.Key, text, right, wrong string) bool {
	names := naming(text)
	if line, ok := names[string(d)]; ok {
		f.Verdict, f.Text = Right, right+": "+quoted(line)
		return true
	}
	for _, k := range all {
		if line, ok := names[string(k)]; ok {
			f.Verdict, f.Text = Wrong, fmt.Sprintf("%s %s: %s", wrong, k, quoted(line))
			f.Try = "two leads are swapped: change them over where they are plugged in, or in the estate"
			return true
		}
	}
	return false
}

// Serial judges the lead of a serial line by the names in what it says.
func Serial(d estate.Key, all []estate.Key, l Line) Lead {
	f := Lead{Kind: SerialLead, At: l.At, Verdict: Unknown}
	if !l.Up {
		f.Text, f.Try = "the line cannot be reached: "+l.Why, "mend the way there first"
		return f
	}
	if f.named(d, all, l.Said, "the line says its name", "at the line is") {
		return f
	}
	switch {
	case garbled(l.Said):
		f.Text, f.Try = "what the line says cannot be read", "the port is probably set otherwise than the device: plumb serial "+string(d)+" --port \"115200 8N1\", for instance"
	case strings.TrimSpace(l.Said) != "":
		f.Text, f.Try = "the line answers, but says no name", "have the device say its name in its prompt or its log-in banner"
	case !l.Expected:
		f.Text, f.Try = "nothing was said, and the device is not up to say anything", "look again when it runs"
	case l.Asked:
		f.Text, f.Try = "a newline was not answered", "the lead may be out, or crossed where it should be straight; the port may be set otherwise; or nothing in the device listens at its serial port"
	default:
		f.Text, f.Try = "nothing was heard at it lately", "send a newline to it, and see what answers"
	}
	return f
}

// A Picture is what was seen of a screen.
type Picture struct {
	At       string
	Up       bool // it could be looked at
	Why      string
	Text     string // that stands on it; empty: it shows a picture, or nothing
	Expected bool   // the device is up, so that it shows something
}

// Screen judges the lead of a screen by the names that stand on it.
func Screen(d estate.Key, all []estate.Key, p Picture) Lead {
	f := Lead{Kind: ScreenLead, At: p.At, Verdict: Unknown}
	switch {
	case !p.Up:
		f.Text, f.Try = "the screen cannot be looked at: "+p.Why, "mend the way there first"
	case f.named(d, all, p.Text, "its name stands on it", "on it stands"):
	case strings.TrimSpace(p.Text) != "":
		f.Text, f.Try = "text stands on it, but no name", "look again when it asks for a log-in, or see its firmware go by after a reset"
	case !p.Expected:
		f.Text, f.Try = "it shows no text, and the device is not up to show some", "look again when it runs"
	default:
		f.Text, f.Try = "it shows a picture, in which no name is read", "look at it, and see whose it is; or see whether it changes at a reset"
	}
	return f
}

// Tapped is what came of pressing a lock key, twice, so that nothing is changed by it.
type Tapped struct {
	At       string
	Why      string // no key was pressed
	Lights   bool   // the gear tells of the keyboard's lights
	Answered bool   // the light came back
	Expected bool   // the device is up, so that an answer could come
}

// Keyboard judges the lead of a keyboard: its lights are switched by the system, and not by the
// keyboard itself.
func Keyboard(t Tapped) Lead {
	f := Lead{Kind: KeysLead, At: t.At, Verdict: Unknown}
	switch {
	case t.Why != "":
		f.Text, f.Try = "no key was pressed: "+t.Why, "have Num Lock pressed twice, with --ask, when nobody types there"
	case t.Answered:
		f.Verdict, f.Text = Right, "the light of Num Lock came back from a system that lives"
	case !t.Lights:
		f.Text, f.Try = "the gear tells nothing of the lights of the keyboard", "press a key, and see whether the picture changes"
	case !t.Expected:
		f.Text, f.Try = "the light of Num Lock did not come back, and the device is not up to send it", "look again when it runs"
	default:
		f.Text, f.Try = "the light of Num Lock did not come back, although the device was up lately", "see whether it hangs; else the lead is out, or in another device, or its system has not taken the keyboard: plug it out and in again"
	}
	return f
}
