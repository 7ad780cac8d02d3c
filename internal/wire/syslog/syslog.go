// Package syslog sends messages to a collector: RFC 5424 over UDP (RFC 5426),
// TCP (RFC 6587, octet counting) or TLS (RFC 5425).
package syslog

import (
	"cmp"
	"context"
	"crypto/tls"
	"fmt"
	"net"
	"net/url"
	"strings"
	"time"
)

// Facility and Severity are those of RFC 5424, section 6.2.1.
type (
	Facility uint8
	Severity uint8
)

// Those that are used here.
const (
	LogAudit Facility = 13
	LogAlert Facility = 14

	Critical Severity = 2
	Warning  Severity = 4
	Notice   Severity = 5
)

// A Message is one entry. Fields that are empty are sent as "-".
type Message struct {
	Facility Facility
	Severity Severity
	At       time.Time
	Host     string
	App      string
	ID       string            // the kind of message
	DataID   string            // names Data; empty: as DataID
	Data     map[string]string // keys in Keys give their order
	Keys     []string
	Text     string
}

// DataID names our structured data (section 6.3.2): the number is IANA's
// enterprise number for documentation.
const DataID = "journal@32473"

// The most that section 6 allows of each field.
const (
	maxHost = 255
	maxApp  = 48
	maxID   = 32
)

// Append writes a message as section 6 has it.
func (m Message) Append(b []byte) []byte {
	b = fmt.Appendf(b, "<%d>1 %s %s %s - %s ", int(m.Facility)*8+int(m.Severity), m.At.UTC().Format("2006-01-02T15:04:05.000Z"),
		printable(m.Host, maxHost), printable(m.App, maxApp), printable(m.ID, maxID))
	if len(m.Keys) == 0 {
		b = append(b, '-')
	} else {
		b = append(b, "["+cmp.Or(m.DataID, DataID)...)
		for _, k := range m.Keys {
			b = fmt.Appendf(b, ` %s="%s"`, k, escape.Replace(oneLine(m.Data[k])))
		}
		b = append(b, ']')
	}
	if m.Text != "" {
		b = append(b, " \xef\xbb\xbf"...) // the BOM says that it is UTF-8 (section 6.4)
		b = append(b, oneLine(m.Text)...)
	}
	return b
}

// oneLine keeps a text within its message: many collectors take one a line, and a new
// line in it for the beginning of the next.
func oneLine(s string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r >= 0x7f && r < 0xa0 || r == 0x2028 || r == 0x2029 {
			return ' '
		}
		return r
	}, strings.ToValidUTF8(s, "�"))
}

// escape is what a parameter's value must not hold as it is (section 6.3.3).
var escape = strings.NewReplacer(`\`, `\\`, `"`, `\"`, `]`, `\]`)

// printable is a field of the header: printable ASCII without spaces.
func printable(s string, most int) string {
	s = strings.Map(func(r rune) rune {
		if r <= ' ' || r > '~' {
			return '_'
		}
		return r
	}, s)
	if s == "" {
		return "-"
	}
	return s[:min(len(s), most)]
}

// A Collector is where messages go. It is not safe for use by several at once.
type Collector struct {
	Dial func(ctx context.Context, network, address string) (net.Conn, error) // nil: as usual

	network string
	address string
	secure  *tls.Config
	conn    net.Conn
}

// Parse reads udp://HOST:PORT, tcp://… or tls://…; the port may be left out.
func Parse(s string) (*Collector, error) {
	u, err := url.Parse(s)
	if err != nil || u.Hostname() == "" || u.Path != "" {
		return nil, fmt.Errorf("%q is not udp://HOST:PORT, tcp://HOST:PORT or tls://HOST:PORT", s)
	}
	c := &Collector{network: u.Scheme}
	port := u.Port()
	switch u.Scheme {
	case "udp", "tcp":
		if port == "" {
			port = "514"
		}
	case "tls":
		c.network, c.secure = "tcp", &tls.Config{ServerName: u.Hostname(), MinVersion: tls.VersionTLS12}
		if port == "" {
			port = "6514"
		}
	default:
		return nil, fmt.Errorf("%q is not udp://HOST:PORT, tcp://HOST:PORT or tls://HOST:PORT", s)
	}
	c.address = net.JoinHostPort(u.Hostname(), port)
	return c, nil
}

const sendWithin = 10 * time.Second

// Send sends one message, and connects first where that is needed. After an
// error it may or may not have arrived: syslog has no acknowledgement.
func (c *Collector) Send(ctx context.Context, m Message) error {
	ctx, cancel := context.WithTimeout(ctx, sendWithin)
	defer cancel()
	if err := c.connect(ctx); err != nil {
		return fmt.Errorf("syslog: %w", err)
	}
	text := m.Append(nil)
	if c.network == "tcp" {
		text = append(fmt.Appendf(nil, "%d ", len(text)), text...)
	}
	deadline, _ := ctx.Deadline()
	_ = c.conn.SetWriteDeadline(deadline)
	if _, err := c.conn.Write(text); err != nil {
		_ = c.Close()
		return fmt.Errorf("syslog: %w", err)
	}
	return nil
}

func (c *Collector) connect(ctx context.Context) (err error) {
	if c.conn != nil {
		return nil
	}
	dial := c.Dial
	if dial == nil {
		dial = (&net.Dialer{}).DialContext
	}
	conn, err := dial(ctx, c.network, c.address)
	if err != nil {
		return err
	}
	if c.secure != nil {
		under := tls.Client(conn, c.secure)
		if err := under.HandshakeContext(ctx); err != nil {
			_ = conn.Close()
			return err
		}
		conn = under
	}
	c.conn = conn
	return nil
}

// Close ends the connection; the next Send makes another.
func (c *Collector) Close() error {
	if c.conn == nil {
		return nil
	}
	err := c.conn.Close()
	c.conn = nil
	return err
}
