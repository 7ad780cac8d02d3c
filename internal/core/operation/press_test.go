package operation

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/core/sending"
	"plumbbob/internal/core/verdict"
)

var chassis = estate.ChassisEnd("host")

func pressing(kind Kind, change func(*Operation)) *Operation {
	o := &Operation{
		ID:       "1",
		Order:    Order{Kind: kind, Means: ByChassis, Device: "host", Outlets: []estate.End{chassis}, Hold: 5 * time.Second, Within: 3 * time.Minute},
		Plan:     Plan{Settle: 4 * time.Second, IdleW: 20, AnswerWithin: 4 * time.Minute, GoesDark: true, Answered: true},
		Progress: Progress{Saved: t0},
	}
	if change != nil {
		change(o)
	}
	o.Lay(true)
	return o
}

func (s *script) chassis(at float64, on bool) *script {
	return s.feed(Measured{At: sec(at), Outlets: map[estate.End]Reading{chassis: {At: sec(at), On: on}}})
}

func TestPresses(t *testing.T) {
	begin := func(kind Kind, change func(*Operation)) *script {
		s := &script{T: t, o: pressing(kind, change)}
		return s.feed(Started{t0})
	}
	sent := func(kind Kind, change func(*Operation)) *script { return begin(kind, change).chassis(0.5, true) }
	hung := func(o *Operation) { o.Answered = false }
	force := func(o *Operation) { o.Force = true }
	tell := func(change func(*Operation)) *script {
		return begin(Reset, func(o *Operation) {
			if o.Into = IntoSetup; change != nil {
				change(o)
			}
		})
	}
	into := func(change func(*Operation)) *script {
		return tell(change).answered(0.5, sending.Accepted).chassis(1, true)
	}
	silent, heard := Unheard{sec(4), "host"}, Heard{sec(60), "host"}
	for _, c := range []struct {
		name string
		got  *script
		op   State
		says string // part of the outcome
	}{
		{"a shutdown is done when the chassis is off", sent(Shutdown, nil).answered(1, sending.Accepted).chassis(20, false).expired(), Done, "Shut host down: off at 14:07:20, after 20 s"},
		{"what is off already is not asked", begin(Shutdown, nil).chassis(1, false), Done, "Left host as it was: was off already"},
		{"accepted is not heeded", sent(Shutdown, nil).answered(1, sending.Accepted).expired(), Failed, "did not shut down within 3 min; it is still on"},
		{"it is switched off only if that was asked for", sent(Shutdown, force).answered(1, sending.Accepted).expired().chassis(200, true).answered(201, sending.Accepted).chassis(203, false).expired(), Done, "so it is switched off"},
		{"a lost answer is seen by what happens", sent(Shutdown, nil).answered(1, sending.Unclear).chassis(30, false).expired(), Done, "off at"},
		{"a restart in the middle asks no second time", sent(Shutdown, nil).answered(1, sending.Accepted).feed(Started{sec(60)}).chassis(70, false).expired(), Done, "off at"},
		{"a reset is believed when the system falls silent", sent(Reset, nil).answered(1, sending.Accepted).feed(silent).feed(heard), Done, "Reset host: at 14:07:00, first answer after 60 s"},
		{"a reset that changes nothing has failed", sent(Reset, nil).answered(1, sending.Accepted).expired(), Failed, "host never fell silent: it was not reset"},
		{"one that was too quick to be seen shows by its uptime", sent(Reset, nil).answered(1, sending.Accepted).feed(Restarted{sec(1.5), sec(1.5), "host", "its uptime says"}).feed(heard), Done, "Reset host: at 14:07:00 (it started anew, as its uptime says), first answer after 60 s"},
		{"a start of before is none of ours", sent(Reset, nil).answered(1, sending.Accepted).feed(Restarted{sec(-60), sec(-60), "host", "its uptime says"}).expired(), Failed, "host never fell silent: it was not reset"},
		{"nor is one that may have been before", sent(Reset, nil).answered(1, sending.Accepted).feed(Restarted{sec(-60), sec(9), "host", "its log says"}).expired(), Failed, "host never fell silent: it was not reset"},
		{"what hung before shows it by coming back", sent(Reset, hung).answered(1, sending.Accepted).feed(heard), Done, "first answer after 60 s"},
		{"and so it does when the answer was lost", sent(Reset, hung).answered(1, sending.Unclear).feed(heard), Done, "whether it was reset shows when it answers"},
		{"a restart in the middle presses no second time", sent(Reset, nil).answered(1, sending.Accepted).feed(Started{sec(30)}).feed(heard), Done, "nobody was looking when it was sent"},
		{"what is off cannot be reset", begin(Reset, nil).chassis(1, false), Failed, "it is off: switch it on instead"},
		{"a refusal is the end of it", sent(Reset, nil).answered(1, sending.Refused), Failed, "says the gear"},
		{"an interrupt is taken at the controller's word", sent(NMI, nil).answered(1, sending.Accepted), Done, "the controller accepted it"},
		{"unless there is none", sent(NMI, nil).answered(1, sending.Unclear), Failed, "whether it happened is not known"},
		{"a chassis cycle, as an outlet's", sent(Cycle, nil).answered(1, sending.Accepted).chassis(3, false).expired().chassis(9, false).answered(10, sending.Accepted).chassis(12, true).feed(heard), Done, "Cycled the chassis of host"},
		{"done is not believed", sent(Off, nil).answered(1, sending.Accepted).chassis(3, true).expired().expired(), Failed, "the chassis is still reported on"},
		{"a start that is led elsewhere", into(nil).answered(2, sending.Accepted).feed(silent).answered(5, sending.Refused).expired().answered(11, sending.Accepted), Done, "Reset host into set-up: at 14:07:01, its firmware took that at 14:07:11"},
		{"a controller that cannot be told", tell(nil).answered(0.2, sending.Refused), Failed, "could not be set, so nothing was done"},
		{"one that was told, and never started: that is taken back", into(nil).answered(2, sending.Refused).answered(3, sending.Accepted), Failed, "its next start is as usual again"},
		{"or is never seen to", into(nil).answered(2, sending.Accepted).feed(silent).answered(400, sending.Refused).answered(401, sending.Accepted), Failed, "it never started, or takes no notice"},
		{"one that cannot be taken back says so", into(nil).answered(2, sending.Refused).takesNothingBack(), Failed, "its next start still goes into set-up"},
		{"a restart in the middle tells it again, and takes it back", tell(nil).feed(Started{sec(3)}).answered(4, sending.Accepted).chassis(5, true).answered(6, sending.Refused).feed(Started{sec(7)}).answered(8, sending.Accepted), Failed, "its next start is as usual again"},
		{"who cancels has it taken back", tell(nil).answered(0.2, sending.Accepted).feed(CancelAsked{sec(0.3), "ann"}).answered(1, sending.Accepted), Cancelled, "Cancelled by ann"},
	} {
		if c.got.o.State == Running {
			c.got.expired() // to see who falls silent
		}
		require.Equal(t, c.op, c.got.o.State, "%s: %s", c.name, c.got.o.Outcome(time.UTC))
		require.Contains(t, c.got.o.Outcome(time.UTC), c.says, c.name)
	}
}

