package orderfile

import (
	_ "embed"
	"slices"
	"strconv"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/ladder"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/yamltext"
)

// LadderSchema is the JSON Schema of a ladder.
//
//go:embed ladder.schema.json
var LadderSchema []byte

type ladderFile struct {
	Format  int      `yaml:"plumb-ladder"`
	Name    string   `yaml:"name"`
	Title   string   `yaml:"title"`
	Site    string   `yaml:"site"`
	For     match    `yaml:"for"`
	Lasting string   `yaml:"lasting"`
	If      string   `yaml:"if"`
	Unless  []string `yaml:"unless"`
	Rungs   []rung   `yaml:"rungs"`
	Uplink  *uplink  `yaml:"uplink"`
	Call    []string `yaml:"call"`
	Most    limits   `yaml:"at most"`
}

type match struct {
	Sites   []string `yaml:"sites"`
	Devices []string `yaml:"devices"`
	Roles   []string `yaml:"roles"`
	Tags    []string `yaml:"tags"`
}

type uplink struct {
	Witnesses []string `yaml:"witnesses"`
	Line      string   `yaml:"line"`
	Pauses    []string `yaml:"pauses"`
}

type rung struct {
	Do     string `yaml:"do"`
	By     string `yaml:"by"`
	Hold   string `yaml:"hold"`
	Run    string `yaml:"run"`
	Tries  int    `yaml:"tries"`
	Settle string `yaml:"settle"`
	Proof  string `yaml:"proof"`
}

type limits struct {
	DeviceDay  int    `yaml:"a device and day"`
	DeviceWeek int    `yaml:"a device and week"`
	SiteDay    int    `yaml:"a site and day"`
	EstateDay  int    `yaml:"a day"`
	AtOnce     int    `yaml:"at once"`
	Feed       int    `yaml:"a feed"`
	CoolDown   string `yaml:"cool-down"`
	AfterLoss  string `yaml:"after the utility is back"`
}

// LadderVersion is that of the form.
const LadderVersion = 1

var ladderForm = yamltext.Form{MaxSize: MaxSize, Key: "plumb-ladder", Version: LadderVersion, Help: "plumb ladder schema"}

// Bounds on ladders.
const (
	mostRungs     = 10
	mostTries     = 5
	mostLimit     = 100
	leastLasting  = time.Minute
	leastSettle   = 10 * time.Second
	longestSettle = 2 * time.Hour
	usualLasting  = 5 * time.Minute
	usualSettle   = 5 * time.Minute
	mostWitnesses = 20
	mostPauses    = 10
)

// A LadderOrder is one ladder as it was written.
type LadderOrder struct {
	Ladder *ladder.Ladder
	Site   estate.Key // whose clocks count in its conditions
	Text   string
	About  []estate.Key
}

// ParseLadders reads a file of ladders, as Parse does of routines.
func ParseLadders(name string, text []byte, around Around) ([]LadderOrder, error) {
	return parse(name, text, func(text string, first int) (LadderOrder, string, error) {
		o, err := oneLadder(name, text, first, around)
		if err != nil {
			return o, "", err
		}
		return o, o.Ladder.Name, nil
	})
}

func oneLadder(name, text string, first int, around Around) (o LadderOrder, err error) {
	var f ladderFile
	p := &parser{around: around, about: map[estate.Key]bool{}}
	if p.Text, err = yamltext.Read(name, []byte(text), first, ladderForm, &f); err != nil {
		return o, err
	}
	p.Begins(f.Format)
	p.begin(f.Name, f.Title, f.Site)
	p.f.With = map[string]string{"device": ""} // conditions know it
	l := &ladder.Ladder{
		Name: f.Name, Title: f.Title, Match: ladder.Match(f.For), Lasting: usualLasting, If: f.If, Unless: f.Unless, Call: f.Call, Limits: p.limits(f.Most),
	}
	for i, k := range f.For.Devices {
		p.device([]string{"for", "devices", strconv.Itoa(i)}, k)
	}
	for i, s := range f.For.Sites {
		if around.Zone(estate.Key(s)) == nil {
			p.Fault([]string{"for", "sites", strconv.Itoa(i)}, "there is no site %q in the estate", s)
		}
	}
	if f.Lasting != "" {
		l.Lasting = p.duration([]string{"lasting"}, f.Lasting, leastLasting, longestFor)
	}
	if f.If != "" {
		p.condition([]string{"if"}, f.If)
	}
	for i, x := range f.Unless {
		p.condition([]string{"unless", strconv.Itoa(i)}, x)
	}
	p.people([]string{"call"}, f.Call)
	if len(f.Rungs) == 0 || len(f.Rungs) > mostRungs {
		p.Fault([]string{"rungs"}, "a ladder has 1 to %d rungs", mostRungs)
	}
	for i, r := range f.Rungs {
		l.Rungs = append(l.Rungs, p.rung([]string{"rungs", strconv.Itoa(i)}, r))
	}
	if f.Uplink != nil {
		l.Uplink = p.uplink([]string{"uplink"}, f.Uplink, l.Match)
	}
	if err := p.Err(); err != nil {
		return o, err
	}
	return LadderOrder{Ladder: l, Site: estate.Key(f.Site), Text: kept(text), About: p.names()}, nil
}

