package tell

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/mail"
	"net/url"
	"slices"
	"strings"
	"text/template"

	"plumbbob/internal/core/plain"
	"plumbbob/internal/core/telling"
	"plumbbob/internal/secret"
	"plumbbob/internal/wire/sms"
)

// The kinds of channel.
const (
	Mail    = "mail"
	Webhook = "webhook"
	Syslog  = "syslog"
	SNMP    = "snmp"
	Phone   = "text" // text messages, by a modem of the service's machine
)

// A kind is what is particular to one.
type kind struct {
	takes []string // the settings that it has, by their names
	check func(*Settings) error
	send  func(s Settings, ctx context.Context, v secret.Value, to string, m telling.Message) (says string, err error)
}

var kinds map[string]kind

func init() { // they refer to what refers to them
	kinds = map[string]kind{
		Mail:    {[]string{"server", "tls", "from", "pin"}, (*Settings).checkMail, Settings.sendMail},
		Webhook: {[]string{"url", "method", "headers", "body", "auth", "pin", "answers"}, (*Settings).checkWebhook, Settings.sendHook},
		Syslog:  {[]string{"url"}, (*Settings).checkSyslog, Settings.sendSyslog},
		SNMP:    {[]string{"server", "plain"}, (*Settings).checkNotify, Settings.sendNotify},
		Phone:   {[]string{"port"}, (*Settings).checkText, nil}, // the outbox sends these: it has the ports
	}
}

// ChannelKinds lists them.
var ChannelKinds = []string{Mail, Webhook, Syslog, SNMP, Phone}

// How a mail server is spoken to.
const (
	StartTLS = "starttls"
	TLS      = "tls"
	NoTLS    = "none"
)

// How a webhook is told who asks.
const (
	SignAuth   = "sign"   // with a signature, RFC 9421
	BearerAuth = "bearer" // RFC 6750
	BasicAuth  = "basic"  // RFC 7617
)

// Settings are those of a channel. Which of them count depends on its kind.
type Settings struct {
	Kind   string `json:"kind"`
	Secret string `json:"secret,omitempty"` // its name
	Pin    string `json:"pin,omitempty"`    // SHA-256 of the certificate; empty: one that is signed as usual

	// Of mail and SNMP.
	Server string `json:"server,omitempty"` // host:port
	Plain  bool   `json:"plain,omitempty"`  // of SNMP: nobody confirms what is sent

	// Of mail.
	TLS  string `json:"tls,omitempty"`
	From string `json:"from,omitempty"`

	// Of a webhook, or udp, tcp or tls://HOST:PORT of syslog.
	URL     string            `json:"url,omitempty"`
	Method  string            `json:"method,omitempty"`
	Headers map[string]string `json:"headers,omitempty"`
	Body    string            `json:"body,omitempty"` // a template; empty: a JSON document
	Auth    string            `json:"auth,omitempty"`
	Answers string            `json:"answers,omitempty"` // the name of the token with which it may answer; empty: it may not

	Port string `json:"port,omitempty"` // of text messages: the name of a modem
}

// Bounds of what is set.
const (
	mostHeaders = 20
	longestURL  = 2000
	longestBody = 20_000
)

// Check says what is wrong with settings, and fills in what was left out.
func (s *Settings) Check() error {
	if s.Pin = strings.ToLower(strings.ReplaceAll(s.Pin, ":", "")); s.Pin != "" && (len(s.Pin) != 64 || strings.Trim(s.Pin, "0123456789abcdef") != "") {
		return errors.New("pin: it is the SHA-256 of a certificate, 64 hexadecimal digits")
	}
	k, is := kinds[s.Kind]
	if !is {
		return fmt.Errorf("kind: %q is not known: it can be %s", s.Kind, strings.Join(ChannelKinds, ", "))
	}
	for _, name := range s.given() {
		if !slices.Contains(k.takes, name) {
			return fmt.Errorf("%s: a channel of kind %s has none: leave it out", name, s.Kind)
		}
	}
	return k.check(s)
}

// given are the names of the settings that were made, beside those that all kinds have.
func (s *Settings) given() (out []string) {
	for _, x := range []struct {
		name string
		is   bool
	}{
		{"pin", s.Pin != ""}, {"server", s.Server != ""}, {"tls", s.TLS != ""}, {"from", s.From != ""}, {"url", s.URL != ""}, {"method", s.Method != ""},
		{"headers", s.Headers != nil}, {"body", s.Body != ""}, {"auth", s.Auth != ""}, {"plain", s.Plain}, {"port", s.Port != ""}, {"answers", s.Answers != ""},
	} {
		if x.is {
			out = append(out, x.name)
		}
	}
	return out
}

// checkServer says what is wrong with host and port.
func (s *Settings) checkServer(what, example string) error {
	host, port, err := net.SplitHostPort(s.Server)
	if err != nil || host == "" || port == "" {
		return fmt.Errorf("server: %q is not %s: write HOST:PORT, as in %s", s.Server, what, example)
	}
	return nil
}

