package verdict

import (
	"fmt"

	"plumbbob/internal/core/estate"
)

// InUse says what shows that somebody is working with a device now, or "". What
// is stale shows nothing.
func (m *Moment) InUse(k estate.Key) string {
	d := m.e.Device(k)
	if d == nil {
		return ""
	}
	if p := d.Use.Probe; p != nil {
		pulse := m.ev.Probes[ProbeID{k, len(d.Probes)}]
		if pulse.Answers() && m.now.Sub(pulse.LastAnswer) <= stalePolls*p.Every+p.Timeout {
			return fmt.Sprintf("it answers %s, as it does while somebody works with it", p)
		}
	}
	if watts, known := m.Draw(k); known && d.Use.Watts > 0 && watts > d.Use.Watts {
		return fmt.Sprintf("it draws %s, and more than %s shows that somebody works with it", Watts(watts), Watts(d.Use.Watts))
	}
	return ""
}
