package operation

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/core/verdict"
)

// A Way is one means by which something could be done.
type Way struct {
	Means Means
	Can   bool   // it can work now
	Why   string // why not, or what is to be known of it
}

// does says which kinds of operation a means can carry out.
var does = map[Means][]Kind{
	ByCommand:  {Reset, Shutdown, Sleep},
	ByChassis:  {On, Off, Cycle, Reset, Shutdown, NMI},
	ByWake:     {On},
	ByPanel:    {On, Off, Cycle, Reset, Shutdown, Press},
	ByPoE:      {On, Off, Cycle},
	ByOutput:   {On, Off, Cycle},
	ByOutlet:   {On, Off, Cycle},
	ByEndpoint: {Restart},
}

// ways lists the means by which a device can be treated so, the gentlest first.
func (w World) ways(kind Kind, d *estate.Device) []Way {
	var out []Way
	for _, m := range AllMeans {
		if !slices.Contains(does[m], kind) || w.lacks(m, kind, d) != "" {
			continue
		}
		why := w.hinders(m, kind, d)
		out = append(out, Way{m, why == "", why})
	}
	return out
}

// An Offer is one thing that can be done to a device as the estate has it, and
// the gentlest means for it.
type Offer struct {
	Kind  Kind
	Means Means
}

// Offers lists what can be done to a device, the gentler first. What can work
// now is for a preview to say.
func Offers(e *estate.Estate, d *estate.Device, restarts bool) []Offer {
	var out []Offer
	w := World{Estate: e}
	for _, kind := range Kinds {
		for _, m := range AllMeans {
			if slices.Contains(does[m], kind) && w.lacks(m, kind, d) == "" && !w.allUnswitched(m, d) {
				out = append(out, Offer{kind, m})
				break
			}
		}
	}
	if _, ok := d.Controller(); ok || restarts {
		out = append(out, Offer{Restart, ByEndpoint})
	}
	return out
}

// allUnswitched: what it hangs on cannot be switched at all.
func (w World) allUnswitched(m Means, d *estate.Device) bool {
	if m != ByOutlet && m != ByPoE {
		return false
	}
	for _, end := range w.Estate.FeedsOf(d.Key) {
		if o, _ := w.Estate.Device(end.Device).SourceAt(end.Port); !o.Unswitched {
			return false
		}
	}
	return true
}

// lacks says what the estate would have to know for a means, or "".
func (w World) lacks(m Means, kind Kind, d *estate.Device) string {
	switch m {
	case ByCommand:
		if len(d.CommandLines(string(kind))) == 0 {
			return fmt.Sprintf("no command for %s of %s is stated: add it under commands of an ssh or a telnet endpoint", kind, d.Key)
		}
	case ByChassis:
		if _, ok := d.Controller(); !ok {
			return fmt.Sprintf("%s has no management controller that the estate knows, so %s is not possible that way: add its controller under endpoints", d.Key, kind)
		}
	case ByWake:
		if d.Wake == nil {
			return fmt.Sprintf("how %s is woken is not known: add wake: {mac: …} to it", d.Key)
		}
	case ByPanel:
		if _, _, ok := w.board(d); !ok {
			return fmt.Sprintf("no leads to the front panel of %s are known: add panel: [KVM/NUMBER] to it, and to that KVM an endpoint", d.Key)
		}
	case ByOutput:
		if d.Supply == nil {
			return fmt.Sprintf("%s is no UPS, as far as the estate says; add ups: {} to it if it is", d.Key)
		}
	case ByPoE, ByOutlet:
		feeds := w.Estate.FeedsOf(d.Key)
		if len(feeds) == 0 {
			return fmt.Sprintf("%s hangs on no outlet that the estate knows, so it cannot be switched: add its power cable, or name the outlet with --outlet", d.Key)
		}
		if byPort(feeds) != m {
			return fmt.Sprintf("%s hangs on %s", d.Key, ends(feeds))
		}
	}
	return ""
}

// byPort is the means by which feeds are switched.
func byPort(feeds []estate.End) Means {
	for _, end := range feeds {
		if k, _ := end.Source(); k != estate.PoE {
			return ByOutlet
		}
	}
	return ByPoE
}

// board is the endpoint that presses the buttons of a device, and the lead.
func (w World) board(d *estate.Device) (kvm *estate.Device, ep estate.Endpoint, ok bool) {
	for _, lead := range d.Panel {
		kvm := w.Estate.Device(lead.Device)
		if ep, ok := kvm.CardEndpoint(); ok {
			return kvm, ep, true
		}
	}
	return nil, estate.Endpoint{}, false
}

