package bmc

import (
	"encoding/binary"
	"time"

	"plumbbob/internal/wire/ipmi"
	"plumbbob/internal/wire/ipmi/rmcp"
)

// request is one command on its way through the controller.
type request struct {
	data []byte
	who  *caller
	lun  uint8
	now  time.Time
}

// handler answers one command: how many bytes of data it takes, and what comes
// back after the completion code.
type handler struct {
	cmd      ipmi.Command
	min, max int
	do       func(*Controller, request) (ipmi.CompletionCode, []byte)
}

type index struct {
	fn    rmcp.NetFn
	code  uint8
	group uint8
}

var handlers map[index]handler

func init() {
	handlers = map[index]handler{}
	for _, h := range append(all, basics...) {
		handlers[index{h.cmd.NetFn, h.cmd.Code, h.cmd.Group}] = h
	}
}

const anyLength = 255

// all is what the controller knows. The functions are beside what they work on.
var all = []handler{
	{ipmi.GetAuthCaps, 2, 2, (*Controller).authCaps},
	{ipmi.GetCipherSuites, 3, 3, (*Controller).cipherSuites},
	{ipmi.GetChallenge, 17, 17, func(c *Controller, r request) (ipmi.CompletionCode, []byte) { return c.challenge(r.data, r.now) }},
	{ipmi.ActivateSession, 22, 22, func(c *Controller, r request) (ipmi.CompletionCode, []byte) { return c.activate(r.data, r.who) }},
	{ipmi.SetPrivilege, 1, 1, func(c *Controller, r request) (ipmi.CompletionCode, []byte) { return c.privilege(r.data, r.who) }},
	{ipmi.CloseSession, 4, 4, func(c *Controller, r request) (ipmi.CompletionCode, []byte) { return c.closeSession(r.data, r.who) }},
	{ipmi.GetSessionInfo, 1, 5, (*Controller).sessionInfo},
	{ipmi.GetDeviceID, 0, 0, func(c *Controller, r request) (ipmi.CompletionCode, []byte) {
		id := c.m.Firmware
		id.Busy = c.Faults.Updating
		return ipmi.OK, id.Append(nil)
	}},
	{ipmi.GetSystemGUID, 0, 0, func(c *Controller, r request) (ipmi.CompletionCode, []byte) { return ipmi.OK, c.guid[:] }},
	{ipmi.GetDeviceGUID, 0, 0, func(c *Controller, r request) (ipmi.CompletionCode, []byte) { return ipmi.OK, c.guid[:] }},
	{ipmi.ColdReset, 0, 0, (*Controller).restart},
	{ipmi.WarmReset, 0, 0, (*Controller).restart},
	{ipmi.GetACPIPowerState, 0, 0, (*Controller).acpi},
	{ipmi.SetWatchdog, 6, 6, (*Controller).setWatchdog},
	{ipmi.GetWatchdog, 0, 0, (*Controller).getWatchdog},
	{ipmi.GetUserAccess, 2, 2, (*Controller).userAccess},
	{ipmi.SetUserAccess, 3, 4, (*Controller).setUserAccess},
	{ipmi.GetUserName, 1, 1, (*Controller).userName},
	{ipmi.SetUserName, 17, 17, (*Controller).setUserName},
	{ipmi.SetUserPassword, 2, 22, (*Controller).setUserPassword},
	{ipmi.ActivatePayload, 6, 6, (*Controller).activatePayload},
	{ipmi.DeactivatePayload, 6, 6, (*Controller).deactivatePayload},
	{ipmi.GetChassisStatus, 0, 0, (*Controller).chassis},
	{ipmi.ChassisControlCmd, 1, 1, (*Controller).control},
	{ipmi.ChassisIdentify, 0, 2, (*Controller).identifyLight},
	{ipmi.SetRestorePolicy, 1, 1, (*Controller).setRestore},
	{ipmi.GetRestartCause, 0, 0, func(c *Controller, r request) (ipmi.CompletionCode, []byte) { return ipmi.OK, []byte{1, 0x0e} }},
	{ipmi.GetPOHCounter, 0, 0, func(c *Controller, r request) (ipmi.CompletionCode, []byte) {
		return ipmi.OK, binary.LittleEndian.AppendUint32([]byte{60}, 8123)
	}},
	{ipmi.GetBootOptions, 3, 3, (*Controller).bootOptions},
	{ipmi.SetBootOptions, 1, anyLength, (*Controller).setBootOptions},
	{ipmi.GetSensorReading, 1, 1, (*Controller).reading},
	{ipmi.GetReadingFactors, 2, 2, (*Controller).factors},
	{ipmi.GetThresholds, 1, 1, (*Controller).thresholds},
	{ipmi.SetThresholds, 8, 8, (*Controller).setThresholds},
	{ipmi.GetHysteresis, 2, 2, (*Controller).hysteresis},
	{ipmi.GetPEFConfig, 3, 3, (*Controller).pefConfig},
	{ipmi.SetPEFConfig, 2, anyLength, (*Controller).setPEFConfig},
	{ipmi.AlertImmediate, 3, 3, (*Controller).alertNow},
	{ipmi.GetSDRInfo, 0, 0, (*Controller).sdrInfo},
	{ipmi.ReserveSDR, 0, 0, func(c *Controller, r request) (ipmi.CompletionCode, []byte) { return c.reserve(&c.sdrReserved) }},
	{ipmi.GetSDR, 6, 6, (*Controller).sdr},
	{ipmi.GetSELInfo, 0, 0, (*Controller).selInfo},
	{ipmi.ReserveSEL, 0, 0, func(c *Controller, r request) (ipmi.CompletionCode, []byte) { return c.reserve(&c.selReserved) }},
	{ipmi.GetSELEntry, 6, 6, (*Controller).selEntry},
	{ipmi.ClearSEL, 6, 6, (*Controller).clearSEL},
	{ipmi.GetSELTime, 0, 0, func(c *Controller, r request) (ipmi.CompletionCode, []byte) {
		return ipmi.OK, binary.LittleEndian.AppendUint32(nil, uint32(c.clock(r.now).Unix()))
	}},
	{ipmi.SetSELTime, 4, 4, (*Controller).setClock},
	{ipmi.GetFRUInfo, 1, 1, (*Controller).fruInfo},
	{ipmi.ReadFRU, 4, 4, (*Controller).readFRU},
	{ipmi.GetLANConfig, 4, 4, (*Controller).lanConfig},
	{ipmi.SetLANConfig, 3, anyLength, (*Controller).setLANConfig},
	{ipmi.GetPowerReading, 3, 3, (*Controller).powerReading},
	{ipmi.GetPowerLimit, 2, 2, (*Controller).powerLimit},
	{ipmi.SetPowerLimit, 14, 14, (*Controller).setPowerLimit},
	{ipmi.ActivatePowerLimit, 3, 3, (*Controller).activateLimit},
	{ipmi.GetControllerName, 2, 2, (*Controller).controllerName},
	{ipmi.SetControllerName, 3, 18, (*Controller).setControllerName},
}

