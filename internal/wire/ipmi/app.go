package ipmi

import (
	"context"
	"encoding/hex"
	"fmt"
	"net/netip"

	"plumbbob/internal/wire/cursor"
)

// AuthCapabilities is the reply to Get Channel Authentication Capabilities
// (section 22.13).
type AuthCapabilities struct {
	Channel   uint8
	MD5       bool // IPMI 1.5 sessions with MD5
	None      bool // sessions without authentication
	Password  bool // the password in clear text
	Plus      bool // IPMI 2.0
	KeyNeeded bool // "Kg" is set
	NullUser  bool // a user without a name has a password
	Anonymous bool // a user without a name has none
	OEM       uint32
}

const (
	authNoneBit   = 0x01
	authMD5Bit    = 0x04
	authStraight  = 0x10
	authExtended  = 0x80
	stateKg       = 0x20
	stateNullUser = 0x02
	stateAnon     = 0x01
	extPlus       = 0x02
)

func (AuthCapabilities) request(p Privilege, plus bool) []byte {
	const thisChannel = 0x0e
	return []byte{thisChannel | bit(plus, 0x80), byte(p)}
}

// Decode leaves m untouched unless the whole message is sound.
func (m *AuthCapabilities) Decode(r *cursor.Reader) error {
	channel, kinds, state, ext := r.U8(), r.U8(), r.U8(), r.U8()
	oem := r.U24()
	r.U8() // OEM auxiliary data
	if err := ended(r, "authentication capabilities"); err != nil {
		return err
	}
	*m = AuthCapabilities{
		Channel: channel & 0x0f, MD5: kinds&authMD5Bit != 0, None: kinds&authNoneBit != 0, Password: kinds&authStraight != 0,
		Plus:      kinds&authExtended != 0 && ext&extPlus != 0,
		KeyNeeded: state&stateKg != 0, NullUser: state&stateNullUser != 0, Anonymous: state&stateAnon != 0, OEM: oem,
	}
	return nil
}

// Append is the inverse of Decode.
func (m AuthCapabilities) Append(b []byte) []byte {
	return append(b, m.Channel,
		bit(m.MD5, authMD5Bit)|bit(m.None, authNoneBit)|bit(m.Password, authStraight)|bit(m.Plus, authExtended),
		bit(m.KeyNeeded, stateKg)|bit(m.NullUser, stateNullUser)|bit(m.Anonymous, stateAnon)|4, // 4: users with names
		bit(m.Plus, extPlus)|1, byte(m.OEM), byte(m.OEM>>8), byte(m.OEM>>16), 0)
}

// DeviceID is the reply to Get Device ID (section 20.1).
type DeviceID struct {
	ID           uint8
	Revision     uint8
	Busy         bool  // starting up, or its firmware is being updated
	Major        uint8 // of the firmware
	Minor        uint8 // of the firmware; BCD on the wire
	IPMI         uint8 // 0x20: 2.0
	Manufacturer uint32
	Product      uint16
	Auxiliary    [4]byte // zero when not sent
	HasSDRs      bool
}

// Decode leaves m untouched unless the whole message is sound.
func (m *DeviceID) Decode(r *cursor.Reader) error {
	id, rev, major, minor, version := r.U8(), r.U8(), r.U8(), r.U8(), r.U8()
	r.U8() // additional device support
	maker, product := r.U24(), r.U16()
	got := DeviceID{
		ID: id, Revision: rev & 0x0f, HasSDRs: rev&0x80 != 0, Busy: major&0x80 != 0, Major: major & 0x7f, Minor: minor>>4*10 + minor&0x0f,
		IPMI: version<<4 | version>>4, Manufacturer: maker & 0xfffff, Product: product,
	}
	copy(got.Auxiliary[:], r.Rest())
	if err := ended(r, "device id"); err != nil {
		return err
	}
	*m = got
	return nil
}

// Append is the inverse of Decode.
func (m DeviceID) Append(b []byte) []byte {
	b = append(b, m.ID, m.Revision|bit(m.HasSDRs, 0x80), m.Major|bit(m.Busy, 0x80), m.Minor/10<<4|m.Minor%10, m.IPMI<<4|m.IPMI>>4, 0xbf)
	b = append(b, byte(m.Manufacturer), byte(m.Manufacturer>>8), byte(m.Manufacturer>>16))
	b = append(b, le16(m.Product)...)
	return append(b, m.Auxiliary[:]...)
}

// Firmware is the firmware revision as people write it: "2.07".
func (m DeviceID) Firmware() string { return fmt.Sprintf("%d.%02d", m.Major, m.Minor) }

// Version is the version of IPMI: "2.0".
func (m DeviceID) Version() string { return fmt.Sprintf("%d.%d", m.IPMI>>4, m.IPMI&0x0f) }

