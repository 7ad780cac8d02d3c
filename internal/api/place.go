package api

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"github.com/coder/websocket"

	"plumbbob/internal/broker"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/seat"
	"plumbbob/internal/people"
)

// What lines and screens have in common over their WebSockets: who sits there, and how that
// changes. All of that is JSON in text messages.

// placeMessage is what is told of a place.
type placeMessage struct {
	Seat    string      `json:"seat,omitempty"` // yours: with it a lost connection goes on
	Up      *bool       `json:"up,omitempty"`
	Seats   []placeSeat `json:"seats,omitempty"`
	Asked   *placeAsked `json:"asked,omitempty"`
	MayTake bool        `json:"mayTake,omitempty"`
	Notice  []string    `json:"notice,omitempty"`
	Error   string      `json:"error,omitempty"`
}

type placeSeat struct {
	ID    string    `json:"id"`
	Who   string    `json:"who"`
	Types bool      `json:"types"`
	Away  bool      `json:"away,omitempty"`
	Since time.Time `json:"since"`
}

type placeAsked struct {
	Seat    string `json:"seat"`
	Who     string `json:"who"`
	Seconds int    `json:"seconds"` // until it is given
}

func (m *placeMessage) of(at broker.At) {
	m.Seat, m.Up, m.MayTake = at.You, &at.Up, at.MayTake
	name := map[string]string{}
	for _, x := range at.Seats.All {
		name[x.ID] = x.Who
		m.Seats = append(m.Seats, placeSeat{x.ID, x.Who, x.ID == at.Seats.Keyboard, !x.Away.IsZero(), x.Since.UTC()})
	}
	if a := at.Seats.Asked; a != nil {
		m.Asked = &placeAsked{a.Seat, name[a.Seat], max(0, int(time.Until(a.Until).Seconds()))}
	}
}

func sendJSON(ctx context.Context, ws *websocket.Conn, m any) error {
	text, err := json.Marshal(m)
	if err != nil {
		return err
	}
	return ws.Write(ctx, websocket.MessageText, text)
}

// wishAt does what can be wished for wherever somebody sits, and says whether it was that.
func wishAt(s sits, do string) (did bool, err error) {
	switch do {
	case "ask":
		return true, s.Ask()
	case "give":
		return true, s.Give()
	case "refuse":
		return true, s.Refuse()
	case "take":
		return true, s.Take()
	}
	return false, nil
}

// sits is somebody's seat.
type sits interface {
	Ask() error
	Give() error
	Refuse() error
	Take() error
	Leave()
	Lost()
}

// atPlace serves one connection to a line or a screen until it, or the seat, ends: told sends
// what is new, and typed takes what comes, and says whether they have left.
func (s *Server) atPlace(ctx context.Context, ws *websocket.Conn, seat sits, told func(context.Context) error, typed func(context.Context) bool) {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	leaving := make(chan struct{})
	go func() {
		defer stop()
		if typed(ctx) {
			close(leaving)
		}
	}()
	go s.alive(ctx, stop, ws)
	err := told(ctx)
	select {
	case <-leaving:
		seat.Leave()
		_ = ws.Close(websocket.StatusNormalClosure, "you have left")
		return
	default:
	}
	if errors.Is(err, broker.ErrOver) {
		_ = ws.Close(websocket.StatusServiceRestart, err.Error())
		return
	}
	if errors.Is(err, broker.ErrGone) {
		_ = ws.Close(websocket.StatusGoingAway, err.Error())
		return
	}
	if !s.maySit(context.WithoutCancel(ctx)) {
		seat.Leave()
		_ = ws.Close(websocket.StatusPolicyViolation, "your log-in has ended, or you may not sit here any more")
		return
	}
	seat.Lost()
	_ = ws.CloseNow()
}

// alive ends a connection that is dead, or whose log-in has ended.
func (s *Server) alive(ctx context.Context, stop func(), ws *websocket.Conn) {
	defer stop()
	tick := time.NewTicker(pingEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		within, cancel := context.WithTimeout(ctx, pingWithin)
		err := ws.Ping(within)
		cancel()
		if err != nil || !s.maySit(ctx) {
			return
		}
	}
}

// maySit says whether who sits somewhere still may: a log-in ends, and a role is taken away.
// While that cannot be found out, it is as it was.
func (s *Server) maySit(ctx context.Context) bool {
	x, err := s.People.Who(ctx, whoIs(ctx).token)
	return err != nil && !errors.Is(err, people.ErrNotIn) || err == nil && seat.May(operation.Role(x.Role), seat.See)
}
