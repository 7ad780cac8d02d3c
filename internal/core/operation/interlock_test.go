package operation

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/core/verdict"
)

// change returns an estate with some devices different.
func change(t *testing.T, e *estate.Estate, f func(*estate.Device)) *estate.Estate {
	t.Helper()
	devices := append([]estate.Device(nil), e.Devices...)
	for i := range devices {
		f(&devices[i])
	}
	out, problems := estate.New(e.Name, e.Standpoint, e.Sites, devices)
	require.Empty(t, problems)
	return out
}

// off has an outlet of the cupboard be off, with nothing flowing.
func (w World) off(end estate.End) {
	w.Evidence.Outlet(end, verdict.Outlet{At: w.Now, Switched: true, Metered: true})
}

// TestEveryInterlock: each rule stops what it is for, says so in a sentence that
// somebody tired understands, says who may lift it, and stops nothing else.
func TestEveryInterlock(t *testing.T) {
	lift := t0.Add(time.Hour)
	onBattery := func(charge, minutes float64) func(*testing.T, *World) {
		return func(t *testing.T, w *World) {
			w.Estate = change(t, w.Estate, func(d *estate.Device) {
				if d.Key == "pdu" {
					d.Power = []estate.PowerCable{{From: estate.End{Device: "ups"}}}
				}
				if d.Key == "lamp" { // it becomes one
					d.Key, d.Supply, d.Endpoints = "ups", &estate.Supply{RatingW: 900}, []estate.Endpoint{{Name: "card", Protocol: estate.SNMP, Profile: "p", Every: 5 * time.Second, Timeout: time.Second}}
				}
			})
			w.Evidence.TakeSupply("ups", reading.Supply{Source: reading.SourceBattery, Battery: reading.Battery{Charge: &charge, Minutes: &minutes}}, w.Now)
			w.off(estate.OutletEnd("pdu", 3))
		}
	}
	rated := func(amps float64, inrush float64) func(*testing.T, *World) {
		return func(t *testing.T, w *World) {
			w.Estate = change(t, w.Estate, func(d *estate.Device) {
				if d.Key == "pdu" || d.Key == "other" {
					d.Inlet = estate.Inlet{RatingA: amps}
				}
				if d.Key == "router" {
					d.InrushW = inrush
				}
			})
			w.off(estate.OutletEnd("pdu", 3))
			w.Draws = map[estate.Key]float64{"router": 40}
		}
	}
	none := func(*testing.T, *World) {}
	bmc := func(said verdict.Result, c *reading.Chassis) func(t *testing.T, w *World) {
		return func(t *testing.T, w *World) {
			w.Estate = change(t, w.Estate, func(d *estate.Device) {
				if d.Key == "switch" {
					d.Endpoints = append(d.Endpoints, estate.Endpoint{Name: "bmc", Protocol: estate.IPMI, Every: 5 * time.Second, Timeout: time.Second})
				}
			})
			w.Evidence.Endpoint(estate.EndpointID{Device: "switch", Name: "bmc"}, said)
			if c != nil {
				w.Evidence.Controller("switch", *c)
			}
		}
	}
	for _, c := range []struct {
		name  string
		in    Intent
		world func(*testing.T, *World)
		lock  string // "" for none
		role  Role
		says  string
	}{
		{"nothing in the way", Intent{Kind: Cycle, Device: "router"}, none, "", "", ""},
		{"a controller that says it is busy", Intent{Kind: Cycle, Device: "switch", Means: ByOutlet}, bmc(verdict.Result{SentAt: t0, OK: true}, &reading.Chassis{At: t0, On: true, Updating: true}), LockUpdating, Steward, "the controller of switch is starting up or its firmware is being updated: interrupting that can break it"},
		{"a controller that is too busy to say", Intent{Kind: Off, Device: "pdu", Means: ByOutlet, Outlets: []estate.End{estate.OutletEnd("pdu", 4)}}, bmc(verdict.Result{SentAt: t0, Refused: true, Updating: true}, nil), LockUpdating, Steward, "the controller of switch is starting up or its firmware is being updated: interrupting that can break it"},
		{"a controller that lets us only look", Intent{Kind: Cycle, Device: "switch", Means: ByChassis}, bmc(verdict.Result{SentAt: t0, OK: true}, &reading.Chassis{At: t0, On: true, LooksAs: "user"}), LockRefusesUs, "", `switch: its controller lets us look, and no more: our user has the privilege "user" there, and switching needs operator`},
		{"which is nothing to its outlets", Intent{Kind: Cycle, Device: "switch", Means: ByOutlet}, bmc(verdict.Result{SentAt: t0, OK: true}, &reading.Chassis{At: t0, On: true, LooksAs: "user"}), "", "", ""},
		{"a controller that is not", Intent{Kind: Cycle, Device: "switch", Means: ByOutlet}, bmc(verdict.Result{SentAt: t0, OK: true}, &reading.Chassis{At: t0, On: true}), "", "", ""},
		{"somebody works with it", Intent{Kind: Off, Device: "host"}, func(_ *testing.T, w *World) {
			w.InUse = map[estate.Key]string{"host": "by the calendar hours, until 18:00"}
		}, LockInUse, "", "host is in use: by the calendar hours, until 18:00"},
		{"somebody works with what goes dark along", Intent{Kind: Off, Device: "pdu", Means: ByOutlet, Outlets: []estate.End{estate.OutletEnd("pdu", 4)}}, func(_ *testing.T, w *World) {
			w.InUse = map[estate.Key]string{"switch": "x"}
		}, LockInUse, "", "switch is in use: x"},
		{"what is in use may be given power", Intent{Kind: On, Device: "host"}, func(_ *testing.T, w *World) {
			w.InUse = map[estate.Key]string{"host": "x"}
		}, "", "", ""},
		{"in use by its draw", Intent{Kind: Off, Device: "router"}, func(t *testing.T, w *World) {
			w.Estate = change(t, w.Estate, func(d *estate.Device) { d.Use.Watts = map[estate.Key]float64{"router": 10}[d.Key] })
		}, LockInUse, "", "router is in use: it draws 11.2 W, and more than 10.0 W shows that somebody works with it"},
		{"the way of who asks", Intent{Kind: Cycle, Device: "router"}, func(_ *testing.T, w *World) { w.Asker.Via = "gate" }, LockYourPath, "", "it would cut your own way to this service, which leads through router"},
		{"the network of who asks itself", Intent{Kind: Cycle, Device: "switch"}, func(_ *testing.T, w *World) { w.Asker.Via = "switch" }, LockYourPath, "", "it would cut your own way to this service, which leads through switch"},
		{"another way of who asks", Intent{Kind: Cycle, Device: "switch"}, func(_ *testing.T, w *World) { w.Asker.Via = "router" }, "", "", ""},
		{"a window of somebody else", Intent{Kind: Cycle, Device: "router"}, func(_ *testing.T, w *World) {
			w.Windows = []Window{{Site: "pier", By: "bo", Why: "new cables", Until: lift}}
		}, LockWindow, Steward, "bo is working on pier until 15:07: new cables. Ask them first"},
		{"a window on what gets dark", Intent{Kind: Off, Device: "pdu", Means: ByOutlet, Outlets: []estate.End{estate.OutletEnd("pdu", 4)}}, func(_ *testing.T, w *World) {
			w.Windows = []Window{{Site: "pier", Device: "switch", By: "bo", Until: lift}}
		}, LockWindow, Steward, "bo is working on switch until 15:07: no reason was given. Ask them first"},
		{"a window on something else", Intent{Kind: Cycle, Device: "router"}, func(_ *testing.T, w *World) {
			w.Windows = []Window{{Site: "pier", Device: "host", By: "bo", Until: lift}, {Site: "quay", By: "bo", Until: lift}}
		}, "", "", ""},
		{"a window of one's own", Intent{Kind: Cycle, Device: "router"}, func(_ *testing.T, w *World) {
			w.Asker.Name, w.Windows = "ann", []Window{{Site: "pier", By: "ann", Until: lift}}
		}, "", "", ""},
		{"too often to be meant", Intent{Kind: Cycle, Device: "router"}, func(_ *testing.T, w *World) { w.Recent = map[estate.Key]int{"pier": 60} }, LockTooMany, "", "there have been 60 operations at pier within the hour, and more than 60 are taken for a mistake"},
		{"often", Intent{Kind: Cycle, Device: "router"}, func(_ *testing.T, w *World) { w.Recent = map[estate.Key]int{"pier": 59} }, "", "", ""},
		{"a battery with too little charge", Intent{Kind: On, Device: "router"}, onBattery(20, 60), LockOnBattery, "", "ups lives on its battery, and its charge is 20 %: that is too little to start router on"},
		{"a battery with too little time", Intent{Kind: On, Device: "router"}, onBattery(80, 8), LockOnBattery, "", "ups lives on its battery, and 8 min are left: that is too little to start router on"},
		{"a battery with enough", Intent{Kind: On, Device: "router"}, onBattery(80, 30), "", "", ""},
		{"off is never too much for a battery", Intent{Kind: Off, Device: "switch"}, onBattery(20, 3), "", "", ""},
		{"a feed that cannot carry it", Intent{Kind: On, Device: "router"}, rated(0.5, 0), LockOverload, Steward, "pdu would have to carry 118 W, and may carry 115 W"},
		{"a feed that cannot carry the moment", Intent{Kind: On, Device: "router"}, rated(1, 500), LockOverload, Steward, "pdu would have to carry 578 W for a moment, which is more than it holds: it may carry 230 W"},
		{"a feed that can", Intent{Kind: On, Device: "router"}, rated(2, 200), "", "", ""},
		{"a feed that cannot carry what another leaves", Intent{Kind: Off, Device: "host", Means: ByOutlet, Outlets: []estate.End{estate.OutletEnd("pdu", 6)}}, rated(0.4, 0), LockOverload, Steward, "other would have to carry 101 W, and may carry 92.0 W"},
	} {
		t.Run(c.name, func(t *testing.T) {
			w := asSeen(cupboard(t))
			c.world(t, &w)
			p, err := Look(c.in, w)
			require.NoError(t, err)
			if c.lock == "" {
				require.Empty(t, p.Interlocks)
				return
			}
			require.Len(t, p.Interlocks, 1, "%+v", p.Interlocks)
			l := p.Interlocks[0]
			require.Equal(t, []string{c.lock, c.says}, []string{l.Name, l.Reason})
			require.Equal(t, LiftByReason, l.LiftBy)
			require.Equal(t, c.role, l.Role)
			agreed := Consent{Override: []string{c.lock}, Why: "because", Role: Keeper}
			require.Empty(t, p.Unlifted(agreed))
			agreed.Why = ""
			require.NotEmpty(t, p.Unlifted(agreed), "without a reason nothing is lifted")
			agreed.Why, agreed.Role = "because", Operator
			require.Equal(t, c.role != "", len(p.Unlifted(agreed)) > 0, "an operator lifts what needs no more")
		})
	}
}

