package estate

// near is who is next to whom, worked out once.
type near struct {
	neighbours []*Device            // connected to the standpoint
	fedBy      map[Key][]Key        // by what gives power
	supplies   map[Key][]*Device    // UPSes, by site
	behind     map[Key][]EndpointID // by the first hop
	beyond     map[Key][]*Device    // by the only hop: those at other sites, where there are several of these
}

func (e *Estate) findNear() {
	e.near = near{fedBy: map[Key][]Key{}, supplies: map[Key][]*Device{}, behind: map[Key][]EndpointID{}, beyond: map[Key][]*Device{}}
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
		if hop := e.onlyHop(d); hop != nil && hop.Site != d.Site && len(d.Probes) > 0 {
			e.near.beyond[hop.Key] = append(e.near.beyond[hop.Key], d)
		}
	}
	for k, list := range e.near.beyond {
		sites := map[Key]bool{}
		for _, d := range list {
			sites[d.Site] = true
		}
		if len(sites) < leastBeyond {
			delete(e.near.beyond, k)
		}
	}
}

// leastBeyond is at how many other sites there have to be devices behind a hop: what falls silent at so many
// at one moment has nothing in common but that.
const leastBeyond = 3

// onlyHop is the one next hop of a device, where there is but one, and it is not where we stand.
func (e *Estate) onlyHop(d *Device) *Device {
	if len(d.Network) != 1 || d.Network[0].Via.Device == e.Standpoint {
		return nil
	}
	return e.device[d.Network[0].Via.Device]
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

// Beyond lists the devices next behind a hop, and behind it alone, that are at other sites than it, where they
// are at three sites or more.
func (e *Estate) Beyond(hop Key) []*Device { return e.near.beyond[hop] }