// usualPacket is how long a reply is at the most, but for those that carry pages.
const usualPacket = 160

// answer carries out one message, or drops it.
func (c *Controller) answer(payload []byte, who *caller, now time.Time) []byte {
	m, err := rmcp.ParseMessage(payload)
	if err != nil || m.To != rmcp.Controller || m.NetFn&1 != 0 {
		return nil
	}
	code, data := c.carryOut(m, who, now)
	out := append(make([]byte, 0, usualPacket), byte(code))
	if m.NetFn == rmcp.Group {
		out = append(out, ipmi.DCMI)
	}
	reply := m.Reply(append(out, data...))
	return reply.Append(make([]byte, 0, usualPacket))
}

func (c *Controller) carryOut(m rmcp.Message, who *caller, now time.Time) (ipmi.CompletionCode, []byte) {
	at := index{m.NetFn, m.Command, 0}
	data := m.Data
	if m.NetFn == rmcp.Group {
		if len(data) == 0 {
			return ipmi.BadLength, nil
		}
		at.group, data = data[0], data[1:]
	}
	h, known := handlers[at]
	switch {
	case !known:
		return ipmi.InvalidCommand, nil
	case len(data) < h.min || len(data) > h.max:
		return ipmi.BadLength, nil
	case m.ToLUN != 0 && h.cmd.Code != ipmi.GetSensorReading.Code:
		return ipmi.InvalidForLUN, nil
	case who.level < h.cmd.Needs:
		return ipmi.InsufficientPrivilege, nil
	}
	return h.do(c, request{data, who, m.ToLUN, now})
}

