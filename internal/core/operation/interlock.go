package operation

import (
	"cmp"
	"fmt"
	"slices"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/verdict"
)

// An Interlock is a rule that stops an operation, and what would lift it.
type Interlock struct {
	Name    string // stable, for programs
	Reason  string // for people
	LiftBy  Lift
	Role    Role         // the least that may lift it; empty: whoever may operate
	Devices []estate.Key // with LiftByName: the names that must be typed
}

// Lift says what it takes to go ahead against an interlock.
type Lift string

// The ways to lift an interlock.
const (
	LiftNever    Lift = "never"
	LiftByReason Lift = "reason" // an explicit override, with a reason
	LiftByName   Lift = "name"   // the device's name, typed
)

// The names of the interlocks.
const (
	LockUnswitched = "unswitched"
	LockBusy       = "busy"
	LockOutOfReach = "out-of-reach"
	LockRefusesUs  = "refuses-us"
	LockOwnPath    = "own-path"
	LockGuarded    = "guarded"
	LockStandpoint = "standpoint"
	LockUpdating   = "updating"
	LockStaysOff   = "stays-off"
	LockInUse      = "in-use"
	LockYourPath   = "your-path"
	LockOverload   = "overload"
	LockOnBattery  = "on-battery"
	LockWindow     = "window"
	LockTooMany    = "too-many"
	LockElsewhere  = "elsewhere"
)

// lifters are the least roles that may go ahead against an interlock that can be
// lifted by a reason; whoever may operate, of the others.
var lifters = map[string]Role{LockOwnPath: Steward, LockOverload: Steward, LockUpdating: Steward, LockWindow: Steward, LockElsewhere: Steward}

// Consent is what a person has said to the interlocks of a preview.
type Consent struct {
	Names    []estate.Key `json:"names"`    // typed
	Override []string     `json:"override"` // interlocks by name
	Why      string       `json:"why"`
	Role     Role         `json:"role"` // of who consents
}

// Unlifted returns the interlocks that still stand.
func (p *Preview) Unlifted(c Consent) []Interlock {
	var stand []Interlock
	for _, l := range p.Interlocks {
		switch l.LiftBy {
		case LiftByReason:
			said := slices.Contains(c.Override, l.Name) && c.Why != ""
			if said && (l.Role == "" || c.Role.AtLeast(l.Role)) {
				continue
			}
			if said {
				l.Reason += fmt.Sprintf(". To go ahead against that takes the role %s; yours is %s", l.Role, c.Role)
			}
		case LiftByName:
			missing := slices.ContainsFunc(l.Devices, func(k estate.Key) bool { return !slices.Contains(c.Names, k) })
			if !missing {
				continue
			}
		}
		stand = append(stand, l)
	}
	return stand
}

// interlocks applies the rules to a preview that is otherwise complete.
func (p *Preview) interlocks(w World) {
	lock := func(name string, by Lift, format string, args ...any) {
		l := Interlock{Name: name, Reason: fmt.Sprintf(format, args...), LiftBy: by}
		if by == LiftByReason {
			l.Role = lifters[name]
		}
		p.Interlocks = append(p.Interlocks, l)
	}
	for _, o := range p.Outlets {
		if o.Unswitched {
			lock(LockUnswitched, LiftNever, "%s cannot be switched: it is always on", place(o.End))
		}
		if by := w.Busy[o.End]; by != "" {
			lock(LockBusy, LiftNever, "operation %s is running on %s: wait for it, or cancel it with plumb op cancel %s", by, place(o.End), by)
		}
	}
	if by := w.Busy[estate.ChassisEnd(p.Device)]; by != "" && p.cuts() && !p.busy() {
		lock(LockBusy, LiftNever, "operation %s is running on %s: wait for it, or cancel it with plumb op cancel %s", by, p.Device, by)
	}
	p.gearLocks(w, lock)
	p.chassisLocks(w, lock)
	p.elsewhere(w, lock)
	p.siteLocks(w, lock)
	p.powerLocks(w, lock)
	if auto := w.Evidence.Supplies[p.Device].Control.AutoRestart; p.Means == ByOutput && p.Kind == Off && auto != nil && !*auto {
		lock(LockStaysOff, LiftByReason, "%s is set to stay off when the utility returns: set that first with plumb ups auto-restart %s on, or say why it is to stay off", p.Device, p.Device)
	}
	if p.Kind == On || p.Kind == Restart {
		return
	}
	dark := p.darkSet()
	if dark[w.Estate.Standpoint] {
		lock(LockStandpoint, LiftNever, "it would cut the power of %s, on which this service runs", w.Estate.Standpoint)
	}
	if p.OurPath != nil && !p.ByGear && p.Kind != Reset && p.Kind != NMI {
		lock(LockOwnPath, LiftByReason, "it would cut our own path to %s, which leads through %s: nothing could switch it on again from here", p.OurPath.Gear, p.OurPath.Via)
	}
	if p.YourPath != "" {
		lock(LockYourPath, LiftByReason, "it would cut your own way to this service, which leads through %s", p.YourPath)
	}
	for _, u := range p.InUse {
		lock(LockInUse, LiftByReason, "%s is in use: %s", u.Device, u.Why)
	}
	var guarded []estate.Key
	for _, l := range p.Loses {
		if l.Dark && w.Estate.Device(l.Device).Guarded {
			guarded = append(guarded, l.Device)
		}
	}
	if len(guarded) > 0 {
		lock(LockGuarded, LiftByName, "%s guarded: type the name to cut it", keysAre(guarded))
		p.Interlocks[len(p.Interlocks)-1].Devices = guarded
	}
}

