package bmc

import (
	"bytes"
	"encoding/binary"
	"net/netip"
	"time"

	"plumbbob/internal/wire/ipmi"
)

// user is one slot of the user table.
type user struct {
	id        uint8
	name      string
	password  string
	long      bool // stored with 20 bytes
	limit     ipmi.Privilege
	enabled   bool
	messaging bool
}

// destination is where alerts go.
type destination struct {
	kind, address []byte
}

// pef is the alert settings.
type pef struct {
	values   map[uint8][]byte
	filters  [][]byte
	policies [][]byte
}

// watchdog is the timer, and when it was started.
type watchdog struct {
	ipmi.Watchdog
	started time.Time
}

const (
	userSlots = 10
	destCount = 4
	pefRows   = 6
	revision  = 0x11
	md5Alone  = 0x04 // authentication types, of IPMI 1.5
)

// settings makes everything as it leaves the factory and the first set-up.
func (c *Controller) settings() {
	for id := uint8(1); id <= userSlots; id++ {
		c.users = append(c.users, user{id: id, limit: ipmi.NoAccess})
	}
	c.users[0].enabled, c.users[0].messaging = c.m.Empty, c.m.Empty
	if c.m.Empty {
		c.users[0].limit = ipmi.User
	}
	c.users[1] = user{id: 2, name: c.m.User, password: c.m.Password, long: len(c.m.Password) > 16, limit: ipmi.Administrator, enabled: true, messaging: true}
	if c.m.Extra != "" {
		c.users[2] = user{id: 3, name: c.m.Extra, password: c.m.Extra, limit: ipmi.Operator, enabled: true, messaging: true}
	}
	ip := [4]byte{127, 0, 0, 1}
	if c.m.Address.Is4() {
		ip = c.m.Address.As4()
	}
	ids, levels := []byte{0}, []byte{0}
	for i, s := range c.m.Suites {
		ids = append(ids, byte(s))
		if i%2 == 0 {
			levels = append(levels, byte(ipmi.Administrator))
		} else {
			levels[len(levels)-1] |= byte(ipmi.Administrator) << 4
		}
	}
	// Sixteen ids and eight bytes of privileges, whatever is in use (table 23-4).
	ids, levels = append(ids, make([]byte, 17-len(ids))...), append(levels, make([]byte, 9-len(levels))...)
	c.lan = map[uint8][]byte{
		0: {0}, 1: {md5Alone}, 2: {0, md5Alone, md5Alone, md5Alone, 0}, 3: ip[:], 4: {byte(ipmi.SourceStatic)}, 5: {0x02, 0, 0x5e, c.guid[0], c.guid[1], c.guid[2]}, 6: {255, 0, 0, 0},
		12: {ip[0], ip[1], ip[2], 254}, 16: append([]byte("public"), make([]byte, 12)...), 17: {destCount}, 20: {0, 0}, 22: {byte(len(c.m.Suites))}, 23: ids, 24: levels,
	}
	c.dest = map[uint8]*destination{}
	for n := uint8(1); n <= destCount; n++ {
		c.dest[n] = &destination{kind: []byte{n, 0, 0, 0}, address: append([]byte{n}, make([]byte, 12)...)}
	}
	c.pefTable = pef{values: map[uint8][]byte{0: {0}, 1: {0}, 2: {0}, 5: {pefRows}, 8: {pefRows}}}
	for n := byte(1); n <= pefRows; n++ {
		filter := append([]byte{n}, make([]byte, 20)...)
		if n <= 4 { // four set up by the maker, and switched off: any critical event of a kind
			kinds := [...]ipmi.SensorType{ipmi.Temperature, ipmi.Fan, ipmi.PowerSupply, ipmi.Intrusion}
			filter[1], filter[5], filter[8] = 0x40, 0x10, byte(kinds[n-1])
		}
		c.pefTable.filters = append(c.pefTable.filters, filter)
		c.pefTable.policies = append(c.pefTable.policies, []byte{n, 0, 0, 0})
	}
	c.boot = map[uint8][]byte{0: {0}, 3: {0}, 4: {0, 0}, 5: {0, 0, 0, 0, 0}}
	c.name = []byte(c.m.Name)
}

