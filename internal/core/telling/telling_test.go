package telling

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/incident"
	"plumbbob/internal/core/reading"
)

var faroe = func() *time.Location {
	zone, err := time.LoadLocation("Atlantic/Faroe")
	if err != nil {
		panic(err)
	}
	return zone
}()

func at(s string) time.Time {
	t, err := time.ParseInLocation("2006-01-02 15:04", s, faroe)
	if err != nil {
		panic(err)
	}
	return t
}

type busy struct{ who string }

func (b busy) Busy(now time.Time) (string, time.Time, bool) {
	return b.who, now.Add(time.Hour), b.who != ""
}

// TestWhoIsOnDuty: what is for once comes before the calendar, and that before the shifts, which
// end at their hour also when clocks change.
func TestWhoIsOnDuty(t *testing.T) {
	r := Rota{Zone: faroe, Shifts: []Shift{
		{WeekTime{time.Saturday, 20 * 60}, WeekTime{time.Sunday, 8 * 60}, "ann"},
		{WeekTime{time.Sunday, 8 * 60}, WeekTime{time.Friday, 8 * 60}, "tom"},
	}, Instead: []Instead{{at("2026-12-24 08:00"), at("2026-12-26 08:00"), "eva"}}}
	for when, want := range map[string]string{
		"2026-11-29 07:59": "ann until 08:00", "2026-11-29 08:00": "tom until 08:00", "2026-11-28 19:59": " until 00:00", "2026-11-27 08:00": " until 00:00",
		"2026-12-24 08:00": "eva until 08:00", "2026-12-26 08:00": " until 00:00",
		"2026-10-25 01:30": "ann until 08:00", "2026-03-29 00:30": "ann until 08:00", // an hour more, and one less, in between
	} {
		who, until := r.OnDuty(at(when))
		clock := until.In(faroe).Format("15:04")
		if until.IsZero() {
			clock = "00:00"
		}
		require.Equal(t, want, who+" until "+clock, when)
	}
	r.Calendar = busy{"kai"}
	who, _ := r.OnDuty(at("2026-11-29 09:00"))
	require.Equal(t, "kai", who)
	who, _ = r.OnDuty(at("2026-12-24 09:00"))
	require.Equal(t, "eva", who)
	whole := Rota{Zone: faroe, Shifts: []Shift{{WeekTime{time.Monday, 0}, WeekTime{time.Monday, 0}, "ann"}}}
	who, _ = whole.OnDuty(at("2026-11-29 23:59"))
	require.Equal(t, "ann", who, "all week")
}

func plan() *Plan {
	return &Plan{
		Zone: faroe,
		People: map[string]Person{
			"ann": {Title: "Ann", Zone: faroe, Quiet: []Quiet{{From: 22 * 60, Until: 6 * 60, But: Critical}}},
			"tom": {Title: "Tom", Zone: faroe, Quiet: []Quiet{{From: 22 * 60, Until: 6 * 60}}},
			"eva": {Title: "Eva", Zone: faroe},
		},
		Teams: map[string][]string{"all": {"ann", "tom"}},
		Rotas: map[string]Rota{"duty": {Zone: faroe, Shifts: []Shift{{WeekTime{time.Monday, 0}, WeekTime{time.Monday, 0}, "eva"}}}},
		Rules: []Rule{
			{"pier", Match{Sites: []string{"pier"}}, []Step{{Who: []string{"ann"}}, {After: 15 * time.Minute, Who: []string{"all", "duty"}}}},
			{"kiosks", Match{Tags: []string{"tickets"}, Least: Critical}, []Step{{Who: []string{"eva"}}}},
		},
	}
}

func subject(kind, opened string) Subject {
	return Subject{Incident: &incident.Incident{ID: "i", Device: "kiosk", Site: "pier", Kind: kind, Opened: at(opened)}, Tags: []string{"tickets"}}
}

