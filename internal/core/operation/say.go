package operation

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/core/sending"
	"plumbbob/internal/core/verdict"
)

// say puts the preview into plain words.
func (p *Preview) say(w World) {
	add := func(kind LineKind, format string, args ...any) {
		p.Lines = append(p.Lines, Line{kind, fmt.Sprintf(format, args...)})
	}
	p.sayMeans(add, w)
	for _, o := range p.Outlets {
		switch {
		case o.Untold:
			p.sayForce(add)
		case handlings[o.End.Kind()].say != nil:
			handlings[o.End.Kind()].say(p, add, o, w)
		case !o.Known:
			add(LineUnknown, "%s has not been read yet, so its state is not known", capital(place(o.End)))
		case !o.Fresh:
			add(LineUnknown, "The state of %s is stale: it was last read at %s", place(o.End),
				o.Reading.At.In(w.Estate.Zone(o.End.Device)).Format("15:04:05"))
		case p.Kind == Cycle && !o.Reading.On:
			add(LineNote, "%s is off already: it is only switched on", capital(place(o.End)))
		case p.Kind == Off && !o.Reading.On, p.Kind == On && o.Reading.On:
			add(LineNote, "%s is %s already", capital(place(o.End)), p.Kind)
		}
	}
	p.sayBanks(add, w)
	p.sayLosses(add, w)
	p.sayPeople(add)
	p.sayLoads(add, w)
	p.sayRestores(add, w)
	if p.Kind == On {
		add(LineReturns, "Power returns to %s", p.Device)
	}
	p.sayInto(add)
	if (p.Kind == On || p.Kind == Cycle || p.Kind == Reset) && p.Usual.N > 0 && !p.Into.waits() {
		add(LineReturns, "%s usually answers again after %s", p.Device, p.Usual)
	}
}

func (p *Preview) sayLosses(add func(LineKind, string, ...any), w World) {
	for _, l := range p.Loses {
		switch {
		case p.Kind == NMI:
			add(LineLoses, "Interrupts %s: what follows is its system's own affair; most write a memory dump and restart", l.Device)
		case p.Kind == Reset:
			add(LineLoses, "Starts anew: %s, and loses what it has not stored", l.Device)
		case p.Kind == Shutdown && l.Device == p.Device:
			add(LineLoses, "Shuts down in good order: %s, and stays off until it is switched on again", l.Device)
		case p.Kind == Sleep && l.Device == p.Device:
			add(LineLoses, "Falls asleep: %s, until it is woken", l.Device)
		case p.Kind == Press && l.Device == p.Device:
			p.sayPress(add, w)
		case p.Kind == Cycle && l.Device == p.Device && p.offAlready():
			add(LineReturns, "Power returns to %s", l.Device)
		case !p.cuts() && l.Device == p.Device && p.Kind == Cycle:
			add(LineLoses, "Goes off: %s, for about %s, and loses what it has not stored", l.Device, short(p.Hold))
		case !p.cuts() && l.Device == p.Device:
			add(LineLoses, "Goes off: %s, until it is switched on again, and loses what it has not stored", l.Device)
		case l.Dark && p.Kind == Cycle:
			add(LineLoses, "Loses power: %s, for about %s", l.Device, short(p.Hold))
		case l.Dark:
			add(LineLoses, "Loses power: %s, until it is switched on again", l.Device)
		default:
			add(LineFeed, "Keeps running on %d of %d feeds: %s", l.Left, l.Of, l.Device)
		}
	}
	var already, newly []estate.Key
	for _, k := range p.CutOff {
		if s := w.Verdicts[k].State; s == verdict.CutOff || s == verdict.Dark || s == verdict.Parked || s == verdict.Hung || s == verdict.Silent {
			already = append(already, k)
		} else {
			newly = append(newly, k)
		}
	}
	if len(newly) > 0 {
		add(LineCut, "Gets cut off meanwhile: %s", list(newly))
	}
	if len(already) > 0 {
		add(LineCut, "Cannot be reached now, and stays so meanwhile: %s", list(already))
	}
	switch {
	case p.Kind == On, p.Kind == NMI, p.Kind == Restart:
	case p.ByGear:
		add(LineOurPath, "Cuts our own way to %s, which leads through %s. %s will switch it back on by itself after %s", p.OurPath.Gear, p.OurPath.Via, p.OurPath.Gear, short(p.Hold))
	case p.OurPath != nil:
		add(LineOurPath, "Cuts our own way to %s, which leads through %s: nothing here could switch it on again", p.OurPath.Gear, p.OurPath.Via)
	default:
		p.sayPathKept(add, w)
	}
}

