package keep

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/observation"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/store"
	"plumbbob/internal/store/storetest"
)

var bmc = estate.EndpointID{Device: "router", Name: "bmc"}

// withController gives the strip's router a controller.
func withController(t *testing.T, k *kept) {
	e := strip(t)
	devices := append([]estate.Device(nil), e.Devices...)
	for i := range devices {
		if devices[i].Key == "router" {
			devices[i].Endpoints = []estate.Endpoint{{Name: "bmc", Protocol: estate.IPMI, Every: time.Minute, Sensors: time.Minute, Timeout: time.Second}}
		}
	}
	e, problems := estate.New("t", "here", e.Sites, devices)
	require.Empty(t, problems)
	k.SetEstate(e)
}

func beside(at time.Time, brought ...observation.Payload) observation.Observation {
	return observation.Observation{Device: bmc.Device, Endpoint: bmc.Name, Brought: brought, Result: verdict.Result{SentAt: at, OK: true}, Beside: true}
}

// TestWhatControllersSay: chassis, readings, log and sheet are taken in, judged,
// stored, and come back after a restart.
func TestWhatControllersSay(t *testing.T) {
	s := storetest.Open(t)
	k := newKept(t, s)
	withController(t, k)
	now := time.Now()
	sub, leave := k.bus.Measured.Queue(8)
	defer leave()
	watts, hot := 212.0, 97.0
	o := beside(now, observation.Chassis{On: true, Watts: &watts})
	o.Beside = false
	k.Observe(o)
	require.Equal(t, operation.Reading{At: now, On: true, Metered: true, W: 212}, (<-sub).(operation.Measured).Outlets[estate.ChassisEnd("router")], "running operations are told")
	k.ping(now, true)

	k.Observe(beside(now, observation.Sensors{
		{Name: "PSU 2", Series: "psu-2", Words: "input lost", Level: reading.Warning},
		{Name: "CPU 1 temp", Series: "cpu-1-temp", Unit: "°C", Value: &hot, Level: reading.Critical},
	}, observation.Events{Version: "v1", Events: []reading.Event{{ID: 1, Text: "log cleared"}}}))
	k.Observe(beside(now, observation.Sheet{Serial: "GW-1"}, observation.Weak{{Name: "clock"}}))
	k.judge(now)
	v := k.Verdict("router")
	require.Equal(t, verdict.Strained, v.State)
	require.Equal(t, verdict.Critical, v.Severity)
	require.Equal(t, "CPU 1 temp is 97 °C", v.Reasons[0].Text.String(), "the worst first")
	told := k.told["router"]
	k.Observe(beside(now))
	k.judge(now)
	require.Equal(t, told+1, k.told["router"], "pages that are open are told of new readings")

	require.NoError(t, k.Flush(t.Context()))
	require.NoError(t, s.Partition(t.Context(), now, store.DefaultRetention))
	past, err := s.Past(t.Context(), "router", SensorSeries(""), now.Add(-time.Hour), now.Add(time.Minute), time.Minute)
	require.NoError(t, err)
	require.Equal(t, map[string][]float64{"sensor:cpu-1-temp": {97}}, past)

	again := newKept(t, s)
	withController(t, again)
	require.NoError(t, again.Remember(t.Context()))
	in := again.Inside("router")
	require.Equal(t, "GW-1", in.Sheet.Serial)
	require.Equal(t, "log cleared", in.Events.Events[0].Text, "it can be read while the controller is dead")
	require.Equal(t, "clock", in.Weak[0].Name)
	require.Empty(t, in.Sensors, "old readings are no readings")

	require.NoError(t, k.Archive(t.Context(), k.Estate().Device("router"), in.Events))
	docs, err := s.Documents(t.Context())
	require.NoError(t, err)
	require.Len(t, docs, 4, "with a copy of the log that was cleared")
	require.Empty(t, k.Inside("lamp").Sensors)
}

// TestARefusalBesideIsNoSilence: that sensors cannot be read says nothing about
// whether the controller answers.
func TestARefusalBesideIsNoSilence(t *testing.T) {
	k := newKept(t, storetest.Open(t))
	withController(t, k)
	now := time.Now()
	for n := range 4 {
		o := beside(now.Add(time.Duration(n) * time.Second))
		o.Result.OK = false
		k.Observe(o)
	}
	require.True(t, k.World().Evidence.Endpoints[bmc].Asked.IsZero())
}

