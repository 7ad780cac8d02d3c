package lab

import (
	"encoding/asn1"
	"time"

	"github.com/gosnmp/gosnmp"
)

// v3Header is the readable part of an SNMPv3 message (RFC 3412, section 6).
type v3Header struct {
	Version int
	Global  struct {
		MsgID, MaxSize int
		Flags          []byte
		Model          int
	}
	Security []byte
	Data     asn1.RawValue
}

// usmHeader is the readable part of its security parameters (RFC 3414, section 2.4).
type usmHeader struct {
	Engine      []byte
	Boots, Time int
	User        []byte
	Auth, Priv  []byte
}

func isV3(b []byte) bool {
	var h v3Header
	_, err := asn1.Unmarshal(b, &h)
	return err == nil && h.Version == int(gosnmp.Version3)
}

// handleV3 checks a message in the order of RFC 3414, section 3.2.
func (a *agent) handleV3(b []byte) []byte {
	var h v3Header
	var u usmHeader
	if _, err := asn1.Unmarshal(b, &h); err != nil {
		return nil
	}
	if _, err := asn1.Unmarshal(h.Security, &u); err != nil || len(h.Global.Flags) != 1 {
		return nil
	}
	flags := gosnmp.SnmpV3MsgFlags(h.Global.Flags[0])
	id := uint32(h.Global.MsgID)
	switch {
	case string(u.Engine) != a.engine:
		return a.report(id, unknownEngine, false)
	case string(u.User) != V3Secret.User:
		return a.report(id, unknownUser, false)
	case flags&gosnmp.AuthPriv != gosnmp.AuthPriv:
		return nil // the lab's cards want both, and say nothing otherwise
	}
	p, err := a.codec.UnmarshalTrap(b, false)
	if err != nil {
		return a.report(id, wrongDigest, false)
	}
	if d := a.engineTime() - u.Time; u.Boots != engineBoots || d > timeWindow || d < -timeWindow {
		return a.report(id, notInWindow, true)
	}
	reply := a.respond(p, true)
	if reply == nil {
		return nil
	}
	return a.seal(reply, id, gosnmp.AuthPriv)
}

// engineTime is how long the engine has been running, in s, as it believes.
func (a *agent) engineTime() int {
	a.w.mu.Lock()
	defer a.w.mu.Unlock()
	return int((time.Since(a.started) + a.w.boxes[a.device].skew).Seconds())
}

// report answers with a counter that says what was wrong (RFC 3414, section 3.2).
func (a *agent) report(id uint32, what string, authentic bool) []byte {
	a.mu.Lock()
	a.stats[what]++
	n := a.stats[what]
	a.mu.Unlock()
	p := &gosnmp.SnmpPacket{
		PDUType: gosnmp.Report, Logger: a.codec.Logger,
		Variables: []gosnmp.SnmpPDU{{Name: "." + what, Type: gosnmp.Counter32, Value: n}},
	}
	flags := gosnmp.NoAuthNoPriv
	if authentic {
		flags = gosnmp.AuthNoPriv
	}
	return a.seal(p, id, flags)
}

// seal puts a PDU into an SNMPv3 message of this engine.
func (a *agent) seal(p *gosnmp.SnmpPacket, id uint32, flags gosnmp.SnmpV3MsgFlags) []byte {
	sp := a.usm.Copy().(*gosnmp.UsmSecurityParameters)
	sp.AuthoritativeEngineTime = uint32(a.engineTime())
	if flags == gosnmp.NoAuthNoPriv {
		sp.UserName = ""
	}
	p.Version, p.SecurityModel, p.MsgFlags = gosnmp.Version3, gosnmp.UserSecurityModel, flags
	p.MsgID, p.MsgMaxSize, p.SecurityParameters, p.ContextEngineID = id, maxRequest, sp, a.engine
	if flags&gosnmp.AuthPriv == gosnmp.AuthPriv {
		if err := sp.InitPacket(p); err != nil {
			return nil
		}
	}
	out, err := p.MarshalMsg()
	if err != nil {
		return nil
	}
	return out
}
