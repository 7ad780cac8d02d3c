// Package post is a mail server that keeps what it is given, and delivers it to nobody: a stand-in
// for the mailboxes of those who are told.
package post

import (
	"bytes"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"net"
	"net/mail"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
)

// A Letter is a mail as it came.
type Letter struct {
	At      time.Time `json:"at"`
	From    string    `json:"from"`
	To      []string  `json:"to"`
	Subject string    `json:"subject"`
	Text    string    `json:"text"`
	ID      string    `json:"id"`
	Files   []string  `json:"files,omitempty"`
	Header  map[string][]string
}

// Options say how the server is.
type Options struct {
	Address        string      // host:port
	TLS            *tls.Config // it offers STARTTLS; nil: it does not
	AtOnce         bool        // TLS is spoken from the first byte on
	User, Password string      // nobody else is let in; empty: everybody is
}

// Server is a running mail server.
type Server struct {
	Address string
	smtp    *smtp.Server
	o       Options

	mu     sync.Mutex
	kept   []Letter
	closed bool
}

const (
	mostKept    = 500
	longestMail = 1 << 20
)

// Start starts one.
func Start(o Options) (*Server, error) {
	ln, err := net.Listen("tcp", o.Address)
	if err != nil {
		return nil, fmt.Errorf("lab: mail: %w", err)
	}
	s := &Server{Address: ln.Addr().String(), o: o}
	s.smtp = smtp.NewServer(s)
	s.smtp.Domain, s.smtp.TLSConfig = "post.example", o.TLS
	s.smtp.MaxMessageBytes, s.smtp.ReadTimeout, s.smtp.WriteTimeout = longestMail, time.Minute, time.Minute
	s.smtp.AllowInsecureAuth = o.TLS == nil
	s.smtp.ErrorLog = nothing{}
	if o.AtOnce {
		ln = tls.NewListener(ln, o.TLS)
	}
	go func() { _ = s.smtp.Serve(ln) }()
	return s, nil
}

type nothing struct{}

func (nothing) Printf(string, ...any) {}
func (nothing) Println(...any)        {}

// Close stops it.
func (s *Server) Close() error { return s.smtp.Close() }

// Shut has it take no mail for the moment, or take it again.
func (s *Server) Shut(is bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.closed = is
}

// Letters are those that came, the oldest first.
func (s *Server) Letters() []Letter {
	s.mu.Lock()
	defer s.mu.Unlock()
	return append([]Letter{}, s.kept...)
}

// NewSession implements smtp.Backend.
func (s *Server) NewSession(*smtp.Conn) (smtp.Session, error) {
	return &session{s: s, in: s.o.User == ""}, nil
}

type session struct {
	s    *Server
	in   bool
	from string
	to   []string
}

func (x *session) AuthMechanisms() []string { return []string{sasl.Plain} }

func (x *session) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, user, password string) error {
		if user != x.s.o.User || password != x.s.o.Password {
			return smtp.ErrAuthFailed
		}
		x.in = true
		return nil
	}), nil
}

func (x *session) Mail(from string, _ *smtp.MailOptions) error {
	x.s.mu.Lock()
	defer x.s.mu.Unlock()
	switch {
	case !x.in:
		return smtp.ErrAuthRequired
	case x.s.closed:
		return &smtp.SMTPError{Code: 451, EnhancedCode: smtp.EnhancedCode{4, 3, 0}, Message: "come back later"}
	}
	x.from = from
	return nil
}

func (x *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	if strings.HasPrefix(to, "nobody@") {
		return &smtp.SMTPError{Code: 550, EnhancedCode: smtp.EnhancedCode{5, 1, 1}, Message: "nobody here is called so"}
	}
	x.to = append(x.to, to)
	return nil
}

func (x *session) Data(r io.Reader) error {
	raw, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	l, err := read(raw)
	if err != nil {
		return &smtp.SMTPError{Code: 554, EnhancedCode: smtp.EnhancedCode{5, 6, 0}, Message: err.Error()}
	}
	l.At, l.From, l.To = time.Now().UTC(), x.from, x.to
	x.s.mu.Lock()
	defer x.s.mu.Unlock()
	x.s.kept = append(x.s.kept, l)
	x.s.kept = x.s.kept[max(0, len(x.s.kept)-mostKept):]
	return nil
}

func (x *session) Reset()        { x.from, x.to = "", nil }
func (x *session) Logout() error { return nil }

var errKind = errors.New("only plain text, with files, is read here")

func read(raw []byte) (l Letter, err error) {
	m, err := mail.ReadMessage(bytes.NewReader(raw))
	if err != nil {
		return l, err
	}
	l.ID, l.Header = m.Header.Get("Message-Id"), m.Header
	if l.Subject, err = new(mime.WordDecoder).DecodeHeader(m.Header.Get("Subject")); err != nil {
		return l, err
	}
	kind, params, _ := mime.ParseMediaType(m.Header.Get("Content-Type"))
	switch kind {
	case "text/plain":
		l.Text, err = text(m.Body, m.Header.Get("Content-Transfer-Encoding"))
		return l, err
	case "multipart/mixed":
		return l, l.parts(multipart.NewReader(m.Body, params["boundary"]))
	}
	return l, errKind
}

// parts reads the text, and the names of the files beside it.
func (l *Letter) parts(r *multipart.Reader) error {
	for {
		p, err := r.NextRawPart()
		switch {
		case errors.Is(err, io.EOF):
			return nil
		case err != nil:
			return err
		case p.FileName() != "":
			l.Files = append(l.Files, p.FileName())
		default:
			if l.Text, err = text(p, p.Header.Get("Content-Transfer-Encoding")); err != nil {
				return err
			}
		}
	}
}

func text(body io.Reader, encoding string) (string, error) {
	if strings.EqualFold(encoding, "quoted-printable") {
		body = quotedprintable.NewReader(body)
	}
	b, err := io.ReadAll(body)
	return strings.ReplaceAll(string(b), "\r\n", "\n"), err
}
