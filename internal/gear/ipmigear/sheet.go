package ipmigear

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"plumbbob/internal/core/reading"
	"plumbbob/internal/gear"
	"plumbbob/internal/wire/ipmi"
)

// ReadSheet reads the type plate. What a controller does not have stays empty.
func (d *Driver) ReadSheet(ctx context.Context) (reading.Sheet, error) {
	var s reading.Sheet
	err := d.use("read the sheet", func(c *ipmi.Client) error {
		id, err := c.DeviceID(ctx)
		if err != nil {
			return err
		}
		s = reading.Sheet{More: []string{fmt.Sprintf("product id: 0x%04x", id.Product)}, Firmware: id.Firmware(), Protocol: "IPMI " + id.Version(), Manufacturer: int(id.Manufacturer)}
		for _, read := range []func() error{
			func() error { return d.inventory(ctx, c, &s) },
			func() error { return d.units(ctx, c, &s) },
			func() error {
				g, err := c.SystemGUID(ctx)
				if err == nil {
					s.GUID = g.String()
				}
				return err
			},
			func() error {
				l, err := c.LAN(ctx)
				if err == nil {
					s.Address, s.MAC = l.Address.String(), l.MAC.String()
				}
				return err
			},
			func() (err error) { s.Name, err = c.Name(ctx); return err },
			func() (err error) { s.OnFor, err = c.OnHours(ctx); return err },
			func() error {
				cause, err := c.RestartCause(ctx)
				if err == nil && cause != 0 {
					s.LastStart = cause.String()
				}
				return err
			},
		} {
			if err := read(); lost(err) {
				return err
			}
		}
		return nil
	})
	return s, err
}

// lost: the controller has gone, not only one thing that it cannot do or that
// the user may not see.
func lost(err error) bool {
	_, silent := errors.AsType[*ipmi.SilentError](err)
	_, closed := errors.AsType[*ipmi.OpenError](err)
	return silent || closed
}

func (d *Driver) inventory(ctx context.Context, c *ipmi.Client, s *reading.Sheet) error {
	f, err := c.Inventory(ctx, 0)
	if err != nil {
		if !lost(err) {
			s.Faults = append(s.Faults, err.Error())
		}
		return err
	}
	s.Faults = append(s.Faults, f.Faults...)
	if p := f.Product; p != nil {
		s.Maker, s.Product, s.Part, s.Version, s.Serial, s.Asset = p.Maker, p.Product, p.Part, p.Version, p.Serial, p.Asset
	}
	if b := f.Board; b != nil {
		s.BoardMaker, s.Board, s.BoardSerial, s.BoardPart = b.Maker, b.Product, b.Serial, b.Part
		if !b.Made.IsZero() {
			s.BoardMade = &b.Made
		}
	}
	if ch := f.Chassis; ch != nil {
		s.ChassisPart, s.ChassisSerial = ch.Part, ch.Serial
	}
	s.More = append(s.More, more(f)...)
	return nil
}

// more is what an inventory has beside what everything has.
func more(f *ipmi.FRU) (out []string) {
	add := func(name string, values ...string) {
		for _, v := range values {
			if v = gear.Clean(v); v != "" {
				out = append(out, name+": "+v)
			}
		}
	}
	if p := f.Product; p != nil {
		add("product file", p.File)
		add("product field", p.Custom...)
	}
	if b := f.Board; b != nil {
		add("board file", b.File)
		add("board field", b.Custom...)
	}
	if c := f.Chassis; c != nil {
		add("chassis type", chassisTypes[c.Type])
		add("chassis field", c.Custom...)
	}
	return out
}

// chassisTypes are those of racks and desks (SMBIOS 3.7, section 7.4.1); the others are
// not likely to have a controller.
var chassisTypes = map[uint8]string{
	0x03: "desktop", 0x06: "mini tower", 0x07: "tower", 0x11: "main server", 0x17: "rack mount", 0x18: "sealed case", 0x1c: "blade", 0x1d: "blade enclosure",
}

// otherUnits is how many further inventories are looked for: those of power supplies
// and boards that can be pulled.
const otherUnits = 4

// units reads the inventories beside the first; a controller that has none says so.
func (d *Driver) units(ctx context.Context, c *ipmi.Client, s *reading.Sheet) error {
	for id := uint8(1); id <= otherUnits; id++ {
		f, err := c.Inventory(ctx, id)
		if err != nil {
			return err // the first that is not there is the last
		}
		var words []string
		if p := f.Product; p != nil {
			words = append(words, p.Maker, p.Product, p.Part, p.Serial)
		} else if b := f.Board; b != nil {
			words = append(words, b.Maker, b.Product, b.Part, b.Serial)
		}
		words = slices.DeleteFunc(words, func(w string) bool { return gear.Clean(w) == "" })
		if len(words) > 0 {
			s.More = append(s.More, gear.Clean(fmt.Sprintf("unit %d: %s", id, strings.Join(words, ", "))))
		}
	}
	return nil
}
