package lab

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"log"
	"net"
	"slices"
	"sync"
	"time"

	"github.com/gosnmp/gosnmp"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/secret"
)

// Credentials that every agent of the lab accepts.
var (
	// ReadSecret may only read.
	ReadSecret = secret.Value{Kind: secret.SNMPv2c, Community: "tern-look"}
	// WriteSecret may read and switch.
	WriteSecret = secret.Value{Kind: secret.SNMPv2c, Community: "tern-switch"}
	// V3Secret may read and switch.
	V3Secret = secret.Value{
		Kind: secret.SNMPv3, User: "tern-ops",
		AuthProtocol: "sha256", AuthPass: "made-up auth phrase", PrivProtocol: "aes128", PrivPass: "made-up priv phrase",
	}
)

// What a small card can take and give.
const (
	maxRequest    = 1472
	maxVarbinds   = 40 // in one reply; a larger GET is tooBig
	timeWindow    = 150
	engineBoots   = 4
	usmStats      = "1.3.6.1.6.3.15.1.1."
	notInWindow   = usmStats + "2.0"
	unknownUser   = usmStats + "3.0"
	unknownEngine = usmStats + "4.0"
	wrongDigest   = usmStats + "5.0"
)

// An agent answers SNMP for one card (RFC 3416; v3 with USM, RFC 3414). It
// accepts what the standards allow and answers with their errors.
type agent struct {
	w        *World
	view     *view
	device   estate.Key
	endpoint string
	tree     []object
	started  time.Time
	engine   string
	codec    *gosnmp.GoSNMP // decodes and checks; not for sending
	usm      *gosnmp.UsmSecurityParameters
	conn     *net.UDPConn

	mu    sync.Mutex
	stats map[string]uint32
}

func newAgent(v *view, d *estate.Device, endpoint string) *agent {
	w := v.w
	started := time.Now().Add(-24 * time.Hour)
	a := &agent{w: w, view: v, device: d.Key, endpoint: endpoint, started: started, tree: treeOf(w, d, started), stats: map[string]uint32{}}
	// RFC 3411: the enterprise number with the top bit, format 4 (text).
	a.engine = string(binary.BigEndian.AppendUint32(nil, 0x8000_0000|32473)) + "\x04" + string(d.Key)
	quiet := gosnmp.NewLogger(log.New(io.Discard, "", 0))
	a.usm = &gosnmp.UsmSecurityParameters{
		UserName: V3Secret.User, AuthoritativeEngineID: a.engine, AuthoritativeEngineBoots: engineBoots,
		AuthenticationProtocol: gosnmp.SHA256, AuthenticationPassphrase: V3Secret.AuthPass,
		PrivacyProtocol: gosnmp.AES, PrivacyPassphrase: V3Secret.PrivPass, Logger: quiet,
	}
	a.codec = &gosnmp.GoSNMP{
		Version: gosnmp.Version3, SecurityModel: gosnmp.UserSecurityModel, MsgFlags: gosnmp.AuthPriv,
		SecurityParameters: a.usm, Logger: quiet,
	}
	return a
}

func (a *agent) listen(address string) error {
	addr, err := net.ResolveUDPAddr("udp", address)
	if err != nil {
		return fmt.Errorf("agent: %w", err)
	}
	a.conn, err = net.ListenUDP("udp", addr)
	if err != nil {
		return fmt.Errorf("agent: %w: is another lab running?", err)
	}
	return nil
}

func (a *agent) run(ctx context.Context) error {
	context.AfterFunc(ctx, func() { _ = a.conn.Close() })
	buf := make([]byte, 64<<10)
	for {
		n, from, err := a.conn.ReadFromUDPAddrPort(buf)
		if errors.Is(err, net.ErrClosed) {
			return context.Cause(ctx)
		}
		if err != nil || n > maxRequest {
			continue
		}
		// The way there and back, once for each: both may be lost.
		there, delay := a.view.answers(a.device, a.endpoint)
		back, more := a.view.answers(a.device, a.endpoint)
		if !there {
			continue
		}
		reply := a.handle(slices.Clone(buf[:n]))
		if reply == nil || !back {
			continue
		}
		time.AfterFunc(delay+more, func() { _, _ = a.conn.WriteToUDPAddrPort(reply, from) })
	}
}

// treeOf lists what the agent of a box has, in the order of the identifiers.
func treeOf(w *World, d *estate.Device, started time.Time) []object {
	switch {
	case d.Supply != nil:
		return upsTree(w, d, started)
	case d.Role == "sensor":
		return sensorTree(w, d, started)
	case d.Role == "switch":
		return switchTree(w, d, started)
	case d.Role == "gateway":
		return gatewayTree(w, d, started)
	}
	return pduTree(w, d, started)
}