// offAlready: all that would be switched off was read to be off.
func (p *Preview) offAlready() bool {
	return !slices.ContainsFunc(p.Outlets, func(o OutletNow) bool { return !o.Known || !o.Fresh || o.Reading.On })
}

// sayBanks says what is switched along.
func (p *Preview) sayBanks(add adder, w World) {
	var named []estate.End
	for _, o := range p.Outlets {
		named = append(named, o.End)
	}
	if along := w.Estate.WithBanks(named)[len(named):]; p.cuts() && len(along) > 0 {
		add(LineNote, "Its bank can only be switched as a whole: %s go along", ends(along))
	}
}

func (p *Preview) sayPathKept(add func(LineKind, string, ...any), w World) {
	pdu := w.gearOf(p.Outlets[0].End)
	ep, ok := w.endpointOf(p.Outlets[0].End)
	if !ok || p.Means == ByCommand {
		return
	}
	what := string(pdu.Key)
	if p.Means == ByChassis {
		what = "its controller"
	}
	if lines := w.Estate.ReachLine(pdu.Key, ep.Name); len(lines) > 0 && len(lines[0]) > 1 {
		add(LineNote, "Our way to %s goes through %s and is not touched", what, lines[0][len(lines[0])-2])
	}
}

type adder = func(LineKind, string, ...any)

// sayPeople says whose work and whose way would be cut.
func (p *Preview) sayPeople(add adder) {
	for _, u := range p.AtLine {
		add(LineInUse, "%s: %s", u.Device, u.Why)
	}
	for _, u := range p.InUse {
		add(LineInUse, "%s is in use: %s", u.Device, u.Why)
	}
	if p.YourPath != "" {
		add(LineOurPath, "Cuts your own way to this service, which leads through %s: you will not see it come back", p.YourPath)
	}
}

// sayMeans says why this way, and what else there is.
func (p *Preview) sayMeans(add adder, w World) {
	d := w.Estate.Device(p.Device)
	switch p.Means {
	case ByWake:
		add(LineNote, "By a magic packet to %s, which nothing acknowledges: that it has woken shows when it answers", d.Wake.MAC)
	case ByCommand:
		p.sayCommand(add, w)
	case ByEndpoint:
		p.sayRestart(add, w)
	}
	p.sayWays(add)
	if c, known := w.fresh(p.Device); known && c.Watchdog != nil && p.Kind != On {
		left := max(0, c.Watchdog.Left-w.Now.Sub(c.At)).Round(time.Second)
		add(LineNote, "Its watchdog is armed: in %s it may do a %s by itself", left, c.Watchdog.Action)
	}
	if c, known := w.fresh(p.Device); known && c.Asleep && p.Kind != On {
		add(LineNote, "It is asleep (%s), not hung", c.State)
	}
}

// sayCommand says on which line what is typed, and whether anybody reads it; that
// the line itself does not answer is for an interlock to say.
func (p *Preview) sayCommand(add adder, w World) {
	d := w.Estate.Device(p.Device)
	ep, _ := w.endpointOf(p.Outlets[0].End)
	over := ""
	if d.OverSerial(ep) {
		over = ", over its serial line at " + d.LineAt(ep)
	}
	add(LineNote, "By its own command line%s, which is the gentlest: it is told \"%s\"", over, p.Command)
	if why := w.unheard(d, ep); why != "" && w.mute(d, ep) == "" {
		add(LineUnknown, "Whether it heeds that is not known: %s", why)
	}
}