// DeviceID asks the controller who it is.
func (c *Client) DeviceID(ctx context.Context) (m DeviceID, err error) {
	return m, c.Do(ctx, GetDeviceID, nil, &m)
}

// GUID is a 16-byte identifier as the controller sends it (section 20.8).
type GUID [16]byte

// Decode leaves g untouched unless the whole message is sound.
func (g *GUID) Decode(r *cursor.Reader) error {
	var got GUID
	r.Copy(got[:])
	if err := ended(r, "GUID"); err != nil {
		return err
	}
	*g = got
	return nil
}

// String writes the GUID as RFC 4122 does: IPMI sends its bytes last first.
func (g GUID) String() string {
	var b [16]byte
	for i, x := range g {
		b[15-i] = x
	}
	s := hex.EncodeToString(b[:])
	return s[:8] + "-" + s[8:12] + "-" + s[12:16] + "-" + s[16:20] + "-" + s[20:]
}

// SystemGUID asks for the GUID of the host, or else of the controller.
func (c *Client) SystemGUID(ctx context.Context) (g GUID, err error) {
	if err = c.Do(ctx, GetSystemGUID, nil, &g); err == nil {
		return g, nil
	}
	return g, c.Do(ctx, GetDeviceGUID, nil, &g)
}

// ACPIState is a system power state (section 20.6, table 20-7).
type ACPIState uint8

// The system power states.
const (
	S0          ACPIState = 0x00
	S1          ACPIState = 0x01
	S2          ACPIState = 0x02
	S3          ACPIState = 0x03
	S4          ACPIState = 0x04
	S5          ACPIState = 0x05
	S4orS5      ACPIState = 0x06
	G3          ACPIState = 0x07
	Sleeping    ACPIState = 0x08
	G1Sleeping  ACPIState = 0x09
	S5Override  ACPIState = 0x0a
	LegacyOn    ACPIState = 0x20
	LegacyOff   ACPIState = 0x21
	ACPIUnknown ACPIState = 0x2a

	acpiMask = 0x7f // the top bit is for setting it
)

// Asleep says whether the host sleeps, and can be woken.
func (s ACPIState) Asleep() bool {
	switch s {
	case S1, S2, S3, S4, Sleeping, G1Sleeping:
		return true
	}
	return false
}

func (s ACPIState) String() string {
	switch s {
	case S0:
		return "S0, working"
	case S1, S2, S3, S4:
		return fmt.Sprintf("S%d, asleep", uint8(s))
	case S5, S5Override:
		return "S5, off"
	case S4orS5:
		return "S4 or S5, off"
	case G3:
		return "G3, without power"
	case Sleeping, G1Sleeping:
		return "asleep"
	case LegacyOn:
		return "on"
	case LegacyOff:
		return "off"
	}
	return "unknown"
}

// acpiReply is the reply to Get ACPI Power State.
type acpiReply struct{ system ACPIState }

// Decode leaves m untouched unless the whole message is sound.
func (m *acpiReply) Decode(r *cursor.Reader) error {
	system := r.U8()
	r.U8() // power state of the controller itself
	if err := ended(r, "ACPI power state"); err != nil {
		return err
	}
	m.system = ACPIState(system & acpiMask)
	return nil
}

// PowerState asks for the ACPI power state of the host.
func (c *Client) PowerState(ctx context.Context) (ACPIState, error) {
	m := acpiReply{ACPIUnknown}
	err := c.Do(ctx, GetACPIPowerState, nil, &m)
	return m.system, err
}

// SessionCount is what Get Session Info says of the sessions of a controller
// (section 22.20).
type SessionCount struct {
	Slots, Active uint8
	User          uint8 // id of the user of this session
	Peer          netip.Addr
}

// Decode leaves m untouched unless the whole message is sound.
func (m *SessionCount) Decode(r *cursor.Reader) error {
	r.U8() // handle
	got := SessionCount{Slots: r.U8() & 0x3f, Active: r.U8() & 0x3f}
	if r.Len() >= 3 {
		got.User = r.U8() & 0x3f
		r.Bytes(2) // privilege, channel and protocol
	}
	if r.Len() >= 4 {
		got.Peer = netip.AddrFrom4([4]byte(r.Bytes(4)))
	}
	r.Rest()
	if err := ended(r, "session info"); err != nil {
		return err
	}
	*m = got
	return nil
}

// Sessions asks how many sessions the controller has and could have.
func (c *Client) Sessions(ctx context.Context) (m SessionCount, err error) {
	const thisSession = 0
	return m, c.Do(ctx, GetSessionInfo, []byte{thisSession}, &m)
}

// Restart resets the controller itself, not the host: cold, or only warm.
// The session is gone afterwards.
func (c *Client) Restart(ctx context.Context, cold bool) error {
	cmd := WarmReset
	if cold {
		cmd = ColdReset
	}
	return c.Do(ctx, cmd, nil, nil)
}
