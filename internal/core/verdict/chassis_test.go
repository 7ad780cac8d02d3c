package verdict

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/reading"
)

// controlled is the pier with a controller in the kiosk, which hangs on cell
// as the PDU's card does.
func controlled(t *testing.T) *story {
	s := newStory(t)
	devices := append([]estate.Device(nil), s.e.Devices...)
	for i := range devices {
		if devices[i].Key == "kiosk" {
			devices[i].Endpoints = []estate.Endpoint{{
				Name: "bmc", Protocol: estate.IPMI, Every: 5 * time.Second, Timeout: time.Second, Sensors: 30 * time.Second, Network: []estate.NetworkCable{{Via: estate.End{Device: "cell"}}},
			}}
		}
	}
	e, problems := estate.New("test", "here", s.e.Sites, devices)
	require.Empty(t, problems)
	s.e = e
	return s
}

// says is one answer of the kiosk's controller.
func (s *story) says(c reading.Chassis) *story {
	c.At = s.now.Add(600 * time.Millisecond)
	s.ev.Controller("kiosk", c)
	s.ev.Endpoint(estate.EndpointID{Device: "kiosk", Name: "bmc"}, Result{SentAt: c.At, OK: true, RTT: time.Millisecond})
	s.vs = Judge(s.e, s.ev, s.vs, s.now.Add(time.Second))
	return s
}

// TestControllersEvidence: in-band silence, chassis, draw and the inside of the
// box are weighed against each other.
func TestControllersEvidence(t *testing.T) {
	watts := 42.0
	on := reading.Chassis{On: true, State: "S0, working", Watts: &watts}
	for _, c := range []struct {
		name   string
		draw   float64 // on the outlet
		mute   bool
		says   reading.Chassis
		ailing []Ailment
		want   State
		reason string
	}{
		{"on, draws, silent: hung", 42, true, on, nil, Hung, "its controller answers and finds nothing wrong inside"},
		{"the same, and something is wrong inside", 42, true, on, []Ailment{{"CPU 1 temp is 101 °C", reading.Critical}}, Hung, "CPU 1 temp is 101 °C"},
		{"off, and nobody asked for that: dark", 8, true, reading.Chassis{State: "S5, off"}, nil, Dark, "nobody asked for that here"},
		{"asleep by itself: parked", 9, true, reading.Chassis{On: true, Asleep: true, State: "S3, asleep"}, nil, Parked, "its own power management did it"},
		{"asleep, says its controller, but it answers", 42, false, reading.Chassis{On: true, Asleep: true, State: "S3, asleep"}, nil, Steady, "answers ICMP"},
		{"off, says its controller, but it draws: hung", 42, true, reading.Chassis{}, nil, Hung, "its chassis is off"},
		{"answers, and a fan stands still: strained", 42, false, on, []Ailment{{"Fan 2 is 0 rpm", reading.Critical}}, Strained, "Fan 2 is 0 rpm"},
		{"its watts are those of another box", 170, false, on, nil, Strained, "its controller measures 42.0 W and its outlets 170 W"},
		{"its firmware is being updated", 42, false, reading.Chassis{On: true, Updating: true}, nil, Steady, "its firmware is being updated: leave its power alone"},
		{"a watchdog may act by itself", 42, true, reading.Chassis{On: true, Watchdog: &reading.Watchdog{Action: "reset", Left: time.Minute, For: "operating system"}}, nil, Hung, "its watchdog is armed: unless its operating system is heard of within 59 s, it does a reset by itself"},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := controlled(t)
			s.draw[5] = 42
			s.poll(2).says(on)
			s.draw[5], s.mute["kiosk"] = c.draw, c.mute
			for range 4 {
				s.poll(1)
				s.ev.Ailing["kiosk"] = Ailments{At: s.now, Good: time.Minute, List: c.ailing}
				s.says(c.says)
			}
			v := s.vs["kiosk"]
			require.Equal(t, c.want, v.State, "%+v", v.Reasons)
			var texts []string
			for _, r := range v.Reasons {
				texts = append(texts, r.Text.String())
			}
			require.Contains(t, joined(texts), c.reason)
		})
	}
}

func joined(texts []string) string {
	all := ""
	for _, x := range texts {
		all += x + "\n"
	}
	return all
}

// TestAStaleControllerCountsForNothing: what it said before it fell silent.
func TestAStaleControllerCountsForNothing(t *testing.T) {
	s := controlled(t)
	s.draw[5] = 42
	s.poll(2).says(reading.Chassis{On: true})
	s.mute["kiosk"] = true
	s.poll(2).says(reading.Chassis{}) // off
	s.poll(8)                         // and not heard of since
	require.Equal(t, Hung, s.vs["kiosk"].State, "%+v", s.vs["kiosk"].Reasons)
	_, known := At(s.e, s.ev, nil, s.now).ControllerWatts("kiosk")
	require.False(t, known)
}

// TestOurOwnSwitchingIsNoFlapping: what comes and goes because we switch it.
func TestOurOwnSwitchingIsNoFlapping(t *testing.T) {
	s := controlled(t)
	s.draw[5] = 42
	s.poll(2)
	for n := range 8 {
		s.ev.Operating["kiosk"] = "a cycle by us"
		s.mute["kiosk"] = n%2 == 0
		s.poll(4)
	}
	delete(s.ev.Operating, "kiosk")
	s.poll(1)
	require.Equal(t, Steady, s.vs["kiosk"].State, "%+v", s.vs["kiosk"].Reasons)
}

// TestNoNewsIsNoGoodNews: what was wrong inside stays wrong until it is seen right, and a
// controller whose sensors cannot be read any more is not well.
func TestNoNewsIsNoGoodNews(t *testing.T) {
	s := controlled(t)
	for i := range s.e.Device("kiosk").Endpoints {
		s.e.Device("kiosk").Endpoints[i].Sensors = 10 * time.Second
	}
	board := estate.EndpointID{Device: "kiosk", Name: s.e.Device("kiosk").Endpoints[0].Name}
	judged := func(a Ailments, after time.Duration) string {
		s.ev.Ailing["kiosk"] = a
		s.now = s.now.Add(after)
		s.ev.Endpoint(board, Result{SentAt: s.now, RTT: time.Millisecond, OK: true})
		s.ev.Probe(ProbeID{"kiosk", 0}, Result{SentAt: s.now, RTT: time.Millisecond, OK: true})
		s.vs = Judge(s.e, s.ev, s.vs, s.now)
		return string(s.vs["kiosk"].Severity) + " " + s.said("kiosk")
	}
	s.draw[5] = 42
	s.poll(2)
	failed := Ailment{"PSU 2: failed", reading.Critical}
	require.Contains(t, judged(Ailments{At: s.now, Good: time.Minute, List: []Ailment{failed}}, 0), "critical PSU 2: failed;")
	old := Ailments{At: s.now, Good: time.Minute, List: []Ailment{failed}, Failed: "the records cannot be read"}
	said := judged(old, 2*time.Minute)
	require.Contains(t, said, "critical PSU 2: failed, as was last read")
	require.Contains(t, said, "its sensors cannot be read any more: the records cannot be read")
	require.Contains(t, judged(Ailments{At: s.now, Good: time.Minute}, 0), " answers ICMP", "it is well again")
	require.NotContains(t, judged(Ailments{Failed: "no"}, time.Second), "cannot be read")
	require.Contains(t, judged(Ailments{Failed: "no"}, 10*time.Minute), "warning its sensors cannot be read: no")
}
