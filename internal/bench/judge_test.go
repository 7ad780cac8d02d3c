package bench

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/verdict"
)

// campus is an estate of this many devices, each with an echo probe and an
// outlet: behind layers of so many switches each, which are connected to all of
// the layer above. One of three devices is silent, as one in hearing.
type campus struct {
	e  *estate.Estate
	ev *verdict.Evidence
	at time.Time
}

const perStrip = 40

func newCampus(b testing.TB, devices, layers, wide int) campus {
	probe := []estate.Probe{{Kind: "echo", Target: "192.0.2.1", Every: 10 * time.Second, Timeout: time.Second}}
	list := []estate.Device{{Key: "here", Site: "s", Role: "server"}}
	above := []estate.Key{"here"}
	via := func() (cables []estate.NetworkCable) {
		for _, k := range above {
			cables = append(cables, estate.NetworkCable{Via: estate.End{Device: k}})
		}
		return cables
	}
	for l := range layers {
		var layer []estate.Key
		for w := range wide {
			k := estate.Key(fmt.Sprintf("switch-%d-%d", l, w))
			list = append(list, estate.Device{Key: k, Site: "s", Role: "switch", Probes: probe, Network: via()})
			layer = append(layer, k)
		}
		above = layer
	}
	for strip := 0; len(list) < devices; strip++ {
		pdu := estate.Device{Key: estate.Key(fmt.Sprintf("pdu-%d", strip)), Site: "s", Role: "pdu", Power: []estate.PowerCable{{From: estate.End{Device: estate.Utility}}}}
		pdu.Endpoints = []estate.Endpoint{{Name: "card", Protocol: "snmp", Profile: "lab-pdu", Secret: "s", Every: 10 * time.Second, Timeout: time.Second, Addresses: []string{"192.0.2.1:161"}, Network: via()}}
		for n := 1; n <= perStrip; n++ {
			pdu.Outlets = append(pdu.Outlets, estate.Outlet{Number: n})
			list = append(list, estate.Device{
				Key: estate.Key(fmt.Sprintf("box-%d-%d", strip, n)), Site: "s", Role: "box", Probes: probe, Network: via(),
				Power: []estate.PowerCable{{From: estate.OutletEnd(pdu.Key, n)}},
			})
		}
		list = append(list, pdu)
	}
	e, problems := estate.New("campus", "here", []estate.Site{{Key: "s", Zone: time.UTC, Hourly: 1_000_000}}, list)
	require.Empty(b, problems)
	c := campus{e, verdict.NewEvidence(), time.Date(2026, 1, 2, 3, 4, 5, 0, time.UTC)}
	for round := range 5 {
		c.listen(round)
	}
	return c
}

// listen takes in a round of answers, and of silence from one in three boxes
// after the first.
func (c *campus) listen(round int) {
	c.at = c.at.Add(10 * time.Second)
	for i, k := range c.e.ReachOrder() {
		d, sent := c.e.Device(k), c.at.Add(time.Duration(i)*time.Millisecond/10)
		for n := range d.Probes {
			ok := round == 0 || d.Role != "box" || i%3 != 0
			c.ev.Probe(verdict.ProbeID{Device: k, Index: n}, verdict.Result{SentAt: sent, RTT: time.Millisecond, OK: ok})
		}
		for _, ep := range d.Endpoints {
			c.ev.Endpoint(estate.EndpointID{Device: k, Name: ep.Name}, verdict.Result{SentAt: sent, RTT: time.Millisecond, OK: true})
		}
		for _, o := range d.Outlets {
			c.ev.Outlet(estate.OutletEnd(k, o.Number), verdict.Outlet{At: sent, On: true, Metered: true, W: 40, Switched: true})
		}
	}
	c.at = c.at.Add(3 * time.Second)
}

// after judges what is left to judge once all has been: a device answers, and so does
// another, as in a watch that goes on.
func (c *campus) after(b *testing.B) {
	s := verdict.NewStanding(c.e, c.ev, nil)
	s.Judge(c.at)
	now, judged, i := c.at, 0, 0
	for b.Loop() {
		for range 10 {
			i++
			now = now.Add(time.Millisecond)
			d := &c.e.Devices[i%len(c.e.Devices)]
			if len(d.Probes) > 0 {
				ok := c.ev.Probes[verdict.ProbeID{Device: d.Key}].Answers()
				c.ev.Probe(verdict.ProbeID{Device: d.Key}, verdict.Result{SentAt: now, RTT: time.Millisecond, OK: ok})
			}
		}
		devices, _ := s.Judge(now)
		judged += len(devices)
	}
	require.Positive(b, judged)
	b.ReportMetric(float64(b.Elapsed().Microseconds())/float64(judged), "µs/judged")
	b.ReportMetric(float64(judged)/float64(b.N), "judged/round")
}

// BenchmarkJudge: devices judged per second with a third of them silent: all of them from
// nothing, and then those of which something new is heard. Bare is a loop that looks up all
// evidence about each device, and believes nothing.
func BenchmarkJudge(b *testing.B) {
	for _, size := range []struct {
		name                  string
		devices, layers, wide int
	}{{"5000", 5000, 3, 1}, {"20000", 20000, 3, 1}, {"5000-eight-layers", 5000, 8, 2}} {
		c := newCampus(b, size.devices, size.layers, size.wide)
		rate := func(b *testing.B) {
			b.ReportMetric(float64(b.N)*float64(len(c.e.Devices))/b.Elapsed().Seconds(), "devices/s")
		}
		b.Run(size.name+"/bare", func(b *testing.B) {
			for b.Loop() {
				answers := make(map[estate.Key]bool, len(c.e.Devices))
				for i := range c.e.Devices {
					d := &c.e.Devices[i]
					for n := range d.Probes {
						answers[d.Key] = c.ev.Probes[verdict.ProbeID{Device: d.Key, Index: n}].Answers()
					}
					for _, cable := range d.Power {
						answers[d.Key] = answers[d.Key] || c.ev.Outlets[cable.From].On
					}
				}
			}
			rate(b)
		})
		b.Run(size.name+"/first", func(b *testing.B) {
			for b.Loop() {
				verdict.NewStanding(c.e, c.ev, nil).Judge(c.at)
			}
			rate(b)
		})
		b.Run(size.name+"/after", func(b *testing.B) { c.after(b) })
	}
}
