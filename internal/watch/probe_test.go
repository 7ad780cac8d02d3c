package watch

import (
	"encoding/binary"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/net/dns/dnsmessage"

	"plumbbob/internal/core/estate"
)

// nameServer answers for www.example.test, and says of other names that there are none; one
// it refuses, and of one it says nothing.
func nameServer(t *testing.T) string {
	c, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = c.Close() })
	go func() {
		b := make([]byte, 1500)
		for {
			n, from, err := c.ReadFrom(b)
			if err != nil {
				return
			}
			var m dnsmessage.Message
			if m.Unpack(b[:n]) != nil || len(m.Questions) != 1 {
				continue
			}
			q := m.Questions[0]
			m.Response, m.Additionals = true, nil
			switch q.Name.String() {
			case "www.example.test.":
				if q.Type == dnsmessage.TypeA {
					m.Answers = []dnsmessage.Resource{{Header: dnsmessage.ResourceHeader{Name: q.Name, Class: q.Class, TTL: 60}, Body: &dnsmessage.AResource{A: [4]byte{192, 0, 2, 7}}}}
				}
			case "broken.example.test.":
				m.RCode = dnsmessage.RCodeServerFailure
			case "mute.example.test.":
				continue
			default:
				m.RCode = dnsmessage.RCodeNameError
			}
			if out, err := m.Pack(); err == nil {
				_, _ = c.WriteTo(out, from)
			}
		}
	}()
	return c.LocalAddr().String()
}

// echoing answers UDP as RFC 862 says, but for what it spoils.
func echoing(t *testing.T, spoils bool) string {
	c, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = c.Close() })
	go func() {
		b := make([]byte, 1500)
		for {
			n, from, err := c.ReadFrom(b)
			if err != nil {
				return
			}
			if spoils {
				binary.BigEndian.PutUint16(b, 0)
			}
			_, _ = c.WriteTo(b[:n], from)
		}
	}()
	return c.LocalAddr().String()
}

// TestWhatIsExpected: an answer that is not what was wanted is an answer of the host, and
// said in its words; only who says nothing is silent.
func TestWhatIsExpected(t *testing.T) {
	page := http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(http.StatusAccepted)
		_, _ = io.WriteString(w, "the ferries run")
	})
	plainly, secured := httptest.NewServer(page), httptest.NewTLSServer(page)
	defer plainly.Close()
	defer secured.Close()
	secure := secured.Listener.Addr().String()
	dns, gone := nameServer(t), echoing(t, true)
	w := New(Sources{})
	for _, x := range []struct {
		kind   estate.ProbeKind
		target string
		want   estate.Expect
		says   string // empty: it passes
	}{
		{estate.HTTP, plainly.URL, estate.Expect{Status: 202, Text: "ferries"}, ""},
		{estate.HTTP, plainly.URL, estate.Expect{Status: 200}, "gives status 202, and not 200"},
		{estate.HTTP, plainly.URL, estate.Expect{Text: "trains"}, `has no "trains" in its first 64 kB`},
		{estate.HTTP, secured.URL, estate.Expect{}, ""},
		{estate.HTTP, secured.URL, estate.Expect{Certificate: true}, "its certificate is not good: certificate signed by unknown authority"},
		{estate.TLS, secure, estate.Expect{}, ""},
		{estate.TLS, secure, estate.Expect{Certificate: true, Name: "www.example.test"}, "its certificate is not good: "},
		{estate.TLS, plainly.Listener.Addr().String(), estate.Expect{}, "speaks no TLS"},
		{estate.DNS, dns, estate.Expect{Name: "www.example.test"}, ""},
		{estate.DNS, dns, estate.Expect{Name: "www.example.test", Answer: "192.0.2.7"}, ""},
		{estate.DNS, dns, estate.Expect{Name: "www.example.test", Answer: "192.0.2.8"}, "says that www.example.test is 192.0.2.7"},
		{estate.DNS, dns, estate.Expect{Name: "ftp.example.test"}, "knows no ftp.example.test"},
		{estate.DNS, dns, estate.Expect{Name: "broken.example.test"}, "fails to look up broken.example.test"},
		{estate.DNS, dns, estate.Expect{Name: "mute.example.test"}, "no answer"},
		{estate.UDP, echoing(t, false), estate.Expect{}, ""},
		{estate.UDP, gone, estate.Expect{}, "no answer"},
	} {
		_, err := w.probe(t.Context(), estate.Probe{Kind: x.kind, Target: x.target, Expect: x.want}, 2*time.Second)
		if x.says == "" {
			require.NoError(t, err, "%s %+v", x.kind, x.want)
			continue
		}
		require.ErrorContains(t, err, x.says)
		var heard *heardError
		if x.says == "no answer" {
			require.NotErrorAs(t, err, &heard)
		} else {
			require.ErrorAs(t, err, &heard, x.says)
		}
	}
}
