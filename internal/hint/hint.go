// Package hint listens for what gear says by itself: SNMP traps, among them
// the platform event traps of servers. A trap is not authenticated, so it is
// never believed: it only has the gear asked at once.
package hint

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log"
	"log/slog"
	"net"
	"net/netip"
	"strings"
	"sync"
	"time"

	"github.com/gosnmp/gosnmp"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/wire/ipmi"
)

const (
	maxTrap = 2048            // bytes; a larger one is none of ours
	quiet   = 2 * time.Second // after a hint, before the next of the same device counts
)

// Listener hands on which device has something to say.
type Listener struct {
	conn *net.UDPConn
	log  *slog.Logger
	soon func(context.Context, estate.Key)

	mu     sync.Mutex
	owners map[netip.Addr][]estate.Key
	last   map[estate.Key]time.Time
}

// Listen binds an address. soon is called for each device that gives a hint.
func Listen(address string, logger *slog.Logger, soon func(context.Context, estate.Key)) (*Listener, error) {
	addr, err := net.ResolveUDPAddr("udp", address)
	if err != nil {
		return nil, fmt.Errorf("traps: %w", err)
	}
	conn, err := net.ListenUDP("udp", addr)
	if err != nil {
		return nil, fmt.Errorf("traps: %w", err)
	}
	return &Listener{conn: conn, log: logger, soon: soon, owners: map[netip.Addr][]estate.Key{}, last: map[estate.Key]time.Time{}}, nil
}

// Address is where it listens.
func (l *Listener) Address() netip.AddrPort { return l.conn.LocalAddr().(*net.UDPAddr).AddrPort() }

// SetEstate says which addresses belong to which devices.
func (l *Listener) SetEstate(e *estate.Estate) {
	owners := map[netip.Addr][]estate.Key{}
	for i := range e.Devices {
		for _, ep := range e.Devices[i].Endpoints {
			for _, a := range ep.Addresses {
				host, _, _ := net.SplitHostPort(a)
				if addr, err := netip.ParseAddr(host); err == nil {
					owners[addr.Unmap()] = append(owners[addr.Unmap()], e.Devices[i].Key)
				}
			}
		}
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.owners = owners
	clear(l.last)
}

// Run listens until ctx ends, and returns the cause.
func (l *Listener) Run(ctx context.Context) error {
	stop := context.AfterFunc(ctx, func() { _ = l.conn.Close() })
	defer stop()
	buf := make([]byte, maxTrap)
	for {
		n, from, err := l.conn.ReadFromUDPAddrPort(buf)
		if errors.Is(err, net.ErrClosed) {
			return context.Cause(ctx)
		}
		if err != nil || n == maxTrap {
			continue
		}
		agent, words, err := Parse(buf[:n])
		if err != nil {
			l.log.Debug("something that is no trap", "from", from.Addr(), "because", err)
			continue
		}
		for _, k := range l.from(agent, from.Addr().Unmap(), time.Now()) {
			l.log.Info("a trap: the device is asked at once", "device", k, "says", words)
			l.soon(ctx, k)
		}
	}
}

// Close lets go of the address. Run does so by itself.
func (l *Listener) Close() error {
	if err := l.conn.Close(); err != nil && !errors.Is(err, net.ErrClosed) {
		return fmt.Errorf("traps: %w", err)
	}
	return nil
}

// from finds the devices that a trap may be of: by the address that it names,
// or else by the one that it came from. One that gives hints without end is
// not asked without end.
func (l *Listener) from(agent, peer netip.Addr, now time.Time) []estate.Key {
	l.mu.Lock()
	defer l.mu.Unlock()
	keys := l.owners[agent]
	if len(keys) == 0 {
		keys = l.owners[peer]
	}
	var out []estate.Key
	for _, k := range keys {
		if now.Sub(l.last[k]) >= quiet {
			l.last[k] = now
			out = append(out, k)
		}
	}
	return out
}

var silent = gosnmp.NewLogger(log.New(io.Discard, "", 0))

// Parse reads a trap of SNMP v1 or v2c: the agent's address where it names
// one, and what it says, for the log.
func Parse(b []byte) (agent netip.Addr, words string, err error) {
	g := &gosnmp.GoSNMP{Version: gosnmp.Version2c, Logger: silent}
	p, err := g.UnmarshalTrap(b, false)
	if err != nil {
		return agent, "", fmt.Errorf("traps: %w", err)
	}
	switch p.PDUType {
	case gosnmp.Trap, gosnmp.SNMPv2Trap, gosnmp.InformRequest:
	default:
		return agent, "", fmt.Errorf("traps: PDU type %02Xh is none", byte(p.PDUType))
	}
	agent, _ = netip.ParseAddr(p.AgentAddress)
	words = fmt.Sprintf("trap %s %d/%d", p.Enterprise, p.GenericTrap, p.SpecificTrap)
	if p.PDUType != gosnmp.Trap {
		words = "trap " + trapName(p.Variables)
	}
	if p.PDUType == gosnmp.Trap && (p.Enterprise == "."+ipmi.TrapOID || p.Enterprise == ipmi.TrapOID) && len(p.Variables) > 0 {
		var t ipmi.Trap
		if data, ok := p.Variables[0].Value.([]byte); ok && t.Decode(uint32(p.SpecificTrap), data) == nil {
			words = t.Words()
		}
	}
	return agent.Unmap(), words, nil
}

// snmpTrapOID names the trap among the variables of one of v2c (RFC 3418, section 2).
const snmpTrapOID = "1.3.6.1.6.3.1.1.4.1.0"

func trapName(variables []gosnmp.SnmpPDU) string {
	for _, v := range variables {
		if name, ok := v.Value.(string); ok && strings.TrimPrefix(v.Name, ".") == snmpTrapOID {
			return strings.TrimPrefix(name, ".")
		}
	}
	return "that does not say its name"
}
