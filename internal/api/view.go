package api

import (
	"fmt"
	"slices"
	"time"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/broker"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/incident"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/core/wiring"
	"plumbbob/internal/keep"
	"plumbbob/internal/profile"
)

// glance is what a view is made from: all of one moment.
type glance struct {
	e      *estate.Estate
	ev     *verdict.Evidence
	vs     map[estate.Key]verdict.Verdict
	now    time.Time
	moment *verdict.Moment
	recent func(estate.Key) []float64
	inside func(estate.Key) *keep.Inside // nil for nothing
	gear   func(estate.Key) operation.GearTraits

	incident func(estate.Key) *incident.Incident // nil for none
	seated   func(estate.Key) (line, screen []broker.On)
	leads    func(estate.Key) wiring.Leads // as far as they were looked at
}

// glance is for use within Keeper.See.
func (s *Server) glance(e *estate.Estate, ev *verdict.Evidence, vs map[estate.Key]verdict.Verdict, now time.Time) glance {
	return glance{e, ev, vs, now, verdict.At(e, ev, nil, now), s.Keeper.Recent, s.Keeper.InsideOf, func(k estate.Key) operation.GearTraits { return s.Actor.Traits(e, k) }, s.Incidents.Of, s.Broker.At, s.Keeper.LeadsOf}
}

// glanceOf is a glance at a copy, for what takes its time.
func (s *Server) glanceOf(at *keep.Snapshot) glance {
	g := s.glance(at.Estate, at.Evidence, at.Verdicts, at.Now)
	g.recent, g.inside = at.Recent, at.Inside
	return g
}

// seatedViews are those at a line or a screen; nil where nobody is.
func seatedViews(on []broker.On) *[]contract.Seated {
	if len(on) == 0 {
		return nil
	}
	out := make([]contract.Seated, len(on))
	for i, x := range on {
		out[i] = contract.Seated{Who: x.Who, Types: x.Types, Since: x.Since.UTC()}
	}
	return &out
}

func (g glance) summary(d *estate.Device) contract.DeviceSummary {
	lines := g.moment.LinesOf(d.Key)
	out := contract.DeviceSummary{
		Key: string(d.Key), Site: string(d.Site), Role: d.Role, Words: d.Words(), Guarded: d.Guarded, Feeds: g.feeds(d),
		Verdict: verdictView(g.vs[d.Key]), Lines: miniLines(lines),
		WaysIn: g.waysIn(d), Recent: tenths(g.recent(d.Key)), Acts: []contract.Act{},
	}
	for _, o := range operation.Offers(g.e, d, g.gear(d.Key).RestartsItself) {
		out.Acts = append(out.Acts, contract.Act{Kind: contract.OperationKind(o.Kind), Means: contract.Means(o.Means)})
	}
	if d.Place != "" {
		out.Place = &d.Place
	}
	if _, ok := d.Controller(); ok {
		out.Chassis = ptr(true)
	}
	if in := g.inside(d.Key); in != nil {
		if t, ok := reading.Telling(in.Sensors); ok {
			out.Telling = &contract.Telling{Name: t.Name, Text: t.Text(), Level: contract.Level(t.Level)}
		}
		if n := len(in.Weak); n > 0 {
			out.Weaknesses = &n
		}
	}
	line, screen := g.seated(d.Key)
	out.AtLine, out.AtScreen = seatedViews(line), seatedViews(screen)
	if why := g.moment.InUse(d.Key); why != "" {
		out.InUse = &why
	}
	if w, known := g.moment.Draw(d.Key); known {
		out.W = ptr(tenth(w))
	}
	if _, _, last, _ := g.moment.Heard(d.Key); !last.IsZero() {
		out.LastAnswer = ptr(last.UTC())
	}
	return out
}

func (g glance) feeds(d *estate.Device) []contract.Feed {
	out := []contract.Feed{}
	for _, end := range g.e.FeedsOf(d.Key) {
		pdu := g.e.Device(end.Device)
		o, _ := pdu.SourceAt(end.Port)
		f := contract.Feed{Outlet: end.String(), Switched: !o.Unswitched}
		if seen, ok := g.ev.Outlets[end]; ok {
			if ep, _ := pdu.OutletEndpoint(); verdict.Fresh(ep, seen.At, g.now) {
				f.On = &seen.On
			}
		}
		out = append(out, f)
	}
	return out
}