// sayWays says which gentler means cannot work now, and what the fallbacks are.
func (p *Preview) sayWays(add adder) {
	passed := false
	var harder []string
	for _, way := range p.Ways {
		switch {
		case way.Means == p.Means:
			passed = true
		case !passed && !way.Can && way.Means != ByWake:
			add(LineNote, "Not by %s, which is gentler: %s", way.Means.Words(), way.Why)
		case !passed && way.Can:
			add(LineNote, "It could be done by %s, which is gentler", way.Means.Words())
		case passed && way.Can:
			harder = append(harder, way.Means.Words())
		}
	}
	if len(harder) > 0 && p.Means != ByCommand {
		add(LineNote, "By %s, which is gentler than %s: that is the fallback", p.Means.Words(), strings.Join(harder, " or "))
	} else if len(harder) > 0 {
		add(LineNote, "The fallback is %s", strings.Join(harder, ", then "))
	}
}

// words names a means as part of a sentence.
// Words is a means as people say it.
func (m Means) Words() string {
	return map[Means]string{
		ByCommand: "its command line", ByChassis: "its chassis", ByWake: "a magic packet", ByPanel: "its front panel", ByPoE: "its PoE port", ByOutput: "its output", ByOutlet: "its outlets",
	}[m]
}

// sayRestart says what goes on meanwhile, and what cannot be seen or done.
func (p *Preview) sayRestart(add adder, w World) {
	d := w.Estate.Device(p.Device)
	ep, _ := d.Endpoint(p.Endpoint)
	what := "What it switches stays as it is"
	if ep.Gives(estate.GivesHost) {
		what = "Its host goes on running"
	}
	how := ""
	if p.Force {
		how = ", from the very beginning,"
	}
	add(LineNote, "The %s of %s starts anew%s and is away for a while. %s: that is measured before and after", p.Endpoint, p.Device, how, what)
	add(LineUnknown, "Until it is back, nothing is known of what only it measures, and nothing can be switched through it")
}

// sayPress says what a press does, as far as that is known.
func (p *Preview) sayPress(add adder, w World) {
	light, known := w.Evidence.Panels[p.Device]
	switch {
	case p.Button == sending.ResetButton:
		add(LineLoses, "Presses reset for %s: %s starts anew, and loses what it has not stored", exact(p.Hold), p.Device)
	case p.Hold >= sending.ForcesOff:
		add(LineLoses, "Presses power for %s, longer than the %s after which firmware forces power off: %s goes off, and loses what it has not stored", exact(p.Hold), exact(sending.ForcesOff), p.Device)
	case known && !light.On:
		add(LineReturns, "Presses power for %s: its light is off, so %s comes on", exact(p.Hold), p.Device)
	default:
		add(LineLoses, "Presses power for %s: what %s makes of that is its system's affair; most shut down, or fall asleep. Its light is watched for a minute", exact(p.Hold), p.Device)
	}
}

func (p *Preview) sayPanel(add adder, o OutletNow, w World) {
	switch {
	case !o.Known:
		add(LineUnknown, "The lights on the front of %s have not been read yet", p.Device)
	case !o.Fresh:
		add(LineUnknown, "What is known of the lights on the front of %s is stale: they were last read at %s", p.Device, o.Reading.At.In(w.Estate.Zone(o.End.Device)).Format("15:04:05"))
	case p.Kind == Cycle && !o.Reading.On:
		add(LineNote, "Its light is off already: it is only switched on")
	case (p.Kind == Off || p.Kind == Shutdown) && !o.Reading.On:
		add(LineNote, "Its light is off already")
	case p.Kind == On && o.Reading.On:
		add(LineNote, "Its light is on already")
	case p.Kind == Off || p.Kind == Cycle:
		add(LineNote, "Its power button is pressed for %s, which forces it off", exact(sending.LongPress))
	}
	p.sayForce(add)
}

func (p *Preview) sayChassis(add adder, o OutletNow, w World) {
	switch {
	case !o.Known:
		add(LineUnknown, "Its controller has not said yet whether it is on")
	case !o.Fresh:
		add(LineUnknown, "What its controller said is stale: it was last heard at %s", o.Reading.At.In(w.Estate.Zone(o.End.Device)).Format("15:04:05"))
	case p.Kind == Cycle && !o.Reading.On:
		add(LineNote, "It is off already: it is only switched on")
	case (p.Kind == Off || p.Kind == Shutdown) && !o.Reading.On:
		add(LineNote, "It is off already")
	case p.Kind == On && o.Reading.On:
		add(LineNote, "It is on already")
	}
	p.sayForce(add)
}

