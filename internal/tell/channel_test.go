package tell

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/gosnmp/gosnmp"
	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/incident"
	"plumbbob/internal/core/telling"
	"plumbbob/internal/lab/post"
	"plumbbob/internal/secret"
	"plumbbob/internal/snmpauth"
)

var noon = time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)

func hung() telling.Message {
	i := &incident.Incident{ID: "abc", Device: "router", Site: "pier", Kind: "hung", Text: "draws 11 W", Opened: noon}
	return telling.Compose("abc.ann.opened.1", []telling.Item{{Note: telling.Note{What: telling.Opened}, Incident: i, Site: "Skarvoe — the pier"}}, time.UTC, noon)
}

// TestMail: with STARTTLS and with TLS from the beginning, a certificate that is pinned, a log-in,
// and what a server refuses.
func TestMail(t *testing.T) {
	web := httptest.NewTLSServer(nil) // for its certificate
	defer web.Close()
	sum := sha256.Sum256(web.Certificate().Raw)
	key := secret.Value{Kind: secret.Login, User: "plumb", Password: "curlew-4"}
	for _, how := range []string{StartTLS, TLS} {
		server, err := post.Start(post.Options{Address: "127.0.0.1:0", TLS: web.TLS, AtOnce: how == TLS, User: "plumb", Password: "curlew-4"})
		require.NoError(t, err)
		defer func() { require.NoError(t, server.Close()) }()
		s := Settings{Kind: Mail, Server: server.Address, TLS: how, From: "Plumb Bob <plumb@pier.example>", Secret: "mailbox", Pin: hex.EncodeToString(sum[:])}
		require.NoError(t, s.Check())
		_, err = s.send(t.Context(), key.BoundTo([]string{"smtp://elsewhere:25"}), "ann@pier.example", hung())
		require.ErrorContains(t, err, "plumb secret bind mailbox smtp://"+server.Address)
		key := key.BoundTo([]string{s.Target()})
		says, err := s.send(t.Context(), key, "ann@pier.example", hung())
		require.NoError(t, err, how)
		require.Contains(t, says, "queued")
		l := server.Letters()[0]
		require.Equal(t, "router is hung", l.Subject)
		require.Contains(t, l.Text, "Skarvoe — the pier, since Sun 29 Nov 12:00 UTC\nWhy: draws 11 W\n")
		require.Equal(t, "<abc.ann.opened.1@pier.example>", l.ID)
		require.Equal(t, []string{"<incident.abc@pier.example>"}, l.Header["References"])
		require.Equal(t, []string{"auto-generated"}, l.Header["Auto-Submitted"])

		_, err = s.send(t.Context(), key, "nobody@pier.example", hung())
		require.ErrorContains(t, err, "nobody here is called so")
		wrong := key
		wrong.Password = "curlew-5"
		_, err = s.send(t.Context(), wrong, "ann@pier.example", hung())
		require.ErrorContains(t, err, "Authentication failed")
		other := s
		other.Pin = strings.Repeat("0", 64)
		_, err = other.send(t.Context(), key, "ann@pier.example", hung())
		require.ErrorContains(t, err, "its certificate is not the one that is pinned")
		other.Pin = ""
		_, err = other.send(t.Context(), key, "ann@pier.example", hung())
		require.ErrorContains(t, err, "certificate", "nobody has signed it")
		require.Len(t, server.Letters(), 1)
	}
}