func (c *Controller) authCaps(r request) (ipmi.CompletionCode, []byte) {
	caps := ipmi.AuthCapabilities{Channel: 1, MD5: true, Plus: !c.m.Legacy && r.data[0]&0x80 != 0, Anonymous: c.m.Empty, KeyNeeded: c.m.Key != "" && !c.Faults.HideKey}
	for _, u := range c.users {
		caps.NullUser = caps.NullUser || u.name == "" && u.enabled && u.password != ""
	}
	return ipmi.OK, caps.Append(nil)
}

func (c *Controller) cipherSuites(r request) (ipmi.CompletionCode, []byte) {
	const chunk = 16
	if c.m.Legacy {
		return ipmi.InvalidCommand, nil
	}
	list := rmcp.AppendSuites(nil, c.m.Suites)
	at := min(int(r.data[2]&0x3f)*chunk, len(list))
	return ipmi.OK, append([]byte{1}, list[at:min(at+chunk, len(list))]...)
}

func (c *Controller) restart(r request) (ipmi.CompletionCode, []byte) {
	c.slots, c.pending, c.old = nil, map[uint32]*pending{}, map[uint32]*oldSession{}
	c.watchdog = watchdog{}
	return ipmi.OK, nil
}

func (c *Controller) acpi(r request) (ipmi.CompletionCode, []byte) {
	s := c.box.State(r.now)
	state := ipmi.S0
	switch {
	case !s.On:
		state = ipmi.S5
	case s.Asleep:
		state = ipmi.S3
	}
	return ipmi.OK, []byte{byte(state), 0}
}

func (c *Controller) chassis(r request) (ipmi.CompletionCode, []byte) {
	s := c.box.State(r.now)
	status := ipmi.ChassisStatus{
		PowerOn: s.On && !s.Asleep, Restore: c.box.Restore(), Intrusion: s.Open, Identify: r.now.Before(c.identify),
	}
	for _, turns := range s.Fans {
		status.FanFault = status.FanFault || !turns && s.On
	}
	for _, works := range s.Supply {
		status.PowerFault = status.PowerFault || !works
	}
	return ipmi.OK, status.Append(nil)
}

func (c *Controller) control(r request) (ipmi.CompletionCode, []byte) {
	do := ipmi.ChassisControl(r.data[0] & 0x0f)
	s := c.box.State(r.now)
	switch {
	case do > ipmi.SoftOff:
		return ipmi.InvalidField, nil
	case c.Faults.Updating:
		return ipmi.FirmwareUpdating, nil
	case !s.On && do != ipmi.PowerUp && do != ipmi.PowerDown:
		return ipmi.NotInPresentState, nil
	case c.Faults.Obedient:
		return ipmi.OK, nil
	}
	c.box.Control(do, r.now)
	return ipmi.OK, nil
}

func (c *Controller) identifyLight(r request) (ipmi.CompletionCode, []byte) {
	d := 15 * time.Second
	if len(r.data) > 0 {
		d = time.Duration(r.data[0]) * time.Second
	}
	c.identify = r.now.Add(d)
	return ipmi.OK, nil
}

func (c *Controller) setRestore(r request) (ipmi.CompletionCode, []byte) {
	const noChange, supported = 3, 0x07
	switch p := ipmi.RestorePolicy(r.data[0] & 7); {
	case p > noChange:
		return ipmi.InvalidField, nil
	case p < noChange && !c.Faults.Obedient:
		c.box.SetRestore(p)
	}
	return ipmi.OK, []byte{supported}
}