// hinders says why a means cannot work now, or "". What is not known does not
// hinder: each step looks before it acts.
func (w World) hinders(m Means, kind Kind, d *estate.Device) string {
	switch m {
	case ByCommand:
		return w.unheard(d, w.commandLine(d, kind))
	case ByChassis:
		ep, _ := d.Controller()
		if !w.controllerAnswers(d) {
			return cmp.Or(w.mute(d, ep), fmt.Sprintf("its %s has not answered yet", ep.Name))
		}
		return w.looksOnly(d.Key)
	case ByWake:
		if !w.sleeps(d) {
			return "it is not asleep"
		}
	case ByPanel:
		kvm, ep, _ := w.board(d)
		if why := w.mute(kvm, ep); why != "" {
			return why
		}
		if kind != On {
			return ""
		}
		if light, known := w.Evidence.Panels[d.Key]; known && light.On {
			return "its light is on already"
		}
		if w.powerless(d) {
			return "no power reaches it"
		}
	case ByOutput:
		ep, ok := d.OutletEndpoint()
		if !ok {
			return fmt.Sprintf("%s has no endpoint with a profile", d.Key)
		}
		return w.mute(d, ep)
	case ByPoE, ByOutlet:
		for _, end := range w.Estate.FeedsOf(d.Key) {
			pdu := w.Estate.Device(end.Device)
			if ep, ok := pdu.OutletEndpoint(); !ok {
				return fmt.Sprintf("%s has no endpoint with a profile", pdu.Key)
			} else if why := w.mute(pdu, ep); why != "" {
				return why
			}
		}
	}
	return ""
}

// looksOnly says why a controller would take no command of ours, or "".
func (w World) looksOnly(k estate.Key) string {
	if as := w.Evidence.Chassis[k].LooksAs; as != "" {
		return fmt.Sprintf("its controller lets us look, and no more: our user has the privilege %q there, and switching needs operator", as)
	}
	return ""
}

// mute says why an endpoint cannot be used, or "".
func (w World) mute(d *estate.Device, ep estate.Endpoint) string {
	pulse := w.Evidence.Endpoints[estate.EndpointID{Device: d.Key, Name: ep.Name}]
	if pulse.Refused || pulse.Silent() {
		return fmt.Sprintf("%s of %s %s", ep.Name, d.Key, pulse.Fault())
	}
	return ""
}

// commandLine is where a device is told to do something: the first line on which
// that can work now, or else the first.
func (w World) commandLine(d *estate.Device, kind Kind) estate.Endpoint {
	lines := d.CommandLines(string(kind))
	for _, ep := range lines {
		if w.unheard(d, ep) == "" {
			return ep
		}
	}
	return lines[0]
}

// unheard says why nobody would hear what is typed on a line, or "". A serial line
// is there without the device, and its own command line is asked less often than the rest of
// it: that a device is hung says more than either does.
func (w World) unheard(d *estate.Device, ep estate.Endpoint) string {
	mute := w.mute(d, ep)
	switch v := w.Verdicts[d.Key].State; {
	case d.OverSerial(ep) && (v == verdict.Hung || v == verdict.Silent || v == verdict.Dark || v == verdict.Parked):
		return fmt.Sprintf("it is %s, and hardly reads what is typed on its serial line", v)
	case mute == "" && (v == verdict.Hung || v == verdict.Dark || v == verdict.Parked):
		return fmt.Sprintf("it is %s, and its own %s can answer no better", v, ep.Name)
	}
	return mute
}

// powerless: everything that it hangs on is seen off.
func (w World) powerless(d *estate.Device) bool {
	feeds := w.Estate.FeedsOf(d.Key)
	for _, end := range feeds {
		if o, known := w.Evidence.Outlets[end]; !known || o.On {
			return false
		}
	}
	return len(feeds) > 0
}

// choose settles through what an operation acts: the gentlest means that can
// work now, unless somebody has chosen.
func (p *Preview) choose(in Intent, d *estate.Device, w World) error {
	if in.Kind == Restart {
		return p.chooseEndpoint(in, d, w)
	}
	if len(in.Outlets) > 0 && in.Means == "" {
		in.Means = ByOutlet
	}
	p.Ways = w.ways(in.Kind, d)
	if in.Means != "" {
		return p.chosen(in, d, w)
	}
	for _, way := range p.Ways {
		if way.Can {
			p.Means = way.Means
			return nil
		}
	}
	// None can work now. The interlocks of the last one, the outlets where there
	// are any, say what stands in its way.
	if n := len(p.Ways); n > 0 {
		p.Means = p.Ways[n-1].Means
		return nil
	}
	return &UsageError{w.impossible(in.Kind, d)}
}

