package e2e

import (
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/demo"
	"plumbbob/internal/api/contract"
	"plumbbob/internal/browser"
	"plumbbob/internal/wire/sms"
)

// TestWhoIsTold: a channel is set and tried, a plan is brought in, an incident is told of once and
// to the right people, and what cannot be is said.
func TestWhoIsTold(t *testing.T) {
	w := begin(t)
	post := w.lab.Post
	require.Contains(t, w.flat(0, "", "telling", "preview", "skarvoe-router"), "Nobody would be told")
	plan := w.write("telling.yaml", demo.Telling)
	require.Contains(t, w.flat(0, "", "telling", "check", plan), "careful: desk is told by office-mail, and there is no such channel")
	require.Contains(t, w.flat(2, "", "channel", "set", "office-mail"), "say which: --mail HOST:PORT, --webhook URL, --syslog URL, --snmp HOST:PORT or --text MODEM")
	require.Contains(t, w.flat(2, "", "channel", "set", "office-mail", "--mail", post.Address, "--from", "nobody"), `from: "nobody" is no address`)
	require.Contains(t, w.flat(2, "", "channel", "set", "office-mail", "--mail", post.Address, "--from", "a@b.example", "--secret", "mailbox"), `there is no secret "mailbox"`)
	w.says(0, "heron\n", "secret", "set", "mailbox", "--login", "plumb")
	require.Contains(t, w.flat(2, "", "channel", "set", "office-mail", "--mail", post.Address, "--from", "a@b.example", "--secret", "mailbox"), "may not be sent to smtp://"+post.Address)
	w.says(0, "", "channel", "set", "office-mail", "--mail", post.Address, "--from", "plumb@ternsound.example", "--tls", "none")
	require.Contains(t, w.flat(0, "", "channel", "test", "office-mail", "--to", "i.marsh@ternsound.example"), "It was taken: 2.0.0 OK")
	require.Contains(t, w.flat(4, "", "channel", "test", "office-mail", "--to", "nobody@ternsound.example"), "nobody here is called so")
	require.Contains(t, w.flat(2, "", "channel", "test", "gone", "--to", "x"), `there is no channel "gone"`)
	require.Contains(t, post.Letters()[0].Text, "admin has asked for this")

	require.Contains(t, w.flat(0, "", "service-call", "ostrel-store", "--note", "Please come"), "Subject: Service call: ")
	require.Contains(t, w.flat(2, "", "service-call", "ostrel-store", "--to", "x"), "go together")
	require.Contains(t, w.flat(4, "", "service-call", "ostrel-store", "--by", "gone", "--to", "x@y.example"), `there is no channel "gone"`)
	require.Contains(t, w.flat(0, "", "service-call", "ostrel-store", "--by", "office-mail", "--to", "service@maker.example"), "It was sent to service@maker.example")
	require.Equal(t, []string{"readings.txt", "events.txt"}, post.Letters()[1].Files)
	require.Contains(t, w.flat(2, "", "service-call", "nobody"), `no device "nobody"`)

	require.Contains(t, w.flat(2, "", "telling", "import", w.write("bad.yaml", strings.Replace(demo.Telling, "who: [duty]", "who: [duti]", 1))), `bad.yaml:37: "duti" is neither a person nor a team`)
	require.Contains(t, w.flat(0, "", "telling", "check", w.write("few.yaml", strings.NewReplacer("{severity: critical}", "{sites: [skarvoe]}", "{severity: warning}", "{sites: [skarvoe]}").Replace(demo.Telling))), "careful: nobody would be told if ostrel-ops hung at ")
	require.Contains(t, w.flat(0, "", "telling", "import", plan), "It counts from now on: 3 persons, 3 rules.")
	require.Equal(t, demo.Telling, w.says(0, "", "telling", "export"))
	require.Contains(t, w.flat(0, "", "telling", "preview", "skarvoe-kiosk", "--kind", "hung", "--at", "2026-12-24 12:00"), "the ticket desk office-mail desk@ternsound.example kiosks 1")
	require.Contains(t, w.flat(2, "", "telling", "preview", "skarvoe-kiosk", "--kind", "cross"), `"cross" is no kind of incident`)

	// On the duty of whoever has it now, and of the desk, since it is a kiosk.
	always := strings.NewReplacer(`{from: mon 08:00, until: thu 08:00, who: marsh}`, `{from: mon 00:00, until: mon 00:00, who: marsh}`, `from: "18:00", until: "08:00"`, `from: "00:00", until: "00:00"`).Replace(demo.Telling)
	require.NoError(t, w.lab.Hang("skarvoe-kiosk"))
	w.says(0, "", "telling", "import", w.write("always.yaml", always))
	w.eventually(func() bool { return len(post.Letters()) == 3 }, "one is told")
	require.Equal(t, "skarvoe-kiosk is hung", post.Letters()[2].Subject)
	require.Equal(t, []string{"i.marsh@ternsound.example"}, post.Letters()[2].To)
	require.Contains(t, post.Letters()[2].Text, "Line: ostrel-ops ─ ostrel-core ─ skarvoe-bridge\n      ─ skarvoe-router ─ skarvoe-switch\n      ✗ skarvoe-kiosk")
	var out string
	w.eventually(func() bool {
		out = w.flat(0, "", "incident", "show", "skarvoe-kiosk")
		return strings.Contains(out, "by office-mail: skarvoe-kiosk is hung")
	}, "it is recorded that they were")
	require.Contains(t, out, "told I. Marsh,")
	require.Contains(t, out, "held: quiet hours")
	require.Contains(t, out, "next L. Oduya,")
	require.Contains(t, w.flat(0, "", "telling", "sent", "--waiting"), "the ticket desk queued")
	require.Contains(t, w.says(0, "", "telling", "sent", "--text", "--person", "marsh"), "  Why: ")
	b := w.open()
	require.NoError(t, b.Do(browser.LogIn(w.url, "admin", w.password)))
	w.sees(b, "54 devices, 6 sites")
	require.NoError(t, b.Do(browser.Visit(w.url+"/incidents/"+reads[[]contract.Incident](w, "incident", "list")[0].ID)))
	w.sees(b, "was told by office-mail: skarvoe-kiosk is hung")
	w.sees(b, "is told, by office-mail l.oduya@ternsound.example, unless somebody sees to it (rule bad-ones)")
	require.NoError(t, b.Do(browser.Visit(w.url+"/telling")))
	w.sees(b, "sent by office-mail")
	w.sees(b, "Send a test")
	w.sees(b, "Have it count")
	w.says(0, "", "incident", "ack", "skarvoe-kiosk")
	w.eventually(func() bool {
		return !strings.Contains(w.flat(0, "", "incident", "show", "skarvoe-kiosk"), "next L. Oduya")
	}, "somebody sees to it")
	require.NoError(t, w.lab.Heal("skarvoe-kiosk"))
	w.eventually(func() bool {
		return strings.Contains(w.flat(0, "", "incident", "show", "skarvoe-kiosk"), "that it is over")
	}, "its end is told later")
	require.Contains(t, w.flat(0, "", "journal", "--kind", "telling"), "Told I. Marsh by office-mail: skarvoe-kiosk is hung")
	time.Sleep(2 * time.Second)
	require.Len(t, post.Letters(), 3, "nothing twice")

	// The dealer is written to by rule, once, where hardware is what is wrong.
	warranty := "plumb-telling: 1\npeople: {dealer: {title: The dealer, ways: [{channel: office-mail, to: service@dealer.example}]}}\n" +
		"rules: [{name: warranty, match: {sites: [ostrel-quay]}, tell: [{who: [dealer], as: service call, note: Contract 4711}]}]\n"
	require.Contains(t, w.flat(2, "", "telling", "check", w.write("as.yaml", strings.Replace(warranty, "service call", "letter", 1))), `rule warranty as: "letter" is unknown: leave it out, or write service call`)
	w.says(0, "", "telling", "import", w.write("warranty.yaml", warranty))
	require.Contains(t, w.flat(0, "", "telling", "preview", "ostrel-store", "--kind", "strained"), "The dealer office-mail service@dealer.example warranty 1 as a service call")
	require.NoError(t, w.lab.FailFan("ostrel-store", 2))
	w.eventually(func() bool { return len(post.Letters()) == 4 }, "the dealer is written to")
	call := post.Letters()[3]
	require.Contains(t, call.Subject, "Service call: ")
	require.Contains(t, call.Text, "Contract 4711\n\nWhat is wrong")
	require.Equal(t, []string{"readings.txt", "events.txt"}, call.Files)
	w.eventually(func() bool {
		return strings.Contains(w.flat(0, "", "incident", "show", "ostrel-store"), "by office-mail: Service call: ")
	}, "it is recorded")
}