func says(turns []Turn) (out []string) {
	for _, x := range turns {
		out = append(out, fmt.Sprintf("%s %s/%d %s %s", x.Person, x.Rule, x.Step, x.Due.In(faroe).Format("02 15:04:05"), x.Held))
	}
	return out
}

// TestTurns: each person once, at the earliest, by what fits; quiet hours and works hold it.
func TestTurns(t *testing.T) {
	p := plan()
	require.Equal(t, []string{"ann pier/1 29 12:00:20 ", "eva kiosks/1 29 12:00:20 ", "tom pier/2 29 12:15:00 "}, says(p.Turns(subject("hung", "2026-11-29 12:00"))))
	require.Equal(t, []string{"ann pier/1 30 06:00:00 quiet hours", "tom pier/2 30 06:00:00 quiet hours", "eva pier/2 29 23:15:00 "}, says(p.Turns(subject("strained", "2026-11-29 23:00"))))
	require.Equal(t, []string{"ann pier/1 29 23:00:20 ", "eva kiosks/1 29 23:00:20 ", "tom pier/2 30 06:00:00 quiet hours"}, says(p.Turns(subject("hung", "2026-11-29 23:00"))), "of bad ones Ann hears at night")
	seen := subject("hung", "2026-11-29 12:00")
	seen.Seen = &incident.Remark{By: "ann", At: at("2026-11-29 12:10")}
	require.Len(t, p.Turns(seen), 2, "somebody sees to it, and nobody else is told")
	works := subject("hung", "2026-11-29 12:00")
	works.HeldUntil, works.HeldWhy = at("2026-11-29 14:00"), "works"
	require.Equal(t, "ann pier/1 29 14:00:00 works", says(p.Turns(works))[0])
	other := subject("hung", "2026-11-29 12:00")
	other.Site, other.Tags = "boat", nil
	require.Empty(t, p.Turns(other))
}

// TestServiceCallByRule: it is sent once, where hardware is what is wrong, and beside what people are told.
func TestServiceCallByRule(t *testing.T) {
	p := plan()
	p.Rules = append(p.Rules, Rule{"warranty", Match{}, []Step{{After: time.Hour, Who: []string{"eva"}, Service: true, Note: "Contract 4711"}}})
	s, have := subject("strained", "2026-11-29 12:00"), []Note{}
	ids := func(now string) (out []string) {
		for _, n := range p.Next(s, have, at(now)).Add {
			n.State, n.Kind = Sent, s.Kind
			have, out = append(have, n), append(out, n.ID)
		}
		return out
	}
	require.Equal(t, []string{"i.ann.opened.1", "i.tom.opened.1", "i.eva.opened.1"}, ids("2026-11-29 14:00"), "no hardware is known to be broken")
	s.Broken = []string{"Fan 2 is 0 rpm"}
	require.Equal(t, []string{"i.eva.service.1"}, ids("2026-11-29 14:00"))
	require.Equal(t, "Contract 4711", p.Remark(have[3]))
	require.Empty(t, p.Remark(Note{Rule: "gone", Step: 1}))
	require.Empty(t, ids("2026-11-29 15:00"), "once")
	require.Empty(t, p.Ahead(s, have))
	require.Len(t, p.Ahead(s, have[:3]), 1, "who was told is not yet sent a service call")
	have[3].State = Queued
	s.Incident.Ended = at("2026-11-29 16:00")
	c := p.Next(s, have, at("2026-11-29 16:00"))
	require.Equal(t, []string{"i.eva.service.1"}, c.Drop, "nobody is to come any more")
	require.Len(t, c.Add, 3, "those who were told are told that it is over")
	require.Equal(t, []string{"eva"}, p.Dealers(s.Opened))
	s.Seen = &incident.Remark{By: "ann", At: at("2026-11-29 12:10")}
	require.Len(t, p.Turns(s), 1, "somebody sees to it")
}

