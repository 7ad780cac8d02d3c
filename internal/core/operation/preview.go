package operation

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/power"
	"plumbbob/internal/core/sending"
	"plumbbob/internal/core/verdict"
)

// World is all that a preview is worked out from.
type World struct {
	Estate   *estate.Estate
	Evidence *verdict.Evidence
	Verdicts map[estate.Key]verdict.Verdict
	Now      time.Time
	Busy     map[estate.End]string // outlets on which an operation runs, and its id
	Usual    Usual                 // how long the device took to come back before
	Gear     func(pdu estate.Key) GearTraits

	Asker Asker
	Draws map[estate.Key]float64 // what devices usually draw while they run, in W
	InUse map[estate.Key]string  // who works with a device now, beside what the evidence says of it

	// AtLine says who sits at the serial line of a device, but for one; nil: nobody knows.
	AtLine  func(k estate.Key, but string) []string
	Recent  map[estate.Key]int    // operations at a site within the last hour
	Newest  map[estate.Key]string // the operation on a device that was asked for last
	Windows []Window              // that are open now
}

// GearTraits is what a kind of gear can do, as its profile says.
type GearTraits struct {
	CyclesItself   bool
	OutputCycles   time.Duration // the longest that a UPS leaves its output off by itself; 0: it cannot
	RestartsItself bool          // its card can be started anew
	Settle         time.Duration
}

// Intent is what somebody wants done.
type Intent struct {
	Kind    Kind          `json:"kind"`
	Device  estate.Key    `json:"device"`
	Means   Means         `json:"means"`          // empty: the gentlest that can work now
	Outlets []estate.End  `json:"outlets"`        // empty: all feeds of the device
	Hold    time.Duration `json:"hold"`           // 0: DefaultHold, or, of a press, ShortPress
	Within  time.Duration `json:"within"`         // of a shutdown; 0: DefaultWithin
	Force   bool          `json:"force"`          // a shutdown that is not heeded ends in switching off; a restart is from the very beginning
	Into    Into          `json:"into,omitempty"` // where a reset or a cycle leads; empty: as usual

	Endpoint string         `json:"endpoint"` // of a restart; empty: its first that can be
	Button   sending.Button `json:"button"`   // of a press; empty: PowerButton
}

// OutletNow is an outlet that would be switched, as last seen.
type OutletNow struct {
	End        estate.End
	Name       string
	Feeds      []estate.Key
	Unswitched bool
	Untold     bool // it has no state that could be read
	Known      bool
	Fresh      bool
	Reading    Reading
}

// OurPath is our own way to the gear, when the operation would cut it.
type OurPath struct {
	Gear estate.Key // the PDU that would have to switch power on again
	Via  estate.Key // what it is reached through, and would go dark
}

// LineKind says what a line of a preview is about.
type LineKind string

// The kinds of line.
const (
	LineLoses   LineKind = "loses-power"
	LineFeed    LineKind = "loses-feed"
	LineCut     LineKind = "cut-off"
	LineOurPath LineKind = "our-path"
	LineReturns LineKind = "returns"
	LineUnknown LineKind = "unknown"
	LineInUse   LineKind = "in-use"
	LineLoad    LineKind = "load"
	LineNote    LineKind = "note"
)

// A Line is one thing that the preview says, in plain words.
type Line struct {
	Kind LineKind
	Text string
}

// Preview is what an operation would do, worked out before anything is touched.
type Preview struct {
	Kind       Kind
	Means      Means
	Device     estate.Key
	Hold       time.Duration
	Within     time.Duration
	Force      bool
	Into       Into           // where the start leads
	Endpoint   string         // that is started anew
	Button     sending.Button // that is pressed
	Command    string         // that is typed
	Ways       []Way          // all means by which it could be done, the gentlest first
	Hard       []estate.End   // what is switched off when a forced shutdown is not heeded
	Restores   []estate.End   // chassis that are switched on once power has returned
	Outlets    []OutletNow
	ByGear     bool // the gear carries out the cycle by itself
	Loses      []estate.Loss
	CutOff     []estate.Key
	OurPath    *OurPath
	Interlocks []Interlock
	Lines      []Line
	Usual      Usual
	YourPath   estate.Key     // where the way of the person who asks is cut, or ""
	AtLine     []Using        // who sits at the serial line of what would be taken down
	InUse      []Using        // who works with what would be taken down
	Burdens    []power.Burden // what has to be carried once this is on
	Shifts     []power.Shift  // what the other feeds have to carry once this is off
	After      string         // the operation on the device that was asked for last: what was agreed to is done once
	Digest     string         // of all that consent depends on
}