// handle answers one message, or drops it.
func (a *agent) handle(b []byte) []byte {
	if isV3(b) {
		return a.handleV3(b)
	}
	p, err := (&gosnmp.GoSNMP{Version: gosnmp.Version2c, Logger: a.codec.Logger}).UnmarshalTrap(b, false)
	if err != nil || p.Version != gosnmp.Version2c {
		return nil
	}
	var write bool
	switch p.Community {
	case WriteSecret.Community:
		write = true
	case ReadSecret.Community:
	default:
		return nil // RFC 3584: a wrong community is not answered
	}
	reply := a.respond(p, write)
	if reply == nil {
		return nil
	}
	reply.Version, reply.Community = p.Version, p.Community
	out, err := reply.MarshalMsg()
	if err != nil {
		return nil
	}
	return out
}

// respond carries out a request (RFC 3416, section 4.2).
func (a *agent) respond(p *gosnmp.SnmpPacket, write bool) *gosnmp.SnmpPacket {
	a.w.mu.Lock()
	defer a.w.mu.Unlock()
	a.w.asking = a.view
	now := time.Now()
	reply := &gosnmp.SnmpPacket{PDUType: gosnmp.GetResponse, RequestID: p.RequestID, Logger: a.codec.Logger}
	switch p.PDUType {
	case gosnmp.GetRequest, gosnmp.GetNextRequest:
		if len(p.Variables) > maxVarbinds {
			reply.Error = gosnmp.TooBig
			return reply
		}
		for _, v := range p.Variables {
			reply.Variables = append(reply.Variables, a.find(v.Name, p.PDUType == gosnmp.GetNextRequest, now))
		}
	case gosnmp.GetBulkRequest:
		reply.Variables = a.bulk(p, now)
	case gosnmp.SetRequest:
		reply.Variables = p.Variables
		reply.Error, reply.ErrorIndex = a.set(p.Variables, write)
	default:
		return nil
	}
	return reply
}

// find reads one instance, or the one after it.
func (a *agent) find(name string, next bool, now time.Time) gosnmp.SnmpPDU {
	oid := parseOID(name)
	i, found := slices.BinarySearchFunc(a.tree, oid, func(o object, t []uint32) int { return slices.Compare(o.oid, t) })
	if next && found {
		i++
	}
	for next && i < len(a.tree) && !a.tree[i].exists() {
		i++
	}
	found = found && a.tree[min(i, len(a.tree)-1)].exists()
	switch {
	case next && i >= len(a.tree):
		return gosnmp.SnmpPDU{Name: name, Type: gosnmp.EndOfMibView}
	case !next && !found:
		return gosnmp.SnmpPDU{Name: name, Type: gosnmp.NoSuchInstance}
	}
	v := a.tree[i].read(now)
	v.Name = formatOID(a.tree[i].oid)
	return v
}

func (a *agent) bulk(p *gosnmp.SnmpPacket, now time.Time) []gosnmp.SnmpPDU {
	var out []gosnmp.SnmpPDU
	once := min(int(p.NonRepeaters), len(p.Variables))
	for _, v := range p.Variables[:once] {
		out = append(out, a.find(v.Name, true, now))
	}
	rows := slices.Clone(p.Variables[once:])
	for range p.MaxRepetitions {
		for i := range rows {
			if len(out) == maxVarbinds {
				return out // as many as fit (RFC 3416, section 4.2.3)
			}
			rows[i] = a.find(rows[i].Name, true, now)
			out = append(out, rows[i])
		}
		if len(rows) == 0 {
			break
		}
	}
	return out
}

// set writes all or nothing.
func (a *agent) set(vs []gosnmp.SnmpPDU, write bool) (gosnmp.SNMPError, uint8) {
	if !write {
		return gosnmp.NoAccess, 1
	}
	var targets []object
	for n, v := range vs {
		i, found := slices.BinarySearchFunc(a.tree, parseOID(v.Name), func(o object, t []uint32) int { return slices.Compare(o.oid, t) })
		if !found {
			return gosnmp.NoCreation, uint8(n + 1)
		}
		o := a.tree[i]
		if o.write == nil {
			return gosnmp.NotWritable, uint8(n + 1)
		}
		if e := o.check(v); e != gosnmp.NoError {
			return e, uint8(n + 1)
		}
		targets = append(targets, o)
	}
	for n, o := range targets {
		o.write(vs[n])
	}
	return gosnmp.NoError, 0
}
