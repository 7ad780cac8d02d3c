package telnet

import (
	"context"
	"encoding/binary"
	"fmt"
	"strconv"
	"strings"
	"sync"
	"time"
)

// The settings and lines of a serial port at the far end (RFC 2217).

// A Port is how a serial port is set.
type Port struct {
	Speed  int // bit/s
	Bits   int // 5 to 8, of data
	Parity byte
	Stop   byte
	Flow   byte // 0: not told, or to be left as it is
}

// Parities and stop bits, as RFC 2217 numbers them (section 3, SET-PARITY and SET-STOPSIZE).
const (
	NoParity = 1 + iota
	OddParity
	EvenParity
	MarkParity
	SpaceParity

	OneStop     = 1
	TwoStop     = 2
	OneHalfStop = 3
)

// Flow control, as RFC 2217 numbers it (SET-CONTROL).
const (
	NoFlow   = 1 + iota
	XonXoff  // by characters in the line
	HardFlow // by lines beside it: RTS and CTS
)

var flowWords = map[byte]string{NoFlow: "none", XonXoff: "xonxoff", HardFlow: "rtscts"}

const parityLetters = "noems"

// String writes a port as people do: "9600 8N1", or "9600 8N1 xonxoff".
func (p Port) String() string {
	parity, stop := "?", "?"
	if i := int(p.Parity) - 1; i >= 0 && i < len(parityLetters) {
		parity = strings.ToUpper(parityLetters[i : i+1])
	}
	if p.Stop >= OneStop && p.Stop <= OneHalfStop {
		stop = []string{"1", "2", "1.5"}[p.Stop-1]
	}
	flow := ""
	if p.Flow > NoFlow && flowWords[p.Flow] != "" {
		flow = " " + flowWords[p.Flow]
	}
	return fmt.Sprintf("%d %d%s%s%s", p.Speed, p.Bits, parity, stop, flow)
}

// is says whether a port is set as it is wanted.
func (p Port) is(want Port) bool {
	if want.Flow == 0 {
		p.Flow = 0
	}
	return p == want
}

const mostSpeed = 4_000_000

// ParsePort reads what String writes, in capitals or not; "9600" alone is 9600 8N1.
func ParsePort(s string) (Port, error) {
	wrong := fmt.Errorf("%q is not how a serial port is set: write 9600 8N1, for instance: bits per second, 5 to 8 data bits, N, O, E, M or S for the parity, 1, 1.5 or 2 stop bits, and after that none, xonxoff or rtscts for the flow control", s)
	words := strings.Fields(s)
	if len(words) == 0 || len(words) > 3 {
		return Port{}, wrong
	}
	speed, frame, framed := words[0], "", len(words) > 1
	p := Port{Bits: 8, Parity: NoParity, Stop: OneStop}
	var err error
	if p.Speed, err = strconv.Atoi(speed); err != nil || p.Speed < 50 || p.Speed > mostSpeed {
		return Port{}, wrong
	}
	if !framed {
		return p, nil
	}
	if frame = strings.ToLower(words[1]); len(frame) < 3 {
		return Port{}, wrong
	}
	p.Bits = int(frame[0] - '0')
	p.Parity = byte(strings.IndexByte(parityLetters, frame[1]) + 1)
	p.Stop = map[string]byte{"1": OneStop, "2": TwoStop, "1.5": OneHalfStop}[frame[2:]]
	if p.Bits < 5 || p.Bits > 8 || p.Parity == 0 || p.Stop == 0 {
		return Port{}, wrong
	}
	if len(words) == 3 {
		for flow, word := range flowWords {
			if strings.ToLower(words[2]) == word {
				p.Flow = flow
			}
		}
		if p.Flow == 0 {
			return Port{}, wrong
		}
	}
	return p, nil
}

// Errors are what goes wrong in the characters that arrive at a port (NOTIFY-LINESTATE, as
// bits of its value).
type Errors byte

// Those that are told of.
const (
	Overrun Errors = 1 << (1 + iota)
	ParityErrors
	FramingErrors
)

const allErrors = Overrun | ParityErrors | FramingErrors

// Words says what is wrong, and what that is a sign of.
func (e Errors) Words() string {
	var all []string
	if e&FramingErrors != 0 {
		all = append(all, "framing errors: it may be set otherwise than what talks to it")
	}
	if e&ParityErrors != 0 {
		all = append(all, "parity errors")
	}
	if e&Overrun != 0 {
		all = append(all, "characters lost there, as without flow control")
	}
	return strings.Join(all, ", ")
}

// Modem are the lines that a modem would drive (NOTIFY-MODEMSTATE).
type Modem struct{ Carrier, Ring, Ready, Clear bool }

// Commands of a client; a server's are a hundred more (section 3).
const (
	setSpeed   = 1
	setBits    = 2
	setParity  = 3
	setStop    = 4
	setControl = 5
	lineState  = 6 // a notice of the server
	modemState = 7 // likewise
	lineMask   = 10
	modemMask  = 11
	fromServer = 100
	breakOn    = 5
	breakOff   = 6
	breakLasts = 300 * time.Millisecond
	everyModem = 0xff
	setWithin  = 10 * time.Second
	setSettles = time.Second
	bitClear   = 1 << 4
	bitReady   = 1 << 5
	bitRing    = 1 << 6
	bitCarrier = 1 << 7
	settings   = 4
	knownAll   = 1<<settings - 1
)