func (s *Settings) checkText() error {
	switch {
	case s.Port == "":
		return errors.New("port: name a modem of the service's machine, as plumbd serve --modem does")
	case s.Secret != "":
		return errors.New("secret: a modem has none: leave it out")
	}
	return nil
}

func (s *Settings) checkMail() error {
	if err := s.checkServer("a mail server", "mail.example:587"); err != nil {
		return err
	}
	s.TLS = cmp.Or(s.TLS, StartTLS)
	if !slices.Contains([]string{StartTLS, TLS, NoTLS}, s.TLS) {
		return fmt.Errorf("tls: %q is not known: it can be starttls, tls or none", s.TLS)
	}
	if s.TLS == NoTLS && s.Secret != "" {
		return errors.New("tls: none, and a secret: it would go through the network as it is; use starttls or tls")
	}
	if _, err := mail.ParseAddress(s.From); err != nil {
		return fmt.Errorf("from: %q is no address: write it as in plumb@pier.example", s.From)
	}
	return nil
}

func (s *Settings) checkWebhook() error {
	u, err := url.Parse(s.URL)
	switch {
	case err != nil, u.Scheme != "http" && u.Scheme != "https", u.Host == "", u.User != nil, len(s.URL) > longestURL:
		return fmt.Errorf("url: %q is no address of a webhook: write it as in https://chat.example/hook, without a password in it", plain.Line(s.URL))
	case s.Secret != "" && u.Scheme == "http" && s.Auth != SignAuth && s.Auth != "":
		return errors.New("url: a token would go through the network as it is: use https, or auth: sign")
	case len(s.Headers) > mostHeaders, len(s.Body) > longestBody:
		return fmt.Errorf("%d headers and %d bytes of body are the most", mostHeaders, longestBody)
	}
	s.Method = cmp.Or(strings.ToUpper(s.Method), "POST")
	if !slices.Contains([]string{"POST", "PUT", "PATCH", "GET"}, s.Method) {
		return fmt.Errorf("method: %q is not known: it can be POST, PUT, PATCH or GET", s.Method)
	}
	if err := s.checkAuth(); err != nil {
		return err
	}
	for name, value := range s.Headers {
		if !headerName(name) || strings.ContainsAny(value, "\r\n\x00") {
			return fmt.Errorf("headers: %q is no header", plain.Line(name))
		}
	}
	if _, err := s.template(); err != nil {
		return fmt.Errorf("body: %w", err)
	}
	_, err = s.body(example)
	return err
}

func (s *Settings) checkAuth() error {
	if s.Secret != "" {
		s.Auth = cmp.Or(s.Auth, SignAuth)
	}
	if s.Auth != "" && !slices.Contains([]string{SignAuth, BearerAuth, BasicAuth}, s.Auth) {
		return fmt.Errorf("auth: %q is not known: it can be sign, bearer or basic", s.Auth)
	}
	if s.Auth != "" && s.Secret == "" {
		return errors.New("auth: name the secret that it is done with")
	}
	return nil
}

func headerName(s string) bool {
	return s != "" && strings.Trim(s, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_") == ""
}

// Target is where its secret goes.
func (s Settings) Target() string {
	switch s.Kind {
	case Mail:
		return secret.Target("smtp", s.Server)
	case SNMP:
		return secret.Target("snmp", s.Server)
	case Phone:
		return secret.Target("modem", s.Port)
	}
	u, err := url.Parse(s.URL)
	if err != nil {
		return ""
	}
	port := cmp.Or(u.Port(), map[string]string{"http": "80", "https": "443", "udp": "514", "tcp": "601", "tls": "6514"}[u.Scheme])
	return secret.Target(u.Scheme, net.JoinHostPort(u.Hostname(), port))
}

// CheckTo says what is wrong with an address at a channel.
func (s Settings) CheckTo(to string) error {
	switch s.Kind {
	case Mail:
		if _, err := mail.ParseAddress(to); err != nil {
			return fmt.Errorf("%q is no address of mail", plain.Line(to))
		}
	case Phone:
		if _, err := sms.Submit(to, "", 0); err != nil {
			return fmt.Errorf("%q: %w", plain.Line(to), err)
		}
	}
	return nil
}

// funcs are what a template can do beside what all can.
var funcs = template.FuncMap{
	"json": func(v any) (string, error) {
		b, err := json.Marshal(v)
		return string(b), err
	},
}

func (s Settings) template() (*template.Template, error) {
	return template.New("body").Funcs(funcs).Option("missingkey=error").Parse(s.Body)
}

// send sends a message by the channel, and returns what the other end said to it.
func (s Settings) send(ctx context.Context, v secret.Value, to string, m telling.Message) (says string, err error) {
	if protocol, address, _ := strings.Cut(s.Target(), "://"); s.Secret != "" && !v.MayGoTo(protocol, address) {
		return "", fmt.Errorf("secret %[1]s may not be sent to %[2]s: a keeper allows it with plumb secret bind %[1]s %[2]s", s.Secret, s.Target())
	}
	k, is := kinds[s.Kind]
	if !is || k.send == nil {
		return "", fmt.Errorf("its kind %q is not known here", s.Kind)
	}
	return k.send(s, ctx, v, to, m)
}
