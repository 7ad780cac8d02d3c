package ipmigear

import (
	"context"
	"errors"

	"plumbbob/internal/core/reading"
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
		s = reading.Sheet{Firmware: id.Firmware(), Protocol: "IPMI " + id.Version(), Manufacturer: int(id.Manufacturer)}
		for _, read := range []func() error{
			func() error { return d.inventory(ctx, c, &s) },
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
	return nil
}
