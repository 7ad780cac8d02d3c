package snmpgear

import (
	"fmt"
	"math/big"
	"net"
	"slices"
	"strconv"
	"strings"

	"github.com/gosnmp/gosnmp"

	"plumbbob/internal/gear"
	"plumbbob/internal/secret"
)

// answers are the objects that an agent has, by identifier.
type answers map[string]gosnmp.SnmpPDU

// get reads objects, fewer at a time when the agent finds it too much. Objects
// that it does not have are left out of the answer.
func (s *session) get(oids []string) (answers, error) {
	got := make(answers, len(oids))
	for len(oids) > 0 {
		n := min(s.size, len(oids))
		res, err := s.snmp.Get(oids[:n])
		switch {
		case err != nil:
			return nil, s.err(err, unclear)
		case res.Error == gosnmp.TooBig && n > 1:
			s.size = n / 2
			continue
		case res.Error == gosnmp.NoSuchName && s.o.Secret.Kind == secret.SNMPv1 && res.ErrorIndex >= 1 && int(res.ErrorIndex) <= n:
			// SNMPv1 answers all or nothing (RFC 1157, section 4.1.2): ask again without it.
			i := int(res.ErrorIndex) - 1
			oids = slices.Concat(oids[:i], oids[i+1:])
			continue
		case res.Error != gosnmp.NoError:
			return nil, s.status(res.Error)
		}
		for _, v := range res.Variables {
			if v.Type != gosnmp.NoSuchObject && v.Type != gosnmp.NoSuchInstance && v.Type != gosnmp.EndOfMibView {
				got[strings.TrimPrefix(v.Name, ".")] = v
			}
		}
		oids = oids[n:]
	}
	return got, nil
}

// A cell is one instance below a column, with the rest of its identifier.
type cell struct {
	index []int
	value gosnmp.SnmpPDU
}

// walk lists the instances below an identifier. It stops where they end, at
// most, and where the agent does not go forward: one that repeats itself, or
// jumps back, must not keep us for ever.
func (s *session) walk(column string, most int) ([]cell, error) {
	var cells []cell
	from := column
	for len(cells) < most {
		vs, err := s.next(from)
		if err != nil || len(vs) == 0 {
			return cells, err
		}
		for _, v := range vs {
			name := strings.TrimPrefix(v.Name, ".")
			rest, below := strings.CutPrefix(name, column+".")
			index, ok := indexOf(rest)
			if !below || !ok || v.Type == gosnmp.EndOfMibView || len(cells) == most {
				return cells, nil
			}
			if n := len(cells); n > 0 && slices.Compare(index, cells[n-1].index) <= 0 {
				return cells, nil
			}
			cells = append(cells, cell{index, v})
			from = name
		}
	}
	return cells, nil
}

// next asks for what comes after an identifier: much at once, where the
// version of the protocol can.
func (s *session) next(from string) ([]gosnmp.SnmpPDU, error) {
	var res *gosnmp.SnmpPacket
	var err error
	if s.o.Secret.Kind == secret.SNMPv1 {
		res, err = s.snmp.GetNext([]string{from})
	} else {
		res, err = s.snmp.GetBulk([]string{from}, 0, s.bulk)
	}
	switch {
	case err != nil && s.bulk > 1 && s.o.Secret.Kind != secret.SNMPv1 && timedOut(err):
		s.bulk /= 2 // it may be the size of the answer that gets lost
		return s.next(from)
	case err != nil:
		return nil, s.err(err, unclear)
	case res.Error == gosnmp.TooBig && s.bulk > 1:
		s.bulk /= 2
		return s.next(from)
	case res.Error == gosnmp.NoSuchName && s.o.Secret.Kind == secret.SNMPv1:
		return nil, nil // the end of what it has
	case res.Error != gosnmp.NoError:
		return nil, s.status(res.Error)
	}
	return res.Variables, nil
}

// indexes lists the rows of a table with one index by walking one column.
func (s *session) indexes(column string, most int) ([]int, error) {
	cells, err := s.walk(column, most)
	var rows []int
	for _, c := range cells {
		if len(c.index) == 1 {
			rows = append(rows, c.index[0])
		}
	}
	return rows, err
}

// indexOf reads the part of an identifier that says which row it is.
func indexOf(s string) ([]int, bool) {
	var index []int
	for part := range strings.SplitSeq(s, ".") {
		n, err := strconv.Atoi(part)
		if err != nil || n < 0 {
			return nil, false
		}
		index = append(index, n)
	}
	return index, true
}

// number reads an object as a number, times a scale; nil when it is none.
func (a answers) number(oid string, scale float64) *float64 {
	v, ok := number(a[oid])
	if !ok {
		return nil
	}
	v *= scale
	return &v
}

// integer reads an object as a whole number; 0 when it is none.
func (a answers) integer(oid string) int {
	v, _ := number(a[oid])
	return int(v)
}

func (a answers) text(oid string) string { return text(a[oid]) }

// number turns a value into a float64, if it is one.
func number(p gosnmp.SnmpPDU) (float64, bool) {
	switch p.Type {
	case gosnmp.Integer, gosnmp.Counter32, gosnmp.Gauge32, gosnmp.TimeTicks, gosnmp.Counter64, gosnmp.Uinteger32:
		f, _ := new(big.Float).SetInt(gosnmp.ToBigInt(p.Value)).Float64()
		return f, true
	}
	return 0, false
}

// text takes what an agent says for people.
func text(p gosnmp.SnmpPDU) string {
	b, _ := p.Value.([]byte)
	return gear.Clean(string(b))
}

// raw is an object as text, as a profile compares it.
func raw(p gosnmp.SnmpPDU) (string, bool) {
	if _, ok := p.Value.([]byte); ok {
		return text(p), true
	}
	if f, ok := number(p); ok {
		return strconv.FormatFloat(f, 'f', -1, 64), true
	}
	if s, ok := p.Value.(string); ok && (p.Type == gosnmp.ObjectIdentifier || p.Type == gosnmp.IPAddress) {
		return strings.TrimPrefix(s, "."), true
	}
	return "", false
}

// mac writes a hardware address, or what else identifies a chassis or a port.
func mac(p gosnmp.SnmpPDU) string {
	if b, ok := p.Value.([]byte); ok && len(b) == 6 {
		return net.HardwareAddr(b).String()
	}
	return text(p)
}

func integer(oid string, v int) gosnmp.SnmpPDU {
	return gosnmp.SnmpPDU{Name: oid, Type: gosnmp.Integer, Value: v}
}

func octets(oid, v string) gosnmp.SnmpPDU {
	return gosnmp.SnmpPDU{Name: oid, Type: gosnmp.OctetString, Value: []byte(v)}
}

// instance names row of a column.
func instance(entry string, column int, index ...int) string {
	oid := entry + "." + strconv.Itoa(column)
	for _, i := range index {
		oid += "." + strconv.Itoa(i)
	}
	return oid
}

// unkept is the error for something that was accepted and then not so.
func unkept(name, what string) error {
	return &gear.Error{Kind: gear.Malformed, Outcome: unclear, Text: fmt.Sprintf("%s accepted %s, and then did not keep it", name, what)}
}