// TestWebhook: as a document and by a template, signed so that others can check it, and no further
// than where it was sent.
func TestWebhook(t *testing.T) {
	var got struct {
		*http.Request
		body string
	}
	status := http.StatusOK
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		got.Request, got.body = r, string(body)
		if status == http.StatusFound {
			http.Redirect(w, r, "/elsewhere", status)
			return
		}
		w.WriteHeader(status)
		_, _ = io.WriteString(w, "thanks\x1b[2J"+strings.Repeat("x", 1<<16))
	}))
	defer s.Close()
	key := secret.Value{Kind: secret.Token, Password: "whimbrel"}
	set := Settings{Kind: Webhook, URL: s.URL + "/hook?room=1", Secret: "chat", Headers: map[string]string{"X-Room": "pier"}}
	require.NoError(t, set.Check())
	says, err := set.send(t.Context(), key, "ann", hung())
	require.NoError(t, err)
	require.Contains(t, says, "HTTP 200 thanks")
	require.NotContains(t, says, "\x1b")
	require.Less(t, len(says), 5000)
	var doc hookDoc
	require.NoError(t, json.Unmarshal([]byte(got.body), &doc))
	require.Equal(t, "router is hung", doc.Subject)
	require.Equal(t, "hung", doc.Incidents[0].Kind)
	require.Equal(t, "abc.ann.opened.1", got.Header.Get("Idempotency-Key"))
	require.Equal(t, "pier", got.Header.Get("X-Room"))

	// As RFC 9421, section 3.2 has it be checked.
	sum := sha256.Sum256([]byte(got.body))
	require.Equal(t, "sha-256=:"+base64.StdEncoding.EncodeToString(sum[:])+":", got.Header.Get("Content-Digest"))
	input, _ := strings.CutPrefix(got.Header.Get("Signature-Input"), "plumb=")
	require.Equal(t, fmt.Sprintf(`("@method" "@target-uri" "content-digest");created=%d;keyid="chat";alg="hmac-sha256"`, noon.Unix()), input)
	mac := hmac.New(sha256.New, []byte("whimbrel"))
	_, _ = fmt.Fprintf(mac, "\"@method\": POST\n\"@target-uri\": %s/hook?room=1\n\"content-digest\": %s\n\"@signature-params\": %s", s.URL, got.Header.Get("Content-Digest"), input)
	require.Equal(t, "plumb=:"+base64.StdEncoding.EncodeToString(mac.Sum(nil))+":", got.Header.Get("Signature"))

	set = Settings{Kind: Webhook, URL: s.URL, Body: `{"text": {{json .Subject}}, "n": {{len .Incidents}}}`, Method: "put"}
	require.NoError(t, set.Check())
	_, err = set.send(t.Context(), secret.Value{}, "", hung())
	require.NoError(t, err)
	require.Equal(t, `{"text": "router is hung", "n": 1}`, got.body)
	require.Equal(t, "PUT", got.Method)
	status = http.StatusFound
	_, err = set.send(t.Context(), secret.Value{}, "", hung())
	require.ErrorContains(t, err, "answers HTTP 302")
	require.Equal(t, "/", got.URL.Path, "nobody is followed elsewhere")
	status = http.StatusForbidden
	_, err = set.send(t.Context(), secret.Value{}, "", hung())
	require.ErrorContains(t, err, "answers HTTP 403 thanks")
	s.Close()
	_, err = set.send(t.Context(), secret.Value{}, "", hung())
	require.ErrorContains(t, err, "connection refused")
}

// TestSettingsThatCannotBe are refused with what is wrong with them.
func TestSettingsThatCannotBe(t *testing.T) {
	for want, s := range map[string]Settings{
		`kind: "pigeon" is not known`:                {Kind: "pigeon"},
		`server: "mail" is not a mail server`:        {Kind: Mail, Server: "mail", From: "a@b.example"},
		`tls: "perhaps" is not known`:                {Kind: Mail, Server: "mail:25", TLS: "perhaps"},
		`would go through the network as it is; use`: {Kind: Mail, Server: "mail:25", TLS: NoTLS, Secret: "x"},
		`from: "" is no address`:                     {Kind: Mail, Server: "mail:25"},
		`url: a channel of kind mail has none`:       {Kind: Mail, Server: "mail:25", From: "a@b.example", URL: "https://x"},
		`from: a channel of kind webhook has none`:   {Kind: Webhook, URL: "https://x", From: "a@b.example"},
		`is not udp://HOST:PORT`:                     {Kind: Syslog, URL: "log.example"},
		`syslog has none: leave it out`:              {Kind: Syslog, URL: "udp://log.example", Secret: "x"},
		`name one with a community`:                  {Kind: SNMP, Server: "nms.example:162"},
		`is not a receiver of notifications`:         {Kind: SNMP, Server: "nms.example", Secret: "x"},
		`"ftp://x" is no address of a webhook`:       {Kind: Webhook, URL: "ftp://x"},
		`without a password in it`:                   {Kind: Webhook, URL: "https://a:b@x"},
		`a token would go through the network`:       {Kind: Webhook, URL: "http://x", Secret: "x", Auth: BearerAuth},
		`method: "SING" is not known`:                {Kind: Webhook, URL: "https://x", Method: "sing"},
		`auth: name the secret`:                      {Kind: Webhook, URL: "https://x", Auth: BearerAuth},
		`auth: "charm" is not known`:                 {Kind: Webhook, URL: "https://x", Auth: "charm", Secret: "x"},
		`is no header`:                               {Kind: Webhook, URL: "https://x", Headers: map[string]string{"A": "b\r\nC: d"}},
		`body: template`:                             {Kind: Webhook, URL: "https://x", Body: "{{"},
		`can't evaluate field Colour`:                {Kind: Webhook, URL: "https://x", Body: "{{.Colour}}"},
		`it makes more than 256 KiB`:                 {Kind: Webhook, URL: "https://x", Body: `{{range 10000}}{{range 10000}}` + strings.Repeat("x", 1000) + `{{end}}{{end}}`},
		`pin: it is the SHA-256`:                     {Kind: Webhook, URL: "https://x", Pin: "12"},
	} {
		require.ErrorContains(t, s.Check(), want)
	}
	s := Settings{Kind: Webhook, URL: "https://chat.example/hook", Secret: "x"}
	require.NoError(t, s.Check())
	require.Equal(t, "https://chat.example:443", s.Target())
	require.ErrorContains(t, Settings{Kind: Mail}.CheckTo("ann"), `"ann" is no address of mail`)
}