func tenth(w float64) float64 { return float64(int(w*10+0.5)) / 10 }

func tenths(ws []float64) []float64 {
	out := make([]float64, len(ws))
	for i, w := range ws {
		out[i] = tenth(w)
	}
	return out
}

// miniLines are the lines as the board draws them: the first way of each, and the second feed.
func miniLines(lines verdict.Lines) contract.MiniLines {
	out := contract.MiniLines{Power: mini(lines.Power, 0), Reach: mini(lines.Reach, 0)}
	if second := mini(lines.Power, 1); len(second) > 0 {
		out.Second = &second
	}
	return out
}

func mini(strands [][]verdict.Hop, n int) []contract.HopState {
	out := []contract.HopState{}
	if n < len(strands) {
		for _, h := range strands[n] {
			out = append(out, contract.HopState(h.State))
		}
	}
	return out
}

// answers says how an endpoint answers, and how long ago when another answer is overdue.
func (g glance) answers(owner estate.Key, endpoint string, p verdict.Pulse) string {
	ep, _ := g.e.Device(owner).Endpoint(endpoint)
	if old := g.now.Sub(p.LastAnswer); old > ep.Every+ep.Timeout {
		return fmt.Sprintf("answered %s ago, in %s", verdict.Age(old), verdict.Millis(p.RTT))
	}
	return "answers in " + verdict.Millis(p.RTT)
}

// waysIn lists the out-of-band paths to a device: its endpoints and its outlets.
func (g glance) waysIn(d *estate.Device) []contract.WayIn {
	out := []contract.WayIn{}
	way := func(kind, label string, owner estate.Key, endpoint string) {
		hops := g.moment.WayLine(owner, endpoint)
		w := contract.WayIn{Kind: kind, Label: label, State: contract.HopStateUnknown}
		p := g.ev.Endpoints[estate.EndpointID{Device: owner, Name: endpoint}]
		switch {
		case p.Refused:
			w.State, w.Text = contract.HopStateBroken, p.Why
		case p.Answers():
			w.State, w.Text = contract.HopStateSound, g.answers(owner, endpoint, p)
		case p.Silent():
			w.State, w.Text = contract.HopStateBroken, "silent for "+verdict.Age(g.now.Sub(p.SilentSince))
		case p.Misses > 0:
			w.Text = "unsure"
		default:
			w.Text = "not asked yet"
		}
		for _, h := range hops {
			if h.State == verdict.HopBroken && h.Device != owner && w.State == contract.HopStateBroken {
				w.Text += ", behind " + string(h.Device)
			}
		}
		out = append(out, w)
	}
	for _, lead := range d.Panel {
		if ep, ok := g.e.Device(lead.Device).CardEndpoint(); ok {
			way("panel", "panel leads of "+string(lead.Device), lead.Device, ep.Name)
			g.proved(out, d, wiring.ButtonLead)
		}
	}
	for _, at := range g.e.ScreensOf(d) {
		if at.Port != "" {
			label := fmt.Sprintf("screen at %s, port %s", at.ID.Device, at.Port)
			if at.Switch != at.ID.Device {
				label += " of " + string(at.Switch)
			}
			way("screen", label, at.ID.Device, at.ID.Name)
			g.proved(out, d, wiring.ScreenLead)
		}
	}
	for _, ep := range d.Endpoints {
		if d.OverSerial(ep) {
			way("serial", lineLabel(d, ep), d.Key, ep.Name)
			if !ep.Local() {
				g.proved(out, d, wiring.SerialLead)
			}
			continue
		}
		way(string(ep.Protocol), string(ep.Protocol)+" "+ep.Name, d.Key, ep.Name)
	}
	for _, end := range g.e.FeedsOf(d.Key) {
		pdu := g.e.Device(end.Device)
		ep, ok := pdu.OutletEndpoint()
		if !ok {
			continue
		}
		if o, _ := pdu.SourceAt(end.Port); o.Unswitched {
			out = append(out, contract.WayIn{Kind: "unswitched", Label: end.Place(), State: contract.HopStateUnknown, Text: "cannot be switched"})
			continue
		}
		way("outlet", end.Place(), end.Device, ep.Name)
	}
	return out
}

