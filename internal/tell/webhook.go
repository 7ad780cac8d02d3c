package tell

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/incident"
	"plumbbob/internal/core/plain"
	"plumbbob/internal/core/telling"
	"plumbbob/internal/secret"
	"plumbbob/internal/wire/names"
	"plumbbob/internal/wire/pin"
)

// hookDoc is what a webhook is sent when it has no template, and what a template is filled with.
type hookDoc struct {
	ID        string         `json:"id"` // the same however often it is sent
	To        string         `json:"to,omitempty"`
	At        time.Time      `json:"at"`
	Severity  string         `json:"severity"`
	Subject   string         `json:"subject"`
	Text      string         `json:"text"`
	Incidents []hookIncident `json:"incidents"`
}

type hookIncident struct {
	ID       string       `json:"id"`
	What     telling.What `json:"what"`
	Kind     string       `json:"kind"`
	Device   estate.Key   `json:"device"`
	Site     estate.Key   `json:"site"`
	Opened   time.Time    `json:"opened"`
	Ended    *time.Time   `json:"ended,omitempty"`
	Why      string       `json:"why"`
	Explains []estate.Key `json:"explains"`
	Link     string       `json:"link,omitempty"`
	Code     string       `json:"code,omitempty"` // with which it is answered
}

func hookDocOf(to string, m telling.Message) hookDoc {
	d := hookDoc{ID: m.ID, To: to, At: m.At.UTC(), Severity: string(m.Severity), Subject: m.Subject, Text: m.Text, Incidents: []hookIncident{}}
	for _, x := range m.Items {
		i := x.Incident
		h := hookIncident{ID: i.ID, What: x.Note.What, Kind: i.Kind, Device: i.Device, Site: i.Site, Opened: i.Opened.UTC(), Why: i.Text, Explains: append([]estate.Key{}, i.Explains...), Link: x.Link, Code: x.Code}
		if !i.Open() {
			h.Ended = new(i.Ended.UTC())
		}
		d.Incidents = append(d.Incidents, h)
	}
	return d
}

// example is what a template is tried with when it is set.
var example = hookDocOf("nobody", telling.Message{
	ID: "test", Subject: "a test", Text: "a test\n", Severity: telling.Warning,
	Items: []telling.Item{{Incident: &incident.Incident{ID: "test", Device: "device", Site: "site", Kind: "hung"}}},
})

// mostSent bounds what a template makes, mostHeard what is read of an answer.
const (
	mostSent  = 256 << 10
	mostHeard = 4 << 10
)

// errTooLong is a template that does not end.
var errTooLong = fmt.Errorf("it makes more than %d KiB", mostSent>>10)

// body is what is sent.
func (s Settings) body(d hookDoc) ([]byte, error) {
	if s.Body == "" {
		return json.Marshal(d)
	}
	t, err := s.template()
	if err != nil {
		return nil, err
	}
	out := &bounded{}
	if err := t.Execute(out, d); err != nil {
		if errors.Is(err, errTooLong) {
			err = errTooLong
		}
		return nil, fmt.Errorf("body: %w", err)
	}
	return out.Bytes(), nil
}

type bounded struct{ bytes.Buffer }

func (b *bounded) Write(p []byte) (int, error) {
	if b.Len()+len(p) > mostSent {
		return 0, errTooLong
	}
	return b.Buffer.Write(p)
}

// sendHook sends a message to a page. It follows nobody elsewhere.
func (s Settings) sendHook(ctx context.Context, v secret.Value, to string, m telling.Message) (says string, err error) {
	body, err := s.body(hookDocOf(to, m))
	if err != nil {
		return "", err
	}
	ctx, cancel := context.WithTimeout(ctx, sendWithin)
	defer cancel()
	if s.Method == http.MethodGet {
		body = nil
	}
	req, err := http.NewRequestWithContext(ctx, s.Method, s.URL, bytes.NewReader(body))
	if err != nil {
		return "", err
	}
	if body != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	req.Header.Set("Idempotency-Key", m.ID)
	for name, value := range s.Headers {
		req.Header.Set(name, value)
	}
	switch s.Auth {
	case SignAuth:
		sign(req, body, s.Secret, []byte(v.Password), m.At)
	case BearerAuth:
		req.Header.Set("Authorization", "Bearer "+v.Password)
	case BasicAuth:
		req.SetBasicAuth(v.User, v.Password)
	}
	t := &http.Transport{DialContext: names.Default.DialContext, DisableKeepAlives: true, MaxResponseHeaderBytes: 64 << 10, TLSHandshakeTimeout: sendWithin}
	if s.Pin != "" {
		t.TLSClientConfig = pin.Config(s.Pin)
	}
	client := &http.Client{Transport: t, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	res, err := client.Do(req)
	if err != nil {
		var u *url.Error
		if errors.As(err, &u) {
			err = u.Err // the address may have something secret in it
		}
		return "", fmt.Errorf("%s: %w", req.URL.Host, err)
	}
	defer func() { _ = res.Body.Close() }()
	text, _ := io.ReadAll(io.LimitReader(res.Body, mostHeard))
	says = strings.TrimSpace(fmt.Sprintf("HTTP %d %s", res.StatusCode, plain.Line(strings.ToValidUTF8(string(text), ""))))
	if res.StatusCode < 200 || res.StatusCode > 299 {
		return "", fmt.Errorf("%s answers %s", req.URL.Host, says)
	}
	return says, nil
}

// sign signs a request, so that who gets it knows from whom, what and when (HTTP Message
// Signatures, RFC 9421, with hmac-sha256; Content-Digest, RFC 9530).
func sign(req *http.Request, body []byte, keyID string, key []byte, at time.Time) {
	sum := sha256.Sum256(body)
	digest := "sha-256=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":"
	params := fmt.Sprintf(`("@method" "@target-uri" "content-digest");created=%d;keyid=%q;alg="hmac-sha256"`, at.Unix(), keyID)
	base := fmt.Sprintf("\"@method\": %s\n\"@target-uri\": %s\n\"content-digest\": %s\n\"@signature-params\": %s", req.Method, req.URL, digest, params)
	mac := hmac.New(sha256.New, key)
	mac.Write([]byte(base))
	req.Header.Set("Content-Digest", digest)
	req.Header.Set("Signature-Input", "plumb="+params)
	req.Header.Set("Signature", "plumb=:"+base64.StdEncoding.EncodeToString(mac.Sum(nil))+":")
}
