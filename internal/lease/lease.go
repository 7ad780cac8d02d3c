// Package lease keeps a service from acting that may not: of several on one
// database one alone acts. It holds a lease in the database, which it renews; who
// cannot renew it stops by himself, by a clock that nobody sets, before another may
// take it.
package lease

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"time"

	"plumbbob/internal/health"
	"plumbbob/internal/store"
)

// How long the lease lasts, how often it is renewed, and how much earlier than the
// database whoever holds it takes it for over.
const (
	lasts  = 30 * time.Second
	renews = 5 * time.Second
	before = 3 * time.Second
)

// Lease is the right to act. It may be shared between goroutines. A nil one is that
// of a service with a database of its own: it always may.
type Lease struct {
	store  *store.Store
	health *health.Book
	me     string
	ours   string // how those are called that have had our data directory before us
	alone  bool   // somebody has said that there is no other
	lasts  time.Duration

	mu    sync.Mutex
	epoch int64
	empty time.Duration // for how long nobody held it before us
	until time.Time     // by the monotonic clock of this process
	other string        // who is known to hold it; empty: nobody but us
	taken chan struct{}
}

// New returns a lease that is not held yet. alone says that no other service acts on the
// database: then it is asked for, and not waited for. dataDir is locked by this process,
// so that whoever had it before has ended: what that held is taken at once.
func New(s *store.Store, b *health.Book, dataDir string, alone bool) *Lease {
	host, _ := os.Hostname()
	if abs, err := filepath.Abs(dataDir); err == nil {
		dataDir = abs
	}
	sum := sha256.Sum256([]byte(dataDir))
	ours := fmt.Sprintf("plumbd on %.64s with %x, ", host, sum[:4])
	return &Lease{store: s, health: b, alone: alone, ours: ours, me: fmt.Sprintf("%sprocess %d, %s", ours, os.Getpid(), rand.Text()[:6]), lasts: lasts, taken: make(chan struct{})}
}

// An Error says that this service may not act now.
type Error struct{ Text string }

func (e *Error) Error() string { return e.Text }

// Holds is nil while this service may begin something, and go on with it.
func (l *Lease) Holds() error {
	if l == nil {
		return nil
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	switch {
	case l.other != "":
		return &Error{"another service acts on this database (" + l.other + "): this one watches, and begins nothing"}
	case l.alone:
		return nil
	case l.epoch == 0:
		return &Error{"this service has not got the lease in its database yet, so it begins nothing: it does not know whether another acts there (if none does, start it with --alone)"}
	case time.Now().After(l.until):
		return &Error{"the lease in the database could not be renewed and has run out, so nothing is begun: another service may act there; what this one has switched off it still switches on"}
	}
	return nil
}

// Other says whether another service is known to hold it.
func (l *Lease) Other() bool {
	if l == nil {
		return false
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.other != ""
}

// Wait waits until the lease is held.
func (l *Lease) Wait(ctx context.Context) error {
	for l.Holds() != nil {
		l.mu.Lock()
		taken := l.taken
		l.mu.Unlock()
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-taken:
		}
	}
	return nil
}

// Epoch counts the holders: it changes when another has held it meanwhile.
func (l *Lease) Epoch() int64 {
	if l == nil {
		return 0
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.epoch
}

// Vacant is for how long nobody held it before this service did.
func (l *Lease) Vacant() time.Duration {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.empty
}

// Run takes the lease and renews it until ctx ends. It returns the cause.
func (l *Lease) Run(ctx context.Context) error {
	tick := time.NewTicker(renews)
	defer tick.Stop()
	for {
		l.renew(ctx)
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-tick.C:
		}
	}
}

// Give lets go of it, once nothing is under way any more.
func (l *Lease) Give() {
	if l == nil || l.Holds() != nil {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), before)
	defer cancel()
	_ = l.store.GiveLease(ctx, l.me) // then it runs out by itself
}

func (l *Lease) renew(ctx context.Context) {
	asked := time.Now() // before the database counts
	within, cancel := context.WithTimeout(ctx, l.lasts/3)
	defer cancel()
	epoch, vacant, err := l.store.TakeLease(within, l.me, l.ours, l.lasts)
	l.mu.Lock()
	var held *store.HeldError
	switch {
	case err == nil:
		if epoch != l.epoch {
			l.empty = vacant
		}
		l.epoch, l.until, l.other = epoch, asked.Add(l.lasts-before), ""
		l.ours = "" // whoever is called so from now on is a copy of this machine
		close(l.taken)
		l.taken = make(chan struct{})
	case errors.As(err, &held):
		l.other = held.By
	}
	l.mu.Unlock()
	if ctx.Err() != nil {
		return
	}
	if why := l.Holds(); why != nil {
		l.health.Grave("lease", why.Error())
	} else {
		l.health.Well("lease")
	}
}
