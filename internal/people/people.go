// Package people knows who may come in: accounts with their roles, log-ins, and how
// guessing is slowed down. It knows nothing of how somebody comes, so that every
// door asks here.
//
//	people.go  logging in and out, and who it is that asks
//	rescue.go  coming in when no password can be looked up
//	account.go accounts, their roles and passwords
//	key.go     the public keys with which they come in
//	away.go    who comes in while the database is away
//	tries.go   the brake on guessing
//	refusals.go what the journal says of that
package people

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"log/slog"
	"maps"
	"runtime"
	"sync"
	"time"

	"plumbbob/internal/bus"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/password"
	"plumbbob/internal/store"
)

// Limits.
const (
	trustFor   = 30 * time.Second // before a log-in is looked up again: it must not cost a query for every request
	checksMost = 1                // passwords that are checked at once: each takes 32 MiB and some 100 ms of one processor
	waitMost   = 16               // that may wait for that
)

// MostKnown is how many log-ins are remembered.
const MostKnown = 10_000

var (
	// ErrWrong: there is no such account, or that is not its password.
	ErrWrong = errors.New("wrong account or password")
	// ErrNotIn: nobody is logged in with that.
	ErrNotIn = errors.New("not logged in")
)

// An AwayError says that nobody can log in with a password now.
type AwayError struct{ error }

func (e *AwayError) Error() string {
	return "the database does not answer, and what was known of accounts is not here: who is logged in stays so, and on the service's machine plumbd code makes a rescue code, which lets somebody in once"
}
func (e *AwayError) Unwrap() error { return e.error }

// Parts are what a Desk works with.
type Parts struct {
	Store *store.Store
	Log   *slog.Logger
	Bus   *bus.Bus

	DataDir  string               // where a rescue code is
	Known    []store.KnownLogIn   // from an earlier run, for while the database is away
	Accounts []store.KnownAccount // likewise
}

// A Desk is where people come in. It may be shared between goroutines.
type Desk struct {
	Parts
	tries *tries
	check chan struct{} // room for checking passwords
	queue chan struct{} // and for waiting for that

	refusals refusals

	mu       sync.Mutex
	known    map[store.TokenHash]known
	noted    map[store.TokenHash]store.Session // log-ins that are in no database
	accounts map[string]store.KnownAccount     // for while that is away
	used     map[[sha256.Size]byte]bool        // rescue codes
	late     []store.Entry                     // what no journal has taken yet
}

// known is a log-in that was looked up a while ago.
type known struct {
	store.Session
	looked time.Time
}

// New returns a desk.
func New(p Parts) *Desk {
	d := &Desk{
		Parts: p, tries: newTries(time.Now), known: map[store.TokenHash]known{},
		noted: map[store.TokenHash]store.Session{}, used: map[[sha256.Size]byte]bool{},
		check: make(chan struct{}, checksMost), queue: make(chan struct{}, waitMost),
	}
	for _, k := range p.Known {
		d.known[k.Token] = known{Session: k.Session} // to be looked up first
	}
	d.Remember(p.Accounts)
	return d
}

// A LogIn is somebody who has come in.
type LogIn struct {
	Token, Account, Role string
	Expires              time.Time
}

// Credentials are what somebody comes in with, and from where.
type Credentials struct{ Account, Password, From string }

// Come logs somebody in. kind is that of the session, and name what people call it.
// Its errors are ErrWrong, a *WaitError, an *AwayError, or that of the store.
func (d *Desk) Come(ctx context.Context, c Credentials, kind, name string, lasts time.Duration) (LogIn, error) {
	if c.Account == Rescue {
		return d.rescue(ctx, c, kind, name)
	}
	a, err := d.checked(ctx, c)
	switch {
	case errors.Is(err, ErrWrong):
		d.refused(ctx, c, a.ID != 0)
	case errors.Is(err, store.ErrAway):
		return LogIn{}, &AwayError{err}
	}
	if err != nil {
		return LogIn{}, err
	}
	return d.comes(ctx, a, "Logged in from "+c.From, kind, name, lasts)
}

// comes notes that somebody is in who may be.
func (d *Desk) comes(ctx context.Context, a store.Account, words, kind, name string, lasts time.Duration) (LogIn, error) {
	in := LogIn{Token: newToken(), Account: a.Name, Role: a.Role, Expires: time.Now().Add(lasts).UTC()}
	entry := store.Entry{At: time.Now().UTC(), Kind: store.EntryLogIn, Who: a.Name, Text: words, Result: "done"}
	err := store.ErrAway
	if a.ID != 0 {
		err = d.Store.CreateSession(ctx, in.Token, a.ID, kind, name, in.Expires, entry)
	}
	if errors.Is(err, store.ErrAway) {
		return d.note(ctx, in, entry, kind, name), nil
	}
	if err != nil {
		return LogIn{}, err
	}
	d.Bus.Journal.Publish(bus.NewEntry{})
	return in, nil
}

// newToken returns one that nobody guesses.
func newToken() string { return rand.Text() + rand.Text() }

// nameOf is an account's name as it may stand in the record: what cannot be one is
// not repeated.
func nameOf(account string) string {
	if !accountName.MatchString(account) {
		return "(no name)"
	}
	return account
}