// TestToldThroughACrash: what could not be sent when the service was killed goes out after its
// start, once.
func TestToldThroughACrash(t *testing.T) {
	t.Parallel()
	w, p := apart(t)
	w.says(0, "", "channel", "set", "office-mail", "--mail", w.lab.Post.Address, "--from", "plumb@ternsound.example", "--tls", "none")
	w.says(0, "", "telling", "import", w.write("telling.yaml", demo.Telling))
	w.lab.Post.Shut(true)
	require.NoError(t, w.lab.Hang("skarvoe-router"))
	w.eventually(func() bool { return strings.Contains(w.flat(0, "", "telling", "sent", "--waiting"), "come back later") }, "it has been tried")
	require.Contains(t, w.flat(0, "", "board"), "no way to them works", "and is on the board")
	p.kill(t)
	w.lab.Post.Shut(false)
	p.start(t, p.program)
	w.eventually(func() bool { return len(w.lab.Post.Letters()) == 1 }, "it goes out")
	w.eventually(func() bool { return !strings.Contains(w.flat(0, "", "board"), "no way to them works") }, "and is well")
	require.Contains(t, w.lab.Post.Letters()[0].Subject, "skarvoe-router is hung")
	p.stop(t)
	require.Len(t, w.lab.Post.Letters(), 1)
}