func (c *Controller) find(name string) *user {
	for i := range c.users {
		if u := &c.users[i]; u.name == name && (name != "" || u.enabled) {
			return u
		}
	}
	return nil
}

func (c *Controller) slotOf(id uint8) *user {
	if id&0x3f == 0 || int(id&0x3f) > len(c.users) {
		return nil
	}
	return &c.users[id&0x3f-1]
}

func (c *Controller) userAccess(r request) (ipmi.CompletionCode, []byte) {
	u := c.slotOf(r.data[1])
	if u == nil {
		return ipmi.OutOfRange, nil
	}
	enabled := byte(0)
	for _, other := range c.users {
		if other.enabled {
			enabled++
		}
	}
	state := byte(2 << 6)
	if u.enabled {
		state = 1 << 6
	}
	access := byte(u.limit)
	if u.messaging {
		access |= 0x10
	}
	return ipmi.OK, []byte{userSlots, enabled | state, 1, access}
}

func (c *Controller) setUserAccess(r request) (ipmi.CompletionCode, []byte) {
	u := c.slotOf(r.data[1])
	if u == nil {
		return ipmi.OutOfRange, nil
	}
	if r.data[0]&0x80 != 0 {
		u.messaging = r.data[0]&0x10 != 0
	}
	u.limit = ipmi.Privilege(r.data[2] & 0x0f)
	return ipmi.OK, nil
}

func (c *Controller) userName(r request) (ipmi.CompletionCode, []byte) {
	u := c.slotOf(r.data[0])
	if u == nil {
		return ipmi.OutOfRange, nil
	}
	return ipmi.OK, append([]byte(u.name), make([]byte, 16-len(u.name))...)
}

func (c *Controller) setUserName(r request) (ipmi.CompletionCode, []byte) {
	u := c.slotOf(r.data[0])
	name := string(bytes.TrimRight(r.data[1:], "\x00"))
	switch {
	case u == nil:
		return ipmi.OutOfRange, nil
	case u.id == 1:
		return ipmi.InvalidField, nil // its name is fixed
	case name != "" && c.find(name) != nil && c.find(name) != u:
		return ipmi.InvalidField, nil
	}
	u.name = name
	if name == "" {
		*u = user{id: u.id, limit: ipmi.NoAccess}
	}
	return ipmi.OK, nil
}

func (c *Controller) setUserPassword(r request) (ipmi.CompletionCode, []byte) {
	const disable, enable, set, test = 0, 1, 2, 3
	const mismatch, wrongSize = 0x80, 0x81
	u := c.slotOf(r.data[0])
	if u == nil {
		return ipmi.OutOfRange, nil
	}
	long := r.data[0]&0x80 != 0
	field := r.data[2:]
	size := 16
	if long {
		size = 20
	}
	op := r.data[1] & 3
	if op >= set && len(field) != size {
		return ipmi.BadLength, nil
	}
	password := string(bytes.TrimRight(field, "\x00"))
	switch op {
	case disable, enable:
		u.enabled = op == enable
	case set:
		u.password, u.long = password, long
	case test:
		if long != u.long {
			return wrongSize, nil
		}
		if password != u.password {
			return mismatch, nil
		}
	}
	return ipmi.OK, nil
}

const (
	noParameter = 0x80
	inProgress  = 0x81
	readOnly    = 0x82
)

func (c *Controller) lanConfig(r request) (ipmi.CompletionCode, []byte) {
	const revisionOnly = 0x80
	if !onLAN(r.data[0]) {
		return ipmi.InvalidField, nil
	}
	if r.data[0]&revisionOnly != 0 {
		return ipmi.OK, []byte{revision}
	}
	p, set := r.data[1], r.data[2]
	value, known := c.lan[p]
	if d := c.dest[set]; p == 18 || p == 19 {
		if d == nil {
			return ipmi.OutOfRange, nil
		}
		value, known = d.kind, true
		if p == 19 {
			value = d.address
		}
	}
	if !known {
		return noParameter, nil
	}
	return ipmi.OK, append([]byte{revision}, value...)
}

