package orders

import (
	"context"
	"fmt"
	"time"

	"plumbbob/internal/act"
	"plumbbob/internal/core/condition"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/keep"
)

// facts is what conditions go by: the newest that was measured, if it is new enough.
type facts struct {
	ctx    context.Context //nolint:containedctx // conditions know of none
	keeper *keep.Keeper
	actor  Actor
	toDo   *toDo
}

var _ condition.Facts = facts{}

// stale is from when on what was measured counts for nothing.
const stale = 5 * time.Minute

func (f facts) Now() time.Time { return time.Now() }

// see looks at one device; what is not known is the error.
func (f facts) see(k estate.Key, look func(e *estate.Estate, ev *verdict.Evidence, vs map[estate.Key]verdict.Verdict, now time.Time) error) (err error) {
	f.keeper.See(func(e *estate.Estate, ev *verdict.Evidence, vs map[estate.Key]verdict.Verdict, now time.Time) {
		if e.Device(k) == nil {
			err = fmt.Errorf("there is no device %q", k)
			return
		}
		err = look(e, ev, vs, now)
	})
	return err
}

func (f facts) Verdict(k estate.Key) (state string, since time.Time, err error) {
	err = f.see(k, func(_ *estate.Estate, _ *verdict.Evidence, vs map[estate.Key]verdict.Verdict, _ time.Time) error {
		v, judged := vs[k]
		if !judged {
			return fmt.Errorf("%s has not been judged yet", k)
		}
		state, since = string(v.State), v.Since
		return nil
	})
	return state, since, err
}

func (f facts) Answers(k estate.Key) (yes bool, err error) {
	err = f.see(k, func(e *estate.Estate, ev *verdict.Evidence, _ map[estate.Key]verdict.Verdict, now time.Time) error {
		answers, silent, _, _ := verdict.Heard(e, ev, k, now)
		if !answers && !silent {
			return fmt.Errorf("it is not known whether %s answers", k)
		}
		yes = answers
		return nil
	})
	return yes, err
}

// sensor finds one by its name or its series.
func (f facts) sensor(k estate.Key, name string) (reading.Sensor, error) {
	if f.keeper.Estate().Device(k) == nil {
		return reading.Sensor{}, fmt.Errorf("there is no device %q", k)
	}
	in := f.keeper.Inside(k)
	for _, s := range in.Sensors {
		if s.Name != name && s.Series != name {
			continue
		}
		if time.Since(in.SensorsAt) > stale {
			return s, fmt.Errorf("%s of %s was last read %s ago", name, k, verdict.Age(time.Since(in.SensorsAt)))
		}
		return s, nil
	}
	return reading.Sensor{}, fmt.Errorf("%s has no sensor %q that is read", k, name)
}

func (f facts) Reading(k estate.Key, name string) (float64, error) {
	s, err := f.sensor(k, name)
	if err == nil && s.Value == nil {
		err = fmt.Errorf("%s of %s is no number: it says %q", name, k, s.Words)
	}
	if err != nil {
		return 0, err
	}
	return *s.Value, nil
}

func (f facts) Words(k estate.Key, name string) (string, error) {
	s, err := f.sensor(k, name)
	return s.Words, err
}

func (f facts) Draw(k estate.Key) (w float64, err error) {
	err = f.see(k, func(e *estate.Estate, ev *verdict.Evidence, _ map[estate.Key]verdict.Verdict, now time.Time) error {
		var known bool
		if w, known = verdict.Draw(e, ev, k, now); !known {
			return fmt.Errorf("what %s draws is not measured", k)
		}
		return nil
	})
	return w, err
}

func (f facts) Outlet(k estate.Key, port string) (on bool, err error) {
	err = f.see(k, func(_ *estate.Estate, ev *verdict.Evidence, _ map[estate.Key]verdict.Verdict, now time.Time) error {
		end := estate.End{Device: k, Port: port}
		o, known := ev.Outlets[end]
		if !known || now.Sub(o.At) > stale {
			return fmt.Errorf("it is not known whether %s is on", end)
		}
		on = o.On
		return nil
	})
	return on, err
}

func (f facts) supply(k estate.Key) (s verdict.Supply, err error) {
	err = f.see(k, func(_ *estate.Estate, ev *verdict.Evidence, _ map[estate.Key]verdict.Verdict, now time.Time) error {
		var known bool
		if s, known = ev.Supplies[k]; !known || now.Sub(s.At) > stale {
			return fmt.Errorf("nothing is known of %s as a UPS", k)
		}
		return nil
	})
	return s, err
}

func (f facts) OnBattery(k estate.Key) (bool, error) {
	s, err := f.supply(k)
	if err == nil && !s.Told() {
		err = fmt.Errorf("%s does not say where it takes its power", k)
	}
	return s.OnBattery(), err
}

func (f facts) Charge(k estate.Key) (float64, error) {
	s, err := f.supply(k)
	return number(s.Battery.Charge, err, k, "charge")
}

func (f facts) Minutes(k estate.Key) (float64, error) {
	s, err := f.supply(k)
	return number(s.Battery.Minutes, err, k, "minutes")
}

func number(v *float64, err error, k estate.Key, what string) (float64, error) {
	if err == nil && v == nil {
		err = fmt.Errorf("%s does not tell its %s", k, what)
	}
	if err != nil {
		return 0, err
	}
	return *v, nil
}

func (f facts) around(k estate.Key) (act.Around, error) {
	if f.keeper.Estate().Device(k) == nil {
		return act.Around{}, fmt.Errorf("there is no device %q", k)
	}
	return f.actor.AroundOf(f.ctx, k)
}

func (f facts) InUse(k estate.Key) (bool, error) {
	a, err := f.around(k)
	return a.InUse != "", err
}

func (f facts) InWindow(k estate.Key) (bool, error) {
	a, err := f.around(k)
	return a.Window != "", err
}

func (f facts) Busy(k estate.Key) (bool, error) {
	a, err := f.around(k)
	return a.Busy != "", err
}