// impossible says what the estate would have to know for this to be possible.
func (w World) impossible(kind Kind, d *estate.Device) string {
	if slices.Contains(does[ByOutlet], kind) {
		return w.lacks(ByOutlet, kind, d)
	}
	var by []string
	for _, m := range []Means{ByChassis, ByPanel, ByCommand} {
		if slices.Contains(does[m], kind) {
			by = append(by, m.thing())
		}
	}
	return fmt.Sprintf("%s has no %s that the estate knows, by which %s would be possible: add it, or cycle its outlet", d.Key, or(by), kind)
}

// thing is what a device has to have for a means.
func (m Means) thing() string {
	return map[Means]string{ByChassis: "management controller", ByPanel: "panel leads", ByCommand: "command"}[m]
}

// chosen: somebody has said by what means.
func (p *Preview) chosen(in Intent, d *estate.Device, w World) error {
	kinds, known := does[in.Means]
	if len(in.Outlets) > 0 && (in.Means == ByPoE || in.Means == ByOutlet) {
		in.Means = byPort(in.Outlets)
	}
	switch lacks := w.lacks(in.Means, in.Kind, d); {
	case !known || in.Means == ByEndpoint:
		return &UsageError{fmt.Sprintf("%q is not a means: there is %s", in.Means, words(AllMeans))}
	case !slices.Contains(kinds, in.Kind) && len(in.Outlets) > 0:
		return &UsageError{fmt.Sprintf("outlets are named, and an outlet can do %s, not %s", words(kinds), in.Kind)}
	case !slices.Contains(kinds, in.Kind):
		return &UsageError{fmt.Sprintf("the means %s can do %s, not %s", in.Means, words(kinds), in.Kind)}
	case len(in.Outlets) > 0 && in.Means != ByOutlet && in.Means != ByPoE:
		return &UsageError{fmt.Sprintf("outlets are named, but the means is %s: leave one of them out", in.Means)}
	case lacks != "" && len(in.Outlets) == 0:
		return &UsageError{lacks}
	}
	p.Means = in.Means
	return nil
}

// chooseEndpoint settles what is to be started anew.
func (p *Preview) chooseEndpoint(in Intent, d *estate.Device, w World) error {
	var can []string
	for _, ep := range d.Endpoints {
		if ep.Gives(estate.GivesHost) || ep.Gives(estate.GivesGear) && w.Gear(d.Key).RestartsItself {
			can = append(can, ep.Name)
		}
	}
	switch {
	case len(can) == 0:
		return &UsageError{fmt.Sprintf("%s has no controller and no card that could be started anew: cycle its power instead", d.Key)}
	case in.Endpoint == "":
		in.Endpoint = can[0]
	case !slices.Contains(can, in.Endpoint):
		return &UsageError{fmt.Sprintf("%s has no %q that could be started anew: it has %s", d.Key, in.Endpoint, strings.Join(can, ", "))}
	case in.Means != "" || len(in.Outlets) > 0:
		return &UsageError{"a restart is of a controller or a card itself: it takes neither means nor outlets"}
	}
	p.Means, p.Endpoint = ByEndpoint, in.Endpoint
	return nil
}

// or writes a list of alternatives: "a, b or c".
func or(list []string) string {
	if n := len(list); n > 1 {
		return strings.Join(list[:n-1], ", ") + " or " + list[n-1]
	}
	return strings.Join(list, "")
}

// words writes a list as people do: "on, off and cycle".
func words[T ~string](list []T) string {
	var b strings.Builder
	for i, x := range list {
		switch {
		case i == 0:
		case i == len(list)-1:
			b.WriteString(" and ")
		default:
			b.WriteString(", ")
		}
		b.WriteString(string(x))
	}
	return b.String()
}

// sleeps says whether a device is silent and yet has power: what a magic packet
// is for.
func (w World) sleeps(d *estate.Device) bool {
	answers, _, _, _ := verdict.Heard(w.Estate, w.Evidence, d.Key, w.Now)
	for _, end := range w.Estate.FeedsOf(d.Key) {
		if o, known := w.Evidence.Outlets[end]; known && !o.On {
			return false
		}
	}
	return !answers
}

// controllerAnswers says whether a device's controller can be used now.
func (w World) controllerAnswers(d *estate.Device) bool {
	ep, ok := d.Controller()
	if !ok {
		return false
	}
	pulse := w.Evidence.Endpoints[estate.EndpointID{Device: d.Key, Name: ep.Name}]
	return pulse.Answers() && !pulse.Refused
}

