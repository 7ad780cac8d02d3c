package httpgear

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"log"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/core/sending"
	"plumbbob/internal/gear"
	"plumbbob/internal/gear/geartest"
	"plumbbob/internal/lab"
	"plumbbob/internal/lab/labtest"
	"plumbbob/internal/profile"
	"plumbbob/internal/secret"
)

const patient = 2 * time.Second

func part[T any](t *testing.T, d gear.Driver) T {
	t.Helper()
	p, ok := gear.As[T](d)
	require.True(t, ok)
	return p
}

func open(t *testing.T, o Options) *Driver {
	t.Helper()
	o.Name, o.Timeout = "strip", patient
	d, err := Open(o)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, d.Close()) })
	return d
}

// TestTheStrip: the lab's strip, from end to end, with what is written read back.
func TestTheStrip(t *testing.T) {
	l := labtest.Start(t, labtest.Options{})
	p, err := profile.Find("lab-strip")
	require.NoError(t, err)
	o := Options{Addresses: l.Estate.Device("inch-strip").Endpoints[0].Addresses, Profile: p, Secret: lab.StripSecret}
	d := open(t, o)
	outlets := part[gear.Outlets](t, d)
	read := func(n int) reading.Outlet {
		t.Helper()
		r, err := outlets.ReadOutlets(t.Context())
		require.NoError(t, err)
		require.Len(t, r.Outlets, 6)
		return r.Outlets[n-1]
	}
	require.True(t, read(2).On && read(2).Metered && read(2).Switched)
	require.InDelta(t, 12, read(2).W, 1)
	require.Equal(t, reading.LossAsBefore, read(2).AfterLoss)
	require.NoError(t, outlets.SwitchOutlet(t.Context(), 2, false))
	require.Eventually(t, func() bool { return !read(2).On && read(2).W == 0 }, 30*time.Second, 20*time.Millisecond)
	require.NoError(t, outlets.SwitchOutlet(t.Context(), 2, true))
	require.Eventually(t, func() bool { return read(2).On }, 30*time.Second, 20*time.Millisecond)

	set := part[gear.OutletSettings](t, d)
	require.NoError(t, set.NameOutlet(t.Context(), 2, `the "uplink"`))
	require.Equal(t, `the "uplink"`, read(2).Name, "what is filled in is escaped")
	require.NoError(t, set.SetAfterLoss(t.Context(), 2, reading.LossOff))
	require.Equal(t, reading.LossOff, read(2).AfterLoss)
	require.Equal(t, gear.Unsupported, gear.KindOf(set.SetDelays(t.Context(), 2, new(time.Second), nil)))

	sheet, err := part[gear.Inventory](t, d).ReadSheet(t.Context())
	require.NoError(t, err)
	require.Equal(t, "LS-6 0.9.4", sheet.Product+" "+sheet.Firmware)
	list, err := part[gear.Sensors](t, d).ReadSensors(t.Context())
	require.NoError(t, err)
	require.InDelta(t, 21.3, *list[0].Value, 1e-9)
	require.Equal(t, "shut", list[1].Words)

	err = outlets.SwitchOutlet(t.Context(), 6, false)
	require.Equal(t, gear.Busy, gear.KindOf(err), "it has no contact")
	require.Equal(t, sending.Refused, gear.OutcomeOf(err))
	o.Secret.Password = "another key"
	err = part[gear.Outlets](t, open(t, o)).SwitchOutlet(t.Context(), 2, false)
	require.Equal(t, gear.BadSecret, gear.KindOf(err))
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	require.Equal(t, sending.NotSent, gear.OutcomeOf(outlets.SwitchOutlet(ended, 2, false)))
	require.True(t, read(2).On)
}

const relays = `plumb-profile: 1
name: relays
protocol: http
login: {kind: LOGIN, header: X-Key}
pages: {all: /status.txt}
outlets:
  count: 2
  on: {page: all, find: 'relay{n}=(on|off)', yes: on}
  current: {page: all, find: 'amps{n}=([0-9.]+)'}
  command:
    on: {method: POST, path: "/relay/{n}", body: "state=on&n={n}", type: application/x-www-form-urlencoded}
    off: {method: POST, path: "/relay/{n}", body: "state=off&n={n}", type: application/x-www-form-urlencoded}
    cycle: {method: POST, path: "/relay/{n}/pulse?s={seconds}"}
`

