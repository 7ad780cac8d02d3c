package tell

import (
	"context"
	"crypto/tls"
	"fmt"
	"net"
	"strconv"
	"strings"
	"time"

	"github.com/wneessen/go-mail"

	"plumbbob/internal/core/plain"
	"plumbbob/internal/core/telling"
	"plumbbob/internal/secret"
	"plumbbob/internal/wire/names"
	"plumbbob/internal/wire/pin"
)

// sendWithin is how long one message may take.
const sendWithin = 30 * time.Second

// sendMail sends a message to one address (RFC 5321, RFC 5322).
func (s Settings) sendMail(ctx context.Context, v secret.Value, to string, m telling.Message) (says string, err error) {
	msg := mail.NewMsg(mail.WithNoDefaultUserAgent())
	if err := msg.From(s.From); err != nil {
		return "", err
	}
	if err := msg.To(to); err != nil {
		return "", err
	}
	msg.Subject(m.Subject)
	msg.SetDateWithValue(m.At)
	msg.SetMessageIDWithValue(s.messageID(m.ID))
	msg.SetGenHeader("Auto-Submitted", "auto-generated") // RFC 3834: nobody's vacation answers it
	if m.Severity == telling.Critical {
		msg.SetImportance(mail.ImportanceHigh)
	}
	if len(m.Items) == 1 { // what belongs to one incident is one thread, RFC 5322 section 3.6.4
		msg.SetGenHeader("References", "<"+s.messageID("incident."+m.Items[0].Incident.ID)+">")
	}
	msg.SetBodyString(mail.TypeTextPlain, m.Text)
	for _, f := range m.Files {
		if err := msg.AttachReader(f.Name, strings.NewReader(f.Text), mail.WithFileContentType(mail.TypeTextPlain)); err != nil {
			return "", err
		}
	}
	client, err := s.mailClient(v)
	if err != nil {
		return "", err
	}
	ctx, cancel := context.WithTimeout(ctx, sendWithin)
	defer cancel()
	if err := client.DialAndSendWithContext(ctx, msg); err != nil {
		return "", fmt.Errorf("%s: %s", s.Server, plain.Line(err.Error()))
	}
	return plain.Line(msg.ServerResponse()), nil
}

// messageID is that of a message, the same however often it is sent.
func (s Settings) messageID(id string) string {
	_, host, _ := strings.Cut(strings.TrimSuffix(s.From, ">"), "@")
	return id + "@" + host
}

func (s Settings) mailClient(v secret.Value) (*mail.Client, error) {
	host, p, err := net.SplitHostPort(s.Server)
	if err != nil {
		return nil, err
	}
	port, err := strconv.Atoi(p)
	if err != nil {
		return nil, fmt.Errorf("%s: no port", s.Server)
	}
	how := &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12}
	if s.Pin != "" {
		how = pin.Config(s.Pin)
	}
	options := []mail.Option{mail.WithPort(port), mail.WithTimeout(sendWithin), mail.WithTLSConfig(how), mail.WithDialContextFunc(dial(how, s.TLS == TLS)), mail.WithoutNoop()}
	switch s.TLS {
	case StartTLS:
		options = append(options, mail.WithTLSPolicy(mail.TLSMandatory))
	case TLS:
		options = append(options, mail.WithSSL())
	default:
		options = append(options, mail.WithTLSPolicy(mail.NoTLS))
	}
	if s.Secret != "" {
		// What is dialled by us under TLS is not known to be: PLAIN is what servers have there (RFC 4954, section 4).
		by := map[bool]mail.SMTPAuthType{true: mail.SMTPAuthPlain, false: mail.SMTPAuthAutoDiscover}[s.TLS == TLS]
		options = append(options, mail.WithSMTPAuth(by), mail.WithUsername(v.User), mail.WithPassword(v.Password))
	}
	return mail.NewClient(host, options...)
}

// dial connects to where connections may go.
func dial(how *tls.Config, at bool) mail.DialContextFunc {
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		conn, err := names.Default.DialContext(ctx, network, address)
		if err != nil || !at {
			return conn, err
		}
		c := tls.Client(conn, how)
		if err := c.HandshakeContext(ctx); err != nil {
			_ = conn.Close()
			return nil, err
		}
		return c, nil
	}
}
