package broker

import (
	"context"
	"strings"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/seat"
)

// How long a line is waited for that is called, and how long it may take to answer.
const (
	askUp      = 20 * time.Second
	askAnswer  = 4 * time.Second
	askSettled = 700 * time.Millisecond
)

// An Answer is what a line said to a newline.
type Answer struct {
	Up    bool
	Line  string // of the connection, in words
	Asked bool   // false: somebody else types there, or it could not be sent
	Said  string
}

// Ask sits at the line of a device, presses Enter, and sees what is said. Where somebody
// types, nothing is sent.
func (r *Room) Ask(ctx context.Context, k estate.Key, who string, role operation.Role) (a Answer, err error) {
	seat, err := r.Sit(k, Coming{Seat: seat.Seat{Who: who, Role: role}, After: -1})
	if err != nil {
		return a, err
	}
	defer seat.Leave()
	ctx, cancel := context.WithTimeout(ctx, askUp)
	defer cancel()
	var said strings.Builder
	for {
		n, err := seat.Next(ctx)
		if err != nil {
			a.Said = said.String()
			return a, nil //nolint:nilerr // the time is up: that is the answer
		}
		said.Write(n.Said)
		if n.State != nil {
			a.Up, a.Line = n.State.Up, n.State.Words
		}
		if a.Up && !a.Asked {
			if seat.Type([]byte("\r")) != nil {
				a.Said = said.String() // somebody types there, and is not disturbed
				return a, nil
			}
			a.Asked = true
			said.Reset()
			var answered context.CancelFunc
			ctx, answered = context.WithTimeout(ctx, askAnswer)
			defer answered()
			continue
		}
		if a.Asked && said.Len() > 2 {
			var settled context.CancelFunc
			ctx, settled = context.WithTimeout(ctx, askSettled) // a prompt may come in pieces
			defer settled()
		}
	}
}
