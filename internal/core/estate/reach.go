package estate

import "slices"

// PathOf returns the network cables by which a side of a device is reached: of
// its production side, or, when endpoint is not empty, of that endpoint. An
// endpoint without cables of its own is reached as the production side is.
func (e *Estate) PathOf(k Key, endpoint string) []NetworkCable {
	d := e.device[k]
	if d == nil {
		return nil
	}
	if endpoint != "" {
		if ep, ok := d.Endpoint(endpoint); ok && (ep.Local() || len(ep.Network) > 0) {
			return ep.Network
		}
	}
	return d.Network
}

// MaxStrands bounds how many alternative paths are spelled out for one device.
const MaxStrands = 8

// ReachLine returns the strands of a reach line: each the devices from the
// standpoint to the device itself, in order.
func (e *Estate) ReachLine(k Key, endpoint string) [][]Key {
	if k == e.Standpoint {
		return [][]Key{{k}}
	}
	var strands [][]Key
	for _, c := range e.PathOf(k, endpoint) {
		if len(strands) == MaxStrands {
			break // before looking at the rest: redundant layers multiply
		}
		for _, s := range e.ReachLine(c.Via.Device, "") {
			if len(strands) == MaxStrands {
				return strands
			}
			strands = append(strands, append(s[:len(s):len(s)], k))
		}
	}
	return strands
}

// CutOff returns what can no longer be reached once the devices of down do
// nothing any more: of everything else, the production sides (endpoint "")
// and the endpoints of which every path leads through one of them.
func (e *Estate) CutOff(down map[Key]bool) (devices map[Key]bool, endpoints map[EndpointID]bool) {
	devices, endpoints = map[Key]bool{}, map[EndpointID]bool{}
	blocked := func(path []NetworkCable) bool {
		for _, c := range path {
			if v := c.Via.Device; !down[v] && !devices[v] {
				return false
			}
		}
		return len(path) > 0
	}
	for _, k := range e.order {
		if down[k] {
			continue
		}
		d := e.device[k]
		if blocked(d.Network) {
			devices[k] = true
		}
		for _, ep := range d.Endpoints {
			if blocked(e.PathOf(k, ep.Name)) {
				endpoints[EndpointID{k, ep.Name}] = true
			}
		}
	}
	return devices, endpoints
}

// EndpointID names an endpoint in the estate.
type EndpointID struct {
	Device Key
	Name   string
}

func (id EndpointID) String() string { return string(id.Device) + " " + id.Name }

// OnlyBehind lists what can be reached through this device alone: production
// sides (an EndpointID without a name) and endpoints. The caller must not change it.
func (e *Estate) OnlyBehind(k Key) []EndpointID { return e.behind[k] }

// onlyBehind works out, for every side, the hops that all of its paths share.
func (e *Estate) onlyBehind() map[Key][]EndpointID {
	behind := map[Key][]EndpointID{}
	shared := map[Key][]Key{} // of a production side
	common := func(cables []NetworkCable) []Key {
		var all []Key
		for i, c := range cables {
			hops := append(slices.Clone(shared[c.Via.Device]), c.Via.Device)
			if i == 0 {
				all = hops
				continue
			}
			all = slices.DeleteFunc(all, func(k Key) bool { return !slices.Contains(hops, k) })
		}
		return all
	}
	for _, k := range e.order {
		d := e.device[k]
		shared[k] = common(d.Network)
		for _, hop := range shared[k] {
			behind[hop] = append(behind[hop], EndpointID{Device: k})
		}
	}
	for _, k := range e.order { // endpoints afterwards: their paths may lead anywhere
		for _, ep := range e.device[k].Endpoints {
			for _, hop := range common(e.PathOf(k, ep.Name)) {
				if hop != k {
					behind[hop] = append(behind[hop], EndpointID{k, ep.Name})
				}
			}
		}
	}
	return behind
}

// reachOrder sorts the devices so that each comes after all that it, or one of
// its endpoints, is reached through. Only the production side counts as a hop,
// so an endpoint's path cannot close a loop.
func (e *Estate) reachOrder() []Key {
	order := make([]Key, 0, len(e.Devices))
	done := make(map[Key]bool, len(e.Devices))
	var visit func(Key)
	visit = func(k Key) {
		if done[k] {
			return
		}
		done[k] = true
		for _, c := range e.device[k].Network {
			visit(c.Via.Device)
		}
		order = append(order, k)
	}
	for i := range e.Devices {
		visit(e.Devices[i].Key)
	}
	return order
}