// TestOfOneIncident: one message when it opens, one when it grows, one when it is over.
func TestOfOneIncident(t *testing.T) {
	p, s := plan(), subject("hung", "2026-11-29 12:00")
	have := []Note{}
	next := func(now string) (ids []string) {
		c := p.Next(s, have, at(now))
		require.Equal(t, c, p.Next(s, have, at(now)), "it says the same again")
		for _, n := range c.Add {
			ids = append(ids, n.ID)
		}
		have = append(have, c.Add...)
		for i := range have {
			if slices.Contains(c.Drop, have[i].ID) {
				have[i].State = Dropped
				ids = append(ids, "not "+have[i].ID)
			}
		}
		return ids
	}
	send := func(now string) {
		for i := range have {
			if have[i].State == Queued {
				have[i].State, have[i].At, have[i].Kind, have[i].Size = Sent, at(now), s.Kind, len(s.Explains)
			}
		}
	}
	require.Equal(t, []string{"i.ann.opened.1", "i.eva.opened.1"}, next("2026-11-29 12:00"))
	require.Empty(t, next("2026-11-29 12:01"))
	send("2026-11-29 12:01")
	s.Explains = []estate.Key{"camera"}
	require.Equal(t, []string{"i.ann.more.1", "i.eva.more.1"}, next("2026-11-29 12:02"))
	require.Equal(t, at("2026-11-29 12:11"), have[2].Due, "not at once again")
	s.Ended = at("2026-11-29 12:05")
	require.Equal(t, []string{"i.ann.over.1", "i.eva.over.1", "not i.ann.more.1", "not i.eva.more.1"}, next("2026-11-29 12:05"))
	s.Ended = time.Time{} // it is back before that was said
	require.ElementsMatch(t, []string{"not i.ann.over.1", "not i.eva.over.1", "i.ann.more.2", "i.eva.more.2"}, next("2026-11-29 12:06"))
	s.Ended = at("2026-11-29 12:07")
	require.Contains(t, next("2026-11-29 12:07"), "i.ann.over.2")
	send("2026-11-29 12:12")
	require.Empty(t, next("2026-11-29 12:13"))
}

// TestNobodyIsToldTwice: whatever happens to an incident, and whatever becomes of messages.
func TestNobodyIsToldTwice(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		p, s := plan(), subject("hung", "2026-11-29 12:00")
		now, have, ids := s.Opened, []Note{}, map[string]bool{}
		told := map[string]What{}
		look := func() {
			c := p.Next(s, have, now)
			for _, n := range c.Add {
				require.False(t, ids[n.ID], "%s twice", n.ID)
				ids[n.ID] = true
				have = append(have, n)
			}
			for i := range have {
				if slices.Contains(c.Drop, have[i].ID) {
					require.Equal(t, Queued, have[i].State)
					have[i].State = Dropped
				}
			}
			c = p.Next(s, have, now)
			require.Empty(t, c.Drop)
			require.Empty(t, c.Add, "it has all been noted")
		}
		send := func(fails bool) {
			for i := range have {
				n := &have[i]
				if n.State != Queued || n.Due.After(now) {
					continue
				}
				switch {
				case n.Gone(s.Incident) != "":
					n.State = Dropped
				case fails:
					if n.State = Failed; n.What == Over {
						told[n.Person] = Over // it was tried for a day
					}
				default:
					if n.What == Over {
						require.Contains(t, []What{Opened, More}, told[n.Person], "it is over for who was told that it was not")
					}
					if n.What == Opened && s.Open() {
						require.Contains(t, []What{"", Over}, told[n.Person], "told twice")
					}
					if told[n.Person] = n.What; n.What == Opened && !s.Open() {
						told[n.Person] = Over // it says that it is
					}
					n.State, n.At, n.Kind, n.Size = Sent, now, s.Kind, len(s.Explains)
				}
			}
		}
		look()
		for range rapid.IntRange(1, 40).Draw(t, "steps") {
			now = now.Add(time.Duration(rapid.IntRange(1, 2000).Draw(t, "s")) * time.Second)
			switch rapid.IntRange(0, 6).Draw(t, "what") {
			case 0:
				s.Explains = append(s.Explains, estate.Key(fmt.Sprint(len(s.Explains))))
			case 1:
				s.Kind = rapid.SampledFrom([]string{"hung", "silent", "strained"}).Draw(t, "kind")
			case 2:
				if s.Open() {
					s.Ended = now
				}
			case 3:
				if !s.Open() && now.Sub(s.Ended) < incident.SoonAgain {
					s.Ended = time.Time{}
				}
			case 4:
				s.Seen = &incident.Remark{By: "ann", At: now}
			default:
				send(rapid.IntRange(0, 5).Draw(t, "fails") == 0)
			}
			look()
		}
		if s.Open() {
			s.Ended = now
		}
		look()
		now = now.Add(48 * time.Hour)
		send(false)
		for who, last := range told {
			require.Equal(t, Over, last, "%s was told that it is over", who)
		}
	})
}

