package api

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"github.com/coder/websocket"
	"github.com/labstack/echo/v5"

	"plumbbob/internal/broker"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/plain"
	"plumbbob/internal/core/seat"
	"plumbbob/internal/core/serial"
)

// The serial line of a device over a WebSocket. Bytes go as binary messages: from here with
// eight bytes before them that say where to go on behind them (big-endian), and without what
// would make a terminal do more than draw; from there as they were typed. All else is JSON in text messages: see lineMessage and lineWish.

const (
	longestTyped = 64 << 10
	longestWhat  = 80
	pingEvery    = 15 * time.Second
	pingWithin   = 20 * time.Second // a satellite, and a phone in a tunnel
	sendWithin   = 30 * time.Second
)

// lineMessage is what is told of a line.
type lineMessage struct {
	placeMessage
	Line   string     `json:"line,omitempty"`
	Port   string     `json:"port,omitempty"` // of the console server, where that tells: "9600 8N1, carrier"
	Alone  *lineAlone `json:"alone,omitempty"`
	Missed int64      `json:"missed,omitempty"` // bytes that are gone, or were not for you
}

type lineAlone struct {
	Who   string    `json:"who"`
	Since time.Time `json:"since"`
	Until time.Time `json:"until"`
	Sees  bool      `json:"sees"` // it is you
}

// lineWish is what somebody at a line wants.
type lineWish struct {
	Do      string `json:"do"` // ask, give, refuse, take, alone, break, size, port, send, leave
	Port    string `json:"port"`
	What    string `json:"what"` // is sent
	Minutes int    `json:"minutes"`
	Columns int    `json:"columns"`
	Rows    int    `json:"rows"`
}

// serial seats somebody at the line of a device, for as long as the connection lasts.
func (s *Server) serial(c *echo.Context) error {
	ctx := c.Request().Context()
	key := estate.Key(c.Param("key"))
	if err := s.knows(key); err != nil {
		return err
	}
	if c.Request().Header.Get("Upgrade") == "" {
		return usage("the serial line is a WebSocket: open it as one, or write plumb serial %s", key)
	}
	who := whoIs(ctx)
	coming := broker.Coming{
		Seat:  seat.Seat{ID: c.QueryParam("seat"), Who: who.Account, Role: operation.Role(who.Role), Watch: c.QueryParam("watch") == "true"},
		After: -1,
	}
	if n, err := strconv.ParseInt(c.QueryParam("after"), 10, 64); err == nil {
		coming.After = n
	}
	sits, err := s.Broker.Sit(key, coming)
	if err != nil {
		return err
	}
	_ = http.NewResponseController(c.Response()).SetReadDeadline(time.Time{})
	_ = http.NewResponseController(c.Response()).SetWriteDeadline(time.Time{})
	ws, err := websocket.Accept(c.Response(), c.Request(), &websocket.AcceptOptions{CompressionMode: websocket.CompressionContextTakeover, CompressionThreshold: 256})
	if err != nil {
		sits.Lost()
		return nil // it has been answered
	}
	ws.SetReadLimit(longestTyped)
	s.atPlace(ctx, ws, sits, func(ctx context.Context) error { return told(ctx, ws, sits) }, func(ctx context.Context) bool { return typed(ctx, ws, sits) })
	return nil
}

// told sends what is new until there is nobody to send it to.
func told(ctx context.Context, ws *websocket.Conn, seat *broker.Seat) error {
	var tamer serial.Tamer
	for {
		n, err := seat.Next(ctx)
		if err != nil {
			return err
		}
		if err := send(ctx, ws, n, &tamer); err != nil {
			return err
		}
	}
}

func send(ctx context.Context, ws *websocket.Conn, n broker.News, tamer *serial.Tamer) error {
	ctx, cancel := context.WithTimeout(ctx, sendWithin)
	defer cancel()
	if n.State != nil || len(n.Notice) > 0 || n.Missed > 0 {
		m := lineMessage{Missed: n.Missed}
		m.Notice = n.Notice
		if n.State != nil {
			m.of(n.State)
		}
		if err := sendJSON(ctx, ws, m); err != nil {
			return err
		}
	}
	if len(n.Said) == 0 {
		return nil
	}
	behind := uint64(n.At + int64(len(n.Said)))
	return ws.Write(ctx, websocket.MessageBinary, append(binary.BigEndian.AppendUint64(nil, behind), tamer.Tame(n.Said)...))
}

func (m *lineMessage) of(st *broker.State) {
	m.placeMessage.of(st.At)
	m.Line, m.Port = st.Words, st.Port
	if !st.Seats.Alone.IsZero() {
		who := ""
		if h := st.Seats.Holder(); h != nil {
			who = h.Who
		}
		m.Alone = &lineAlone{who, st.Seats.AloneAt.UTC(), st.Seats.Alone.UTC(), st.Sees}
	}
}

// typed takes what comes from somebody at a line, and says whether they have left.
func typed(ctx context.Context, ws *websocket.Conn, seat *broker.Seat) (leaves bool) {
	for {
		kind, p, err := ws.Read(ctx)
		if err != nil {
			return false
		}
		if kind == websocket.MessageBinary {
			err = seat.Type(p)
		} else if leaves, err = wish(ctx, seat, p); leaves {
			return true
		}
		if err != nil && sendJSON(ctx, ws, placeMessage{Error: err.Error()}) != nil {
			return false
		}
	}
}

// The sizes that a terminal may have.
const mostColumns, mostRows = 500, 300

func wish(ctx context.Context, seat *broker.Seat, p []byte) (leaves bool, err error) {
	var w lineWish
	if err := json.Unmarshal(p, &w); err != nil {
		return false, fmt.Errorf("that is no wish: write {\"do\": \"ask\"}, with ask, give, refuse, take, alone, break, size, port, send or leave")
	}
	if did, err := wishAt(seat, w.Do); did {
		return false, err
	}
	switch w.Do {
	case "alone":
		return false, seat.BeAlone(time.Duration(w.Minutes) * time.Minute)
	case "break":
		return false, seat.Break()
	case "size":
		if w.Columns < 1 || w.Rows < 1 || w.Columns > mostColumns || w.Rows > mostRows {
			return false, fmt.Errorf("a terminal has 1 to %d columns and 1 to %d rows", mostColumns, mostRows)
		}
		return false, seat.Resize(w.Columns, w.Rows)
	case "send":
		what := []rune(plain.Line(w.What))
		return false, seat.Sends(string(what[:min(len(what), longestWhat)]))
	case "port":
		return false, seat.SetPort(ctx, w.Port)
	case "leave":
		return true, nil
	}
	return false, fmt.Errorf("%q cannot be done at a line: ask, give, refuse, take, alone, break, size, port, send and leave can", w.Do)
}
