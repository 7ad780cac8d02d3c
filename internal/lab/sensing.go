package lab

import (
	"math"
	"slices"
	"strconv"
	"time"

	"github.com/gosnmp/gosnmp"

	"plumbbob/internal/core/estate"
)

// around is what a sensor unit measures of its surroundings.
type around struct {
	celsius, humidity float64
	doorOpen          bool
	water             bool
}

// Types and scales of RFC 3433.
const (
	sensorCelsius  = 8
	sensorHumidity = 9
	sensorTruth    = 12
	scaleUnits     = 9
)

// sensorTree lists the objects of a sensor unit: ENTITY-SENSOR-MIB (RFC 3433)
// with the names of ENTITY-MIB (RFC 6933).
func sensorTree(w *World, d *estate.Device, started time.Time) []object {
	a := w.boxes[d.Key].around
	tree := systemTree(d, started, "Lab sensor unit, a stand-in", "1.3.6.1.4.1.32473.77.4")
	add := func(oid string, read func(now time.Time) gosnmp.SnmpPDU) {
		tree = append(tree, object{oid: parseOID(oid), read: read})
	}
	truth := func(b *bool) func(time.Time) float64 {
		return func(time.Time) float64 { return float64(yes(*b)) }
	}
	for i, s := range []struct {
		name, where     string
		kind, precision int
		value           func(now time.Time) float64
	}{
		{"room temperature", "above rack 1", sensorCelsius, 1, func(now time.Time) float64 { return 10 * (a.celsius + 0.6*wave(d.Key, now, 600)) }},
		{"room humidity", "above rack 1", sensorHumidity, 0, func(now time.Time) float64 { return a.humidity + 2*wave(d.Key+"'", now, 900) }},
		{"door open", "comms room", sensorTruth, 0, truth(&a.doorOpen)},
		{"water on floor", "comms room", sensorTruth, 0, truth(&a.water)},
	} {
		row := "." + strconv.Itoa(i+1)
		add("1.3.6.1.2.1.47.1.1.1.1.2"+row, always(words(s.where)))
		add("1.3.6.1.2.1.47.1.1.1.1.7"+row, always(words(s.name)))
		const entry = "1.3.6.1.2.1.99.1.1.1."
		add(entry+"1"+row, always(integer(s.kind)))
		add(entry+"2"+row, always(integer(scaleUnits)))
		add(entry+"3"+row, always(integer(s.precision)))
		add(entry+"4"+row, func(now time.Time) gosnmp.SnmpPDU { return integer(int(math.Round(s.value(now)))) })
		add(entry+"5"+row, always(integer(1)))
	}
	slices.SortFunc(tree, func(a, b object) int { return slices.Compare(a.oid, b.oid) })
	return tree
}

// switchTree lists the objects of a switch: its ports (IF-MIB), those that give
// power (RFC 3621), and who is on them (LLDP-MIB).
func switchTree(w *World, d *estate.Device, started time.Time) []object {
	tree := systemTree(d, started, "Lab switch, a stand-in", "1.3.6.1.4.1.32473.77.5")
	add := func(oid string, read func(now time.Time) gosnmp.SnmpPDU) *object {
		tree = append(tree, object{oid: parseOID(oid), read: read})
		return &tree[len(tree)-1]
	}
	for _, p := range w.portsOf(d) {
		row := "." + strconv.Itoa(p.number)
		b := w.boxes[p.device]
		add("1.3.6.1.2.1.31.1.1.1.1"+row, always(words("port "+strconv.Itoa(p.number))))
		add("1.3.6.1.2.1.31.1.1.1.18"+row, always(words("")))
		add("1.3.6.1.2.1.2.2.1.8"+row, func(time.Time) gosnmp.SnmpPDU {
			return integer(yes(b != nil && !b.powered.IsZero()))
		})
		if b == nil {
			continue
		}
		// Who is silent is forgotten: only a device that runs is heard of.
		heard := func() bool { return w.up(b, time.Now()) }
		for column, value := range map[int]gosnmp.SnmpPDU{5: words(string(p.device)), 7: words("eth0"), 8: words("uplink"), 9: words(string(p.device))} {
			add("1.0.8802.1.1.2.1.4.1.1."+strconv.Itoa(column)+".0"+row+".1", always(value)).there = heard
		}
	}
	w.poeTree(d, add)
	slices.SortFunc(tree, func(a, b object) int { return slices.Compare(a.oid, b.oid) })
	return tree
}