// TestCompose: what stands in a message, and several things in one.
func TestCompose(t *testing.T) {
	i := &incident.Incident{ID: "abc", Device: "router", Site: "pier", Kind: "hung", Text: "draws 11 W", Opened: at("2026-11-29 03:12"), Explains: []estate.Key{"a", "b", "c", "d", "e", "f"}}
	item := Item{Note: Note{What: Opened}, Incident: i, Site: "Skarvoe", Line: "ops ─ cell ✗ router", Link: "https://plumb.example/incidents/abc"}
	m := Compose("x", []Item{item}, faroe, at("2026-11-29 03:13"))
	require.Equal(t, "router is hung, 6 behind it cut off", m.Subject)
	require.Equal(t, `Skarvoe, since Sun 29 Nov 03:12 WET
Why: draws 11 W
Behind it: a, b, c, d, e and 1 more
Line: ops ─ cell ✗ router
Look: plumb show router   See to it: plumb incident ack abc
https://plumb.example/incidents/abc
`, m.Text)
	item.Note = Note{What: More, Kind: "hung", Size: 4}
	require.Equal(t, "router takes 2 more along: is hung, 6 behind it cut off", Compose("x", []Item{item}, faroe, i.Opened).Subject)
	item.Note.Kind = "silent"
	require.Equal(t, "router is hung by now, 6 behind it cut off", Compose("x", []Item{item}, faroe, i.Opened).Subject)
	over := *i
	over.Ended, over.Ending = at("2026-11-29 03:24"), "it is steady again"
	done := Item{Note: Note{What: Over}, Incident: &over, Site: "Skarvoe"}
	m = Compose("x", []Item{done}, faroe, over.Ended)
	require.Equal(t, "Over after 12 min: router, which was hung", m.Subject)
	require.Contains(t, m.Text, "Over since Sun 29 Nov 03:24 WET: it is steady again")
	m = Compose("x", []Item{item, done}, faroe, over.Ended)
	require.Equal(t, "2 incidents, 1 of them open", m.Subject)
	require.Equal(t, Critical, m.Severity)
	for _, kind := range []string{incident.Late, incident.Missed, incident.Owed} {
		item.Note, i.Kind = Note{What: Opened}, kind
		require.NotContains(t, Compose("x", []Item{item}, faroe, i.Opened).Subject, "is "+kind)
	}
}

