package estate

// near is who is next to whom, worked out once.
type near struct {
	neighbours []*Device            // connected to the standpoint
	fedBy      map[Key][]Key        // by what gives power
	supplies   map[Key][]*Device    // UPSes, by site
	behind     map[Key][]EndpointID // by the first hop
}

func (e *Estate) findNear() {
	e.near = near{fedBy: map[Key][]Key{}, supplies: map[Key][]*Device{}, behind: map[Key][]EndpointID{}}
	for i := range e.Devices {
		d := &e.Devices[i]
		for _, c := range d.Network {
			if c.Via.Device == e.Standpoint {
				e.near.neighbours = append(e.near.neighbours, d)
				break
			}
		}
		seen := map[Key]bool{Utility: true}
		for _, c := range d.Power {
			if from := c.From.Device; !seen[from] {
				seen[from] = true
				e.near.fedBy[from] = append(e.near.fedBy[from], d.Key)
			}
		}
		if d.Supply != nil {
			e.near.supplies[d.Site] = append(e.near.supplies[d.Site], d)
		}
		e.enter(EndpointID{Device: d.Key}, d.Network)
		for _, ep := range d.Endpoints {
			e.enter(EndpointID{d.Key, ep.Name}, e.PathOf(d.Key, ep.Name))
		}
	}
}

func (e *Estate) enter(side EndpointID, path []NetworkCable) {
	if len(path) > 0 {
		hop := path[0].Via.Device
		e.near.behind[hop] = append(e.near.behind[hop], side)
	}
}

// The lists that follow are shared: the caller must not change them.

// Neighbours lists the devices that are connected to the standpoint.
func (e *Estate) Neighbours() []*Device { return e.near.neighbours }

// FedBy lists the devices with a power cable from another one.
func (e *Estate) FedBy(k Key) []Key { return e.near.fedBy[k] }

// Supplies lists the UPSes of a site.
func (e *Estate) Supplies(site Key) []*Device { return e.near.supplies[site] }

// NextTo lists the sides of which a hop is the next one on the way to the standpoint,
// or, where there are several, on the first.
func (e *Estate) NextTo(hop Key) []EndpointID { return e.near.behind[hop] }
