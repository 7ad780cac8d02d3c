package httpgear

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/icholy/digest"

	"plumbbob/internal/core/sending"
	"plumbbob/internal/gear"
	"plumbbob/internal/profile"
	"plumbbob/internal/secret"
	"plumbbob/internal/wire/names"
	"plumbbob/internal/wire/pin"
)

// maxPage bounds what is read of an answer.
const maxPage = 1 << 20

// web speaks HTTP to one device.
type web struct {
	o       Options
	client  *http.Client
	address atomic.Int32 // which of the addresses is used
}

func newWeb(o Options) (*web, error) {
	asksNobody := o.Profile.Login == nil && o.Secret == secret.Value{}
	if err := o.Secret.Check(); err != nil && !asksNobody {
		return nil, &gear.Error{Kind: gear.BadSecret, Outcome: sending.NotSent, Text: fmt.Sprintf("%s: %s", o.Name, err), Err: err}
	}
	if len(o.Addresses) == 0 {
		return nil, &gear.Error{Kind: gear.Unreachable, Outcome: sending.NotSent, Text: o.Name + " has no address"}
	}
	t := &http.Transport{DialContext: names.Default.DialContext, MaxIdleConnsPerHost: 1, IdleConnTimeout: time.Minute, MaxResponseHeaderBytes: 64 << 10}
	if o.Pin != "" {
		t.TLSClientConfig = pin.Config(o.Pin) // the certificate of such gear is its own
	}
	var via http.RoundTripper = t
	if l := o.Profile.Login; l != nil && l.Kind == "digest" {
		via = &digest.Transport{Username: o.Secret.User, Password: o.Secret.Password, Transport: t}
	}
	return &web{o: o, client: &http.Client{
		Transport: via, Timeout: o.Timeout,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }, // our login goes nowhere else
	}}, nil
}

func (w *web) at() int { return int(w.address.Load()) % len(w.o.Addresses) }

func (w *web) url(path string) string {
	scheme := "http"
	if w.o.Pin != "" {
		scheme = "https"
	}
	return scheme + "://" + w.o.Addresses[w.at()] + path
}

// get fetches a page.
func (w *web) get(ctx context.Context, path string) ([]byte, error) {
	return w.do(ctx, http.MethodGet, path, nil, "")
}

// blanks are what is filled into a request, by name.
type blanks map[string]string

// send changes something. It is never repeated: the answer to one that was
// carried out may have got lost.
func (w *web) send(ctx context.Context, r *profile.Request, fill blanks) error {
	kind := r.Type
	if kind == "" && r.Body != "" {
		kind = "application/json"
	}
	path, body := r.Path, r.Body
	for name, value := range fill {
		path = strings.ReplaceAll(path, "{"+name+"}", url.PathEscape(value))
		body = strings.ReplaceAll(body, "{"+name+"}", escape(value, kind))
	}
	_, err := w.do(ctx, r.Method, path, []byte(body), kind)
	return err
}

// escape writes a value so that it stays a value in a body of that type.
func escape(value, kind string) string {
	switch {
	case strings.Contains(kind, "json"):
		b, _ := json.Marshal(value) // a string always can be
		return string(b[1 : len(b)-1])
	case strings.Contains(kind, "urlencoded"):
		return url.QueryEscape(value)
	}
	return value
}

func (w *web) do(ctx context.Context, method, path string, body []byte, kind string) ([]byte, error) {
	if err := ctx.Err(); err != nil {
		return nil, w.err(err, sending.NotSent)
	}
	req, err := http.NewRequestWithContext(ctx, method, w.url(path), bytes.NewReader(body))
	if err != nil {
		return nil, w.err(err, sending.NotSent)
	}
	if kind != "" {
		req.Header.Set("Content-Type", kind)
	}
	w.sign(req)
	res, err := w.client.Do(req)
	if err != nil {
		w.address.Add(1) // try the next address another time
		return nil, w.err(err, sending.Unclear)
	}
	defer func() { _ = res.Body.Close() }()
	text, err := io.ReadAll(io.LimitReader(res.Body, maxPage))
	if err != nil {
		return nil, w.err(err, sending.Unclear)
	}
	return text, w.status(res.StatusCode, path)
}

// sign says who asks.
func (w *web) sign(req *http.Request) {
	l := w.o.Profile.Login
	if l == nil {
		return
	}
	switch l.Kind {
	case "basic":
		req.SetBasicAuth(w.o.Secret.User, w.o.Secret.Password)
	case "bearer":
		req.Header.Set("Authorization", "Bearer "+w.o.Secret.Password)
	case "header":
		req.Header.Set(l.Header, w.o.Secret.Password)
	}
}

// SecretKind is the kind of secret that a profile needs.
func SecretKind(p *profile.Profile) string {
	if l := p.Login; l != nil && (l.Kind == "bearer" || l.Kind == "header") {
		return secret.Token
	}
	return secret.Login
}

func (w *web) err(err error, oc sending.Outcome) error {
	e := &gear.Error{Kind: gear.Unreachable, Outcome: oc, Err: err}
	where := fmt.Sprintf("%s at %s", w.o.Name, w.o.Addresses[w.at()])
	switch {
	case errors.Is(err, pin.ErrOther):
		e.Kind, e.Outcome = gear.BadSecret, sending.NotSent
		e.Text = where + ": " + pin.ErrOther.Error() + ": find out why before you set pin anew"
	case errors.Is(err, syscall.ECONNREFUSED):
		e.Outcome, e.Text = sending.NotSent, where+": nothing listens there"
	case errors.Is(err, context.Canceled):
		e.Text = where + ": given up before it answered"
	case errors.Is(err, context.DeadlineExceeded):
		e.Text = where + " does not answer HTTP"
	default:
		e.Text = fmt.Sprintf("%s does not answer HTTP: %s", where, errors.Unwrap(err))
	}
	return e
}

// status sorts what HTTP says.
func (w *web) status(code int, path string) error {
	e := &gear.Error{Kind: gear.Malformed, Outcome: sending.Refused, Err: fmt.Errorf("http: status %d", code)}
	switch {
	case code >= 200 && code < 300:
		return nil
	case code == http.StatusUnauthorized:
		e.Kind, e.Text = gear.BadSecret, w.o.Name+" refuses the credential: set it again with plumb secret set"
	case code == http.StatusForbidden:
		e.Kind, e.Text = gear.NotPermitted, w.o.Name+" refuses: the credential may not do that"
	case code == http.StatusTooManyRequests || code == http.StatusServiceUnavailable || code == http.StatusConflict:
		e.Kind, e.Text = gear.Busy, fmt.Sprintf("%s is busy (HTTP %d)", w.o.Name, code)
	case code == http.StatusNotFound:
		e.Kind, e.Text = gear.Unsupported, fmt.Sprintf("%s has nothing at %s: does profile %s fit it?", w.o.Name, path, w.o.Profile.Name)
	case code >= 500:
		e.Outcome, e.Text = sending.Unclear, fmt.Sprintf("%s failed at it (HTTP %d)", w.o.Name, code)
	default:
		e.Text = fmt.Sprintf("%s declined (HTTP %d)", w.o.Name, code)
	}
	return e
}