func (p *Preview) sayForce(add adder) {
	switch {
	case p.Kind != Shutdown:
	case p.Force && len(p.Hard) > 0 && p.Hard[0].Kind() != estate.Chassis:
		add(LineNote, "If it has not shut down after %s, %s is switched off", short(p.Within), p.Hard[0].Place())
	case p.Force:
		add(LineNote, "If it has not shut down after %s, it is switched off", short(p.Within))
	default:
		add(LineNote, "If it has not shut down after %s, it stays on", short(p.Within))
	}
}

// sayRestores says what stays off when power returns, and what is done about it.
func (p *Preview) sayRestores(add adder, w World) {
	if !p.cuts() {
		return
	}
	for _, end := range p.Restores {
		add(LineReturns, "%s is set to stay off when power returns: its chassis is switched on afterwards", end.Device)
	}
	for _, l := range p.Loses {
		d := w.Estate.Device(l.Device)
		if _, ok := d.Controller(); !ok || !l.Dark {
			continue
		}
		c, known := w.Evidence.Chassis[l.Device]
		switch {
		case !known || c.Restore == reading.RestoreUnk:
			add(LineUnknown, "Whether %s comes on by itself when power returns is not known: its controller has not said", l.Device)
		case p.Kind == Off && c.Restore == reading.StaysOff:
			add(LineReturns, "%s is set to stay off when power returns: it will need its chassis switched on", l.Device)
		}
	}
}

// updating says whether a controller is busy with itself, as it says, or as it
// refuses to say more.
func (w World) updating(k estate.Key) bool {
	c, known := w.fresh(k)
	if known && c.Updating {
		return true
	}
	ep, ok := w.Estate.Device(k).Controller()
	return ok && w.Evidence.Endpoints[estate.EndpointID{Device: k, Name: ep.Name}].Updating
}

// chassisLocks: a controller that is busy with itself is not to be disturbed, or
// cut with its host, and a device that stays off must be within reach when power
// has returned.
func (p *Preview) chassisLocks(w World, lock func(string, Lift, string, ...any)) {
	touched := p.darkSet()
	touched[p.Device] = true
	for _, k := range slices.Sorted(maps.Keys(touched)) {
		if w.updating(k) {
			lock(LockUpdating, LiftByReason, "the controller of %s is starting up or its firmware is being updated: interrupting that can break it", k)
		}
	}
	for _, end := range p.Restores {
		d := w.Estate.Device(end.Device)
		ep, _ := d.Controller()
		pulse := w.Evidence.Endpoints[estate.EndpointID{Device: d.Key, Name: ep.Name}]
		if pulse.Silent() || pulse.Refused {
			lock(LockStaysOff, LiftByReason, "%s would stay off when power returns, and its controller, which could switch it on, %s", end.Device, pulse.Fault())
		}
	}
}

// Since says what this preview says that an earlier one did not, or no longer
// says, in a few words.
func (p *Preview) Since(was *Preview) string {
	var news []string
	if p.After != was.After {
		news = append(news, fmt.Sprintf("operation %s was carried out since", p.After))
	}
	said := func(lines []Line, text string) bool {
		return slices.ContainsFunc(lines, func(l Line) bool { return l.Text == text })
	}
	for _, l := range p.Lines {
		if !said(was.Lines, l.Text) && l.Kind != LineLoad && l.Kind != LineNote {
			news = append(news, l.Text)
		}
	}
	for _, l := range p.Interlocks {
		if !slices.Contains(news, l.Reason) && !slices.ContainsFunc(was.Interlocks, func(o Interlock) bool { return o.Name == l.Name }) {
			news = append(news, l.Reason)
		}
	}
	for _, l := range was.Lines {
		if len(news) == 0 && !said(p.Lines, l.Text) {
			news = append(news, "it is no longer so that: "+l.Text)
		}
	}
	if len(news) == 0 && p.Means != was.Means {
		news = append(news, "it would be done by "+p.Means.Words()+" now")
	}
	return strings.Join(news, "; ")
}
