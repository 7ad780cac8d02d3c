package incident

import (
	"cmp"
	"slices"

	"plumbbob/internal/core/estate"
)

// Similar picks from past incidents those that are worth looking at beside one: of the same kind, which have
// ended; first those of the same device, then those of devices of its role, each the newest first.
func (i *Incident) Similar(past []*Incident, e *estate.Estate, most int) []*Incident {
	role := func(k estate.Key) string {
		if d := e.Device(k); d != nil {
			return string(d.Role)
		}
		return ""
	}
	var out []*Incident
	for _, x := range past {
		same := x.Device == i.Device || role(i.Device) != "" && role(x.Device) == role(i.Device)
		if x.ID != i.ID && x.Kind == i.Kind && same && !x.Ended.IsZero() {
			out = append(out, x)
		}
	}
	rank := func(x *Incident) int {
		if x.Device == i.Device {
			return 0
		}
		return 1
	}
	slices.SortStableFunc(out, func(a, b *Incident) int { return cmp.Or(rank(a)-rank(b), b.Opened.Compare(a.Opened)) })
	return out[:min(len(out), most)]
}
