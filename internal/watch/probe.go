package watch

import (
	"bytes"
	"cmp"
	"context"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"os"
	"slices"
	"strings"
	"syscall"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/wire/icmp"
	"plumbbob/internal/wire/names"
)

// probe asks a production address once.
func (w *Watcher) probe(ctx context.Context, p estate.Probe, timeout time.Duration) (time.Duration, error) {
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	switch p.Kind {
	case estate.ICMP:
		return w.ping(ctx, p.Target)
	case estate.TCP:
		return connect(ctx, p.Target)
	case estate.HTTP:
		return get(ctx, p.Target, p.Expect)
	case estate.TLS:
		return handshake(ctx, p.Target, p.Expect)
	case estate.DNS:
		return lookUp(ctx, p.Target, p.Expect)
	case estate.UDP:
		return echo(ctx, p.Target)
	}
	return 0, fmt.Errorf("probe %q is not known", p.Kind)
}

func (w *Watcher) ping(ctx context.Context, target string) (time.Duration, error) {
	if w.from.Pinger == nil {
		return 0, icmp.ErrNotPermitted
	}
	addr, err := netip.ParseAddr(target)
	if err != nil {
		return 0, err
	}
	return w.from.Pinger.Ping(ctx, addr)
}

// A heardError says that the host has answered, and what it has said instead of what is
// wanted.
type heardError struct{ text string }

func (e *heardError) Error() string { return e.text }

// connect opens a TCP connection and closes it at once. A refusal is an answer
// of the host, but not of the service that is asked for.
func connect(ctx context.Context, target string) (time.Duration, error) {
	began := time.Now()
	c, err := names.Default.DialContext(ctx, "tcp", target)
	if err != nil {
		return time.Since(began), plain(err)
	}
	rtt := time.Since(began)
	_ = c.(*net.TCPConn).SetLinger(0) // no TIME_WAIT for every probe
	_ = c.Close()
	return rtt, nil
}

// A probe follows no redirect and trusts any certificate: it asks whether
// something answers, and tells it nothing.
var httpClient = &http.Client{
	Transport: &http.Transport{
		DisableKeepAlives: true, DialContext: names.Default.DialContext, TLSClientConfig: &tls.Config{InsecureSkipVerify: true}, //nolint:gosec // see above
		MaxResponseHeaderBytes: 64 << 10,
	},
	CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
}

const maxPage = 64 << 10

func get(ctx context.Context, target string, want estate.Expect) (time.Duration, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, target, nil)
	if err != nil {
		return 0, err
	}
	began := time.Now()
	res, err := httpClient.Do(req)
	if err != nil {
		return time.Since(began), plain(err)
	}
	rtt := time.Since(began)
	page, _ := io.ReadAll(io.LimitReader(res.Body, maxPage))
	_ = res.Body.Close()
	switch {
	case want.Status != 0 && res.StatusCode != want.Status:
		return rtt, &heardError{fmt.Sprintf("gives status %d, and not %d", res.StatusCode, want.Status)}
	case want.Status == 0 && res.StatusCode >= http.StatusInternalServerError:
		return rtt, &heardError{fmt.Sprintf("gives status %d", res.StatusCode)}
	case want.Text != "" && !bytes.Contains(page, []byte(want.Text)):
		return rtt, &heardError{fmt.Sprintf("has no %q in its first %d kB", want.Text, maxPage>>10)}
	}
	if want.Certificate && res.TLS != nil {
		return rtt, certified(res.TLS, cmp.Or(want.Name, req.URL.Hostname()), want.Days)
	}
	return rtt, nil
}

// handshake opens a TLS connection, and closes it at once.
func handshake(ctx context.Context, target string, want estate.Expect) (time.Duration, error) {
	host, _, err := net.SplitHostPort(target)
	if err != nil {
		return 0, err
	}
	began := time.Now()
	raw, err := names.Default.DialContext(ctx, "tcp", target)
	if err != nil {
		return time.Since(began), plain(err)
	}
	name := cmp.Or(want.Name, host)
	c := tls.Client(raw, &tls.Config{InsecureSkipVerify: true, ServerName: name}) //nolint:gosec // it is checked below, when it is wanted
	defer func() { _ = c.Close() }()
	if err := c.HandshakeContext(ctx); err != nil {
		return time.Since(began), plain(err)
	}
	rtt := time.Since(began)
	if state := c.ConnectionState(); want.Certificate {
		return rtt, certified(&state, name, want.Days)
	}
	return rtt, nil
}

