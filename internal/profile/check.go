package profile

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
)

var (
	oid  = regexp.MustCompile(`^\d+(\.\d+)+$`)
	name = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?$`)
)

// afterLoss are the words for what an outlet does when power comes back.
var afterLoss = []string{"off", "on", "as before"}

func (p *Profile) check() error {
	switch {
	case p.Format != Version:
		return fmt.Errorf("it must begin with plumb-profile: %d", Version)
	case !name.MatchString(p.Name):
		return fmt.Errorf("name: %q cannot be the name of a profile: use lower-case letters, digits and hyphens", p.Name)
	case p.Protocol != SNMP && p.Protocol != HTTP:
		return fmt.Errorf("protocol: %q is not known: it can be snmp or http", p.Protocol)
	case p.Protocol == HTTP && len(p.Standard) > 0:
		return errors.New("standard: is for protocol snmp only: take it out")
	case p.Protocol == SNMP && (len(p.Pages) > 0 || p.Login != nil):
		return errors.New("pages and login: are for protocol http only: take them out")
	}
	for _, s := range p.Standard {
		if !slices.Contains(Standards, s) {
			return fmt.Errorf("standard: %q is not known: it can be %s", s, strings.Join(Standards, ", "))
		}
	}
	if p.Outlets == nil && len(p.Standard) == 0 && len(p.Sensors) == 0 && len(p.Meters) == 0 && p.Panel == nil && p.Channel == nil && p.Keyboard == nil && p.Display == nil {
		return errors.New("it maps nothing: add outlets, meters, sensors, panel, channel, keyboard, display, or standard")
	}
	return errors.Join(p.login(), p.values(), p.outlets(), p.panel(), p.channel(), p.keyboard(), p.display())
}

func (p *Profile) login() error {
	l := p.Login
	switch {
	case l == nil:
		return nil
	case !slices.Contains([]string{"basic", "digest", "bearer", "header"}, l.Kind):
		return fmt.Errorf("login kind: %q is not known: it can be basic, digest, bearer or header", l.Kind)
	case l.Kind == "header" && l.Header == "":
		return errors.New("login header: is missing: say which header carries the key")
	}
	return nil
}

// values checks every value of the profile by itself.
func (p *Profile) values() error {
	var errs []error
	check := func(where string, v *Value, inTable bool) {
		if v == nil {
			return
		}
		if err := p.value(v, inTable); err != nil {
			errs = append(errs, fmt.Errorf("%s: %w", where, err))
		}
	}
	for w, v := range map[string]*Value{
		"totals power": p.Totals.Power, "totals current": p.Totals.Current, "totals voltage": p.Totals.Voltage, "totals energy": p.Totals.Energy,
		"sheet maker": p.Sheet.Maker, "sheet product": p.Sheet.Product, "sheet serial": p.Sheet.Serial, "sheet firmware": p.Sheet.Firmware, "clock": p.Clock,
	} {
		check(w, v, false)
	}
	if o := p.Outlets; o != nil {
		for w, v := range map[string]*Value{
			"name": o.Name, "switched": o.Switched, "on": o.On, "current": o.Current, "power": o.Power, "energy": o.Energy, "number": o.Number,
			"after-loss": o.AfterLoss, "on-delay": o.OnDelay, "off-delay": o.OffDelay, "cycle-seconds": o.CycleSeconds,
		} {
			check("outlets "+w, v, true)
		}
	}
	for i, m := range p.Meters {
		where := fmt.Sprintf("meters %d (%s)", i+1, m.Name)
		if !slices.Contains([]string{"inlet", "phase", "bank"}, m.Kind) {
			errs = append(errs, fmt.Errorf("%s kind: %q is not known: it can be inlet, phase or bank", where, m.Kind))
		}
		for w, v := range map[string]*Value{"current": m.Current, "voltage": m.Voltage, "power": m.Power, "energy": m.Energy, "breaker": m.Breaker, "rating": m.Rating} {
			check(where+" "+w, v, false)
		}
	}
	for i, s := range p.Sensors {
		where := fmt.Sprintf("sensors %d (%s)", i+1, s.Name)
		if s.Name == "" || s.Kind == "" || s.Value == nil {
			errs = append(errs, fmt.Errorf("%s: it needs a name, a kind and a value", where))
		}
		check(where, s.Value, false)
	}
	if b := p.Panel; b != nil {
		check("panel power", b.Power, false)
		check("panel disk", b.Disk, false)
	}
	if c := p.Channel; c != nil {
		check("channel shown", c.Shown, false)
	}
	if k := p.Keyboard; k != nil {
		check("keyboard plugged", k.Plugged, false)
	}
	if d := p.Display; d != nil {
		check("display offers", d.Offers, false)
		check("display is", d.Is, false)
	}
	if l := p.Log; l != nil {
		check("log at", l.At, true)
		check("log text", l.Text, true)
	}
	return errors.Join(errs...)
}

// value says whether one value can be found at all.
func (p *Profile) value(v *Value, inTable bool) error {
	if p.Protocol == SNMP {
		switch {
		case v.Page != "" || v.At != "" || v.Find != "" || v.Set != nil:
			return errors.New("page, at, find and set are for protocol http only")
		case inTable && v.Column <= 0:
			return errors.New("column: say which column of the table it is")
		case !inTable && !oid.MatchString(v.OID):
			return fmt.Errorf("oid: %q is not an object identifier", v.OID)
		}
		return nil
	}
	if v.OID != "" || v.Column != 0 || v.Write {
		return errors.New("oid, column and write are for protocol snmp only")
	}
	if v.Page != "" {
		if _, ok := p.Pages[v.Page]; !ok {
			return fmt.Errorf("page: %q is not among the pages", v.Page)
		}
	} else if !inTable || p.rows() == nil {
		return errors.New("page: say on which page it is")
	}
	if v.At != "" && !strings.HasPrefix(v.At, "/") {
		return fmt.Errorf("at: %q is not a JSON pointer such as /load/watts", v.At)
	}
	if v.Find != "" {
		if err := p.expression(v.Find); err != nil {
			return err
		}
	}
	if v.At == "" && v.Find == "" {
		return errors.New("at or find: say where on the page it is")
	}
	return v.Set.check()
}

func (p *Profile) rows() *Value {
	if p.Outlets == nil {
		return nil
	}
	return p.Outlets.Rows
}

func (p *Profile) outlets() error {
	o := p.Outlets
	switch {
	case o == nil:
		return nil
	case o.On == nil:
		return errors.New("outlets on: is missing: without it nothing can be read back")
	case o.On.Yes == "":
		return errors.New("outlets on yes: say which value means on")
	case p.Protocol == SNMP && !oid.MatchString(o.Entry):
		return fmt.Errorf("outlets entry: %q is not an object identifier", o.Entry)
	case p.Protocol == HTTP && o.Rows == nil && o.Count == 0:
		return errors.New("outlets rows: is missing: say where the list of outlets is, or with count how many there are")
	case o.Rows != nil && p.Pages[o.Rows.Page] == "":
		return fmt.Errorf("outlets rows page: %q is not among the pages", o.Rows.Page)
	}
	if o.AfterLoss != nil {
		for _, w := range o.AfterLoss.Words {
			if !slices.Contains(afterLoss, w) {
				return fmt.Errorf("outlets after-loss words: %q is not known: it can be %s", w, strings.Join(afterLoss, ", "))
			}
		}
	}
	c := o.Command
	if c == nil {
		return nil
	}
	if p.Protocol == SNMP && c.Column <= 0 {
		return errors.New("outlets command column: say to which column the commands are written")
	}
	for what, order := range map[string]*Order{"on": &c.On, "off": &c.Off, "cycle": c.Cycle} {
		if order == nil || p.Protocol == SNMP {
			continue
		}
		if order.Request == nil {
			return fmt.Errorf("outlets command %s: it needs a method and a path", what)
		}
		if err := order.Request.check(); err != nil {
			return fmt.Errorf("outlets command %s %w", what, err)
		}
	}
	return nil
}

// maxLeads bounds how many fronts one board can be wired to.
const maxLeads = 64

func (p *Profile) panel() error {
	b := p.Panel
	switch {
	case b == nil:
		return nil
	case p.Protocol != HTTP:
		return errors.New("panel: is for protocol http only")
	case b.Leads < 1 || b.Leads > maxLeads:
		return fmt.Errorf("panel leads: %d is not between 1 and %d", b.Leads, maxLeads)
	case b.Power == nil || b.Power.Yes == "":
		return errors.New("panel power: is missing: say where the power light is, and with yes which value means on: a button that cannot be watched is not pressed")
	case b.Press == nil:
		return errors.New("panel press: it needs a method and a path")
	case b.Buttons["power"] == "":
		return errors.New("panel buttons: say what the gear calls the power button")
	}
	for name := range b.Buttons {
		if name != "power" && name != "reset" {
			return fmt.Errorf("panel buttons: %q is not known: it can be power or reset", name)
		}
	}
	if err := b.Press.check(); err != nil {
		return fmt.Errorf("panel press %w", err)
	}
	return nil
}

func (p *Profile) channel() error {
	c := p.Channel
	switch {
	case c == nil:
		return nil
	case p.Protocol != HTTP:
		return errors.New("channel: is for protocol http only")
	case c.Ports < 1 || c.Ports > maxLeads:
		return fmt.Errorf("channel ports: %d is not between 1 and %d", c.Ports, maxLeads)
	case c.Shown == nil:
		return errors.New("channel shown: is missing: say where the number of the port is that is seen: nobody types at a host that may be another one")
	case c.Show == nil:
		return errors.New("channel show: it needs a method and a path")
	}
	if err := c.Show.check(); err != nil {
		return fmt.Errorf("channel show %w", err)
	}
	return nil
}

func (p *Profile) keyboard() error {
	k := p.Keyboard
	switch {
	case k == nil:
		return nil
	case p.Protocol != HTTP:
		return errors.New("keyboard: is for protocol http only")
	case k.Plugged == nil:
		return errors.New("keyboard plugged: is missing: say where it can be read whether it is plugged in, so that none is left out")
	case k.Plugged.Yes == "":
		return errors.New("keyboard plugged: yes: is missing: say what is read when it is plugged in")
	case k.Plug == nil:
		return errors.New("keyboard plug: it needs a method and a path")
	}
	if err := k.Plug.check(); err != nil {
		return fmt.Errorf("keyboard plug %w", err)
	}
	return nil
}

func (p *Profile) display() error {
	d := p.Display
	switch {
	case d == nil:
		return nil
	case p.Protocol != HTTP:
		return errors.New("display: is for protocol http only")
	case d.Offers == nil || d.Offers.At == "":
		return errors.New("display offers: say with page and at where the list of names is")
	case d.Is == nil || d.Is.Set == nil:
		return errors.New("display is: say where the name is of that which it pretends to be, and with set how it is told to be another: what cannot be read back cannot be taken back")
	}
	return nil
}

func (r *Request) check() error {
	switch {
	case r == nil:
		return nil
	case !slices.Contains([]string{"GET", "POST", "PUT", "PATCH", "DELETE"}, r.Method):
		return fmt.Errorf("method: %q is not known: it can be GET, POST, PUT, PATCH or DELETE", r.Method)
	case !strings.HasPrefix(r.Path, "/"):
		return fmt.Errorf("path: %q does not begin with /", r.Path)
	}
	return nil
}