func (p *parser) uplink(at []string, u *uplink, m ladder.Match) *ladder.Uplink {
	if len(m.Devices) != 1 || len(m.Sites)+len(m.Roles)+len(m.Tags) > 0 {
		p.Fault(at, "uplink goes with one device: for: {devices: [NAME]}")
	}
	out := &ladder.Uplink{Line: u.Line, Pauses: ladder.UsualPauses}
	named := map[string]bool{}
	for i, k := range u.Witnesses {
		where := append(at, "witnesses", strconv.Itoa(i))
		p.device(where, k)
		if named[k] || slices.Contains(m.Devices, k) {
			p.Fault(where, "%s is named twice: witnesses are different devices beyond the uplink", k)
		}
		named[k] = true
		out.Witnesses = append(out.Witnesses, estate.Key(k))
	}
	if len(named) < ladder.LeastWitnesses || len(named) > mostWitnesses {
		p.Fault(append(at, "witnesses"), "an uplink has %d to %d witnesses, at different places", ladder.LeastWitnesses, mostWitnesses)
	}
	if u.Line != "" {
		p.condition(append(at, "line"), u.Line)
	}
	if len(u.Pauses) > mostPauses {
		p.Fault(append(at, "pauses"), "there are at most %d pauses; the last counts for all further tries", mostPauses)
	}
	if len(u.Pauses) > 0 {
		out.Pauses = nil
	}
	for i, text := range u.Pauses {
		d := p.duration(append(at, "pauses", strconv.Itoa(i)), text, time.Minute, longestFor)
		if i > 0 && d != 0 && d < out.Pauses[i-1] {
			p.Fault(append(at, "pauses", strconv.Itoa(i)), "each pause is as long as the one before, or longer")
		}
		out.Pauses = append(out.Pauses, d)
	}
	return out
}

// rungKinds are the operations that may help.
var rungKinds = []operation.Kind{operation.Cycle, operation.Reset, operation.Restart, operation.On, operation.Press}

func (p *parser) rung(at []string, r rung) ladder.Rung {
	out := ladder.Rung{Kind: operation.Kind(r.Do), Means: operation.Means(r.By), Routine: r.Run, Tries: max(r.Tries, 1), Settle: usualSettle, Proof: r.Proof}
	switch {
	case (r.Do == "") == (r.Run == ""):
		p.Fault(at, "a rung does one thing: do: %s; or run: a routine", joined(rungKinds))
	case r.Do != "" && !slices.Contains(rungKinds, out.Kind):
		p.Fault(append(at, "do"), "%q is nothing that helps: %s", r.Do, joined(rungKinds))
	case r.Run != "" && !estate.ValidKey(r.Run):
		p.Fault(append(at, "run"), "%q is no routine", r.Run)
	case r.Run != "" && r.By+r.Hold != "":
		p.Fault(at, "by and hold go with do, and not with run")
	}
	if r.By != "" && !slices.Contains(operation.AllMeans, out.Means) {
		p.Fault(append(at, "by"), "%q is no means: %s", r.By, joined(operation.AllMeans))
	}
	if r.Tries < 0 || r.Tries > mostTries {
		p.Fault(append(at, "tries"), "tries is from 1 to %d", mostTries)
	}
	if r.Hold != "" {
		out.Hold = p.duration(append(at, "hold"), r.Hold, time.Second, operation.MaxHold)
	}
	if r.Settle != "" {
		out.Settle = p.duration(append(at, "settle"), r.Settle, leastSettle, longestSettle)
	}
	if r.Proof != "" {
		p.condition(append(at, "proof"), r.Proof)
	}
	return out
}

func (p *parser) limits(x limits) ladder.Limits {
	out := ladder.Usual
	for _, c := range []struct {
		key  string
		n    int
		into *int
	}{
		{"a device and day", x.DeviceDay, &out.DeviceDay}, {"a device and week", x.DeviceWeek, &out.DeviceWeek}, {"a site and day", x.SiteDay, &out.SiteDay},
		{"a day", x.EstateDay, &out.EstateDay}, {"at once", x.AtOnce, &out.AtOnce}, {"a feed", x.Feed, &out.Feed},
	} {
		if c.n < 0 || c.n > mostLimit {
			p.Fault([]string{"at most", c.key}, "%s is from 1 to %d", c.key, mostLimit)
		}
		if c.n > 0 {
			*c.into = c.n
		}
	}
	if x.CoolDown != "" {
		out.CoolDown = p.duration([]string{"at most", "cool-down"}, x.CoolDown, time.Minute, longestFor)
	}
	if x.AfterLoss != "" {
		out.AfterReturn = p.duration([]string{"at most", "after the utility is back"}, x.AfterLoss, time.Minute, longestFor)
	}
	return out
}
