// Package snmpgear drives gear over SNMP as a profile says. The packets are
// gosnmp's; what to ask, how much at once, and what an answer means is ours.
//
//	driver.go      one card, and which parts of it there are
//	outlets.go     reading and switching outlets
//	card.go        the card itself: type plate, clock, log, restart, sensors
//	ups.go         UPS-MIB, RFC 1628
//	poe.go         POWER-ETHERNET-MIB, RFC 3621
//	entity.go      ENTITY-SENSOR-MIB, RFC 3433
//	neighbours.go  LLDP-MIB and IF-MIB: who is on which port
//	read.go        getting and walking objects, and what their values mean
//	session.go     one SNMP session: versions, sizes, errors sorted by what helps
package snmpgear

import (
	"context"
	"fmt"
	"time"

	"plumbbob/internal/gear"
	"plumbbob/internal/profile"
	"plumbbob/internal/secret"
)

// Options say where the gear is and how it is spoken to.
type Options struct {
	Name      string   // the device, for messages
	Addresses []string // host:port, in order of preference
	Profile   *profile.Profile
	Secret    secret.Value
	Timeout   time.Duration // for one question, with all its tries
}

// Driver is one card. It may be shared between goroutines: reading and
// writing have a session each, so that a command never waits for a poll.
type Driver struct {
	o     Options
	read  *session
	write *session
	parts []any
}

// Open prepares a driver; nothing is sent before the first question. What the
// gear can do is in its parts, as its profile has it.
func Open(o Options) (*Driver, error) {
	read, err := newSession(o)
	if err != nil {
		return nil, err
	}
	write, err := newSession(o)
	if err != nil {
		return nil, err
	}
	d := &Driver{o: o, read: read, write: write}
	p := o.Profile
	if p.Outlets != nil {
		outlets := &outlets{Driver: d, fixed: answers{}}
		if p.CyclesItself() {
			d.parts = append(d.parts, &cycler{outlets})
		} else {
			d.parts = append(d.parts, outlets)
		}
	} else if p.Standardly(profile.PoE) {
		d.parts = append(d.parts, &poe{Driver: d})
	}
	if p.Standardly(profile.UPS) {
		d.parts = append(d.parts, &supply{d})
	}
	if p.Standardly(profile.Neighbours) || p.Standardly(profile.Interfaces) {
		d.parts = append(d.parts, &neighbours{d})
	}
	if p.Standardly(profile.Sensors) || len(p.Sensors) > 0 {
		d.parts = append(d.parts, &sensors{d})
	}
	if p.Log != nil {
		d.parts = append(d.parts, &eventLog{d})
	}
	if p.Clock != nil {
		d.parts = append(d.parts, &clock{d})
	}
	if p.Restart != nil {
		d.parts = append(d.parts, &restarter{d})
	}
	d.parts = append(d.parts, &plate{d})
	return d, nil
}

// Parts is what the gear can do: see gear.As.
func (d *Driver) Parts() []any { return d.parts }

// Close ends both sessions.
func (d *Driver) Close() error {
	d.read.close()
	d.write.close()
	return nil
}

const (
	sysDescr       = "1.3.6.1.2.1.1.1.0"
	sysUpTime      = "1.3.6.1.2.1.1.3.0"
	hrSystemUptime = "1.3.6.1.2.1.25.1.1.0"
	engineBoots    = "1.3.6.1.6.3.10.2.1.2.0" // RFC 3411
	sysObjectID    = "1.3.6.1.2.1.1.2.0"
	sysName        = "1.3.6.1.2.1.1.5.0"
)

// Identify asks an agent what it is (SNMPv2-MIB, RFC 3418).
func (d *Driver) Identify(ctx context.Context) (gear.Identity, error) {
	var id gear.Identity
	err := d.read.use(ctx, func() error {
		got, err := d.read.get([]string{sysDescr, sysObjectID, sysName})
		if err != nil {
			return err
		}
		id.ObjectID, _ = raw(got[sysObjectID])
		id.Description, id.Name = got.text(sysDescr), got.text(sysName)
		return nil
	})
	return id, err
}

func (d *Driver) unsupported(what string) error {
	return &gear.Error{Kind: gear.Unsupported, Outcome: notSent, Text: fmt.Sprintf("%s: profile %s cannot %s", d.o.Name, d.o.Profile.Name, what)}
}

// lookup finds the values of a profile among what was got.
func lookup(entry string, got ...answers) gear.Lookup {
	return func(v *profile.Value, row int) (string, bool) {
		oid := v.OID
		if v.Column > 0 {
			oid = instance(entry, v.Column, row)
		}
		for _, a := range got {
			if x, ok := a[oid]; ok {
				return raw(x)
			}
		}
		return "", false
	}
}

// oids lists where values are, leaving out those that the profile has not.
func oids(vs ...*profile.Value) []string {
	var out []string
	for _, v := range vs {
		if v != nil && v.OID != "" {
			out = append(out, v.OID)
		}
	}
	return out
}