// TestSyslog: one message for each incident, with what it is about beside its text.
func TestSyslog(t *testing.T) {
	ln, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	defer func() { require.NoError(t, ln.Close()) }()
	s := Settings{Kind: Syslog, URL: "udp://" + ln.LocalAddr().String()}
	require.NoError(t, s.Check())
	_, err = s.send(t.Context(), secret.Value{}, "", hung())
	require.NoError(t, err)
	buf := make([]byte, 2000)
	n, _, err := ln.ReadFrom(buf)
	require.NoError(t, err)
	got := string(buf[:n])
	require.True(t, strings.HasPrefix(got, "<114>1 2026-11-29T12:00:00.000Z "), got)
	require.Contains(t, got, ` plumbd - incident-opened [incident@32473 id="abc" kind="hung" device="router" site="pier"] `)
	require.Contains(t, got, "router is hung: draws 11 W")
}

// TestNotifications: with SNMPv2c they are confirmed, and with SNMPv3 nobody else can make them.
func TestNotifications(t *testing.T) {
	heard := make(chan *gosnmp.SnmpPacket, 8)
	listen := func(v secret.Value) string {
		params := &gosnmp.GoSNMP{Transport: "udp", MaxOids: gosnmp.MaxOids, Timeout: time.Second, Logger: gosnmp.NewLogger(log.New(io.Discard, "", 0))}
		snmpauth.Set(params, v)
		if usm, is := params.SecurityParameters.(*gosnmp.UsmSecurityParameters); is {
			usm.AuthoritativeEngineID = engineID()
		}
		l := gosnmp.NewTrapListener()
		l.Params, l.OnNewTrap = params, func(p *gosnmp.SnmpPacket, _ *net.UDPAddr) { heard <- p }
		probe, err := net.ListenPacket("udp", "127.0.0.1:0")
		require.NoError(t, err)
		at := probe.LocalAddr().String()
		require.NoError(t, probe.Close())
		go func() { _ = l.Listen(at) }()
		t.Cleanup(l.Close)
		<-l.Listening()
		return at
	}
	for _, v := range []secret.Value{
		{Kind: secret.SNMPv2c, Community: "tern"},
		{Kind: secret.SNMPv3, User: "plumb", AuthProtocol: "sha256", AuthPass: "whimbrel-11", PrivProtocol: "aes128", PrivPass: "whimbrel-12"},
	} {
		s := Settings{Kind: SNMP, Server: listen(v), Secret: "nms"}
		require.NoError(t, s.Check())
		says, err := s.send(t.Context(), v, "", hung())
		require.NoError(t, err)
		require.Equal(t, map[string]string{secret.SNMPv2c: "confirmed", secret.SNMPv3: "sent; nobody confirms these"}[v.Kind], says)
		p := <-heard
		vars := map[string]any{}
		for _, x := range p.Variables {
			vars[x.Name] = x.Value
		}
		require.Equal(t, ourArc+".0.1", vars[trapOID])
		require.Equal(t, []byte("router"), vars[object(objectDevice)])
		require.Equal(t, 2, vars[object(objectSeverity)])
		require.Equal(t, uint32(noon.Sub(began)/(10*time.Millisecond)), vars[upTime])
	}
	nobody := Settings{Kind: SNMP, Server: "127.0.0.1:9", Secret: "nms"}
	ctx, cancel := context.WithTimeout(t.Context(), time.Second)
	defer cancel()
	_, err := nobody.send(ctx, secret.Value{Kind: secret.SNMPv2c, Community: "tern"}, "", hung())
	require.ErrorContains(t, err, "has not confirmed it")
}
