package syslog

import (
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestRead(t *testing.T) {
	for text, want := range map[string]Heard{
		// The examples of RFC 5424, section 6.5.
		"<34>1 2003-10-11T22:14:15.003Z mymachine.example.com su - ID47 - \xef\xbb\xbf'su root' failed for lonvick on /dev/pts/8":                                                             {4, 2, "mymachine.example.com", "su", "'su root' failed for lonvick on /dev/pts/8"},
		"<165>1 2003-08-24T05:14:15.000003-07:00 192.0.2.1 myproc 8710 - - %% It's time to make the do-nuts.":                                                                                 {20, 5, "192.0.2.1", "myproc", "%% It's time to make the do-nuts."},
		`<165>1 2003-10-11T22:14:15.003Z mymachine.example.com evntslog - ID47 [exampleSDID@32473 iut="3" eventSource="Appli\]cation" eventID="1011"][x@1 class="high"] An application event`: {20, 5, "mymachine.example.com", "evntslog", "An application event"},
		`<165>1 2003-10-11T22:14:15.003Z mymachine.example.com evntslog - ID47 [a@1 b="c"]`:                                                                                                   {20, 5, "mymachine.example.com", "evntslog", `[a@1 b="c"]`},
		// Those of RFC 3164, section 5.4, and what gear really sends.
		"<34>Oct 11 22:14:15 mymachine su: 'su root' failed for lonvick on /dev/pts/8": {4, 2, "mymachine", "su", "'su root' failed for lonvick on /dev/pts/8"},
		"<13>Feb  5 17:32:18 10.0.0.99 Use the BFG!":                                   {1, 5, "10.0.0.99", "", "Use the BFG!"},
		"<4>kernel[12]: link\ndown\x1b[2J":                                             {0, 4, "", "kernel", "link down [2J"},
		"<0>":                                                                          {},
	} {
		got, err := Read([]byte(text))
		require.NoError(t, err, text)
		require.Equal(t, want, got, text)
	}
	for _, text := range []string{"", "hello", "<>x", "<192>x", "<1", "<-1>x", "<9999>x"} {
		_, err := Read([]byte(text))
		require.Error(t, err, text)
	}
	got, err := Read(Message{Facility: 3, Severity: Warning, At: time.Now(), Host: "pdu", App: "relay", ID: "x", Keys: []string{"a"}, Data: map[string]string{"a": `"]\`}, Text: "outlet 3 ä"}.Append(nil))
	require.NoError(t, err)
	require.Equal(t, Heard{3, Warning, "pdu", "relay", "outlet 3 ä"}, got, "what we write ourselves")
}

func TestEach(t *testing.T) {
	one := "<4>1 - a b - - - one"
	long := "<4>x: " + strings.Repeat("y", 3*MostMessage)
	stream := fmt.Sprintf("%d %s<5>two\r\n\n%s\n%d %sno message\n<6>last", len(one), one, long, len(long), long)
	var got []string
	require.ErrorIs(t, Each(strings.NewReader(stream), func(h Heard) { got = append(got, h.Text[:min(4, len(h.Text))]) }), io.EOF)
	require.Equal(t, []string{"one", "two", "yyyy", "yyyy", "last"}, got)
	require.Error(t, Each(strings.NewReader("99999999999999999999 x"), func(Heard) { require.Fail(t, "none") }))
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(`<165>1 - - - - - [a b="\"]"] x`))
	f.Add([]byte("<13>Feb  5 17:32:18 h t[1]: x"))
	f.Add([]byte("20 <4>1 - a b - - - one<5>two\n"))
	f.Fuzz(func(t *testing.T, b []byte) {
		h, err := Read(b)
		if err == nil {
			for _, s := range []string{h.Host, h.App, h.Text} {
				require.NotContains(t, s, "\n")
				require.NotContains(t, s, "\x1b")
			}
		}
		require.Error(t, Each(strings.NewReader(string(b)), func(Heard) {}))
	})
}