// Using says that a device is in use, and by what that shows.
type Using struct {
	Device estate.Key
	Why    string
}

// A UsageError is an intent that makes no sense, whatever the state of things.
type UsageError struct{ Text string }

func (e *UsageError) Error() string { return e.Text }

// Look works out the preview of an intent. Its only error is a *UsageError.
func Look(in Intent, w World) (*Preview, error) {
	d := w.Estate.Device(in.Device)
	if d == nil {
		return nil, &UsageError{fmt.Sprintf("there is no device %q: plumb board lists them", in.Device)}
	}
	p := &Preview{Kind: in.Kind, Device: in.Device, Hold: in.Hold, Within: in.Within, Force: in.Force, Button: in.Button, Usual: w.Usual}
	if err := p.times(); err != nil {
		return nil, err
	}
	if err := p.aims(&in, d); err != nil {
		return nil, err
	}
	if err := p.choose(in, d, w); err != nil {
		return nil, err
	}
	outlets, err := p.ends(in, d, w)
	if err != nil {
		return nil, err
	}
	for _, end := range outlets {
		p.Outlets = append(p.Outlets, handlings[end.Kind()].now(end, w))
	}
	if p.Kind != On && p.Kind != Restart {
		p.consequences(outlets, w)
	}
	if p.cuts() {
		p.restores(w)
	}
	p.loads(outlets, w)
	p.people(w)
	p.After = w.Newest[p.Device]
	p.interlocks(w)
	p.say(w)
	p.Digest = p.digest(true)
	return p, nil
}

// cuts says whether power is switched outside of the box, at what feeds it.
func (p *Preview) cuts() bool {
	return p.Means == ByOutlet || p.Means == ByPoE || p.Means == ByOutput
}

// ends settles what is switched, and what is told.
func (p *Preview) ends(in Intent, d *estate.Device, w World) ([]estate.End, error) {
	var end estate.End
	switch p.Means {
	case ByOutlet, ByPoE:
		return outletsOf(in, d, w.Estate)
	case ByEndpoint:
		return []estate.End{estate.EndpointID{Device: d.Key, Name: p.Endpoint}.OwnEnd()}, nil
	case ByCommand:
		ep := w.commandLine(d, p.Kind)
		p.Command, end = ep.Commands[string(p.Kind)], estate.EndpointID{Device: d.Key, Name: ep.Name}.CommandEnd()
	case ByChassis:
		end = estate.ChassisEnd(d.Key)
	case ByWake:
		end = estate.WakeEnd(d.Key)
	case ByPanel:
		end = estate.PanelEnd(d.Key)
	case ByOutput:
		end = estate.OutputEnd(d.Key)
	}
	if p.Force && p.Kind == Shutdown {
		p.Hard = w.hard(end, d)
	}
	return []estate.End{end}, nil
}

// hard is what is switched off when a shutdown is not heeded: the same that was
// asked, or, where that can only be told, the chassis, the panel or the outlets.
func (w World) hard(end estate.End, d *estate.Device) []estate.End {
	if !told(end) {
		return []estate.End{end}
	}
	if _, ok := d.Controller(); ok {
		return []estate.End{estate.ChassisEnd(d.Key)}
	}
	if _, _, ok := w.board(d); ok {
		return []estate.End{estate.PanelEnd(d.Key)}
	}
	return w.Estate.FeedsOf(d.Key)
}

func (p *Preview) times() error {
	if err := p.press(); err != nil {
		return err
	}
	switch {
	case p.Kind == Restart:
		p.Within = 0
	case p.Kind != Shutdown:
		p.Within, p.Force = 0, false
	case p.Within == 0:
		p.Within = DefaultWithin
	case p.Within < time.Second || p.Within > MaxWithin:
		return &UsageError{fmt.Sprintf("a shutdown may take 1 s to %s, not %s", MaxWithin, p.Within)}
	}
	switch {
	case !slices.Contains(Kinds, p.Kind):
		return &UsageError{fmt.Sprintf("%q is none of %s", p.Kind, words(Kinds))}
	case p.Kind == Press:
	case p.Kind != Cycle:
		p.Hold = 0
	case p.Hold == 0:
		p.Hold = DefaultHold
	case p.Hold < MinHold || p.Hold > MaxHold:
		return &UsageError{fmt.Sprintf("a cycle stays off for %s to %s, not for %s", MinHold, MaxHold, p.Hold)}
	}
	return nil
}

