package bmc

import (
	"encoding/binary"
	"time"

	"plumbbob/internal/wire/cursor"
	"plumbbob/internal/wire/ipmi"
)

// reserve hands out a new reservation; zero is none.
func (c *Controller) reserve(r *uint16) (ipmi.CompletionCode, []byte) {
	c.reservation = max(1, c.reservation+1)
	*r = c.reservation
	return ipmi.OK, binary.LittleEndian.AppendUint16(nil, *r)
}

func (c *Controller) sdrInfo(request) (ipmi.CompletionCode, []byte) {
	return ipmi.OK, ipmi.RepositoryInfo{Records: uint16(len(c.records)), Added: c.sdrChanged, Reserve: true}.Append(nil)
}

func (c *Controller) sdr(r request) (ipmi.CompletionCode, []byte) {
	reservation, id := binary.LittleEndian.Uint16(r.data), int(binary.LittleEndian.Uint16(r.data[2:]))
	offset, n := int(r.data[4]), int(r.data[5])
	if id == 0xffff {
		id = len(c.records) - 1
	}
	switch {
	case offset > 0 && reservation != c.sdrReserved:
		return ipmi.ReservationLost, nil
	case id >= len(c.records):
		return ipmi.NotPresent, nil
	case n > maxRead:
		return ipmi.CannotReturnSoMany, nil
	}
	rec := c.records[id]
	if offset > len(rec) {
		return ipmi.OutOfRange, nil
	}
	next := uint16(id + 1)
	if id == len(c.records)-1 {
		next = 0xffff
	}
	return ipmi.OK, append(binary.LittleEndian.AppendUint16(nil, next), rec[offset:min(offset+n, len(rec))]...)
}

func (c *Controller) fruInfo(r request) (ipmi.CompletionCode, []byte) {
	if r.data[0] != 0 {
		return ipmi.NotPresent, nil
	}
	return ipmi.OK, append(binary.LittleEndian.AppendUint16(nil, uint16(len(c.fru))), 0)
}

func (c *Controller) readFRU(r request) (ipmi.CompletionCode, []byte) {
	at, n := int(binary.LittleEndian.Uint16(r.data[1:])), int(r.data[3])
	switch {
	case r.data[0] != 0:
		return ipmi.NotPresent, nil
	case n > maxRead:
		return ipmi.CannotReturnSoMany, nil
	case at >= len(c.fru):
		return ipmi.OutOfRange, nil
	}
	b := c.fru[at:min(at+n, len(c.fru))]
	return ipmi.OK, append([]byte{byte(len(b))}, b...)
}

// eventLog is the log with its bookkeeping.
type eventLog struct {
	events  []ipmi.Event
	nextID  uint16
	added   uint32
	erased  uint32
	dropped bool
}

func (c *Controller) selInfo(request) (ipmi.CompletionCode, []byte) {
	return ipmi.OK, ipmi.EventLogInfo{
		Entries: uint16(len(c.log.events)), Room: uint16(maxEntries-len(c.log.events)) * ipmi.EventSize,
		Added: c.log.added, Erased: c.log.erased, Reserve: true, Overflow: c.log.dropped,
	}.Append(nil)
}

func (c *Controller) selEntry(r request) (ipmi.CompletionCode, []byte) {
	const last = 0xffff
	events := c.log.events
	id := binary.LittleEndian.Uint16(r.data[2:])
	for i, e := range events {
		if !(e.ID == id || id == 0 && i == 0 || id == last && i == len(events)-1) {
			continue
		}
		next := uint16(last)
		if i+1 < len(events) {
			next = events[i+1].ID
		}
		b := e.Append(nil)
		offset, n := int(r.data[4]), int(r.data[5])
		if given := binary.LittleEndian.Uint16(r.data); offset > 0 && (given == 0 || given != c.selReserved) {
			return ipmi.ReservationLost, nil
		}
		if offset > len(b) {
			return ipmi.OutOfRange, nil
		}
		return ipmi.OK, append(binary.LittleEndian.AppendUint16(nil, next), b[offset:min(len(b), offset+n)]...)
	}
	return ipmi.NotPresent, nil
}

