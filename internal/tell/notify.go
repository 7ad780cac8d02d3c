package tell

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"strconv"
	"time"

	"github.com/gosnmp/gosnmp"

	"plumbbob/internal/core/telling"
	"plumbbob/internal/secret"
	"plumbbob/internal/snmpauth"
	"plumbbob/internal/wire/names"
)

// Notifications of SNMP, as docs/PLUMB-BOB-MIB.txt has them.
const (
	ourArc    = ".1.3.6.1.4.1.32473.78"
	upTime    = ".1.3.6.1.2.1.1.3.0"     // SNMPv2-MIB, RFC 3418
	trapOID   = ".1.3.6.1.6.3.1.1.4.1.0" // likewise
	testEvent = ourArc + ".0.9"
)

var events = map[telling.What]string{telling.Opened: ourArc + ".0.1", telling.More: ourArc + ".0.2", telling.Over: ourArc + ".0.3"}

// The objects of our notifications.
const (
	objectID = iota + 1
	objectDevice
	objectSite
	objectKind
	objectSeverity
	objectSubject
	objectText
	objectOpened
)

var severityNumbers = map[telling.Severity]int{telling.Warning: 1, telling.Critical: 2}

// began is from when our uptime counts: the receiver of a notification under the User-based Security
// Model takes none that is older than one it has had, also across a restart (RFC 3414, section 3.2).
var began = time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)

// notifyWithin is how long a confirmation is waited for, in all tries.
const (
	notifyWithin = 10 * time.Second
	notifyTries  = 2
)

// sendNotify sends a notification for each incident: with SNMPv2c one that is confirmed
// (InformRequest, RFC 3416, section 4.2.7) unless plain ones are wanted, with SNMPv3 a plain one.
func (s Settings) sendNotify(ctx context.Context, v secret.Value, _ string, m telling.Message) (says string, err error) {
	host, port, err := net.SplitHostPort(s.Server)
	if err != nil {
		return "", err
	}
	addr, err := names.Default.Addr(ctx, host)
	if err != nil {
		return "", err
	}
	n, err := strconv.ParseUint(port, 10, 16)
	if err != nil {
		return "", fmt.Errorf("port %q: %w", port, err)
	}
	g := &gosnmp.GoSNMP{Target: addr.String(), Port: uint16(n), Transport: "udp", Timeout: notifyWithin / (notifyTries + 1), Retries: notifyTries, MaxOids: gosnmp.MaxOids, Context: ctx}
	snmpauth.Set(g, v)
	informs := g.Version == gosnmp.Version2c && !s.Plain
	if usm, is := g.SecurityParameters.(*gosnmp.UsmSecurityParameters); is {
		usm.AuthoritativeEngineID, usm.AuthoritativeEngineBoots, usm.AuthoritativeEngineTime = engineID(), 1, uint32(m.At.Sub(began).Seconds())
	}
	if err := snmpauth.Connect(g); err != nil {
		return "", err
	}
	defer func() { _ = g.Conn.Close() }()
	for _, vars := range notifications(m) {
		if _, err := g.SendTrap(gosnmp.SnmpTrap{Variables: vars, IsInform: informs}); err != nil {
			if informs {
				return "", fmt.Errorf("%s has not confirmed it: %w", s.Server, err)
			}
			return "", err
		}
	}
	if informs {
		return "confirmed", nil
	}
	return "sent; nobody confirms these", nil
}

// engineID is ours: of the enterprise number for documentation, with the name of this host as text
// (RFC 3411, section 5).
func engineID() string {
	const enterprise, textFormat, longest = 32473, 4, 27
	host, _ := os.Hostname()
	return string([]byte{0x80 | enterprise>>24, enterprise >> 16 & 0xff, enterprise >> 8 & 0xff, enterprise & 0xff, textFormat}) + ("plumb-" + host)[:min(longest, len("plumb-"+host))]
}

// notifications are the variables of each.
func notifications(m telling.Message) (out [][]gosnmp.SnmpPDU) {
	since := uint32(m.At.Sub(began) / (10 * time.Millisecond))
	if len(m.Items) == 0 {
		return [][]gosnmp.SnmpPDU{{ticks(since), event(testEvent), text(objectSubject, m.Subject)}}
	}
	for _, x := range m.Items {
		i := x.Incident
		out = append(out, []gosnmp.SnmpPDU{
			ticks(since), event(events[x.Note.What]), text(objectID, i.ID), text(objectDevice, string(i.Device)), text(objectSite, string(i.Site)), text(objectKind, i.Kind),
			{Name: object(objectSeverity), Type: gosnmp.Integer, Value: severityNumbers[telling.SeverityOf(i.Kind)]},
			text(objectSubject, m.Subject), text(objectText, i.Text), text(objectOpened, i.Opened.UTC().Format(time.RFC3339)),
		})
	}
	return out
}

func object(n int) string { return fmt.Sprintf("%s.1.%d.0", ourArc, n) }

func ticks(n uint32) gosnmp.SnmpPDU {
	return gosnmp.SnmpPDU{Name: upTime, Type: gosnmp.TimeTicks, Value: n}
}

func event(oid string) gosnmp.SnmpPDU {
	return gosnmp.SnmpPDU{Name: trapOID, Type: gosnmp.ObjectIdentifier, Value: oid}
}

// longestObject keeps a notification within one datagram.
const longestObject = 255

func text(n int, s string) gosnmp.SnmpPDU {
	return gosnmp.SnmpPDU{Name: object(n), Type: gosnmp.OctetString, Value: []byte(s[:min(len(s), longestObject)])}
}

func (s *Settings) checkNotify() error {
	if s.Secret == "" {
		return errors.New("secret: name one with a community (SNMPv2c) or a user (SNMPv3)")
	}
	return s.checkServer("a receiver of notifications", "nms.example:162")
}