// press settles which button is pressed, and for how long.
func (p *Preview) press() error {
	switch {
	case p.Kind != Press:
		p.Button = ""
		return nil
	case p.Button == "":
		p.Button = sending.PowerButton
	case p.Button != sending.PowerButton && p.Button != sending.ResetButton:
		return &UsageError{fmt.Sprintf("there is no button %q: it can be power or reset", p.Button)}
	}
	switch {
	case p.Hold == 0:
		p.Hold = sending.ShortPress
	case p.Hold < 100*time.Millisecond || p.Hold > sending.MaxPress:
		return &UsageError{fmt.Sprintf("a button is pressed for 0.1 s to %s, not for %s", short(sending.MaxPress), p.Hold)}
	}
	return nil
}

// outletsOf settles which outlets are meant.
func outletsOf(in Intent, d *estate.Device, e *estate.Estate) ([]estate.End, error) {
	feeds := e.FeedsOf(d.Key)
	if len(in.Outlets) == 0 {
		if len(feeds) == 0 {
			return nil, &UsageError{fmt.Sprintf("%s hangs on no outlet that the estate knows, so it cannot be switched: add its power cable, or name the outlet with --outlet", d.Key)}
		}
		return feeds, nil
	}
	for i, end := range in.Outlets {
		pdu := e.Device(end.Device)
		if pdu == nil {
			return nil, &UsageError{fmt.Sprintf("there is no device %q: an outlet is named PDU/NUMBER", end.Device)}
		}
		if _, ok := pdu.SourceAt(end.Port); !ok {
			return nil, &UsageError{fmt.Sprintf("%s has no outlet %q: it has %d", end.Device, end.Port, len(pdu.Outlets))}
		}
		if slices.Contains(in.Outlets[:i], end) {
			return nil, &UsageError{fmt.Sprintf("outlet %s is named twice", end)}
		}
		if pdu.Key != d.Key && !slices.Contains(feeds, end) {
			return nil, &UsageError{fmt.Sprintf("%s does not feed %s: it hangs on %s", end.Place(), d.Key, ends(feeds))}
		}
	}
	return in.Outlets, nil
}

// sourceNow is what is known of an outlet, or another source.
func sourceNow(end estate.End, w World) OutletNow {
	pdu := w.Estate.Device(end.Device)
	o, _ := pdu.SourceAt(end.Port)
	now := OutletNow{End: end, Name: o.Name, Unswitched: o.Unswitched, Feeds: w.Estate.Fed(end)}
	seen, known := w.Evidence.Outlets[end]
	if !known {
		return now
	}
	now.Known = true
	now.Reading = Reading{At: seen.At, On: seen.On, Metered: seen.Metered, W: seen.W}
	now.Unswitched = now.Unswitched || !seen.Switched
	if seen.Name != "" {
		now.Name = seen.Name
	}
	if ep, ok := pdu.OutletEndpoint(); ok {
		now.Fresh = verdict.Fresh(ep, seen.At, w.Now)
	}
	return now
}

// consequences follows the cut through the power graph and the network graph.
func (p *Preview) consequences(outlets []estate.End, w World) {
	cut := map[estate.End]bool{}
	if p.cuts() {
		for _, end := range w.Estate.Unfed(outlets) {
			cut[end] = true
		}
	} else {
		p.Loses = []estate.Loss{{Device: p.Device, Dark: true}}
		for _, o := range w.Estate.Device(p.Device).Outlets {
			if o.Kind == estate.USB && p.Kind != Reset && p.Kind != NMI { // what it feeds goes with it
				cut[estate.End{Device: p.Device, Port: o.Port()}] = true
			}
		}
	}
	p.Loses = append(p.Loses, w.loses(cut, p.Device)...)
	dark := p.darkSet()
	devices, endpoints := w.Estate.CutOff(dark)
	for _, k := range w.Estate.ReachOrder() {
		if devices[k] {
			p.CutOff = append(p.CutOff, k)
		}
	}
	traits := GearTraits{CyclesItself: true}
	for _, end := range outlets {
		pdu := w.gearOf(end)
		ep, ok := w.endpointOf(end)
		gear := w.Gear(pdu.Key)
		traits.CyclesItself = traits.CyclesItself && (p.Means == ByOutlet && gear.CyclesItself || p.Means == ByOutput && p.Hold <= gear.OutputCycles)
		if !ok || p.OurPath != nil || p.Means == ByCommand {
			continue
		}
		if dark[pdu.Key] && (p.cuts() || pdu.Key != p.Device) || endpoints[estate.EndpointID{Device: pdu.Key, Name: ep.Name}] || dark[w.Estate.Standpoint] {
			p.OurPath = &OurPath{Gear: pdu.Key, Via: via(w.Estate, pdu.Key, ep.Name, dark)}
		}
	}
	if p.Means == ByOutput && p.OurPath == nil && w.Evidence.Supplies[p.Device].Control.What == "system" {
		p.OurPath = &OurPath{Gear: p.Device, Via: p.Device} // its card goes down with it
	}
	if p.OurPath != nil && dark[p.OurPath.Gear] {
		traits.CyclesItself = false // it would be without power itself
	}
	p.ByGear = p.Kind == Cycle && p.OurPath != nil && traits.CyclesItself
}