// TestReport: due for two hours of its days, and with what was.
func TestReport(t *testing.T) {
	p := plan()
	require.Empty(t, p.ReportID(at("2026-11-29 07:30"), 2*time.Hour))
	p.Report = &Report{At: 7*60 + 30, Days: []time.Weekday{time.Sunday}, Who: []string{"all"}}
	for when, want := range map[string]string{"2026-11-29 07:29": "", "2026-11-29 07:30": "report.2026-11-29", "2026-11-29 09:30": "report.2026-11-29", "2026-11-29 09:31": "", "2026-11-30 07:30": ""} {
		require.Equal(t, want, p.ReportID(at(when), 2*time.Hour), when)
	}
	require.Equal(t, []string{"ann", "tom"}, p.Readers(at("2026-11-29 07:30")))
	now := at("2026-11-29 07:30")
	open := &incident.Incident{ID: "a", Device: "router", Kind: "hung", Opened: at("2026-11-29 03:12"), Explains: []estate.Key{"x"}, Seen: &incident.Remark{By: "ann"}}
	over := &incident.Incident{ID: "b", Device: "kiosk", Kind: "silent", Opened: at("2026-11-28 23:00"), Ended: at("2026-11-28 23:20"), Ending: "it is steady again"}
	old := &incident.Incident{ID: "c", Device: "old", Opened: at("2026-11-20 23:00"), Ended: at("2026-11-20 23:20")}
	m := ComposeReport("r", []*incident.Incident{old, over, open}, now.Add(-24*time.Hour), 2, faroe, now)
	require.Equal(t, "The last day: 2 incidents, 1 of them open", m.Subject)
	require.Equal(t, `Open
  router is hung since Sun 03:12, for 4 h, 1 behind it cut off; ann sees to it

Over
  Sat 23:00 kiosk, which was silent, for 20 min: it is steady again

2 messages could not be sent: plumb telling sent --failed
`, m.Text)
	m = ComposeReport("r", nil, now, 0, faroe, now)
	require.Equal(t, "The last day: nothing was wrong", m.Subject)
	require.NotEmpty(t, m.Text)
}

// TestServiceCall: what a maker wants to know, and no address within the house.
func TestServiceCall(t *testing.T) {
	v := 0.0
	made := at("2026-11-29 03:12")
	p := Patient{
		Device: "ostrel-store", Title: "storage host", Site: "Ostrel Quay", Place: "rack 1", Wrong: []string{"fan 2 stands still"},
		Sheet:   reading.Sheet{Maker: "Nobody", Product: "Box 7", Serial: "S-1", Firmware: "1.2", Address: "198.51.100.7", MAC: "02:00:00:00:00:07", Name: "bmc.internal"},
		Sensors: []reading.Sensor{{Name: "fan 2", Value: &v, Unit: "RPM", Level: reading.Critical}, {Name: "inlet", Words: "21 °C", Level: reading.Fine}},
		Events:  reading.EventLog{Events: []reading.Event{{At: &made, Sensor: "fan 2", Text: "below its limit"}, {Sensor: "psu", Text: "lost", Gone: true}}, Full: true},
	}
	m := ServiceCall("x", p, " please come \n", made)
	require.Equal(t, "Service call: Box 7, serial S-1", m.Subject)
	require.Contains(t, m.Text, "please come\n\nWhat is wrong\n  fan 2 stands still\n  fan 2: 0 RPM (critical)\n")
	require.Contains(t, m.Text, "Where          Ostrel Quay, rack 1\n")
	require.Equal(t, "entries have been dropped: the log was full\n2026-11-29T03:12:00Z  fan 2  below its limit\nbefore its clock was set  psu  lost (gone)\n", m.Files[1].Text)
	for _, inside := range []string{"198.51", "02:00", "internal"} {
		require.NotContains(t, m.Text+m.Files[0].Text, inside)
	}
	m = ServiceCall("x", Patient{Device: "kiosk", Title: "ticket kiosk"}, "", made)
	require.Equal(t, "Service call: ticket kiosk", m.Subject)
}

// TestRows: a line is broken between its devices, where a telephone would break it anywhere.
func TestRows(t *testing.T) {
	require.Equal(t, []string{"ops ─ cell ✗ router"}, rows("ops ─ cell ✗ router"))
	require.Equal(t, []string{"ostrel-ops ─ ostrel-core ─ skarvoe-bridge", "✗ skarvoe-router"}, rows("ostrel-ops ─ ostrel-core ─ skarvoe-bridge ✗ skarvoe-router"))
	long := strings.Repeat("x", 60)
	require.Equal(t, []string{"a", "─ " + long, "─ b"}, rows("a ─ "+long+" ─ b"))
}