// takesNothingBack has every try to take back fail.
func (s *script) takesNothingBack() *script {
	for i := range takeBackTries {
		at := 10 + 30*float64(i)
		s.answered(at, sending.Unclear)
		if s.o.State == Running {
			s.expired()
		}
	}
	return s
}

// TestStruckOnce: whatever happens in whatever order, a reset or an interrupt
// leaves at most once.
func TestStruckOnce(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		o := pressing(rapid.SampledFrom([]Kind{Reset, NMI}).Draw(t, "kind"), func(o *Operation) { o.Answered = rapid.Bool().Draw(t, "answered") })
		sends, now := 0, t0
		feed := func(in Event) {
			for _, c := range o.Step(in) {
				if _, ok := c.(Send); ok {
					sends++
				}
			}
		}
		feed(Started{now})
		for range rapid.IntRange(1, 30).Draw(t, "events") {
			now = now.Add(time.Duration(rapid.IntRange(1, 9000).Draw(t, "ms")) * time.Millisecond)
			feed(rapid.SampledFrom([]Event{
				Started{now}, Measured{now, map[estate.End]Reading{chassis: {At: now, On: true}}}, Answered{now, sending.Unclear, "x"}, Answered{now, sending.NotSent, "x"},
				Answered{now, sending.Accepted, ""}, Expired{now, o.deadline()}, Unheard{now, "host"}, Heard{now, "host"}, CancelAsked{now, "admin"},
			}).Draw(t, "event"))
		}
		require.LessOrEqual(t, sends, 1)
	})
}

