package service

import (
	"context"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"time"

	"plumbbob/internal/act"
)

// StopWithin is how long a stop waits, unless it is told otherwise, for power that is owed.
const StopWithin = 2 * time.Minute

const owedLooked = 100 * time.Millisecond

// windDown is the first stage of stopping: nothing new is begun, and power that is owed
// is waited for. What stays off is said.
func (s *Service) windDown() {
	s.actor.Retire(act.ErrStopping)
	owed := s.actor.Owed()
	if len(owed) == 0 {
		return
	}
	within := s.o.StopWithin
	s.notice("stopping waits for power that is owed to %s, %s at the most; a second signal ends it at once", debtors(owed), within)
	s.health.Grave("stopping", fmt.Sprintf("the service is stopping: it begins nothing new, and waits for power that is owed to %s", debtors(owed)))
	over := time.NewTimer(within)
	defer over.Stop()
	for len(owed) > 0 {
		select {
		case <-time.After(owedLooked):
			owed = s.actor.Owed()
			continue
		case <-over.C:
		case <-s.o.Hurry:
		}
		s.notice("STAYS OFF until the service is started again: %s", debts(owed))
		return
	}
}

// notice says something to whoever stops the service, be it by the log.
func (s *Service) notice(format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	s.o.Log.Warn(text)
	if s.o.Notice != nil && !s.o.Log.Enabled(context.Background(), slog.LevelWarn) {
		_, _ = fmt.Fprintln(s.o.Notice, "plumbd: "+text)
	}
}

func debtors(owed []act.Debt) string {
	var names []string
	for _, d := range owed {
		if !slices.Contains(names, string(d.Device)) {
			names = append(names, string(d.Device))
		}
	}
	return strings.Join(names, ", ")
}

func debts(owed []act.Debt) string {
	var names []string
	for _, d := range owed {
		names = append(names, fmt.Sprintf("%s at %s (operation %s)", d.Device, d.End.Place(), d.Operation))
	}
	return strings.Join(names, "; ")
}

// stoppable is a context that ends when ctx has, and the first stage of stopping is over.
func (s *Service) stoppable(ctx context.Context) (inner context.Context, end func()) {
	inner, cancel := context.WithCancelCause(context.WithoutCancel(ctx))
	wound := make(chan struct{})
	stop := context.AfterFunc(ctx, func() {
		defer close(wound)
		s.windDown()
		cancel(context.Cause(ctx))
	})
	return inner, func() {
		if !stop() {
			<-wound
		}
		cancel(nil)
	}
}