// TestASensorThatVanishes is told of when it lasts, and at once when it was wrong.
func TestASensorThatVanishes(t *testing.T) {
	k := newKept(t, storetest.Open(t))
	withController(t, k)
	now := time.Now()
	fan := reading.Sensor{Name: "Fan 1", Series: "fan-1", Words: "turns"}
	psu := reading.Sensor{Name: "PSU 2", Series: "psu-2", Words: "input lost", Level: reading.Warning}
	temp := reading.Sensor{Name: "CPU temp", Series: "cpu-temp"}
	read := func(sensors ...reading.Sensor) (said string) {
		now = now.Add(time.Second)
		k.Observe(beside(now, observation.Sensors(sensors)))
		for _, a := range k.evidence.Ailing["router"].List {
			said += a.Text + "; "
		}
		return said
	}
	require.Equal(t, "PSU 2: input lost; ", read(fan, psu, temp))
	require.Equal(t, "PSU 2: input lost, as was last read: it is not told of any more; ", read(temp))
	read(temp)
	require.Contains(t, read(temp), "Fan 1 is not told of any more")
	psu.Level = reading.Fine
	require.Empty(t, read(fan, psu, temp), "seen right")
}

// TestARestartThatNobodyMissed is known by the uptime and by the counter of starts, by what a
// controller and its log say, and by a draw that fell; unless it was our doing, or a counter
// has only begun anew.
func TestARestartThatNobodyMissed(t *testing.T) {
	const day, later = 24 * time.Hour, 15 * time.Minute
	now := time.Now()
	sheets := func(before, after observation.Sheet) func(*kept) {
		return func(k *kept) {
			k.Observe(beside(now, before))
			k.Observe(beside(now.Add(later), after))
		}
	}
	up := func(before, after time.Duration) func(*kept) {
		return sheets(observation.Sheet{Up: before}, observation.Sheet{Serial: "GW-1", Up: after})
	}
	log := func(more ...reading.Event) func(*kept) {
		return func(k *kept) {
			old := []reading.Event{{Raw: "01", Text: "started by power-up", Starts: true}}
			k.Observe(beside(now, observation.Events{Version: "1", Events: old}))
			k.Observe(beside(now.Add(later), observation.Events{Version: "2", Events: append(old, more...)}))
		}
	}
	draws := func(watts ...float64) func(*kept) {
		return func(k *kept) {
			k.ping(now, true)
			for i, w := range watts {
				at := now.Add(time.Duration(i+1) * time.Second)
				k.poll(at, 10, w)
				k.ping(at, true)
			}
		}
	}
	for _, x := range []struct {
		name     string
		do       func(*kept)
		operated time.Duration // before later; 0: never
		told     string
	}{
		{"it goes on", up(day, day+later), 0, ""},
		{"its clock drifts", up(day, day+later-20*time.Second), 0, ""},
		{"it restarted", up(day, 2*time.Minute), 0, "its uptime says"},
		{"it restarted, because of us", up(day, 2*time.Minute), 3 * time.Minute, ""},
		{"long after we had to do with it", up(day, 2*time.Minute), 2 * time.Hour, "its uptime says"},
		{"its counter began anew", up(496*day, 2*time.Minute), 0, ""},
		{"it does not say", up(day, 0), 0, ""},
		{"its agent counts on", sheets(observation.Sheet{Starts: 4}, observation.Sheet{Starts: 5}), 0, "the counter of its agent's starts says"},
		{"its uptime began anew, and it has not", sheets(observation.Sheet{Starts: 4, Up: 300 * day}, observation.Sheet{Starts: 4, Up: time.Minute}), 0, ""},
		{"its controller knows why", sheets(observation.Sheet{LastStart: "its power button"}, observation.Sheet{LastStart: "its watchdog"}), 0, "its controller says: the last start was by its watchdog"},
		{"its log tells", log(reading.Event{Raw: "02", Text: "started by hard reset", Starts: true}), 0, "its controller's log says: started by hard reset"},
		{"its log tells, and that was us", log(reading.Event{Raw: "02", Text: "started by hard reset", Starts: true}), 10 * time.Minute, ""},
		{"its log tells of something else", log(reading.Event{Raw: "02", Text: "clock set"}), 0, ""},
		{"its draw fell, and came back", draws(40, 0.4, 41), 0, "its draw says, which fell to 0.4 W and came back"},
		{"its draw fell, and stayed", draws(40, 0.4, 0.4), 0, ""},
		{"its draw only halved", draws(40, 15, 41), 0, ""},
	} {
		k := newKept(t, storetest.Open(t))
		withController(t, k)
		if x.operated > 0 {
			k.operated["router"] = now.Add(later - x.operated)
		}
		x.do(k)
		require.Equal(t, x.told, k.evidence.Restarted["router"].How, x.name)
		require.Equal(t, x.told != "", len(k.spool.entries) == 1, x.name)
		require.Zero(t, k.Inside("router").Sheet.Up)
	}
}