func (c *Controller) setLANConfig(r request) (ipmi.CompletionCode, []byte) {
	p, data := r.data[1], r.data[2:]
	if !onLAN(r.data[0]) {
		return ipmi.InvalidField, nil
	}
	switch p {
	case 0:
		if data[0] == 1 && c.lan[0][0] == 1 {
			return inProgress, nil
		}
		c.lan[0] = []byte{data[0] & 1}
		return ipmi.OK, nil
	case 18, 19:
		d := c.dest[data[0]]
		if d == nil || p == 18 && len(data) != 4 || p == 19 && len(data) != 13 {
			return ipmi.InvalidField, nil
		}
		if p == 18 {
			d.kind = bytes.Clone(data)
		} else {
			d.address = bytes.Clone(data)
		}
		return ipmi.OK, nil
	case 1, 5, 17, 22, 23, 24:
		return readOnly, nil
	}
	was, known := c.lan[p]
	switch {
	case !known:
		return noParameter, nil
	case len(was) != len(data):
		return ipmi.BadLength, nil
	case c.lan[4][0]&0x0f == byte(ipmi.SourceDHCP) && (p == 3 || p == 6 || p == 12):
		return ipmi.NotInPresentState, nil
	case c.Faults.Obedient:
		return ipmi.OK, nil
	}
	c.lan[p] = bytes.Clone(data)
	return ipmi.OK, nil
}

// row finds a row of one of the tables of event filtering.
func (p *pef) row(n uint8, table [][]byte) []byte {
	if n == 0 || int(n) > len(table) {
		return nil
	}
	return table[n-1]
}

func (c *Controller) pefConfig(r request) (ipmi.CompletionCode, []byte) {
	const revisionOnly = 0x80
	if r.data[0]&revisionOnly != 0 {
		return ipmi.OK, []byte{revision}
	}
	t := &c.pefTable
	value, known := t.values[r.data[0]&0x7f]
	switch r.data[0] & 0x7f {
	case 6:
		value = t.row(r.data[1], t.filters)
		known = value != nil
	case 9:
		value = t.row(r.data[1], t.policies)
		known = value != nil
	}
	if !known {
		return noParameter, nil
	}
	return ipmi.OK, append([]byte{revision}, value...)
}

func (c *Controller) setPEFConfig(r request) (ipmi.CompletionCode, []byte) {
	t := &c.pefTable
	p, data := r.data[0]&0x7f, r.data[1:]
	var row []byte
	switch p {
	case 6:
		row = t.row(data[0]&0x7f, t.filters)
	case 9:
		row = t.row(data[0]&0x7f, t.policies)
	case 5, 8:
		return readOnly, nil
	default:
		row = t.values[p]
	}
	if p == 0 && data[0] == 1 && row[0] == 1 {
		return inProgress, nil
	}
	switch {
	case row == nil:
		return noParameter, nil
	case len(row) != len(data):
		return ipmi.BadLength, nil
	}
	if p == 0 {
		data = []byte{data[0] & 1}
	}
	copy(row, data)
	return ipmi.OK, nil
}

func (c *Controller) alertNow(r request) (ipmi.CompletionCode, []byte) {
	d := c.dest[r.data[1]&0x0f]
	if d == nil {
		return ipmi.OutOfRange, nil
	}
	c.alert(r.data[1]&0x0f, ipmi.Event{Type: ipmi.SystemEvent, Event: ipmi.SensorSpecific, Sensor: ipmi.SensorKey{Owner: 0x20, Number: numberLog}, Data: [3]byte{4, 0xff, 0xff}}, r.now)
	return ipmi.OK, nil
}

func (c *Controller) setWatchdog(r request) (ipmi.CompletionCode, []byte) {
	use := r.data[0]
	c.watchdog = watchdog{Watchdog: ipmi.Watchdog{
		Use: use & 7, Quiet: use&0x80 != 0, Action: ipmi.WatchdogAction(r.data[1] & 7), Initial: time.Duration(binary.LittleEndian.Uint16(r.data[4:])) * 100 * time.Millisecond,
	}}
	return ipmi.OK, nil
}

func (c *Controller) getWatchdog(r request) (ipmi.CompletionCode, []byte) {
	w := c.watchdog.Watchdog
	w.Present = w.Initial
	if w.Running {
		w.Present = max(0, w.Initial-r.now.Sub(c.watchdog.started))
	}
	return ipmi.OK, w.Append(nil)
}

