package lab

import (
	"fmt"
	"hash/crc32"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gosnmp/gosnmp"

	"plumbbob/internal/core/estate"
)

// The MIB of the lab's PDU, under the enterprise number for documentation
// (RFC 5612). docs/lab-pdu-mib.md describes it.
const (
	labPDU      = "1.3.6.1.4.1.32473.77.1"
	pduIdentity = labPDU + ".1"
	pduTotals   = labPDU + ".2"
	pduOutlets  = labPDU + ".3.1"
	pduLog      = labPDU + ".4.1"
	sysDescr    = "1.3.6.1.2.1.1.1.0"
	sysObjectID = "1.3.6.1.2.1.1.2.0"
	sysUpTime   = "1.3.6.1.2.1.1.3.0"
	sysName     = "1.3.6.1.2.1.1.5.0"
)

// The columns of the outlet table.
const (
	colIndex = iota + 1
	colName
	colSwitched
	colState
	colCommand
	colCycleSeconds
	colCurrent
	colPower
	colEnergy
	colAfterLoss
	colOnDelay
	colOffDelay
	lastColumn = colOffDelay
)

// What can be written to colCommand; it reads as 0.
const (
	orderOn = iota + 1
	orderOff
	orderCycle
)

// An object is one instance in the agent's tree. They are read and written
// with the world's lock held.
type object struct {
	oid  []uint32
	read func(now time.Time) gosnmp.SnmpPDU
	// write is nil where nothing can be written; check runs before it.
	check func(v gosnmp.SnmpPDU) gosnmp.SNMPError
	write func(v gosnmp.SnmpPDU)
	// there says whether the instance exists now; nil: always.
	there func() bool
}

func (o object) exists() bool { return o.there == nil || o.there() }

// pduTree lists the objects of a PDU in the order of their identifiers.
func pduTree(w *World, d *estate.Device, started time.Time) []object {
	box := w.boxes[d.Key]
	total := func(now time.Time) float64 { return w.takes(box, now) * float64(max(1, w.liveFeeds(d))) }
	volts := d.Inlet.Voltage() - 0.4
	tree := append(systemTree(d, started, fmt.Sprintf("Lab PDU, %d outlets, a stand-in", len(d.Outlets)), labPDU), []object{
		{oid: parseOID(pduIdentity + ".1.0"), read: always(words("LP-10"))},
		{oid: parseOID(pduIdentity + ".2.0"), read: always(words("1.5.0"))},
		{
			oid: parseOID(pduIdentity + ".4.0"), read: always(integer(0)), check: func(v gosnmp.SnmpPDU) gosnmp.SNMPError { return within(v, 1, 1) },
			write: func(gosnmp.SnmpPDU) {
				box.restarted = time.Now()
				box.note(box.restarted, "card restarted by command")
			},
		},
		{oid: parseOID(pduIdentity + ".5.0"), read: func(now time.Time) gosnmp.SnmpPDU { return gauge(int(now.Unix())) }},
		{oid: parseOID(pduIdentity + ".3.0"), read: always(words(serial(d.Key)))},
		{oid: parseOID(pduTotals + ".1.0"), read: always(integer(int(volts * 10)))},
		{oid: parseOID(pduTotals + ".2.0"), read: func(now time.Time) gosnmp.SnmpPDU { return gauge(int(total(now) * 10)) }},
		{oid: parseOID(pduTotals + ".3.0"), read: func(now time.Time) gosnmp.SnmpPDU { return gauge(int(total(now) / volts * 1000)) }},
	}...)
	for _, out := range d.Outlets {
		end := estate.End{Device: d.Key, Port: out.Port()}
		o := w.outlets[end]
		cell := func(column int, read func(now time.Time) gosnmp.SnmpPDU) object {
			return object{oid: parseOID(pduOutlets + "." + strconv.Itoa(column) + "." + strconv.Itoa(out.Number)), read: read}
		}
		name := cell(colName, func(time.Time) gosnmp.SnmpPDU { return words(o.name) })
		name.check, name.write = isName, func(v gosnmp.SnmpPDU) { o.name = string(v.Value.([]byte)) }
		order := cell(colCommand, func(time.Time) gosnmp.SnmpPDU { return integer(0) })
		order.check = func(v gosnmp.SnmpPDU) gosnmp.SNMPError {
			if !o.switched {
				return gosnmp.InconsistentValue
			}
			return within(v, orderOn, orderCycle)
		}
		order.write = func(v gosnmp.SnmpPDU) { w.obey(end, v.Value.(int)) }
		hold := cell(colCycleSeconds, func(time.Time) gosnmp.SnmpPDU { return integer(o.hold) })
		hold.check, hold.write = func(v gosnmp.SnmpPDU) gosnmp.SNMPError { return within(v, 1, 3600) }, func(v gosnmp.SnmpPDU) { o.hold = v.Value.(int) }
		setting := func(column, lo, hi int, v *int) object {
			x := cell(column, func(time.Time) gosnmp.SnmpPDU { return integer(*v) })
			x.check = func(v gosnmp.SnmpPDU) gosnmp.SNMPError { return within(v, lo, hi) }
			x.write = func(p gosnmp.SnmpPDU) { *v = p.Value.(int) }
			return x
		}
		tree = append(tree,
			setting(colAfterLoss, lossOff, lossAsBefore, &o.afterLoss), setting(colOnDelay, 0, 3600, &o.onDelay), setting(colOffDelay, 0, 3600, &o.offWait),
			cell(colIndex, always(integer(out.Number))), name,
			cell(colSwitched, always(integer(yes(o.switched)))),
			cell(colState, func(time.Time) gosnmp.SnmpPDU { return integer(yes(o.ordered)) }),
			order, hold,
			cell(colCurrent, func(now time.Time) gosnmp.SnmpPDU { return gauge(int(w.load(end, now) / volts * 1000)) }),
			cell(colPower, func(now time.Time) gosnmp.SnmpPDU { return gauge(int(w.meter(end, now)*10 + 0.5)) }),
			cell(colEnergy, func(now time.Time) gosnmp.SnmpPDU {
				w.meter(end, now)
				return gosnmp.SnmpPDU{Type: gosnmp.Counter32, Value: uint32(o.wh)}
			}),
		)
	}
	for i := range maxCardLog {
		row := func(column int, read func(e logged) gosnmp.SnmpPDU) object {
			return object{
				oid: parseOID(pduLog + "." + strconv.Itoa(column) + "." + strconv.Itoa(i+1)), read: func(time.Time) gosnmp.SnmpPDU { return read(box.log[i]) },
				there: func() bool { return i < len(box.log) },
			}
		}
		tree = append(tree, row(2, func(e logged) gosnmp.SnmpPDU { return gauge(int(e.at.Unix())) }), row(3, func(e logged) gosnmp.SnmpPDU { return words(e.text) }))
	}
	slices.SortFunc(tree, func(a, b object) int { return slices.Compare(a.oid, b.oid) })
	return tree
}

