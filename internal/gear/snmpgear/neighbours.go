package snmpgear

import (
	"context"

	"plumbbob/internal/core/reading"
	"plumbbob/internal/gear"
)

// The columns of LLDP-MIB (IEEE 802.1AB) and IF-MIB (RFC 2863).
const (
	lldpRemEntry    = "1.0.8802.1.1.2.1.4.1.1"
	remChassis      = 5
	remPort         = 7
	remPortDesc     = 8
	remSysName      = 9
	lldpLocPortDesc = "1.0.8802.1.1.2.1.3.7.1.4"
	lldpLocPortID   = "1.0.8802.1.1.2.1.3.7.1.3"

	ifName       = "1.3.6.1.2.1.31.1.1.1.1"
	ifAlias      = "1.3.6.1.2.1.31.1.1.1.18"
	ifOperStatus = "1.3.6.1.2.1.2.2.1.8"
	operUp       = 1

	maxPorts      = 1024
	maxNeighbours = 1024
)

// neighbours is the part of a switch that knows who is on its ports.
type neighbours struct{ *Driver }

var _ gear.Neighbours = (*neighbours)(nil)

// ReadNeighbours lists the ports, and who is on them. A port without a
// neighbour is listed as well, and one with several (a telephone with a desk
// computer behind it) once for each.
func (d *neighbours) ReadNeighbours(ctx context.Context) ([]reading.Neighbour, error) {
	var out []reading.Neighbour
	err := d.read.use(ctx, func() error {
		ports, err := d.ports()
		if err != nil {
			return err
		}
		remote, err := d.remotes()
		if err != nil {
			return err
		}
		for _, p := range ports {
			out = append(out, p.with(remote[p.number])...)
		}
		return nil
	})
	return out, err
}

type port struct {
	number int // as LLDP counts them
	reading.Neighbour
}

// with lists a port with those who are heard on it.
func (p port) with(heard []reading.Neighbour) []reading.Neighbour {
	if len(heard) == 0 {
		return []reading.Neighbour{p.Neighbour}
	}
	var out []reading.Neighbour
	for _, r := range heard {
		n := p.Neighbour
		n.Chassis, n.Name, n.Remote = r.Chassis, r.Name, r.Remote
		out = append(out, n)
	}
	return out
}

// ports lists the ports as IF-MIB has them; where that says nothing, as LLDP does.
func (d *neighbours) ports() ([]port, error) {
	names, err := d.read.walk(ifName, maxPorts)
	if err != nil {
		return nil, err
	}
	column := ifName
	if len(names) == 0 {
		column = lldpLocPortDesc
		if names, err = d.read.walk(column, maxPorts); err != nil {
			return nil, err
		}
	}
	var ask []string
	for _, c := range names {
		ask = append(ask, ifAlias+indexSuffix(c.index), ifOperStatus+indexSuffix(c.index))
	}
	got, err := d.read.get(ask)
	if err != nil {
		return nil, err
	}
	var out []port
	for _, c := range names {
		p := port{number: c.index[0]}
		p.Port, p.Alias = text(c.value), got.text(ifAlias+indexSuffix(c.index))
		p.Up = column != ifName || got.integer(ifOperStatus+indexSuffix(c.index)) == operUp
		out = append(out, p)
	}
	return out, nil
}

// remotes reads who is heard on which port. The index is a time, the number of
// the port, and a number of the neighbour's own.
func (d *neighbours) remotes() (map[int][]reading.Neighbour, error) {
	cells, err := d.read.walk(instance(lldpRemEntry, remSysName), maxNeighbours)
	if err != nil {
		return nil, err
	}
	var ask []string
	for _, c := range cells {
		for _, column := range []int{remChassis, remPort, remPortDesc} {
			ask = append(ask, instance(lldpRemEntry, column, c.index...))
		}
	}
	got, err := d.read.get(ask)
	if err != nil {
		return nil, err
	}
	out := map[int][]reading.Neighbour{}
	for _, c := range cells {
		if len(c.index) != 3 {
			continue
		}
		n := reading.Neighbour{Name: text(c.value), Chassis: mac(got[instance(lldpRemEntry, remChassis, c.index...)]), Remote: got.text(instance(lldpRemEntry, remPortDesc, c.index...))}
		if n.Remote == "" {
			n.Remote = mac(got[instance(lldpRemEntry, remPort, c.index...)])
		}
		if n.Name == "" {
			n.Name = n.Chassis
		}
		out[c.index[1]] = append(out[c.index[1]], n)
	}
	return out, nil
}
