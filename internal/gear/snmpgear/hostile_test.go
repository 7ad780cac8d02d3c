package snmpgear

import (
	"io"
	"log"
	"net"
	"testing"

	"github.com/gosnmp/gosnmp"
	"github.com/stretchr/testify/require"

	"plumbbob/internal/gear"
	"plumbbob/internal/profile"
	"plumbbob/internal/secret"
)

// hostile is an agent that answers whatever f makes of a request.
func hostile(t *testing.T, f func(p *gosnmp.SnmpPacket) *gosnmp.SnmpPacket) string {
	c, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = c.Close() })
	quiet := gosnmp.NewLogger(log.New(io.Discard, "", 0))
	go func() {
		buf := make([]byte, 4096)
		for {
			n, from, err := c.ReadFrom(buf)
			if err != nil {
				return
			}
			p, err := (&gosnmp.GoSNMP{Version: gosnmp.Version2c, Logger: quiet}).UnmarshalTrap(append([]byte{}, buf[:n]...), false)
			if err != nil {
				continue
			}
			reply := f(p)
			if reply == nil {
				continue
			}
			reply.Version, reply.Community, reply.PDUType, reply.RequestID, reply.Logger = p.Version, p.Community, gosnmp.GetResponse, p.RequestID, quiet
			if b, err := reply.MarshalMsg(); err == nil {
				_, _ = c.WriteTo(b, from)
			}
		}
	}()
	return c.LocalAddr().String()
}

func openAt(t *testing.T, address, name string) *Driver {
	p, err := profile.Find(name)
	require.NoError(t, err)
	d, err := Open(Options{Name: "gear", Addresses: []string{address}, Profile: p, Secret: secret.Value{Kind: secret.SNMPv2c, Community: "x"}, Timeout: hasty})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, d.Close()) })
	return d
}

// TestHostileAgents: none of them keeps us for ever, and none is believed.
func TestHostileAgents(t *testing.T) {
	const state = "1.3.6.1.4.1.32473.77.1.3.1.4"
	t.Run("one that repeats itself", func(t *testing.T) {
		asked := 0
		d := openAt(t, hostile(t, func(p *gosnmp.SnmpPacket) *gosnmp.SnmpPacket {
			asked++
			return &gosnmp.SnmpPacket{Variables: []gosnmp.SnmpPDU{{Name: "." + state + ".1", Type: gosnmp.Integer, Value: 1}}}
		}), "lab-pdu")
		got, err := part[gear.Outlets](t, d).ReadOutlets(t.Context())
		require.NoError(t, err)
		require.Len(t, got.Outlets, 1, "the row that is there")
		require.Less(t, asked, 20)
	})
	t.Run("one that lists without end", func(t *testing.T) {
		n := 0
		d := openAt(t, hostile(t, func(p *gosnmp.SnmpPacket) *gosnmp.SnmpPacket {
			if p.PDUType != gosnmp.GetBulkRequest {
				return &gosnmp.SnmpPacket{}
			}
			var vs []gosnmp.SnmpPDU
			for range 20 {
				n++
				vs = append(vs, gosnmp.SnmpPDU{Name: instance("."+state[:len(state)-2], 4, n), Type: gosnmp.Integer, Value: 1})
			}
			return &gosnmp.SnmpPacket{Variables: vs}
		}), "lab-pdu")
		_, err := part[gear.Outlets](t, d).ReadOutlets(t.Context())
		require.NoError(t, err)
		require.LessOrEqual(t, n, maxOutlets+40)
	})
	t.Run("one that finds everything too big", func(t *testing.T) {
		sizes := map[int]bool{}
		d := openAt(t, hostile(t, func(p *gosnmp.SnmpPacket) *gosnmp.SnmpPacket {
			sizes[len(p.Variables)] = true
			if len(p.Variables) > 3 {
				return &gosnmp.SnmpPacket{Error: gosnmp.TooBig}
			}
			var vs []gosnmp.SnmpPDU
			for _, v := range p.Variables {
				vs = append(vs, gosnmp.SnmpPDU{Name: v.Name, Type: gosnmp.Integer, Value: 2})
			}
			return &gosnmp.SnmpPacket{Variables: vs}
		}), "ups-mib")
		s, err := part[gear.Supply](t, d).ReadSupply(t.Context())
		require.NoError(t, err)
		require.True(t, sizes[2] || sizes[3], "halved until it fits")
		require.Len(t, s.Inputs, 2)
	})
	t.Run("one that answers with wrong types", func(t *testing.T) {
		d := openAt(t, hostile(t, func(p *gosnmp.SnmpPacket) *gosnmp.SnmpPacket {
			var vs []gosnmp.SnmpPDU
			for _, v := range p.Variables {
				vs = append(vs, gosnmp.SnmpPDU{Name: v.Name, Type: gosnmp.OctetString, Value: []byte("\x1b[2Jplenty\x00")})
			}
			return &gosnmp.SnmpPacket{Variables: vs}
		}), "ups-mib")
		s, err := part[gear.Supply](t, d).ReadSupply(t.Context())
		require.NoError(t, err)
		require.Nil(t, s.Battery.Charge)
		require.Equal(t, "[2Jplenty", s.Maker, "nothing that acts on a terminal")
		require.Empty(t, s.Inputs)
	})
	t.Run("one that claims endless phases and alarms", func(t *testing.T) {
		d := openAt(t, hostile(t, func(p *gosnmp.SnmpPacket) *gosnmp.SnmpPacket {
			var vs []gosnmp.SnmpPDU
			for _, v := range p.Variables {
				vs = append(vs, gosnmp.SnmpPDU{Name: v.Name, Type: gosnmp.Integer, Value: 1 << 30})
			}
			return &gosnmp.SnmpPacket{Variables: vs}
		}), "ups-mib")
		s, err := part[gear.Supply](t, d).ReadSupply(t.Context())
		require.NoError(t, err)
		require.Len(t, s.Inputs, maxPhases)
		require.LessOrEqual(t, len(s.Alarms), maxAlarms)
	})
}