// siteLocks: what belongs to somebody else just now, and what has been done too
// often to be meant.
func (p *Preview) siteLocks(w World, lock func(string, Lift, string, ...any)) {
	d := w.Estate.Device(p.Device)
	for _, x := range w.Windows {
		if x.By == w.Asker.By() || !p.touches(w, x, d) {
			continue
		}
		lock(LockWindow, LiftByReason, "%s is working on %s until %s: %s. Ask them first", x.By, x.What(), x.Until.In(w.Estate.Zone(d.Key)).Format("15:04"), cmp.Or(x.Why, "no reason was given"))
	}
	most := hourly(w.Estate.Site(d.Site))
	if n := w.Recent[d.Site]; n >= most {
		lock(LockTooMany, LiftByReason, "there have been %d operations at %s within the hour, and more than %d are taken for a mistake", n, d.Site, most)
	}
}

// elsewhere: of two services one acts at a site, and the other only while that is silent. Two that
// switch one outlet would each take what the other does for a fault.
func (p *Preview) elsewhere(w World, lock func(string, Lift, string, ...any)) {
	for _, other := range p.actsThere(w.Estate) {
		answers, silent, _, since := verdict.Heard(w.Estate, w.Evidence, other, w.Now)
		switch {
		case answers:
			lock(LockElsewhere, LiftNever, "the service on %s acts there: ask that one", other)
		case silent:
			lock(LockElsewhere, LiftByReason, "the service on %s acts there. It has been silent for %s, and may be acting all the same", other, verdict.Age(w.Now.Sub(since)))
		default:
			lock(LockElsewhere, LiftNever, "the service on %s acts there, and whether it is silent is not known yet: try again in a moment", other)
		}
	}
}

// actsThere are the other services to which the sites belong at which something is switched.
func (p *Preview) actsThere(e *estate.Estate) (out []estate.Key) {
	devices := []estate.Key{p.Device}
	for _, o := range p.Outlets {
		devices = append(devices, o.End.Device)
	}
	for _, k := range devices {
		if s := e.SiteOf(k); s != nil && s.Acts != "" && !slices.Contains(out, s.Acts) {
			out = append(out, s.Acts)
		}
	}
	return out
}

// hourly is how many operations at a site within an hour are not too many.
func hourly(s *estate.Site) int {
	if s == nil || s.Hourly == 0 {
		return estate.DefaultHourly
	}
	return s.Hourly
}

// touches says whether what a window is for is affected.
func (p *Preview) touches(w World, x Window, d *estate.Device) bool {
	if x.Covers(d) {
		return true
	}
	if x.Device == "" && x.Tag == "" {
		return false // whoever works on a site minds what is there
	}
	return slices.ContainsFunc(p.Loses, func(l estate.Loss) bool { return x.Covers(w.Estate.Device(l.Device)) })
}

// powerLocks: what has to carry it must be able to.
func (p *Preview) powerLocks(w World, lock func(string, Lift, string, ...any)) {
	for _, s := range p.Shifts {
		if s.Over {
			lock(LockOverload, LiftByReason, "%s would have to carry %s, and may carry %s", elementName(s.Element), verdict.Watts(s.AfterW), verdict.Watts(s.RatingW))
		}
	}
	for _, b := range p.Burdens {
		switch {
		case b.Over:
			lock(LockOverload, LiftByReason, "%s would have to carry %s, and may carry %s", elementName(b.Element), verdict.Watts(b.AfterW), verdict.Watts(b.RatingW))
		case b.OverSurge:
			lock(LockOverload, LiftByReason, "%s would have to carry %s for a moment, which is more than it holds: it may carry %s", elementName(b.Element), verdict.Watts(b.SurgeW), verdict.Watts(b.RatingW))
		}
	}
	if p.Kind != On && p.Kind != Cycle || p.Means == ByWake {
		return
	}
	if ups, text := w.batteries(p.Device); ups != "" {
		lock(LockOnBattery, LiftByReason, "%s lives on its battery, and %s: that is too little to start %s on", ups, text, p.Device)
	}
}

// gearLocks: the gear has to be there, and has to let us in.
func (p *Preview) gearLocks(w World, lock func(string, Lift, string, ...any)) {
	seen := map[estate.Key]bool{}
	for _, o := range p.Outlets {
		pdu := w.gearOf(o.End)
		if seen[pdu.Key] || handlings[o.End.Kind()].unheard {
			continue
		}
		seen[pdu.Key] = true
		ep, ok := w.endpointOf(o.End)
		if !ok {
			lock(LockOutOfReach, LiftNever, "%s has no endpoint with a profile, so nothing here can switch it", pdu.Key)
			continue
		}
		pulse := w.Evidence.Endpoints[estate.EndpointID{Device: pdu.Key, Name: ep.Name}]
		if pulse.Silent() {
			lock(LockOutOfReach, LiftNever, "%s cannot be reached: its %s does not answer%s", pdu.Key, ep.Name, cutBy(w, pdu.Key))
		}
		if pulse.Refused {
			lock(LockRefusesUs, LiftNever, "%s %s", pdu.Key, pulse.Fault())
		} else if why := w.looksOnly(pdu.Key); why != "" && o.End.Kind() == estate.Chassis {
			lock(LockRefusesUs, LiftByReason, "%s: %s", pdu.Key, why)
		}
	}
}

// busy says whether an operation runs on what would be switched.
func (p *Preview) busy() bool {
	return slices.ContainsFunc(p.Interlocks, func(l Interlock) bool { return l.Name == LockBusy })
}

func cutBy(w World, k estate.Key) string {
	if v := w.Verdicts[k]; v.CutBy != "" {
		return fmt.Sprintf(", and the path to it is broken at %s", v.CutBy)
	}
	return ""
}

func keysAre(ks []estate.Key) string {
	if len(ks) == 1 {
		return string(ks[0]) + " is"
	}
	return list(ks) + " are"
}
