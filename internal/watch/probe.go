package watch

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"os"
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
		return get(ctx, p.Target)
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

func get(ctx context.Context, target string) (time.Duration, error) {
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
	_, _ = io.Copy(io.Discard, io.LimitReader(res.Body, maxPage))
	_ = res.Body.Close()
	if res.StatusCode >= http.StatusInternalServerError {
		return rtt, &heardError{fmt.Sprintf("says HTTP %d", res.StatusCode)}
	}
	return rtt, nil
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
