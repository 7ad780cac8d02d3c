package modem

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"regexp"
	"strconv"
	"strings"
	"time"
)

// Text messages: 3GPP TS 27.005, section 3, in PDU mode (section 4).

const (
	sentWithin   = 60 * time.Second // the network takes its time
	endOfText    = 0x1a
	givesUpText  = 0x1b
	mostMessages = 255
)

// pduMode has it take and give messages whole: section 3.2.3.
const pduMode = "+CMGF=0"

// Texts makes the modem ready for text messages. Its error is a *ResultError of one that has none.
func (m *Modem) Texts(ctx context.Context) error {
	code, err := m.ask(ctx, pduMode)
	if err == nil && code != "OK" {
		err = fmt.Errorf("it sends no text messages: %w", &ResultError{code})
	}
	return err
}

var prompt = []byte("> ")

var reference = regexp.MustCompile(`\+CMGS: *(\d+)`)

// SendText sends a message, as a PDU of so many octets beside what is said of the centre, and returns
// the number that the network gives it: section 3.5.1. An error after the message was said leaves it
// open whether it goes out.
func (m *Modem) SendText(ctx context.Context, pdu string, octets int) (number int, err error) {
	ctx, cancel := context.WithTimeout(ctx, sentWithin)
	defer cancel()
	if err := m.prompted(ctx, fmt.Sprintf("AT+CMGS=%d\r", octets)); err != nil {
		return 0, err
	}
	if _, err := io.WriteString(m.p, pdu+string(rune(endOfText))); err != nil {
		return 0, err
	}
	said, code, err := m.answer(ctx)
	switch {
	case err != nil:
		return 0, err
	case code != "OK":
		return 0, &ResultError{code}
	}
	if at := reference.FindStringSubmatch(said); at != nil {
		number, _ = strconv.Atoi(at[1]) // it is digits
	}
	return number, nil
}

// prompted says a command, and waits until the modem wants the message.
func (m *Modem) prompted(ctx context.Context, command string) error {
	m.mu.Lock()
	m.said = m.said[:0]
	m.mu.Unlock()
	if _, err := io.WriteString(m.p, command); err != nil {
		return err
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	var refused string
	err := m.until(ctx, func() bool {
		if at := results.FindSubmatch(m.said); at != nil && string(at[1]) != "RING" {
			refused = string(at[1])
			return true
		}
		return bytes.HasSuffix(m.said, prompt)
	})
	switch {
	case err != nil:
		_, _ = m.p.Write([]byte{givesUpText}) // or what is said next would be the message
		return err
	case refused != "":
		return &ResultError{refused}
	}
	m.said = m.said[:0]
	return nil
}

// answer waits for the final result, and returns what was said before it.
func (m *Modem) answer(ctx context.Context) (said, code string, err error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	err = m.until(ctx, func() bool {
		for _, at := range results.FindAllSubmatchIndex(m.said, -1) {
			if c := string(m.said[at[2]:at[3]]); c != "RING" {
				said, code = string(m.said[:at[2]]), c
				m.said = append(m.said[:0], m.said[at[1]:]...)
				return true
			}
		}
		return false
	})
	return said, code, err
}

// A Stored is a message that the modem keeps.
type Stored struct {
	Place int
	PDU   string
}

var stored = regexp.MustCompile(`\+CMGL: *(\d+),[^\r\n]*[\r\n]+([0-9A-Fa-f]+)`)

// StoredTexts lists the messages that have come: section 4.1.
func (m *Modem) StoredTexts(ctx context.Context) (out []Stored, err error) {
	ctx, cancel := context.WithTimeout(ctx, sentWithin)
	defer cancel()
	m.mu.Lock()
	m.said = m.said[:0]
	m.mu.Unlock()
	const all = 4
	if _, err := fmt.Fprintf(m.p, "AT+CMGL=%d\r", all); err != nil {
		return nil, err
	}
	said, code, err := m.answer(ctx)
	if err != nil {
		return nil, err
	}
	if code != "OK" {
		return nil, &ResultError{code}
	}
	for _, at := range stored.FindAllStringSubmatch(said, mostMessages) {
		place, _ := strconv.Atoi(at[1]) // it is digits
		out = append(out, Stored{place, strings.ToUpper(at[2])})
	}
	return out, nil
}

// DropText forgets a message that the modem keeps: section 3.5.4.
func (m *Modem) DropText(ctx context.Context, place int) error {
	code, err := m.ask(ctx, fmt.Sprintf("+CMGD=%d", place))
	if err == nil && code != "OK" {
		err = &ResultError{code}
	}
	return err
}