// TestTheDigestFollowsTheWorld: what was agreed to does not hold once somebody
// else is affected, and does when only watts have moved.
func TestTheDigestFollowsTheWorld(t *testing.T) {
	digest := func(f func(*World)) string {
		w := asSeen(cupboard(t))
		f(&w)
		p, err := Look(Intent{Kind: Off, Device: "host", Outlets: []estate.End{estate.OutletEnd("pdu", 6)}}, w)
		require.NoError(t, err)
		return p.Digest
	}
	as := digest(func(*World) {})
	require.Equal(t, as, digest(func(w *World) {
		w.Evidence.Outlet(estate.OutletEnd("pdu", 6), verdict.Outlet{At: w.Now, On: true, Metered: true, W: 90, Switched: true})
	}))
	for name, f := range map[string]func(*World){
		"it is in use": func(w *World) {
			w.InUse = map[estate.Key]string{"host": "x"}
			w.off(estate.OutletEnd("other", 1))
		},
		"it runs on one feed":  func(w *World) { w.off(estate.OutletEnd("other", 1)) },
		"it is off already":    func(w *World) { w.off(estate.OutletEnd("pdu", 6)) },
		"a window was opened":  func(w *World) { w.Windows = []Window{{Site: "pier", By: "bo"}} },
		"its state went stale": func(w *World) { w.Now = w.Now.Add(time.Hour) },
	} {
		require.NotEqual(t, as, digest(f), name)
	}
}