// ArmWatchdog starts the timer, as the host's operating system does; every
// call is a sign of life. A zero duration stops it.
func (c *Controller) ArmWatchdog(action ipmi.WatchdogAction, d time.Duration, now time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.watchdog = watchdog{ipmi.Watchdog{Running: d > 0, Use: 4, Action: action, Initial: d}, now}
}

func (c *Controller) bootOptions(r request) (ipmi.CompletionCode, []byte) {
	value, known := c.boot[r.data[0]&0x7f]
	if !known {
		return noParameter, nil
	}
	return ipmi.OK, append([]byte{1, r.data[0] & 0x7f}, value...)
}

// TakeBoot is what a start that begins now is set to, which holds for one start unless it
// says otherwise (IPMI 2.0, section 28.13, parameter 5).
func (c *Controller) TakeBoot() ipmi.BootDevice {
	const valid, always = 1 << 7, 1 << 6
	c.mu.Lock()
	defer c.mu.Unlock()
	flags := c.boot[5]
	if flags[0]&valid == 0 {
		return ipmi.BootNormal
	}
	if flags[0]&always == 0 {
		c.boot[5] = []byte{0, 0, 0, 0, 0}
	}
	return ipmi.BootDevice(flags[1] >> 2 & 0xf)
}

func (c *Controller) setBootOptions(r request) (ipmi.CompletionCode, []byte) {
	p, data := r.data[0]&0x7f, r.data[1:]
	was, known := c.boot[p]
	switch {
	case !known:
		return noParameter, nil
	case len(data) == 0:
		return ipmi.OK, nil // only the valid bit
	case p == 0 && data[0] == 1 && was[0] == 1:
		return inProgress, nil
	case len(data) != len(was):
		return ipmi.BadLength, nil
	case p == 5 && c.Faults.Obedient:
		return ipmi.OK, nil
	}
	c.boot[p] = bytes.Clone(data)
	return ipmi.OK, nil
}

func (c *Controller) powerReading(r request) (ipmi.CompletionCode, []byte) {
	w := uint16(c.box.State(r.now).Watts + 0.5)
	return ipmi.OK, ipmi.PowerReading{Now: w, Min: w * 8 / 10, Max: w * 13 / 10, Mean: w, At: c.clock(r.now), Over: 24 * time.Hour, Active: true}.Append(nil)
}

func (c *Controller) powerLimit(request) (ipmi.CompletionCode, []byte) {
	const inactive = 0x80
	if !c.limit.Active {
		return inactive, c.limit.Append(nil)
	}
	return ipmi.OK, c.limit.Append(nil)
}

func (c *Controller) setPowerLimit(r request) (ipmi.CompletionCode, []byte) {
	var l ipmi.PowerLimit
	if !decode(append([]byte{0, 0}, r.data[3:]...), &l) {
		return ipmi.InvalidField, nil
	}
	l.Active = c.limit.Active
	c.limit = l
	return ipmi.OK, nil
}

func (c *Controller) activateLimit(r request) (ipmi.CompletionCode, []byte) {
	c.limit.Active = r.data[0]&1 != 0
	return ipmi.OK, nil
}

func (c *Controller) controllerName(r request) (ipmi.CompletionCode, []byte) {
	at, n := int(r.data[0]), int(r.data[1])
	if n > 16 || at > len(c.name) {
		return ipmi.OutOfRange, nil
	}
	return ipmi.OK, append([]byte{byte(len(c.name))}, c.name[at:min(at+n, len(c.name))]...)
}

func (c *Controller) setControllerName(r request) (ipmi.CompletionCode, []byte) {
	at, n := int(r.data[0]), int(r.data[1])
	if n != len(r.data)-2 || at > len(c.name) || at+n > 64 {
		return ipmi.OutOfRange, nil
	}
	c.name = append(c.name[:at:at], r.data[2:]...)
	return ipmi.OK, []byte{byte(at + n)}
}

// addressOf is where a destination leads to.
func (d *destination) addressOf() netip.Addr {
	return netip.AddrFrom4([4]byte(d.address[3:7]))
}