// loses works out what a cut takes down beside what is without power already:
// whose other feed is seen off runs on one alone. The device that is meant is
// named whatever it has.
func (w World) loses(cut map[estate.End]bool, meant estate.Key) []estate.Loss {
	without := w.Power().Without()
	before := map[estate.Key]estate.Loss{}
	for _, l := range w.Estate.LosesPower(without) {
		before[l.Device] = l
	}
	for end := range cut {
		without[end] = true
	}
	return slices.DeleteFunc(w.Estate.LosesPower(without), func(l estate.Loss) bool {
		was, lacked := before[l.Device]
		return l.Device != meant && lacked && (was.Dark || was.Left == l.Left && !l.Dark)
	})
}

// via names the first hop on our way to an endpoint that would go dark.
func via(e *estate.Estate, pdu estate.Key, endpoint string, dark map[estate.Key]bool) estate.Key {
	for _, strand := range e.ReachLine(pdu, endpoint) {
		for _, k := range strand {
			if dark[k] {
				return k
			}
		}
	}
	return pdu
}

func (p *Preview) darkSet() map[estate.Key]bool {
	dark := map[estate.Key]bool{}
	for _, l := range p.Loses {
		if l.Dark {
			dark[l.Device] = true
		}
	}
	return dark
}

// digest covers what a person agrees to: who loses what, through which
// outlets, and what stands against it, with or without what is in use. Watts may
// move without a new preview.
func (p *Preview) digest(use bool) string {
	var b strings.Builder
	fmt.Fprintln(&b, p.Kind, p.Means, p.Device, p.Hold, p.Within, p.Force, p.Restores, p.ByGear, p.Loses, p.CutOff, p.Endpoint, p.Button, p.Command, p.Hard, p.Into)
	if p.OurPath != nil {
		fmt.Fprintln(&b, *p.OurPath)
	}
	for _, o := range p.Outlets {
		fmt.Fprintln(&b, o.End, o.Known, o.Fresh, o.Reading.On, o.Unswitched)
	}
	fmt.Fprintln(&b, p.YourPath, p.After)
	for _, u := range p.InUse {
		if use {
			fmt.Fprintln(&b, u.Device)
		}
	}
	for _, l := range p.Interlocks {
		if use || l.Name != LockInUse {
			fmt.Fprintln(&b, l.Name, l.LiftBy, l.Devices)
		}
	}
	sum := sha256.Sum256([]byte(b.String()))
	return hex.EncodeToString(sum[:8])
}

// Covered says whether consent that was given to an earlier preview holds for this one. Use
// begins and ends while somebody makes up their mind: who goes ahead against it anyway need not
// be asked again, unless something is in use now that was not when something else was.
func (p *Preview) Covered(was *Preview, c Consent) bool {
	return slices.Contains(c.Override, LockInUse) && p.digest(false) == was.digest(false) &&
		(len(was.InUse) == 0 || !slices.ContainsFunc(p.InUse, func(u Using) bool { return !was.uses(u.Device) }))
}

func (p *Preview) uses(k estate.Key) bool {
	return slices.ContainsFunc(p.InUse, func(u Using) bool { return u.Device == k })
}

func list(ks []estate.Key) string {
	words := make([]string, len(ks))
	for i, k := range ks {
		words[i] = string(k)
	}
	return strings.Join(words, ", ")
}

func ends(es []estate.End) string {
	words := make([]string, len(es))
	for i, e := range es {
		words[i] = e.String()
	}
	if len(words) == 0 {
		return "no outlet"
	}
	return strings.Join(words, ", ")
}