// Values of the types that agents answer with.
func integer(n int) gosnmp.SnmpPDU { return gosnmp.SnmpPDU{Type: gosnmp.Integer, Value: n} }
func gauge(n int) gosnmp.SnmpPDU {
	return gosnmp.SnmpPDU{Type: gosnmp.Gauge32, Value: uint32(max(0, n))}
}
func words(s string) gosnmp.SnmpPDU {
	return gosnmp.SnmpPDU{Type: gosnmp.OctetString, Value: []byte(s)}
}
func identifier(s string) gosnmp.SnmpPDU {
	return gosnmp.SnmpPDU{Type: gosnmp.ObjectIdentifier, Value: s}
}

func always(p gosnmp.SnmpPDU) func(time.Time) gosnmp.SnmpPDU {
	return func(time.Time) gosnmp.SnmpPDU { return p }
}

// systemTree is what every agent says of itself (RFC 3418).
func systemTree(d *estate.Device, started time.Time, what, id string) []object {
	return []object{
		{oid: parseOID(sysDescr), read: always(words(what))},
		{oid: parseOID(sysObjectID), read: always(identifier(id))},
		{oid: parseOID(sysUpTime), read: func(now time.Time) gosnmp.SnmpPDU {
			return gosnmp.SnmpPDU{Type: gosnmp.TimeTicks, Value: uint32(now.Sub(started) / (10 * time.Millisecond))}
		}},
		{oid: parseOID(sysName), read: always(words(string(d.Key)))},
	}
}

// obey carries out an order to an outlet, with the world's lock held.
func (w *World) obey(end estate.End, order int) {
	b := w.boxes[end.Device]
	w.ordered(w.outlets[end])
	switch order {
	case orderOn, orderOff:
		b.note(time.Now(), "outlet %d switched %s", end.Outlet(), map[bool]string{true: "on", false: "off"}[order == orderOn])
		w.command(end, order == orderOn)
	case orderCycle:
		b.note(time.Now(), "outlet %d cycled", end.Outlet())
		w.cycle(end)
	}
}

func yes(b bool) int {
	if b {
		return 1
	}
	return 2
}

func within(v gosnmp.SnmpPDU, lo, hi int) gosnmp.SNMPError {
	n, ok := v.Value.(int)
	switch {
	case !ok || v.Type != gosnmp.Integer:
		return gosnmp.WrongType
	case n < lo || n > hi:
		return gosnmp.WrongValue
	}
	return gosnmp.NoError
}

func isName(v gosnmp.SnmpPDU) gosnmp.SNMPError {
	b, ok := v.Value.([]byte)
	switch {
	case !ok || v.Type != gosnmp.OctetString:
		return gosnmp.WrongType
	case len(b) > 32:
		return gosnmp.WrongLength
	}
	return gosnmp.NoError
}

func parseOID(s string) []uint32 {
	var oid []uint32
	for part := range strings.SplitSeq(strings.Trim(s, "."), ".") {
		n, _ := strconv.ParseUint(part, 10, 32) // ours, or checked by gosnmp
		oid = append(oid, uint32(n))
	}
	return oid
}

func formatOID(oid []uint32) string {
	var b strings.Builder
	for _, n := range oid {
		b.WriteByte('.')
		b.WriteString(strconv.FormatUint(uint64(n), 10))
	}
	return b.String()
}

// serial is a number of its own for each PDU, and the same at every start.
func serial(k estate.Key) string {
	return fmt.Sprintf("LAB-%05d", crc32.ChecksumIEEE([]byte(k))%100_000)
}