func (c *Controller) clearSEL(r request) (ipmi.CompletionCode, []byte) {
	const erase, done = 0xaa, 1
	if binary.LittleEndian.Uint16(r.data) != c.selReserved {
		return ipmi.ReservationLost, nil
	}
	if string(r.data[2:5]) != "CLR" {
		return ipmi.InvalidField, nil
	}
	if r.data[5] == erase {
		c.log.events, c.log.dropped = nil, false
		c.log.erased = uint32(c.clock(r.now).Unix())
		c.add(ipmi.Event{Type: ipmi.EventLogState, Event: ipmi.SensorSpecific, Sensor: ipmi.SensorKey{Owner: 0x20, Number: numberLog}, Data: [3]byte{2, 0xff, 0xff}}, r.now)
	}
	return ipmi.OK, []byte{done}
}

func (c *Controller) setClock(r request) (ipmi.CompletionCode, []byte) {
	before := c.clockEvent(0)
	c.add(before, r.now)
	c.Faults.Clock = time.Unix(int64(binary.LittleEndian.Uint32(r.data)), 0).Sub(r.now)
	c.add(c.clockEvent(0x80), r.now)
	return ipmi.OK, nil
}

func (c *Controller) clockEvent(when byte) ipmi.Event {
	const clockSet = 5
	return ipmi.Event{Type: ipmi.SystemEvent, Event: ipmi.SensorSpecific, Sensor: ipmi.SensorKey{Owner: 0x20, Number: numberLog}, Data: [3]byte{0xc0 | clockSet, when, 0xff}}
}

// add writes an event to the log, and ends the reservation of who reads it.
func (c *Controller) add(e ipmi.Event, now time.Time) {
	if len(c.log.events) >= maxEntries {
		c.log.dropped = true // full: as most do, it keeps the oldest
		return
	}
	c.log.nextID++
	e.ID = c.log.nextID
	if e.Kind == 0 {
		e.Kind = ipmi.SystemEventRecord
	}
	e.Generator = uint16(e.Sensor.Owner)
	if e.Stamp == 0 {
		e.Stamp = uint32(c.clock(now).Unix())
	}
	c.log.added = uint32(c.clock(now).Unix())
	c.log.events = append(c.log.events, e)
	c.selReserved = 0
	c.raise(e, now)
}

// startLog fills the log with what happened before the lab was started.
func (c *Controller) startLog(now time.Time) {
	at := func(days int) uint32 { return uint32(now.Add(-time.Duration(days) * 24 * time.Hour).Unix()) }
	key := func(n uint8) ipmi.SensorKey { return ipmi.SensorKey{Owner: 0x20, Number: n} }
	specific := ipmi.SensorSpecific
	c.log.erased = at(200)
	for _, e := range []ipmi.Event{
		{Stamp: at(199), Type: ipmi.EventLogState, Event: specific, Sensor: key(numberLog), Data: [3]byte{2, 0xff, 0xff}},
		{Stamp: 42, Type: ipmi.SystemEvent, Event: specific, Sensor: key(numberLog), Data: [3]byte{0, 0xff, 0xff}},
		{Stamp: at(120), Type: ipmi.VersionChange, Event: specific, Sensor: key(numberVersion), Data: [3]byte{7, 0xff, 0xff}},
		{Stamp: at(120), Kind: ipmi.OEMTimed, Maker: c.m.Firmware.Manufacturer, OEM: []byte{1, 2, 3, 4, 5, 6}},
		{Stamp: at(64), Type: ipmi.Intrusion, Event: specific, Sensor: key(numberIntrusion), Data: [3]byte{0, 0xff, 0xff}},
		{Stamp: at(64) + 900, Type: ipmi.Intrusion, Event: specific, Gone: true, Sensor: key(numberIntrusion), Data: [3]byte{0, 0xff, 0xff}},
		{Stamp: at(31), Type: ipmi.Memory, Event: specific, Sensor: key(numberMemory), Data: [3]byte{0x30, 0xff, 3}},
		{Stamp: at(12), Type: ipmi.RestartType, Event: specific, Sensor: key(numberRestart), Data: [3]byte{0xc7, 1, 0x0e}},
	} {
		c.add(e, now)
	}
	c.log.added = at(12)
}

// decode is for requests that have a decoder.
func decode(b []byte, into ipmi.Decoder) bool { return into.Decode(cursor.New(b)) == nil }