// TestWhatStaysOffIsOwed: a chassis that stays off when power returns is
// switched on, and tried for as long as it takes.
func TestWhatStaysOffIsOwed(t *testing.T) {
	o := newOp(Cycle)
	o.Device, o.Restores = "host", []estate.End{chassis}
	o.Lay(true)
	s := (&script{T: t, o: o}).feed(Started{t0}).measured(0.5, true, 212).answered(1, sending.Accepted).measured(2, false, 0)
	s.expired().measured(13, false, 0).answered(13.2, sending.Accepted).measured(14, true, 8)
	require.True(t, o.Owes(chassis))
	for n := range 12 { // its controller has to start first
		s.expired()
		at := sec(30 + 90*float64(n))
		s.feed(Answered{At: at, Outcome: sending.NotSent, Why: "its controller does not answer"})
	}
	require.Equal(t, Running, o.State, "power is owed, so it does not give up")
	s.expired()
	s.feed(Answered{At: sec(2000), Outcome: sending.Accepted}).chassis(2003, true)
	s.feed(Heard{sec(2100), "host"})
	require.Equal(t, Done, o.State, o.Outcome(time.UTC))
	require.False(t, o.Owes(chassis))
}

// withController gives the cupboard's host a controller behind the switch.
func withController(t *testing.T, restore reading.Restore) World {
	e := cupboard(t)
	devices := append([]estate.Device(nil), e.Devices...)
	for i := range devices {
		if devices[i].Key == "host" {
			devices[i].Endpoints = []estate.Endpoint{{Name: "bmc", Protocol: estate.IPMI, Every: 5 * time.Second, Timeout: time.Second}}
		}
	}
	e, problems := estate.New("t", "ops", e.Sites, devices)
	require.Empty(t, problems)
	w := asSeen(e)
	w.Evidence.Controller("host", reading.Chassis{At: t0, On: true, Restore: restore})
	w.Evidence.Endpoint(estate.EndpointID{Device: "host", Name: "bmc"}, verdict.Result{SentAt: t0, OK: true})
	return w
}

func TestMeans(t *testing.T) {
	w := withController(t, reading.StaysOff)
	texts := func(p *Preview) (all string) {
		for _, l := range p.Lines {
			all += l.Text + "\n"
		}
		return all
	}
	p, err := Look(Intent{Kind: Cycle, Device: "host"}, w)
	require.NoError(t, err)
	require.Equal(t, ByChassis, p.Means, "the gentlest that can work now")
	require.Equal(t, "Cycle the chassis of host", p.Title())
	require.Contains(t, texts(p), "Goes off: host, for about 10 s, and loses what it has not stored")
	require.Empty(t, p.Interlocks)
	byOutlet, err := Look(Intent{Kind: Cycle, Device: "host", Means: ByOutlet}, w)
	require.NoError(t, err)
	require.Equal(t, []estate.End{chassis}, byOutlet.Restores)
	require.Contains(t, texts(byOutlet), "host is set to stay off when power returns: its chassis is switched on afterwards")
	require.NotEqual(t, p.Digest, byOutlet.Digest)

	for range 3 { // the controller falls silent
		w.Now = w.Now.Add(5 * time.Second)
		w.Evidence.Endpoint(estate.EndpointID{Device: "host", Name: "bmc"}, verdict.Result{SentAt: w.Now})
	}
	p, err = Look(Intent{Kind: Off, Device: "host"}, w)
	require.NoError(t, err)
	require.Equal(t, ByOutlet, p.Means)
	require.Contains(t, texts(p), "Not by its chassis, which is gentler: bmc of host does not answer")
	p, err = Look(Intent{Kind: Reset, Device: "host"}, w)
	require.NoError(t, err)
	require.Equal(t, LockOutOfReach, p.Interlocks[0].Name)
	p, err = Look(Intent{Kind: Cycle, Device: "host", Means: ByOutlet}, w)
	require.NoError(t, err)
	require.Equal(t, LockStaysOff, p.Interlocks[0].Name, "nothing could switch it on again")

	for _, c := range []struct {
		in   Intent
		want string
	}{
		{Intent{Kind: Reset, Device: "router"}, "router has no management controller, panel leads or command that the estate knows, by which reset would be possible: add it, or cycle its outlet"},
		{Intent{Kind: Reset, Device: "host", Means: ByOutlet}, "the means outlet can do on, off and cycle, not reset"},
		{Intent{Kind: Off, Device: "host", Means: "hammer"}, `"hammer" is not a means: there is command, chassis, wake, panel, poe, output and outlet`},
		{Intent{Kind: Off, Device: "host", Means: ByChassis, Outlets: []estate.End{{Device: "pdu", Port: "6"}}}, "outlets are named, but the means is chassis: leave one of them out"},
		{Intent{Kind: Shutdown, Device: "host", Within: 2 * time.Hour}, "a shutdown may take 1 s to 1h0m0s, not 2h0m0s"},
	} {
		_, err := Look(c.in, w)
		require.EqualError(t, err, c.want)
	}
}
