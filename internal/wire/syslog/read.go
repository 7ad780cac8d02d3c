package syslog

import (
	"bufio"
	"bytes"
	"errors"
	"io"
	"strconv"
	"strings"
	"unicode/utf8"
)

// MostMessage is how long a message is that is taken; what is longer is cut (RFC 5424,
// section 6.1, asks for 2048 at the least).
const MostMessage = 8 << 10

// A Heard is what gear has said, as far as it can be made out. Of its times nothing is
// kept: its clock may be anything.
type Heard struct {
	Facility Facility
	Severity Severity
	Host     string // as it calls itself; empty: it does not say
	App      string
	Text     string
}

var errNoMessage = errors.New("syslog: that is no message: it begins with <PRI>")

// Read reads a message of RFC 5424, or one as they were before (RFC 3164), which may be
// anything behind its priority.
func Read(b []byte) (h Heard, err error) {
	b = bytes.TrimRight(b[:min(len(b), MostMessage)], "\r\n\x00")
	end := bytes.IndexByte(b, '>')
	if len(b) < 3 || b[0] != '<' || end < 2 || end > 4 {
		return h, errNoMessage
	}
	pri, err := strconv.ParseUint(string(b[1:end]), 10, 8)
	if err != nil || pri > 191 {
		return h, errNoMessage
	}
	h.Facility, h.Severity = Facility(pri/8), Severity(pri%8)
	rest := string(b[end+1:])
	if fields, ok := strings.CutPrefix(rest, "1 "); ok {
		h.read5424(fields)
	} else {
		h.read3164(rest)
	}
	h.Text = oneLine(strings.TrimPrefix(strings.TrimSpace(h.Text), "\xef\xbb\xbf"))
	h.Host, h.App = printable(h.Host, maxHost), printable(h.App, maxApp)
	for _, field := range []*string{&h.Host, &h.App} {
		if *field == "-" {
			*field = ""
		}
	}
	return h, nil
}

// read5424 reads what stands behind the version: TIMESTAMP HOSTNAME APP-NAME PROCID MSGID
// STRUCTURED-DATA MSG (section 6).
func (h *Heard) read5424(s string) {
	var fields [5]string
	for i := range fields {
		fields[i], s, _ = strings.Cut(s, " ")
	}
	h.Host, h.App = fields[1], fields[2]
	data := structured(s)
	h.Text = s[data:]
	if strings.TrimSpace(h.Text) == "" { // all that it says is there
		h.Text = s[:data]
	}
}

// structured is how long the structured data are at the beginning of a text (section 6.3).
func structured(s string) int {
	if strings.HasPrefix(s, "-") {
		return 1
	}
	quoted := false
	for i := 0; i < len(s); i++ {
		switch c := s[i]; {
		case i == 0 && c != '[':
			return 0
		case quoted && c == '\\':
			i++
		case c == '"':
			quoted = !quoted
		case !quoted && c == ']' && (i+1 == len(s) || s[i+1] != '['):
			return i + 1
		}
	}
	return len(s)
}

// stamp3164 is how long "Mmm dd hh:mm:ss " is (RFC 3164, section 4.1.2).
const stamp3164 = 16

// read3164 reads "Mmm dd hh:mm:ss HOST TAG: text", as far as that stands there.
func (h *Heard) read3164(s string) {
	h.Text = s
	if len(s) > stamp3164 && s[3] == ' ' && s[6] == ' ' && s[9] == ':' && s[12] == ':' && s[15] == ' ' {
		h.Host, h.Text, _ = strings.Cut(s[stamp3164:], " ")
	}
	tag, text, ok := strings.Cut(h.Text, ": ")
	if ok && len(tag) <= maxApp && !strings.Contains(tag, " ") && utf8.ValidString(tag) {
		h.App, _, _ = strings.Cut(tag, "[") // its process number
		h.Text = text
	}
}

// Each reads messages from a stream until that ends, and hands each on: with their length
// before them, or one a line (RFC 6587, sections 3.4.1 and 3.4.2). One that is too long is
// cut, and what is no message is passed over.
func Each(in io.Reader, f func(Heard)) error {
	r := bufio.NewReaderSize(in, MostMessage)
	for {
		first, err := r.Peek(1)
		if err != nil {
			return err
		}
		var text []byte
		if first[0] >= '1' && first[0] <= '9' {
			text, err = counted(r)
		} else {
			text, err = r.ReadSlice('\n')
			for errors.Is(err, bufio.ErrBufferFull) { // the rest of it is passed over
				text = bytes.Clone(text)
				_, err = r.ReadSlice('\n')
			}
		}
		if len(text) > 0 {
			if h, readErr := Read(text); readErr == nil {
				f(h)
			}
		}
		if err != nil {
			return err
		}
	}
}

// counted reads "LENGTH message".
func counted(r *bufio.Reader) ([]byte, error) {
	n := 0
	for {
		c, err := r.ReadByte()
		switch {
		case err != nil:
			return nil, err
		case c == ' ' && n > 0:
			text := make([]byte, min(n, MostMessage))
			if _, err := io.ReadFull(r, text); err != nil {
				return nil, err
			}
			_, err = io.CopyN(io.Discard, r, int64(n-len(text)))
			return text, err
		case c < '0' || c > '9' || n > 1<<20:
			return nil, errNoMessage
		}
		n = 10*n + int(c-'0')
	}
}