// endpointOf is the endpoint through which something is switched.
func (w World) endpointOf(end estate.End) (estate.Endpoint, bool) {
	return handlings[end.Kind()].endpoint(w, w.Estate.Device(end.Device), end)
}

// Hands are the endpoints that carry out a preview.
func (p *Preview) Hands(w World) (out []estate.EndpointID) {
	for _, o := range p.Outlets {
		ep, ok := w.endpointOf(o.End)
		if id := (estate.EndpointID{Device: w.gearOf(o.End).Key, Name: ep.Name}); ok && !slices.Contains(out, id) {
			out = append(out, id)
		}
	}
	return out
}

// WaitsFor lists what has to be up before a preview can be carried out, of some devices
// that are brought up before it: the gear that switches, and what that is reached
// through.
func (p *Preview) WaitsFor(w World, brought []estate.Key) (out []estate.Key) {
	for _, o := range p.Outlets {
		gear := w.gearOf(o.End)
		ep, ok := w.endpointOf(o.End)
		if !ok || handlings[o.End.Kind()].unheard {
			continue
		}
		needs := []estate.Key{gear.Key}
		for _, strand := range w.Estate.ReachLine(gear.Key, ep.Name) {
			needs = append(needs, strand...)
		}
		for _, k := range needs {
			if k != p.Device && slices.Contains(brought, k) && !slices.Contains(out, k) {
				out = append(out, k)
			}
		}
	}
	return out
}

// gearOf is the device that does the switching.
func (w World) gearOf(end estate.End) *estate.Device {
	d := w.Estate.Device(end.Device)
	if end.Kind() == estate.Panel {
		if kvm, _, ok := w.board(d); ok {
			return kvm
		}
	}
	return d
}

// fresh returns what a device's controller says, while that counts.
func (w World) fresh(k estate.Key) (verdict.Chassis, bool) {
	ep, ok := w.Estate.Device(k).Controller()
	c, known := w.Evidence.Chassis[k]
	return c, ok && known && verdict.Fresh(ep, c.At, w.Now)
}

// panelNow is how the light on the front of a device is.
func panelNow(end estate.End, w World) OutletNow {
	now := OutletNow{End: end, Name: "front panel", Feeds: []estate.Key{end.Device}}
	light, known := w.Evidence.Panels[end.Device]
	if _, ep, ok := w.board(w.Estate.Device(end.Device)); ok && known {
		now.Known, now.Fresh = true, verdict.Fresh(ep, light.At, w.Now)
		now.Reading = Reading{At: light.At, On: light.On}
	}
	return now
}

func chassisNow(end estate.End, w World) OutletNow {
	now := OutletNow{End: end, Name: "chassis", Feeds: []estate.Key{end.Device}}
	c, known := w.Evidence.Chassis[end.Device]
	if !known {
		return now
	}
	now.Known = true
	now.Reading = Reading{At: c.At, On: c.On}
	if c.Watts != nil {
		now.Reading.Metered, now.Reading.W = true, *c.Watts
	}
	_, now.Fresh = w.fresh(end.Device)
	return now
}

// outputNow is whether a UPS gives power, and how much.
func outputNow(end estate.End, w World) OutletNow {
	now := OutletNow{End: end, Name: "output", Feeds: w.Estate.Fed(estate.End{Device: end.Device})}
	s, known := w.Evidence.Supplies[end.Device]
	if !known || !s.Told() {
		return now
	}
	now.Known, now.Reading = true, OutputReading(&s.Supply, s.At)
	if ep, ok := w.Estate.Device(end.Device).OutletEndpoint(); ok {
		now.Fresh = verdict.Fresh(ep, s.At, w.Now)
	}
	return now
}

// OutputReading is what a UPS says, as the reading of its output.
func OutputReading(s *reading.Supply, at time.Time) Reading {
	r := Reading{At: at, On: s.Source != reading.SourceNone}
	r.W, r.Metered = s.W()
	return r
}

// restores finds the devices that get power back, or get it now, and would
// stay off then: their chassis are switched on afterwards.
func (p *Preview) restores(w World) {
	if p.Kind == Off {
		return
	}
	back := []estate.Key{p.Device}
	for k := range p.darkSet() {
		if k != p.Device {
			back = append(back, k)
		}
	}
	for i := range w.Estate.Devices {
		k := w.Estate.Devices[i].Key
		c, known := w.Evidence.Chassis[k]
		if has(back, k) && known && c.Restore == reading.StaysOff {
			p.Restores = append(p.Restores, estate.ChassisEnd(k))
		}
	}
}

func has(ks []estate.Key, k estate.Key) bool {
	for _, x := range ks {
		if x == k {
			return true
		}
	}
	return false
}