// certified says what is wrong with a certificate.
func certified(state *tls.ConnectionState, name string, days int) error {
	chain := state.PeerCertificates
	if len(chain) == 0 {
		return &heardError{"shows no certificate"}
	}
	between := x509.NewCertPool()
	for _, c := range chain[1:] {
		between.AddCert(c)
	}
	if _, err := chain[0].Verify(x509.VerifyOptions{DNSName: name, Intermediates: between}); err != nil {
		return &heardError{"its certificate is not good: " + strings.TrimPrefix(err.Error(), "x509: ")}
	}
	if left := time.Until(chain[0].NotAfter); left < time.Duration(days)*24*time.Hour {
		return &heardError{fmt.Sprintf("its certificate is good for %d days yet, and %d are wanted", int(left.Hours()/24), days)}
	}
	return nil
}

// lookUp asks one DNS server for a name (RFC 1035). That it knows of none is an answer.
func lookUp(ctx context.Context, server string, want estate.Expect) (time.Duration, error) {
	r := &net.Resolver{PreferGo: true, Dial: func(ctx context.Context, network, _ string) (net.Conn, error) {
		return names.Default.DialContext(ctx, network, server)
	}}
	began := time.Now()
	found, err := r.LookupHost(ctx, strings.TrimSuffix(want.Name, ".")+".") // no domain of ours behind it
	rtt := time.Since(began)
	var no *net.DNSError
	switch {
	case err == nil && want.Answer != "" && !slices.Contains(found, want.Answer):
		return rtt, &heardError{fmt.Sprintf("says that %s is %s", want.Name, strings.Join(found, ", "))}
	case err == nil:
		return rtt, nil
	case ctx.Err() != nil:
		return rtt, errSilent
	case errors.As(err, &no) && no.IsTimeout:
		return rtt, errSilent
	case errors.As(err, &no) && no.IsNotFound:
		return rtt, &heardError{"knows no " + want.Name}
	case errors.As(err, &no) && strings.Contains(no.Err, "misbehaving"):
		return rtt, &heardError{"fails to look up " + want.Name}
	}
	return rtt, plain(err)
}

// echo sends what nobody can guess, and wants it back (RFC 862).
func echo(ctx context.Context, target string) (time.Duration, error) {
	c, err := names.Default.DialContext(ctx, "udp", target)
	if err != nil {
		return 0, plain(err)
	}
	defer func() { _ = c.Close() }()
	stop := context.AfterFunc(ctx, func() { _ = c.SetReadDeadline(time.Unix(1, 0)) })
	defer stop()
	sent, got := []byte(rand.Text()), make([]byte, 512)
	began := time.Now()
	if _, err := c.Write(sent); err != nil {
		return 0, plain(err)
	}
	for {
		n, err := c.Read(got)
		if err != nil {
			return time.Since(began), plain(err)
		}
		if bytes.Equal(got[:n], sent) {
			return time.Since(began), nil
		}
	}
}

var errSilent = errors.New("no answer")

// plain says what went wrong without the addresses, which the reader knows.
func plain(err error) error {
	switch {
	case errors.Is(err, context.DeadlineExceeded), errors.Is(err, os.ErrDeadlineExceeded):
		return errSilent
	case errors.Is(err, syscall.ECONNREFUSED):
		return &heardError{"refuses the connection"}
	case errors.Is(err, syscall.ECONNRESET), errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		return &heardError{"ends the connection"}
	}
	if alert := (tls.AlertError)(0); errors.As(err, &alert) {
		return &heardError{"refuses TLS: " + alert.Error()}
	}
	if record := (tls.RecordHeaderError{}); errors.As(err, &record) || errors.Is(err, http.ErrSchemeMismatch) {
		return &heardError{"speaks no TLS"}
	}
	return err
}
