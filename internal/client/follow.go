package client

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"plumbbob/internal/api/contract"
)

// event is one server-sent event.
type event struct {
	id, kind string
	data     []byte
}

const (
	reconnectAfter = time.Second
	giveUpAfter    = 60 // tries: an operation goes on without us
)

// follow reads the stream of changes from behind an event, and goes on where
// it broke when the connection is lost, until f says that it has seen enough.
func (s *service) follow(ctx context.Context, after string, f func(event) (bool, error)) error {
	failures := 0
	for {
		enough, err := s.stream(ctx, &after, func(e event) (bool, error) { failures = 0; return f(e) })
		if ctx.Err() != nil {
			return nil // whoever follows has had enough
		}
		if enough {
			return err
		}
		if failures++; failures > giveUpAfter {
			return s.unreachable(err)
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(reconnectAfter):
		}
	}
}

// stream reads one connection. The error is that of f, or why it broke.
func (s *service) stream(ctx context.Context, after *string, f func(event) (bool, error)) (enough bool, _ error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, s.config.URL+"/api/v1/events", nil)
	if err != nil {
		return true, err
	}
	req.Header.Set("Authorization", "Bearer "+s.config.Token)
	if *after != "" {
		req.Header.Set("Last-Event-ID", *after)
	}
	res, err := s.http.Do(req)
	if err != nil {
		return false, err
	}
	defer func() { _ = res.Body.Close() }()
	if res.StatusCode != http.StatusOK {
		_, err := ask[nothing](s)(res, nil)
		return true, err
	}
	lines := bufio.NewScanner(res.Body)
	lines.Buffer(nil, 4<<20)
	var e event
	for lines.Scan() {
		field, value, _ := strings.Cut(lines.Text(), ": ")
		switch field {
		case "id":
			e.id = value
		case "event":
			e.kind = value
		case "data":
			e.data = []byte(value)
		case "":
			if e.kind != "" {
				*after = e.id
				if enough, err := f(e); enough || err != nil {
					return true, err
				}
			}
			e = event{}
		}
	}
	return false, lines.Err()
}

// followOperation draws the steps of an operation as they happen, and returns
// it when it has ended.
func (a *app) followOperation(ctx context.Context, s *service, id string) (contract.Operation, error) {
	board, err := ask[contract.Board](s)(s.GetBoard(ctx))
	if err != nil {
		return contract.Operation{}, err
	}
	o, err := ask[contract.Operation](s)(s.GetOperation(ctx, id))
	if err != nil {
		return o, err
	}
	d := drawing{a: a, said: map[int]string{}}
	d.draw(o)
	if o.State != contract.OperationStateRunning {
		return o, nil
	}
	err = s.follow(ctx, board.Event, func(e event) (bool, error) {
		switch e.kind {
		case "operation":
			var x contract.Operation
			if err := json.Unmarshal(e.data, &x); err != nil || x.ID != id {
				return false, err
			}
			o = x
		case "reset":
			x, err := ask[contract.Operation](s)(s.GetOperation(ctx, id))
			if err != nil {
				return true, err
			}
			o = x
		default:
			return false, nil
		}
		d.draw(o)
		return o.State != contract.OperationStateRunning, nil
	})
	if err == nil && ctx.Err() == nil { // in words for us, with what was seen afterwards
		if x, err := ask[contract.Operation](s)(s.GetOperation(ctx, id)); err == nil {
			o = x
		}
	}
	if err == nil && ctx.Err() != nil {
		fmt.Fprintf(a.err, "Not following any more; the operation goes on. See plumb op show %s\n", id)
	}
	return o, err
}

// drawing prints each step when it has something new to say.
type drawing struct {
	a    *app
	said map[int]string
}

// to is where steps go: what is printed for programs stays whole.
func (d *drawing) to() io.Writer {
	if d.a.output == "table" {
		return d.a.out
	}
	return d.a.err
}

func (d *drawing) draw(o contract.Operation) {
	for i, s := range o.Steps {
		if s.State == contract.StepStatePending {
			continue
		}
		line := stepLine(s)
		if d.said[i] == line {
			continue
		}
		d.said[i] = line
		style := ""
		if s.State == contract.StepStateFailed {
			style = "failed"
		}
		fmt.Fprintln(d.to(), d.a.paint(style, line))
	}
	for i, t := range o.Trouble {
		if d.said[-1-i] != t {
			d.said[-1-i] = t
			fmt.Fprintln(d.to(), d.a.paint("failed", "  !  "+t))
		}
	}
}

// stepLine is a step in one line: its time, a mark, what it does, what came of it.
func stepLine(s contract.Step) string {
	at, mark := s.Began, "…"
	switch s.State {
	case contract.StepStateDone:
		at, mark = s.Ended, "✓"
	case contract.StepStateFailed:
		at, mark = s.Ended, "✕"
	case contract.StepStateSkipped:
		at, mark = s.Ended, "–"
	}
	line := fmt.Sprintf("  %s %s", mark, s.Text)
	if at != nil {
		line = at.Local().Format("15:04:05") + line
	} else {
		line = "        " + line
	}
	if m := s.After; m != nil && m.W != nil && s.Ended != nil {
		line += fmt.Sprintf(": %.1f W", *m.W)
	}
	if s.Note != nil && s.State != contract.StepStateChecking {
		line += " (" + *s.Note + ")"
	}
	return line
}