// poeTree adds POWER-ETHERNET-MIB for the ports that give power.
func (w *World) poeTree(d *estate.Device, add func(string, func(time.Time) gosnmp.SnmpPDU) *object) {
	const entry, group = "1.3.6.1.2.1.105.1.1.1.", ".1."
	gives := false
	for _, out := range d.Outlets {
		if out.Kind != estate.PoE {
			continue
		}
		gives = true
		end := estate.End{Device: d.Key, Port: out.Port()}
		o := w.outlets[end]
		row := group + strconv.Itoa(out.Number)
		enable := add(entry+"3"+row, func(time.Time) gosnmp.SnmpPDU { return integer(yes(o.ordered)) })
		enable.check = func(v gosnmp.SnmpPDU) gosnmp.SNMPError { return within(v, 1, 2) }
		enable.write = func(v gosnmp.SnmpPDU) { w.command(end, v.Value.(int) == 1) }
		add(entry+"6"+row, func(now time.Time) gosnmp.SnmpPDU {
			const searching, delivering = 2, 3
			if w.load(end, now) > 0 {
				return integer(delivering)
			}
			return integer(searching)
		})
		label := add(entry+"9"+row, func(time.Time) gosnmp.SnmpPDU { return words(o.name) })
		label.check, label.write = isName, func(v gosnmp.SnmpPDU) { o.name = string(v.Value.([]byte)) }
	}
	if !gives {
		return
	}
	const main = "1.3.6.1.2.1.105.1.3.1.1."
	add(main+"2.1", always(gauge(120)))
	add(main+"3.1", always(integer(1)))
	add(main+"4.1", func(now time.Time) gosnmp.SnmpPDU {
		total := 0.0
		for _, out := range d.Outlets {
			total += w.load(estate.End{Device: d.Key, Port: out.Port()}, now)
		}
		return gauge(int(math.Round(total)))
	})
}

// gatewayTree lists the objects of a gateway: the port of its line, as IF-MIB (RFC 2863) has it.
func gatewayTree(w *World, d *estate.Device, started time.Time) []object {
	b := w.boxes[d.Key]
	const lineRow = ".2"
	tree := append(systemTree(d, started, "Lab gateway, a stand-in", "1.3.6.1.4.1.32473.77.6"),
		object{oid: parseOID("1.3.6.1.2.1.31.1.1.1.1" + lineRow), read: always(words("line"))},
		object{oid: parseOID("1.3.6.1.2.1.2.2.1.8" + lineRow), read: func(time.Time) gosnmp.SnmpPDU { return integer(yes(b.line != lineDown)) }})
	slices.SortFunc(tree, func(a, b object) int { return slices.Compare(a.oid, b.oid) })
	return tree
}

// switchPort is a port of a switch, and who is really on it.
type switchPort struct {
	number int
	device estate.Key // empty: nobody
}

// portsOf numbers the ports of a switch: those that the estate names get
// theirs, and everything else the next free one.
func (w *World) portsOf(d *estate.Device) []switchPort {
	taken := map[int]estate.Key{}
	var rest []estate.Key
	on := func(k estate.Key, end estate.End) {
		if n, err := strconv.Atoi(end.Port); err == nil && end.Port != "" {
			taken[n] = k
		} else {
			rest = append(rest, k)
		}
	}
	for i := range w.e.Devices {
		x := &w.e.Devices[i]
		for _, c := range x.Network {
			if c.Via.Device == d.Key {
				on(x.Key, c.Via)
			}
		}
	}
	for _, c := range d.Network {
		rest = append(rest, c.Via.Device)
	}
	n := 0
	for _, k := range rest {
		for n++; taken[n] != ""; n++ {
		}
		taken[n] = k
	}
	var out []switchPort
	for n := 1; n <= max(8, len(taken)); n++ {
		out = append(out, switchPort{n, taken[n]})
	}
	for n := range taken { // those that are named beyond
		if n > max(8, len(taken)) {
			out = append(out, switchPort{n, taken[n]})
		}
	}
	return out
}
