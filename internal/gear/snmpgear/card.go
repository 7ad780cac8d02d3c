package snmpgear

import (
	"cmp"
	"context"
	"fmt"
	"time"

	"plumbbob/internal/core/reading"
	"plumbbob/internal/gear"
)

// What may stand in the log of a card.
const maxLog = 500

// plate is the part of a card that knows what it is.
type plate struct{ *Driver }

var (
	_ gear.Inventory = (*plate)(nil)
	_ gear.Answerer  = (*plate)(nil)
)

// ReadSheet reads the type plate. What the profile does not map is taken from
// what every agent says of itself.
func (d *plate) ReadSheet(ctx context.Context) (reading.Sheet, error) {
	var out reading.Sheet
	err := d.read.use(ctx, func() error {
		s := d.o.Profile.Sheet
		got, err := d.read.get(append(oids(s.Maker, s.Product, s.Serial, s.Firmware), sysDescr, sysName, sysUpTime, hrSystemUptime, engineBoots))
		if err != nil {
			return err
		}
		out = lookup("", got).Sheet(d.o.Profile)
		if out.Product == "" {
			out.Product = got.text(sysDescr)
		}
		// Of a host the whole (RFC 2790), of a card itself (RFC 3418).
		ticks := cmp.Or(got.integer(hrSystemUptime), got.integer(sysUpTime))
		out.Up = time.Duration(ticks) * 10 * time.Millisecond
		out.Starts = int(got.integer(engineBoots))
		out.Name, out.Protocol, out.Address = got.text(sysName), "SNMP", d.o.Addresses[d.read.at]
		return nil
	})
	return out, err
}

// Answer asks for as little as can be.
func (d *plate) Answer(ctx context.Context) error {
	return d.read.use(ctx, func() error { _, err := d.read.get([]string{sysObjectID}); return err })
}

// eventLog is the part of a card that keeps a log of its own. It cannot be
// erased from here.
type eventLog struct{ *Driver }

var _ gear.EventLog = (*eventLog)(nil)

// ReadEvents reads the log.
func (d *eventLog) ReadEvents(ctx context.Context) (reading.EventLog, error) {
	var out reading.EventLog
	err := d.read.use(ctx, func() error {
		p := d.o.Profile.Log
		rows, err := d.read.indexes(fmt.Sprintf("%s.%d", p.Entry, p.Text.Column), maxLog)
		if err != nil {
			return err
		}
		var names []string
		for _, n := range rows {
			names = append(names, instance(p.Entry, p.Text.Column, n))
			if p.At != nil {
				names = append(names, instance(p.Entry, p.At.Column, n))
			}
		}
		got, err := d.read.get(names)
		if err != nil {
			return err
		}
		out = lookup(p.Entry, got).Log(p, rows)
		return nil
	})
	return out, err
}

// ClearEvents is refused: no profile says how.
func (d *eventLog) ClearEvents(context.Context, string) error { return d.unsupported("erase its log") }

// clock is the part of a card that knows what time it is.
type clock struct{ *Driver }

var _ gear.Clock = (*clock)(nil)

// ReadClock reads the clock.
func (d *clock) ReadClock(ctx context.Context) (time.Time, error) {
	var at time.Time
	err := d.read.use(ctx, func() error {
		got, err := d.read.get(oids(d.o.Profile.Clock))
		if err != nil {
			return err
		}
		if s := got.number(d.o.Profile.Clock.OID, 1); s != nil {
			at = time.Unix(int64(*s), 0).UTC()
		}
		return nil
	})
	return at, err
}

// restarter is the part of a card that can start the card anew.
type restarter struct{ *Driver }

var _ gear.Restarter = (*restarter)(nil)

// Restart starts the card anew. It is never said twice: a repetition that
// did arrive would restart it again.
func (d *restarter) Restart(ctx context.Context, _ bool) error {
	r := d.o.Profile.Restart
	return d.write.use(ctx, func() error { return d.write.set(0, integer(r.OID, r.Value)) })
}