func (g glance) troubles() []contract.Trouble {
	out := []contract.Trouble{}
	for _, t := range verdict.Troubles(g.e, g.vs) {
		v := contract.Trouble{Device: string(t.Device), Verdict: verdictView(g.vs[t.Device]), Explains: keys(t.Explains)}
		if i := g.incident(t.Device); i != nil {
			v.Incident = &i.ID
			if i.Seen != nil {
				v.SeenBy = &i.Seen.By
			}
			if i.ShelvedAt(g.now) {
				v.ShelvedUntil = ptr(i.Shelved.Until.UTC())
			}
		}
		out = append(out, v)
	}
	return out
}

func (g glance) board(event string) contract.Board {
	out := contract.Board{Estate: g.e.Name, Event: event, Sites: []contract.Site{}, Devices: []contract.DeviceSummary{}, Trouble: g.troubles(), Service: []contract.ServiceAilment{}}
	count := map[estate.Key]int{}
	for i := range g.e.Devices {
		d := &g.e.Devices[i]
		out.Devices = append(out.Devices, g.summary(d))
		count[d.Site]++
	}
	for i := range g.e.Sites {
		s := &g.e.Sites[i]
		out.Sites = append(out.Sites, contract.Site{Key: string(s.Key), Name: s.Name, Kind: s.Kind, Zone: s.Zone.String(), Devices: count[s.Key], W: g.siteDraw(s.Key)})
	}
	return out
}

// siteDraw adds up what comes into a site.
func (g glance) siteDraw(site estate.Key) *float64 {
	w, known := g.world().SiteW(site)
	if !known {
		return nil
	}
	return ptr(tenth(w))
}

// shows is what there is to be seen of a device, by what its endpoints give and what
// they have said.
func (g glance) shows(d *estate.Device) []contract.DevicePart {
	_, controlled := d.Controller()
	in := g.inside(d.Key)
	card := &profile.Profile{}
	if ep, ok := d.CardEndpoint(); ok {
		if p, err := profile.Find(ep.Profile); err == nil {
			card = p
		}
	}
	out := []contract.DevicePart{}
	for _, x := range []struct {
		part contract.DevicePart
		has  bool
	}{
		{contract.DevicePartController, controlled}, {contract.DevicePartEvents, controlled},
		{contract.DevicePartSensors, controlled || in != nil && len(in.Sensors) > 0},
		{contract.DevicePartSupply, d.Supply != nil},
		{contract.DevicePartPorts, slices.Contains(card.Standard, profile.Interfaces)},
		{contract.DevicePartSerial, d.HasLine()}, {contract.DevicePartScreen, len(g.e.ScreensOf(d)) > 0},
		{contract.DevicePartCard, card.Clock != nil || card.Log != nil || card.Restart != nil},
	} {
		if x.has {
			out = append(out, x.part)
		}
	}
	return out
}

func (g glance) device(d *estate.Device) contract.Device {
	lines := g.moment.LinesOf(d.Key)
	out := contract.Device{
		Summary: g.summary(d), Zone: g.e.Zone(d.Key).String(), Tags: append([]string{}, d.Tags...), Notes: d.Notes,
		Power: strandViews(lines.Power), Reach: strandViews(lines.Reach), Behind: []string{},
		Outlets: []contract.Outlet{}, Operations: []contract.Operation{}, Chassis: g.chassis(d), Weaknesses: []contract.Weakness{}, Shows: g.shows(d),
	}
	if in := g.inside(d.Key); in != nil {
		out.Weaknesses = weaknessViews(in.Weak)
	}
	for _, side := range g.e.OnlyBehind(d.Key) {
		name := string(side.Device)
		if side.Name != "" {
			name += " " + side.Name
		}
		out.Behind = append(out.Behind, name)
	}
	for _, o := range d.Outlets {
		out.Outlets = append(out.Outlets, g.outlet(d, o))
	}
	return out
}

