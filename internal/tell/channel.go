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
)

// The kinds of channel.
const (
	Mail    = "mail"
	Webhook = "webhook"
)

// ChannelKinds lists them.
var ChannelKinds = []string{Mail, Webhook}

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

	// Of mail.
	Server string `json:"server,omitempty"` // host:port
	TLS    string `json:"tls,omitempty"`
	From   string `json:"from,omitempty"`

	// Of a webhook.
	URL     string            `json:"url,omitempty"`
	Method  string            `json:"method,omitempty"`
	Headers map[string]string `json:"headers,omitempty"`
	Body    string            `json:"body,omitempty"` // a template; empty: a JSON document
	Auth    string            `json:"auth,omitempty"`
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
	switch s.Kind {
	case Mail:
		return s.checkMail()
	case Webhook:
		return s.checkWebhook()
	}
	return fmt.Errorf("kind: %q is not known: it can be %s", s.Kind, strings.Join(ChannelKinds, ", "))
}

func (s *Settings) checkMail() error {
	if s.URL != "" || s.Method != "" || s.Headers != nil || s.Body != "" || s.Auth != "" {
		return errors.New("url, method, headers, body and auth are for webhooks: leave them out")
	}
	host, port, err := net.SplitHostPort(s.Server)
	if err != nil || host == "" || port == "" {
		return fmt.Errorf("server: %q is no mail server: write HOST:PORT, as in mail.example:587", s.Server)
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
	if s.Server != "" || s.TLS != "" || s.From != "" {
		return errors.New("server, tls and from are for mail: leave them out")
	}
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
	if s.Secret != "" {
		s.Auth = cmp.Or(s.Auth, SignAuth)
	}
	if s.Auth != "" && !slices.Contains([]string{SignAuth, BearerAuth, BasicAuth}, s.Auth) {
		return fmt.Errorf("auth: %q is not known: it can be sign, bearer or basic", s.Auth)
	}
	if s.Auth != "" && s.Secret == "" {
		return errors.New("auth: name the secret that it is done with")
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

func headerName(s string) bool {
	return s != "" && strings.Trim(s, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_") == ""
}

// Target is where its secret goes.
func (s Settings) Target() string {
	if s.Kind == Mail {
		return secret.Target("smtp", s.Server)
	}
	u, err := url.Parse(s.URL)
	if err != nil {
		return ""
	}
	port := cmp.Or(u.Port(), map[string]string{"http": "80", "https": "443"}[u.Scheme])
	return secret.Target(u.Scheme, net.JoinHostPort(u.Hostname(), port))
}

// CheckTo says what is wrong with an address at a channel.
func (s Settings) CheckTo(to string) error {
	if s.Kind == Mail {
		if _, err := mail.ParseAddress(to); err != nil {
			return fmt.Errorf("%q is no address of mail", plain.Line(to))
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
	if s.Kind == Mail {
		return s.sendMail(ctx, v, to, m)
	}
	return s.sendHook(ctx, v, to, m)
}
