package orders

import (
	"context"
	"fmt"
	"strings"

	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/routine"
)

// A Trial is what would come of one step now.
type Trial struct {
	Path, Words string
	OK          bool
	Says        string
}

// Try says what a routine would do, step by step, without doing it: each operation is previewed as
// things are now, and each condition is asked.
func (r *Room) Try(ctx context.Context, x *routine.Routine, with map[string]string) ([]Trial, error) {
	r.mu.Lock()
	ops, err := routine.Compile(x, x.Steps, with, r.find)
	r.mu.Unlock()
	if err != nil {
		return nil, &operation.UsageError{Text: "routine " + x.Name + ": " + err.Error()}
	}
	out := []Trial{}
	for _, op := range ops {
		if op.Words == "" {
			continue
		}
		t := Trial{Path: op.Path, Words: op.Words, OK: true}
		switch {
		case op.Intent != nil:
			t.OK, t.Says = r.tryOperation(ctx, op, asOrder(x.Name))
		case op.Expr != "":
			yes, err := r.holds(x.Site, op.Expr, op.With)
			if t.Says = map[bool]string{true: "it is so now", false: "it is not so now"}[yes]; err != nil {
				t.OK, t.Says = false, "it cannot be told now: "+err.Error()
			}
		}
		out = append(out, t)
	}
	return out, nil
}

func (r *Room) tryOperation(ctx context.Context, op routine.Op, by operation.Asker) (ok bool, says string) {
	if len(op.Lift) > 0 {
		by.Role = operation.Steward
	}
	return r.tryWith(ctx, *op.Intent, by, operation.Consent{Override: op.Lift, Why: op.Why, Role: by.Role})
}

// TryOne says what one operation of an order would do now, in words, or, not ok, why it would not be done.
func (r *Room) TryOne(ctx context.Context, in operation.Intent, order string) (ok bool, says string) {
	by := asOrder(order)
	return r.tryWith(ctx, in, by, operation.Consent{Role: by.Role})
}

func (r *Room) tryWith(ctx context.Context, in operation.Intent, by operation.Asker, c operation.Consent) (ok bool, says string) {
	p, err := r.Actor.Preview(ctx, in, by)
	if err != nil {
		return false, err.Error()
	}
	if stand := p.Unlifted(c); len(stand) > 0 {
		return false, fmt.Sprintf("it would be refused (%s): %s", stand[0].Name, stand[0].Reason)
	}
	var lines []string
	for _, l := range p.Lines {
		switch l.Kind {
		case operation.LineLoses, operation.LineCut, operation.LineOurPath, operation.LineInUse:
			lines = append(lines, l.Text)
		}
	}
	if len(lines) == 0 {
		return true, "by " + string(p.Means)
	}
	return true, "by " + string(p.Means) + ": " + strings.Join(lines, "; ")
}