// TestElsewhere: of two services one acts at a site, and the other only while that is silent.
func TestElsewhere(t *testing.T) {
	for _, c := range []struct {
		name  string
		acts  estate.Key
		after time.Duration // that it was heard
		lift  Lift
		says  string
	}{
		{"it answers", "other", time.Second, LiftNever, "the service on other acts there: ask that one"},
		{"it is silent", "other", 2 * time.Minute, LiftByReason, "the service on other acts there. It has been silent for 1 min, and may be acting all the same"},
		{"nothing is known of it", "host", time.Second, LiftNever, "the service on host acts there, and whether it is silent is not known yet: try again in a moment"},
	} {
		t.Run(c.name, func(t *testing.T) {
			w := asSeen(cupboard(t))
			w.Estate.Site("pier").Acts, w.Now = c.acts, t0.Add(c.after)
			for at := time.Minute; at < c.after; at += 10 * time.Second {
				w.Evidence.Endpoint(estate.EndpointID{Device: "other", Name: "card"}, verdict.Result{SentAt: t0.Add(at)})
			}
			p, err := Look(Intent{Kind: On, Device: "router"}, w)
			require.NoError(t, err)
			require.Len(t, p.Interlocks, 1)
			l := p.Interlocks[0]
			require.Equal(t, []string{LockElsewhere, string(c.lift), c.says}, []string{l.Name, string(l.LiftBy), l.Reason})
			agreed := Consent{Override: []string{LockElsewhere}, Why: "they do not answer their telephone", Role: Steward}
			require.Equal(t, c.lift == LiftByReason, len(p.Unlifted(agreed)) == 0)
			agreed.Role = Operator
			require.NotEmpty(t, p.Unlifted(agreed))
		})
	}
}