// A FarPort is the serial port at the far end of a client's connection, where that tells
// of it. It may be shared between goroutines; somebody has to read the connection.
type FarPort struct {
	c       *Conn
	changed func()

	agreed chan struct{} // closed when the far end lets its port be set

	mu    sync.Mutex
	now   Port
	known int // which settings the far end has told, as bits
	modem Modem
	heard bool
	wrong Errors // since it was set
	news  chan struct{}
}

// FarPort has the far end asked for its serial port, once it has shown that it speaks Telnet
// at all. changed is called when something about the port is new. It is called before
// anything is read.
func (c *Conn) FarPort(changed func()) *FarPort {
	p := &FarPort{c: c, changed: changed, news: make(chan struct{}), agreed: make(chan struct{})}
	c.Allow(ComPort, true, false)
	c.offers, c.Agreed = append(c.offers, ComPort), p.begin
	c.Parameters = func(option byte, b []byte) {
		if option == ComPort {
			p.hear(b)
		}
	}
	return p
}

// begin asks how the port is set, and to be told of its lines.
func (p *FarPort) begin(option byte) error {
	if option != ComPort {
		return nil
	}
	close(p.agreed) // it is offered once, and agreed to once
	for _, ask := range [][]byte{{setSpeed, 0, 0, 0, 0}, {setBits, 0}, {setParity, 0}, {setStop, 0}, {setControl, 0}, {lineMask, byte(allErrors)}, {modemMask, everyModem}} {
		if err := p.c.Send(ComPort, ask); err != nil {
			return err
		}
	}
	return nil
}

// hear takes in what the far end says of its port. What makes no sense is passed over.
func (p *FarPort) hear(b []byte) {
	if len(b) < 2 || b[0] < fromServer {
		return
	}
	p.mu.Lock()
	before, beforeModem, known, wrong := p.now, p.modem, p.known, p.wrong
	switch value := b[1]; b[0] - fromServer {
	case setSpeed:
		if len(b) == 5 {
			if n := binary.BigEndian.Uint32(b[1:]); n <= mostSpeed {
				p.now.Speed, p.known = int(n), p.known|1
			}
		}
	case setBits:
		p.now.Bits, p.known = int(value), p.known|2
	case setParity:
		p.now.Parity, p.known = value, p.known|4
	case setStop:
		p.now.Stop, p.known = value, p.known|8
	case setControl:
		if flowWords[value] != "" { // or it is about something else
			p.now.Flow = value
		}
	case lineState:
		p.wrong |= Errors(value) & allErrors
	case modemState:
		p.modem, p.heard = Modem{Carrier: value&bitCarrier != 0, Ring: value&bitRing != 0, Ready: value&bitReady != 0, Clear: value&bitClear != 0}, true
	}
	isNew := before != p.now || beforeModem != p.modem || known != p.known || wrong != p.wrong
	close(p.news)
	p.news = make(chan struct{})
	p.mu.Unlock()
	if isNew && p.changed != nil {
		p.changed()
	}
}

// State is how the port is set, and its lines, as far as the far end has told.
func (p *FarPort) State() (port Port, set bool, modem Modem, lines bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.now, p.known == knownAll, p.modem, p.heard
}

// Wrong is what has gone wrong in characters since the port was set.
func (p *FarPort) Wrong() Errors {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.wrong
}

// On says whether the far end lets its port be set.
func (p *FarPort) On() bool {
	select {
	case <-p.agreed:
		return true
	default:
		return false
	}
}

// Agreed is closed when the far end lets its port be set.
func (p *FarPort) Agreed() <-chan struct{} { return p.agreed }

// Set sets the port, and waits until the far end says that it is.
func (p *FarPort) Set(ctx context.Context, want Port) error {
	if !p.On() {
		return fmt.Errorf("the far end does not let its port be set (RFC 2217)")
	}
	p.mu.Lock()
	p.known, p.wrong = 0, 0
	p.mu.Unlock()
	wishes := [][]byte{binary.BigEndian.AppendUint32([]byte{setSpeed}, uint32(want.Speed)), {setBits, byte(want.Bits)}, {setParity, want.Parity}, {setStop, want.Stop}}
	if want.Flow != 0 {
		wishes = append(wishes, []byte{setControl, want.Flow})
	}
	for _, b := range wishes {
		if err := p.c.Send(ComPort, b); err != nil {
			return err
		}
	}
	ctx, cancel := context.WithTimeout(ctx, setWithin)
	defer cancel()
	for {
		p.mu.Lock()
		now, known, news := p.now, p.known, p.news
		p.mu.Unlock()
		if known == knownAll && now.is(want) {
			return nil
		}
		var settled <-chan time.Time
		if known == knownAll { // or that was the answer to an earlier question
			settled = time.After(setSettles)
		}
		select {
		case <-news:
		case <-settled:
			return fmt.Errorf("the far end has its port at %s, and not at %s: it cannot, or may not, be set so", now, want)
		case <-ctx.Done():
			return fmt.Errorf("the far end has not said within %s that its port is at %s", setWithin, want)
		}
	}
}

// Break holds the line in the break condition for a moment.
func (p *FarPort) Break() error {
	if err := p.c.Send(ComPort, []byte{setControl, breakOn}); err != nil {
		return err
	}
	time.Sleep(breakLasts)
	return p.c.Send(ComPort, []byte{setControl, breakOff})
}
