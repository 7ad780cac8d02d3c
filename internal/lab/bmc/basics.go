package bmc

import (
	"encoding/binary"

	"plumbbob/internal/wire/ipmi"
	"plumbbob/internal/wire/ipmi/rmcp"
)

// What every controller has to answer, whether anybody here asks for it or not
// (appendix G): other clients do.
var basics = []handler{
	{ipmi.Command{Name: "Get Self Test Results", NetFn: rmcp.App, Code: 0x04, Needs: ipmi.User}, 0, 0, says(0x55, 0)},
	{ipmi.Command{Name: "Reset Watchdog Timer", NetFn: rmcp.App, Code: 0x22, Needs: ipmi.Operator}, 0, 0, (*Controller).resetWatchdog},
	{ipmi.GetChannelAccess, 2, 2, (*Controller).channelAccess},
	{ipmi.GetChannelInfo, 1, 1, (*Controller).channelInfo},
	{ipmi.Command{Name: "Get Chassis Capabilities", NetFn: rmcp.Chassis, Code: 0x00, Needs: ipmi.User}, 0, 0, says(0x01, ownAddress, ownAddress, ownAddress, ownAddress)},
	{ipmi.Command{Name: "Get PEF Capabilities", NetFn: rmcp.SensorEvt, Code: 0x10, Needs: ipmi.User}, 0, 0, says(0x51, 0x01, pefRows)},
}

const (
	ownAddress  = 0x20
	lanChannel  = 1
	thisChannel = 0x0e // the one that the request came over
	anyChannel  = 0x0f
)

func says(b ...byte) func(*Controller, request) (ipmi.CompletionCode, []byte) {
	return func(*Controller, request) (ipmi.CompletionCode, []byte) { return ipmi.OK, b }
}

// onLAN says whether a channel number means the one channel that there is.
func onLAN(channel byte) bool {
	return channel&anyChannel == lanChannel || channel&anyChannel == thisChannel
}

// resetWatchdog starts the timer anew (section 27.5).
func (c *Controller) resetWatchdog(r request) (ipmi.CompletionCode, []byte) {
	const neverSet = 0x80
	if c.watchdog.Initial == 0 {
		return neverSet, nil
	}
	c.watchdog.Running, c.watchdog.started = true, r.now
	return ipmi.OK, nil
}

// channelAccess: always there, for everybody up to administrators (section 22.23).
func (c *Controller) channelAccess(r request) (ipmi.CompletionCode, []byte) {
	const alwaysThere = 2
	if which := r.data[1] >> 6; !onLAN(r.data[0]) || which != 1 && which != 2 {
		return ipmi.InvalidField, nil
	}
	return ipmi.OK, []byte{alwaysThere, byte(ipmi.Administrator)}
}

// channelInfo (section 22.24): 802.3, messages of IPMB, several sessions.
func (c *Controller) channelInfo(r request) (ipmi.CompletionCode, []byte) {
	const lan, ipmb, manySessions = 4, 1, 0x80
	if !onLAN(r.data[0]) {
		return ipmi.InvalidField, nil
	}
	return ipmi.OK, []byte{lanChannel, lan, ipmb, manySessions | byte(len(c.slots)+len(c.old)), 0xf2, 0x1b, 0, 0, 0}
}

// sessionInfo tells of the caller's own session, or of the one that the index or
// the handle names (section 22.20).
func (c *Controller) sessionInfo(r request) (ipmi.CompletionCode, []byte) {
	const byHandle, byID = 0xfe, 0xff
	active := len(c.slots) + len(c.old)
	if c.Faults.Full {
		active = Slots
	}
	head := []byte{0, Slots, byte(active)}
	own := append([]byte{1, Slots, byte(active), r.who.userID, byte(r.who.level), 0x11, 127, 0, 0, 1}, make([]byte, 8)...)
	n := r.data[0]
	named := n == byHandle && len(r.data) == 2 && r.data[1] == 1 ||
		n == byID && len(r.data) == 5 && r.who.slot != nil && binary.LittleEndian.Uint32(r.data[1:]) == r.who.slot.ID
	switch {
	case n == 0 || named:
		return ipmi.OK, own
	case n == byHandle || n == byID:
		return ipmi.NotPresent, nil
	case len(r.data) != 1:
		return ipmi.BadLength, nil
	case int(n) > len(c.slots):
		return ipmi.OK, head // nobody is there
	}
	s := c.slots[n-1]
	return ipmi.OK, append([]byte{n, Slots, byte(active), s.user.id, byte(s.level), 0x11, 127, 0, 0, 1}, make([]byte, 8)...)
}
