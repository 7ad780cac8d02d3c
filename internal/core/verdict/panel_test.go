package verdict

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
)

// TestThePowerLight: between nothing and a running host the light on its front
// decides; a draw that is measured beats it; a stale light counts for nothing.
func TestThePowerLight(t *testing.T) {
	for _, c := range []struct {
		name  string
		draw  float64
		mute  bool
		light *Light
		stale bool
		want  State
		says  string
	}{
		{"lit, draws, silent: hung", 42, true, &Light{On: true}, false, Hung, "its power light is on"},
		{"dark, with its standby power: dark", 2.6, true, &Light{}, false, Dark, "its power light is off"},
		{"dark, but it draws: hung", 42, true, &Light{}, false, Hung, "its power light is off"},
		{"dark, but it answers", 42, false, &Light{}, false, Steady, "answers ICMP"},
		{"nothing is known of the light", 2.6, true, nil, false, Silent, "its panel light would tell: wired to kvm, not read yet"},
		{"what is known of it is stale", 2.6, true, &Light{}, true, Silent, "its panel light would tell: it cannot be read any more from kvm"},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := newStory(t)
			devices := append([]estate.Device(nil), s.e.Devices...)
			for i := range devices {
				if devices[i].Key == "kiosk" {
					devices[i].Panel = []estate.End{estate.OutletEnd("kvm", 1)}
				}
			}
			devices = append(devices, estate.Device{Key: "kvm", Site: devices[0].Site, Role: "kvm", Endpoints: []estate.Endpoint{{
				Name: "board", Protocol: estate.HTTPAPI, Profile: "p", Every: 5 * time.Second, Timeout: time.Second, Network: []estate.NetworkCable{{Via: estate.End{Device: "cell"}}},
			}}})
			e, problems := estate.New("test", "here", s.e.Sites, devices)
			require.Empty(t, problems)
			s.e = e
			s.draw[5] = 42
			s.poll(2)
			s.draw[5], s.mute["kiosk"] = c.draw, c.mute
			for range 5 {
				s.poll(1)
				if c.light != nil && !(c.stale && s.ev.Panels["kiosk"].At != (time.Time{})) {
					light := *c.light
					light.At = s.now.Add(600 * time.Millisecond)
					if c.stale {
						light.At = s.now.Add(-time.Hour)
					}
					s.ev.Panel("kiosk", light)
				}
				s.vs = Judge(s.e, s.ev, s.vs, s.now.Add(time.Second))
			}
			v := s.vs["kiosk"]
			require.Equal(t, c.want, v.State, "%v", v.Reasons)
			var all string
			for _, r := range v.Reasons {
				all += r.Text.String() + "\n"
			}
			require.Contains(t, all, c.says)
		})
	}
}