// checked finds the account, or says no in the same time.
func (d *Desk) checked(ctx context.Context, c Credentials) (store.Account, error) {
	begun, err := d.tries.begin(nameOf(c.Account), c.From)
	if err != nil {
		return store.Account{}, err
	}
	leave, err := d.room(ctx)
	if err != nil {
		begun.neither()
		return store.Account{}, err
	}
	defer leave()
	a, err := store.Account{}, store.ErrNotFound
	if accountName.MatchString(c.Account) {
		a, err = d.account(ctx, c.Account)
	}
	right := false
	switch {
	case errors.Is(err, store.ErrNotFound):
		password.Waste(c.Password)
	case err != nil:
		begun.neither()
		return a, err
	default:
		if right, err = password.Check(c.Password, a.PasswordHash); err != nil {
			begun.neither()
			return a, err
		}
	}
	if !right {
		return a, ErrWrong
	}
	begun.succeeded()
	return a, nil
}

// room is taken while a password is checked, so that nobody can have the service
// work, or remember, without a bound.
func (d *Desk) room(ctx context.Context) (leave func(), err error) {
	select {
	case d.queue <- struct{}{}:
		defer func() { <-d.queue }()
	default:
		return nil, &WaitError{time.Second, "too many log-ins at once"}
	}
	select {
	case d.check <- struct{}{}:
		return func() {
			runtime.GC() // on a busy machine the memory of many would pile up otherwise
			<-d.check
		}, nil
	case <-ctx.Done():
		return nil, context.Cause(ctx)
	}
}

// Who says who is logged in with a token, ErrNotIn for nobody. While the database is
// away it goes by what it knows: that is when somebody needs to act.
func (d *Desk) Who(ctx context.Context, token string) (store.Session, error) {
	h := store.HashToken(token)
	if s, ok := d.notedAs(h); ok {
		return s, nil
	}
	d.mu.Lock()
	k, ok := d.known[h]
	d.mu.Unlock()
	lasts := ok && time.Now().Before(k.ExpiresAt)
	if lasts && time.Since(k.looked) < trustFor {
		return k.Session, nil
	}
	s, err := d.Store.Session(ctx, token)
	if errors.Is(err, store.ErrAway) && lasts {
		return k.Session, nil
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if err != nil {
		delete(d.known, h)
		if errors.Is(err, store.ErrNotFound) {
			err = ErrNotIn
		}
		return s, err
	}
	if len(d.known) >= MostKnown {
		clear(d.known)
	}
	d.known[h] = known{s, time.Now()}
	return s, nil
}

// Go logs somebody out.
func (d *Desk) Go(ctx context.Context, token, account string) error {
	h := store.HashToken(token)
	if s, ok := d.notedAs(h); ok {
		d.mu.Lock()
		delete(d.noted, h)
		d.mu.Unlock()
		d.write(ctx, store.Entry{Kind: store.EntryLogOut, Who: s.Account, Text: "Logged out", Result: "done"})
		return nil
	}
	entry := store.Entry{At: time.Now().UTC(), Kind: store.EntryLogOut, Who: account, Text: "Logged out", Result: "done"}
	if err := d.Store.EndSession(ctx, token, entry); err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	d.mu.Lock()
	delete(d.known, h)
	d.mu.Unlock()
	d.Bus.Journal.Publish(bus.NewEntry{})
	return nil
}

// Role is what somebody may do now: nothing but look, once their account has gone.
func (d *Desk) Role(ctx context.Context, account string) (operation.Role, error) {
	if account == Rescue {
		if d.anyRescued() {
			return operation.Keeper, nil
		}
		return operation.Viewer, nil
	}
	a, err := d.account(ctx, account)
	if errors.Is(err, store.ErrNotFound) {
		return operation.Viewer, nil
	}
	return operation.Role(a.Role), err
}

// forget has the log-ins of an account looked up again, of which one may stay.
func (d *Desk) forget(account, token string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	maps.DeleteFunc(d.known, func(h store.TokenHash, k known) bool { return k.Account == account && h != store.HashToken(token) })
	maps.DeleteFunc(d.noted, func(h store.TokenHash, s store.Session) bool {
		return s.Account == account && h != store.HashToken(token)
	})
}

const (
	writeWithin = 10 * time.Second
	lateMost    = 1000 // entries that wait for the journal
)

// write makes an entry about something that changes nothing. While the database is away
// it waits for that.
func (d *Desk) write(ctx context.Context, e store.Entry) {
	e.At = time.Now().UTC()
	d.mu.Lock()
	if len(d.late) < lateMost {
		d.late = append(d.late, e)
	} else {
		d.lost(e, errors.New("too many wait"))
	}
	d.mu.Unlock()
	d.flush(ctx)
}

func (d *Desk) lost(e store.Entry, why error) {
	d.Log.Error("an entry of the journal is lost", "kind", e.Kind, "who", e.Who, "text", e.Text, "because", why)
}

// flush writes what waits.
func (d *Desk) flush(ctx context.Context) {
	d.mu.Lock()
	due := d.late
	d.late = nil
	d.mu.Unlock()
	if len(due) == 0 {
		return
	}
	// Whoever asked may have gone: that takes nothing out of the record.
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), writeWithin)
	defer cancel()
	switch err := d.Store.Write(ctx, due...); {
	case err == nil:
		d.Bus.Journal.Publish(bus.NewEntry{})
	case errors.Is(err, store.ErrAway), errors.Is(err, context.DeadlineExceeded):
		d.mu.Lock()
		d.late = append(due, d.late...)
		d.mu.Unlock()
	default:
		for _, e := range due {
			d.lost(e, err)
		}
	}
}
