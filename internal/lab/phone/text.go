package phone

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"plumbbob/internal/wire/sms"
)

const (
	longestPDU = 1000
	endOfText  = 0x1a
	givesUp    = 0x1b
)

// textCommand is one of 3GPP TS 27.005, in PDU mode.
func (m *Modem) textCommand(rest string) {
	name, value, _ := strings.Cut(rest, "=")
	switch {
	case name == "+CMGF" && value == "0":
		m.say("OK")
	case name == "+CMGS":
		m.mu.Lock()
		m.texting, m.text = true, nil
		m.mu.Unlock()
		m.write([]byte("\r\n> "))
	case name == "+CMGL" && value == "4":
		m.mu.Lock()
		var out strings.Builder
		for i, pdu := range m.inbox {
			if pdu != "" {
				fmt.Fprintf(&out, "\r\n+CMGL: %d,0,,%d\r\n%s", i+1, len(pdu)/2-1, pdu)
			}
		}
		m.mu.Unlock()
		m.write([]byte(out.String()))
		m.say("OK")
	case name == "+CMGD":
		n, err := strconv.Atoi(value)
		m.mu.Lock()
		ok := err == nil && n >= 1 && n <= len(m.inbox)
		if ok {
			m.inbox[n-1] = ""
		}
		m.mu.Unlock()
		m.say(map[bool]string{true: "OK", false: "+CMS ERROR: 321"}[ok])
	default:
		m.say("ERROR")
	}
}

// texts takes one character of a message, which goes out at its end.
func (m *Modem) texts(c byte) {
	m.mu.Lock()
	switch {
	case c != endOfText && c != givesUp:
		if len(m.text) < longestPDU {
			m.text = append(m.text, c)
		}
		m.mu.Unlock()
		return
	case c == givesUp:
		m.texting = false
		m.mu.Unlock()
		m.say("OK")
		return
	}
	m.texting = false
	msg, err := sms.Parse(string(m.text))
	refuses := m.refuses
	if err == nil && !refuses {
		m.keep(msg)
	}
	n := len(m.sent)
	m.mu.Unlock()
	switch {
	case refuses:
		m.say("+CMS ERROR: 38") // the network is out of order
	case err != nil:
		m.say("+CMS ERROR: 304") // an invalid parameter of PDU mode
	default:
		m.write([]byte(fmt.Sprintf("\r\n+CMGS: %d\r\n", n%256)))
		m.say("OK")
	}
}

// keep puts the parts of a message together. mu is held.
func (m *Modem) keep(msg sms.Message) {
	if msg.Part > 1 && len(m.sent) > 0 {
		m.sent[len(m.sent)-1].Text += msg.Text
		return
	}
	m.sent = append(m.sent, Text{time.Now().UTC(), msg.Number, msg.Text})
}

// Texts are the messages that went out, the oldest first.
func (m *Modem) Texts() []Text {
	m.mu.Lock()
	defer m.mu.Unlock()
	return append([]Text{}, m.sent...)
}

// NoNetwork has the network take no messages, or take them again.
func (m *Modem) NoNetwork(is bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.refuses = is
}

// Receive has a message come.
func (m *Modem) Receive(pdu string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.inbox = append(m.inbox, pdu)
}