// TestWhatHasChanged is said in the words of the preview.
func TestWhatHasChanged(t *testing.T) {
	look := func(f func(*World)) *Preview {
		w := asSeen(cupboard(t))
		f(&w)
		p, err := Look(Intent{Kind: Off, Device: "host", Outlets: []estate.End{estate.OutletEnd("pdu", 6)}}, w)
		require.NoError(t, err)
		return p
	}
	was := look(func(*World) {})
	require.Empty(t, was.Since(was))
	require.Equal(t, "Loses power: host, until it is switched on again", look(func(w *World) { w.off(estate.OutletEnd("other", 1)) }).Since(was))
	require.Equal(t, "bo is working on pier until 15:07: x. Ask them first", look(func(w *World) {
		w.Windows = []Window{{Site: "pier", By: "bo", Why: "x", Until: t0.Add(time.Hour)}}
	}).Since(was))

	dark := func(w *World) { w.off(estate.OutletEnd("other", 1)) }
	used := func(w *World) { dark(w); w.InUse = map[estate.Key]string{"host": "x"} }
	idle, busy, over := look(dark), look(used), Consent{Override: []string{LockInUse}, Why: "y"}
	require.Equal(t, "host is in use: x", busy.Since(idle), "said once")
	require.False(t, busy.Covered(idle, Consent{}))
	require.True(t, busy.Covered(idle, over), "who goes ahead against use is not asked again because it begins")
	require.True(t, idle.Covered(busy, over), "or ends")
	require.False(t, look(func(*World) {}).Covered(busy, over), "and it covers nothing else")
}