func (g glance) outlet(d *estate.Device, o estate.Outlet) contract.Outlet {
	end := estate.End{Device: d.Key, Port: o.Port()}
	kind := contract.OutletKind(o.Kind)
	if o.Kind == estate.Socket {
		kind = contract.OutletKindOutlet
	}
	out := contract.Outlet{Number: o.Number, Port: o.Port(), Kind: kind, Words: end.Words(), Name: o.Name, Switched: !o.Unswitched, Feeds: keys(g.e.Fed(end))}
	if b, ok := d.BankOf(o.Number); ok && o.Kind == estate.Socket {
		out.Bank = &b.Name
	}
	seen, ok := g.ev.Outlets[end]
	if !ok {
		return out
	}
	ep, _ := d.OutletEndpoint()
	out.AfterLoss, out.OnDelay, out.OffDelay, out.Giving, out.Trouble = optional(seen.AfterLoss), wholeSeconds(seen.OnDelay), wholeSeconds(seen.OffDelay), seen.Giving, optional(seen.Trouble)
	// What either says cannot be switched cannot.
	out.Name, out.Switched, out.Fresh = seen.Name, seen.Switched && !o.Unswitched, verdict.Fresh(ep, seen.At, g.now)
	out.At, out.On = &seen.At, &seen.On
	if seen.Metered {
		out.W = ptr(tenth(seen.W))
		if seen.A > 0 || seen.W == 0 { // gear may measure watts alone
			out.A = &seen.A
		}
		if seen.Wh > 0 {
			out.Wh = &seen.Wh
		}
	}
	return out
}

func wholeSeconds(d *time.Duration) *int {
	if d == nil {
		return nil
	}
	return ptr(int(d.Seconds()))
}

func strandViews(strands [][]verdict.Hop) []contract.Strand {
	out := []contract.Strand{}
	for _, s := range strands {
		strand := contract.Strand{}
		for _, h := range s {
			v := contract.Hop{Label: h.Label, State: contract.HopState(h.State), Text: h.Text}
			if h.Device != "" {
				v.Device = ptr(string(h.Device))
			}
			strand = append(strand, v)
		}
		out = append(out, strand)
	}
	return out
}

func verdictView(v verdict.Verdict) contract.Verdict {
	if v.State == "" {
		v.State = verdict.Unknown
	}
	out := contract.Verdict{State: contract.VerdictState(v.State), Since: v.Since.UTC(), Reasons: []contract.Reason{}}
	if v.Severity != "" && v.State == verdict.Strained {
		out.Severity = ptr(contract.VerdictSeverity(v.Severity))
	}
	if v.CutBy != "" {
		out.CutBy = ptr(string(v.CutBy))
	}
	for _, r := range v.Reasons {
		x := contract.Reason{Stance: contract.ReasonStance(r.Stance), Text: r.Text.String()}
		if r.Stance == "" {
			x.Stance = contract.ReasonStance(verdict.Note)
		}
		if !r.At.IsZero() {
			x.At = ptr(r.At.UTC())
		}
		if r.Since {
			x.Since = ptr(true)
		}
		out.Reasons = append(out.Reasons, x)
	}
	return out
}

func keys(ks []estate.Key) []string {
	out := make([]string, len(ks))
	for i, k := range ks {
		out[i] = string(k)
	}
	return out
}

// proved says of the newest way in whether its lead is where the estate says.
func (g glance) proved(ways []contract.WayIn, d *estate.Device, kind wiring.LeadKind) {
	w := &ways[len(ways)-1]
	for _, x := range g.leads(d.Key).All {
		if x.Kind == kind && x.Verdict == wiring.Wrong {
			w.Text += "; " + x.Text
			return
		}
	}
	if !g.leads(d.Key).Proved(kind) {
		w.Text += "; wired, not proved"
	}
}

// lineLabel names the way to a serial line.
func lineLabel(d *estate.Device, ep estate.Endpoint) string {
	if ep.Protocol == estate.Modem {
		return "by telephone, " + d.LineAt(ep)
	}
	return "serial line at " + d.LineAt(ep)
}
