package ipmigear

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"plumbbob/internal/core/reading"
	"plumbbob/internal/wire/ipmi"
)

// records returns the controller's records, read again only when they have changed.
func (d *Driver) records(ctx context.Context, c *ipmi.Client) (*ipmi.Repository, error) {
	d.mu.Lock()
	known := d.repo
	d.mu.Unlock()
	repo, err := c.Repository(ctx, known)
	if err != nil {
		return nil, err
	}
	if repo != known {
		d.mu.Lock()
		d.repo = repo
		clear(d.limits)
		d.mu.Unlock()
	}
	return repo, nil
}

// ReadSensors reads every sensor once. One that cannot be read now is in the
// list as that.
func (d *Driver) ReadSensors(ctx context.Context) ([]reading.Sensor, error) {
	d.reading.Lock()
	defer d.reading.Unlock()
	var out []reading.Sensor
	err := d.use("read the sensors", func(c *ipmi.Client) error {
		repo, err := d.records(ctx, c)
		if err != nil {
			return err
		}
		names := map[string]int{}
		for _, s := range repo.Readable() {
			m, err := c.Read(ctx, s)
			if errors.Is(err, ipmi.ErrElsewhere) {
				continue
			}
			name := series(s, names) // also of one that is not there now: the others keep theirs
			var r reading.Sensor
			switch {
			case gone(err):
				return err
			case err != nil:
				r = unread(s, err)
			default:
				if r, err = d.sensor(ctx, c, s, m); err != nil {
					return err
				}
			}
			r.Series = name
			out = append(out, r)
		}
		return nil
	})
	return out, err
}

// unread is a sensor that the controller gives no reading of.
func unread(s *ipmi.SensorRecord, err error) reading.Sensor {
	r := reading.Sensor{Name: s.Name, Kind: kindOf(s), Where: ipmi.EntityWord(s.Entity), Level: reading.Absent, Words: "its controller gives no reading"}
	if refused, ok := errors.AsType[*ipmi.CompletionError](err); ok && refused.Code == ipmi.NotPresent {
		r.Words = "not there: it has been taken out, or is without power"
	}
	return r
}

// series makes the lasting name of a sensor: its own, or with a number when
// several have the same.
func series(s *ipmi.SensorRecord, seen map[string]int) string {
	key := strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9':
			return r
		case r >= 'A' && r <= 'Z':
			return r - 'A' + 'a'
		}
		return '-'
	}, s.Name)
	if key == "" {
		key = fmt.Sprintf("sensor-%d", s.Number)
	}
	seen[key]++
	if n := seen[key]; n > 1 {
		key = fmt.Sprintf("%s-%d", key, n)
	}
	return key
}

// sensor puts one reading into our words.
func (d *Driver) sensor(ctx context.Context, c *ipmi.Client, s *ipmi.SensorRecord, m ipmi.Reading) (reading.Sensor, error) {
	r := reading.Sensor{Name: s.Name, Kind: kindOf(s), Where: ipmi.EntityWord(s.Entity), Unit: s.Units.String(), Level: reading.Fine}
	if !m.Present() {
		r.Level, r.Words = reading.Absent, "not measured now"
		return r, nil
	}
	if s.Event != ipmi.ThresholdEvents {
		r.Unit = ""
		r.Words = ipmi.StateWords(s.Type, s.Event, m.States)
		r.Level = levelOf(ipmi.GravityOf(s.Type, s.Event, m.States))
		switch present := ipmi.PresentState(s.Type, s.Event); {
		case r.Words != "":
		case s.Readable&present != 0:
			r.Words, r.Level = "not there", reading.Absent
		default:
			r.Words = "nothing to report"
		}
		return r, nil
	}
	v, ok, err := c.ValueOf(ctx, s, m)
	if err != nil && gone(err) {
		return r, err
	}
	if !ok {
		r.Level, r.Words = reading.Absent, "its reading makes no sense"
		return r, nil
	}
	r.Value, r.Digits = &v, ipmi.Digits(s)
	limits, err := d.thresholds(ctx, c, s)
	if err != nil {
		return r, err
	}
	r.Limits = limitsOf(s, limits)
	// The controller knows its own hysteresis, so its word counts.
	switch {
	case m.States&(1<<ipmi.LowerCritical|1<<ipmi.LowerNonRecoverable|1<<ipmi.UpperCritical|1<<ipmi.UpperNonRecoverable) != 0:
		r.Level = reading.Critical
	case m.States&(1<<ipmi.LowerNonCritical|1<<ipmi.UpperNonCritical) != 0:
		r.Level = reading.Warning
	}
	return r, nil
}

// kindOf is the type of a sensor, and for those of "other" types what they
// measure.
func kindOf(s *ipmi.SensorRecord) string {
	if s.Type == ipmi.OtherUnits {
		switch {
		case s.Units.Base == ipmi.UnitWatts:
			return "power"
		case s.Units.Base == ipmi.UnitCFM:
			return "air flow"
		}
	}
	return s.Type.String()
}

func levelOf(g ipmi.Gravity) reading.Level {
	return [...]reading.Level{reading.Fine, reading.Warning, reading.Critical}[g]
}

// thresholds are those that hold now; they are asked for once, since they only
// change when somebody sets them.
func (d *Driver) thresholds(ctx context.Context, c *ipmi.Client, s *ipmi.SensorRecord) (ipmi.RawThresholds, error) {
	d.mu.Lock()
	t, known := d.limits[s]
	d.mu.Unlock()
	if known {
		return t, nil
	}
	t = s.Thresholds
	if s.Threshold == ipmi.ReadableThresholds || s.Threshold == ipmi.WritableThresholds {
		now, err := c.Thresholds(ctx, s)
		if gone(err) {
			return t, err
		}
		if err == nil {
			t = now
		}
	}
	d.mu.Lock()
	d.limits[s] = t
	d.mu.Unlock()
	return t, nil
}

func limitsOf(s *ipmi.SensorRecord, t ipmi.RawThresholds) reading.Limits {
	var l reading.Limits
	if s.Linear >= ipmi.NonLinear {
		return l // its factors are those of each raw value, and only the controller has them
	}
	for n, to := range map[int]**float64{
		ipmi.LowerNonRecoverable: &l.LowFatal, ipmi.LowerCritical: &l.LowCritical, ipmi.LowerNonCritical: &l.LowWarning,
		ipmi.UpperNonCritical: &l.HighWarning, ipmi.UpperCritical: &l.HighCritical, ipmi.UpperNonRecoverable: &l.HighFatal,
	} {
		if v, ok := s.Value(t.Value[n]); ok && t.Has[n] {
			*to = &v
		}
	}
	return l
}
