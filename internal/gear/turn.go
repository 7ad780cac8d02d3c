package gear

import "context"

// A Turn is a lock whose wait ends with a context: nobody waits for gear that does
// not answer longer than he has time. Make one with NewTurn.
type Turn chan struct{}

// NewTurn returns a lock that nobody has.
func NewTurn() Turn { return make(Turn, 1) }

// Take waits for the lock; an error means that it has not been taken.
func (t Turn) Take(ctx context.Context) error {
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	select {
	case t <- struct{}{}:
		return nil
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}

// Give gives the lock back.
func (t Turn) Give() { <-t }