// TestLoginsAndText: a board that answers in plain text, with every way to log
// in, and with a pinned certificate.
func TestLoginsAndText(t *testing.T) {
	for kind, want := range map[string]string{
		"basic": "Basic b3BzOm1hZGUtdXA=", "bearer": "Bearer made-up", "header": "made-up", "digest": `Digest username="ops"`,
	} {
		t.Run(kind, func(t *testing.T) {
			var asked []string
			s := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				got := r.Header.Get("Authorization") + r.Header.Get("X-Key")
				if !strings.HasPrefix(got, want) {
					w.Header().Set("WWW-Authenticate", `Digest realm="relays", nonce="n1", qop="auth", algorithm=MD5`)
					w.WriteHeader(http.StatusUnauthorized)
					return
				}
				body, _ := io.ReadAll(r.Body)
				asked = append(asked, r.Method+" "+r.URL.String()+" "+string(body))
				fmt.Fprint(w, "relay1=on amps1=0.25\nrelay2=off amps2=0\n")
			}))
			s.Config.ErrorLog = log.New(io.Discard, "", 0)
			s.StartTLS()
			defer s.Close()
			p, err := profile.Parse("relays", []byte(strings.Replace(relays, "LOGIN", kind, 1)))
			require.NoError(t, err)
			sum := sha256.Sum256(s.Certificate().Raw)
			o := Options{Addresses: []string{strings.TrimPrefix(s.URL, "https://")}, Profile: p, Pin: hex.EncodeToString(sum[:])}
			o.Secret = secret.Value{Kind: SecretKind(p), User: "ops", Password: "made-up"}
			d := open(t, o)
			got, err := part[gear.Outlets](t, d).ReadOutlets(t.Context())
			require.NoError(t, err)
			require.Equal(t, []bool{true, false}, []bool{got.Outlets[0].On, got.Outlets[1].On})
			require.InDelta(t, 0.25, got.Outlets[0].A, 0)
			require.False(t, got.Outlets[0].Metered, "amps alone are no watts")
			require.NoError(t, part[gear.Outlets](t, d).SwitchOutlet(t.Context(), 2, true))
			require.NoError(t, part[gear.OutletCycler](t, d).CycleOutlet(t.Context(), 1, 1500*time.Millisecond))
			require.Equal(t, []string{"GET /status.txt ", "POST /relay/2 state=on&n=2", "POST /relay/1/pulse?s=2 "}, asked)

			o.Pin = strings.Repeat("0", 64)
			_, err = part[gear.Outlets](t, open(t, o)).ReadOutlets(t.Context())
			require.ErrorContains(t, err, "not the one that is pinned")
			require.Equal(t, gear.BadSecret, gear.KindOf(err))
		})
	}
}

// TestWhatComesBack: each kind of answer is sorted by what can be done about it,
// and by whether the command may have happened.
func TestWhatComesBack(t *testing.T) {
	answer, page := http.StatusOK, "{}"
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.WriteHeader(answer)
		fmt.Fprint(w, page)
	}))
	p, err := profile.Find("lab-strip")
	require.NoError(t, err)
	address := strings.TrimPrefix(s.URL, "http://")
	outlets := part[gear.Outlets](t, open(t, Options{Addresses: []string{address}, Profile: p, Secret: lab.StripSecret}))
	for code, want := range map[int]struct {
		kind gear.Kind
		oc   sending.Outcome
	}{
		401: {gear.BadSecret, sending.Refused}, 403: {gear.NotPermitted, sending.Refused}, 404: {gear.Unsupported, sending.Refused},
		503: {gear.Busy, sending.Refused}, 500: {gear.Malformed, sending.Unclear}, 418: {gear.Malformed, sending.Refused}, 302: {gear.Malformed, sending.Refused},
	} {
		answer = code
		err := outlets.SwitchOutlet(t.Context(), 1, true)
		require.Equal(t, want.kind, gear.KindOf(err), "%d", code)
		require.Equal(t, want.oc, gear.OutcomeOf(err), "%d", code)
	}
	answer = http.StatusOK
	for _, page = range []string{"{}", "not json", `{"sockets":7}`, `{"sockets":[]}`, `{"sockets":[{"no":1},{"no":"x"},7,null]}`} {
		_, err := outlets.ReadOutlets(t.Context())
		require.Equal(t, gear.Malformed, gear.KindOf(err), "%s", page)
	}
	s.Close()
	require.Error(t, outlets.SwitchOutlet(t.Context(), 1, true), "on a connection that was open")
	err = outlets.SwitchOutlet(t.Context(), 1, true)
	require.Equal(t, gear.Unreachable, gear.KindOf(err))
	require.Equal(t, sending.NotSent, gear.OutcomeOf(err), "nothing listens there")
}

