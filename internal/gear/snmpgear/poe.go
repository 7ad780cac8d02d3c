package snmpgear

import (
	"context"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/gear"
)

// The objects of POWER-ETHERNET-MIB (RFC 3621). A port is known by its group
// and its number; ours are numbered through, group by group.
const (
	pethPortEntry = "1.3.6.1.2.1.105.1.1.1"
	pethMainEntry = "1.3.6.1.2.1.105.1.3.1.1"

	pethAdminEnable = 3 // TruthValue: 1 is true
	pethDetection   = 6
	pethPortType    = 9
	pethMainUsed    = 4 // W, that it gives
	deliveringPower = 3
	truthTrue       = 1
	truthFalse      = 2
	maxGroups       = 16
	poePortsEvery   = 5 * time.Minute
)

// poeTroubles are the states of pethPsePortDetectionStatus in which a port gives
// no power for another reason than that nothing asks for it.
var poeTroubles = map[int]string{4: "a fault on the line", 5: "it is being tested", 6: "a fault of the switch"}

// poe is the part of a switch that powers its ports.
type poe struct {
	*Driver

	ports    []cell // index is group and port
	listedAt time.Time
}

var _ gear.Outlets = (*poe)(nil)

// ReadOutlets reads which ports are allowed power, and which give it.
func (d *poe) ReadOutlets(ctx context.Context) (reading.Outlets, error) {
	var out reading.Outlets
	err := d.read.use(ctx, func() error {
		if err := d.list(); err != nil {
			return err
		}
		var names []string
		for _, p := range d.ports {
			names = append(names, instance(pethPortEntry, pethAdminEnable, p.index...), instance(pethPortEntry, pethDetection, p.index...), instance(pethPortEntry, pethPortType, p.index...))
		}
		got, err := d.read.get(names)
		if err != nil {
			return err
		}
		for i, p := range d.ports {
			if r, ok := poePort(got, p.index, i+1); ok {
				out.Outlets = append(out.Outlets, r)
			}
		}
		out.Meters, err = d.groups()
		return err
	})
	return out, err
}

// poePort reads one row of the table.
func poePort(got answers, index []int, number int) (r reading.Outlet, ok bool) {
	at := func(column int) string { return instance(pethPortEntry, column, index...) }
	enabled, detected := got.integer(at(pethAdminEnable)), got.integer(at(pethDetection))
	return reading.Outlet{
		Kind: estate.PoE, Number: number, Name: got.text(at(pethPortType)), Switched: true,
		On: enabled == truthTrue, Giving: new(detected == deliveringPower), Trouble: poeTroubles[detected],
	}, enabled != 0
}

func (d *poe) list() error {
	if len(d.ports) > 0 && time.Since(d.listedAt) < poePortsEvery {
		return nil
	}
	ports, err := d.read.walk(instance(pethPortEntry, pethAdminEnable), maxOutlets)
	if err != nil {
		return err
	}
	if len(ports) == 0 {
		return &gear.Error{Kind: gear.Malformed, Outcome: refused, Text: d.o.Name + " lists no powered ports: it does not implement POWER-ETHERNET-MIB (RFC 3621)"}
	}
	d.ports, d.listedAt = ports, time.Now()
	return nil
}

// groups reads what each group of ports gives of what it can.
func (d *poe) groups() ([]reading.Meter, error) {
	cells, err := d.read.walk(instance(pethMainEntry, pethMainUsed), maxGroups)
	var out []reading.Meter
	for _, c := range cells {
		if w, ok := number(c.value); ok {
			out = append(out, reading.Meter{Kind: "bank", Name: "PoE group", W: &w})
		}
	}
	return out, err
}

// SwitchOutlet allows a port to give power, or forbids it.
func (d *poe) SwitchOutlet(ctx context.Context, n int, on bool) error {
	return d.write.use(ctx, func() error {
		ports := d.ports
		if len(ports) == 0 { // nothing has been read yet
			var err error
			if ports, err = d.write.walk(instance(pethPortEntry, pethAdminEnable), maxOutlets); err != nil {
				return &gear.Error{Kind: gear.KindOf(err), Outcome: notSent, Text: err.Error(), Err: err}
			}
		}
		if n < 1 || n > len(ports) {
			return d.unsupported("switch that port: it has fewer")
		}
		v := truthFalse
		if on {
			v = truthTrue
		}
		return d.write.set(setRetries, integer(instance(pethPortEntry, pethAdminEnable, ports[n-1].index...), v))
	})
}