// TestToldByTelephone: a text message goes out by the modem with no network at all, and the answer to
// it says that somebody sees to the incident.
func TestToldByTelephone(t *testing.T) {
	w := begin(t)
	require.Contains(t, w.flat(2, "", "channel", "set", "phone", "--text", "modem-9"), `this machine has no serial port "modem-9"`)
	w.says(0, "", "channel", "set", "phone", "--text", demo.Modem)
	require.Contains(t, w.flat(4, "", "channel", "test", "phone", "--to", "ann"), "that is no telephone number")
	require.Contains(t, w.flat(0, "", "channel", "test", "phone", "--to", "+298 555 123"), "the network took 1 of 1")
	w.says(0, "", "telling", "import", w.write("telling.yaml", `
plumb-telling: 1
people: {marsh: {title: I. Marsh, ways: [{channel: phone, to: "+298 555 123"}]}}
rules: [{name: all, tell: [{who: [marsh]}]}]
`))
	require.NoError(t, w.lab.Hang("skarvoe-router"))
	w.eventually(func() bool { return len(w.lab.Phone.Texts()) == 2 }, "it goes out")
	text := w.lab.Phone.Texts()[1]
	require.Equal(t, "+298555123", text.To)
	require.Contains(t, text.Text, "skarvoe-router is hung, 7 behind it cut off\nSkarvoe, since ")
	_, code, _ := strings.Cut(text.Text, "To see to skarvoe-router answer ")
	pdu, err := sms.Deliver("+298555123", code+" on my way")
	require.NoError(t, err)
	w.lab.Phone.Receive(pdu)
	w.eventually(func() bool {
		return strings.Contains(w.flat(0, "", "incident", "show", "skarvoe-router"), "seen by I. Marsh")
	}, "it is answered")

	// What a chat answers, with a token for that alone.
	w.says(0, "token-of-the-chat\n", "secret", "set", "chat-answers", "--token")
	require.Contains(t, w.flat(2, "", "channel", "set", "chat", "--webhook", w.url+"/healthz", "--answers", "gone"), `there is no secret "gone"`)
	w.says(0, "", "channel", "set", "chat", "--webhook", w.url+"/healthz", "--answers", "chat-answers")
	require.Contains(t, w.flat(2, "", "secret", "remove", "chat-answers"), "the channel chat uses secret chat-answers")
	for token, want := range map[string]int{"": http.StatusUnauthorized, "Bearer wrong": http.StatusUnauthorized, "Bearer token-of-the-chat": http.StatusConflict} {
		req, err := http.NewRequestWithContext(t.Context(), http.MethodPost, w.url+"/answers/chat", strings.NewReader(`{"code":"`+code+`","by":"Eva"}`))
		require.NoError(t, err)
		req.Header.Set("Authorization", token)
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		require.NoError(t, res.Body.Close())
		require.Equal(t, want, res.StatusCode, "somebody sees to it already, and it is said who may say so")
	}
}