// FuzzPointer: whatever a page holds, a pointer into it finds something or not.
func FuzzPointer(f *testing.F) {
	f.Add(`{"a":[{"b":1}]}`, "/a/0/b")
	f.Add(`{"a/b":{"~":true}}`, "/a~1b/~0")
	f.Fuzz(func(t *testing.T, doc, at string) {
		v := &visit{pages: map[string]*page{}}
		v.pages["p"] = &page{text: []byte(doc)}
		got, ok := v.lookup(&profile.Profile{}, nil)(&profile.Value{Page: "p", At: "/" + strings.TrimPrefix(at, "/")}, 1)
		if !ok && got != "" {
			t.Fatal("a value that was not found")
		}
	})
}

// TestTheBoard: buttons are pressed on the lab's board, and the lights tell what
// came of it.
func TestTheBoard(t *testing.T) {
	l := labtest.Start(t, labtest.Options{Speed: 100})
	p, err := profile.Find("lab-board")
	require.NoError(t, err)
	o := Options{Addresses: l.Estate.Device("skarvoe-kvm").Endpoints[0].Addresses, Profile: p, Secret: lab.BoardSecret}
	board := part[gear.Panel](t, open(t, o))
	lit := func() bool {
		t.Helper()
		r, err := board.ReadPanel(t.Context())
		require.NoError(t, err)
		require.Len(t, r, 1)
		require.Equal(t, 1, r[0].Lead)
		require.NotNil(t, r[0].Disk)
		return r[0].Power
	}
	becomes := func(on bool) {
		t.Helper()
		require.Eventually(t, func() bool { return lit() == on }, 30*time.Second, 20*time.Millisecond)
	}
	press := func(b sending.Button, hold time.Duration) {
		t.Helper()
		require.NoError(t, board.PressButton(t.Context(), 1, b, hold))
	}
	require.True(t, lit())
	press(sending.PowerButton, sending.ShortPress) // its system shuts down
	becomes(false)
	press(sending.PowerButton, sending.ShortPress)
	becomes(true)
	press(sending.ResetButton, sending.ShortPress)
	require.True(t, lit())
	require.NoError(t, l.Hang("skarvoe-kiosk"))
	press(sending.PowerButton, sending.LongPress) // hung or not
	becomes(false)

	err = board.PressButton(t.Context(), 5, sending.PowerButton, sending.ShortPress)
	require.EqualError(t, err, "strip has no lead 5: it has 4")
	require.Equal(t, sending.NotSent, gear.OutcomeOf(err))
	err = board.PressButton(t.Context(), 2, sending.PowerButton, sending.ShortPress)
	require.Equal(t, sending.Refused, gear.OutcomeOf(err), "nothing is wired there")
	err = board.PressButton(t.Context(), 1, "turbo", sending.ShortPress)
	require.Equal(t, gear.Unsupported, gear.KindOf(err))
	o.Secret.Password = "guess"
	_, err = part[gear.Panel](t, open(t, o)).ReadPanel(t.Context())
	require.Equal(t, gear.BadSecret, gear.KindOf(err))
}

func TestItConforms(t *testing.T) {
	l := labtest.Start(t, labtest.Options{})
	for device, c := range map[estate.Key]struct {
		profile string
		secret  secret.Value
	}{"inch-strip": {"lab-strip", lab.StripSecret}} {
		p, err := profile.Find(c.profile)
		require.NoError(t, err)
		ep, ok := l.Estate.Device(device).CardEndpoint()
		require.True(t, ok)
		at := func(password string) func(*testing.T, string) gear.Driver {
			return func(t *testing.T, address string) gear.Driver {
				v := c.secret
				v.Password = password
				return open(t, Options{Addresses: []string{address}, Profile: p, Secret: v})
			}
		}
		geartest.Conforms(t, geartest.Subject{
			Address: ep.Addresses[0], Network: "tcp", Open: at(c.secret.Password), Stranger: at("guessed"), Password: "guessed", Refusals: []gear.Kind{gear.BadSecret},
		})
	}
}
