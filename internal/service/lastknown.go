package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sync/errgroup"

	"plumbbob/internal/bus"
	"plumbbob/internal/people"
	"plumbbob/internal/store"
	"plumbbob/internal/whole"
)

// lastKnown is what a start needs although the database is away: what there is, how it
// is reached, what is meant to be off, and who may come in. It lies beside the database,
// in a file that is renewed when one of these changes, and touched while the service runs. Secrets are sealed in it, and
// log-ins are hashes, as in the database.
type lastKnown struct {
	At       time.Time
	Estate   store.EstateVersion
	Added    []store.Profile
	Sealed   []store.SealedSecret
	Hosts    map[string]string // their keys, by address
	MeantOff []store.Parked
	LoggedIn []store.KnownLogIn
	People   []store.KnownAccount // with hashes of their passwords, as in the database
}

// known is what is on record of what a start needs, in the database or beside it.
type known interface {
	Secrets(context.Context) ([]store.SealedSecret, error)
	Profiles(context.Context) ([]store.Profile, error)
	EstateVersions(ctx context.Context, most int) ([]store.EstateVersion, error)
	AllParked(context.Context) ([]store.Parked, error)
	HostKeys(context.Context) (map[string]string, error)
}

// The methods of known.
func (l *lastKnown) Secrets(context.Context) ([]store.SealedSecret, error) { return l.Sealed, nil }
func (l *lastKnown) Profiles(context.Context) ([]store.Profile, error)     { return l.Added, nil }
func (l *lastKnown) AllParked(context.Context) ([]store.Parked, error)     { return l.MeantOff, nil }
func (l *lastKnown) HostKeys(context.Context) (map[string]string, error)   { return l.Hosts, nil }

func (l *lastKnown) EstateVersions(context.Context, int) ([]store.EstateVersion, error) {
	if l.Estate.ID == 0 {
		return nil, nil
	}
	return []store.EstateVersion{l.Estate}, nil
}

const lastKnownName = "last-known.json"

func (s *Service) lastKnownFile() string { return filepath.Join(s.o.DataDir, lastKnownName) }

// readLastKnown returns nil when there is none, which is so before the first start.
func (s *Service) readLastKnown() *lastKnown {
	text, err := os.ReadFile(s.lastKnownFile())
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if info, err := os.Stat(s.lastKnownFile()); err == nil {
		s.lastAlive = info.ModTime()
	}
	l := &lastKnown{}
	if err == nil {
		err = json.Unmarshal(text, l)
	}
	if err != nil {
		s.o.Log.Warn("what was known last cannot be read: with its database away the service does not start", "because", err)
		return nil
	}
	return l
}

// gather reads from the database what a start needs.
func (s *Service) gather(ctx context.Context) (*lastKnown, error) {
	l := &lastKnown{}
	var errs [7]error
	l.Estate, errs[0] = s.Store.Estate(ctx)
	if errors.Is(errs[0], store.ErrNotFound) {
		errs[0] = nil
	}
	l.Added, errs[1] = s.Store.Profiles(ctx)
	l.Sealed, errs[2] = s.Store.Secrets(ctx)
	l.Hosts, errs[3] = s.Store.HostKeys(ctx)
	l.MeantOff, errs[4] = s.Store.AllParked(ctx)
	l.LoggedIn, errs[5] = s.Store.LogIns(ctx, people.MostKnown)
	l.People, errs[6] = s.Store.KnownAccounts(ctx)
	return l, errors.Join(errs[:]...)
}

// How soon after a change what is known is kept, and how often without one.
const (
	keepKnownAfter = 2 * time.Second
	keepKnownEvery = time.Minute
)

// keepKnown keeps what is known, until ctx ends.
func (s *Service) keepKnown(ctx context.Context, changed <-chan bus.NewEntry) error {
	var kept []byte
	for {
		if l, err := s.gather(ctx); err == nil {
			s.people.Remember(l.People)
			kept = s.keep(l, kept)
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-changed:
		case <-s.learned: // that is not in the journal
		case <-time.After(keepKnownEvery):
		}
		select { // several at once are one
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(keepKnownAfter):
		}
	}
}

// keep writes what is known when it is not what was kept, and returns what is kept now.
func (s *Service) keep(l *lastKnown, kept []byte) []byte {
	text, err := json.Marshal(l)
	if err == nil && string(text) == string(kept) {
		now := time.Now()
		_ = os.Chtimes(s.lastKnownFile(), now, now) // that we run is known by it
		return kept
	}
	l.At = time.Now().UTC()
	dated, _ := json.Marshal(l) // as before
	if err == nil {
		err = whole.Write(s.lastKnownFile(), dated)
	}
	if err != nil {
		s.health.Ails("last known", fmt.Sprintf("what a start without the database needs cannot be kept in %s: %s", s.lastKnownFile(), err))
		return kept
	}
	s.health.Well("last known")
	return text
}

// loggedIn are the log-ins of an earlier run, for while the database is away.
func (s *Service) loggedIn() []store.KnownLogIn {
	if s.last == nil {
		return nil
	}
	return s.last.LoggedIn
}

// accounts are those of an earlier run, likewise.
func (s *Service) accounts() []store.KnownAccount {
	if s.last == nil {
		return nil
	}
	return s.last.People
}

// gear brings in what is needed to reach the gear; with a database that is away, from
// what was known last, and then once more when that is there.
func (s *Service) gear(ctx context.Context, tasks *errgroup.Group) error {
	if s.late == nil {
		return s.insist(ctx, "gear", s.reload)
	}
	if err := errors.Join(s.loadGear(ctx, s.last), s.meantOff(ctx, s.last)); err != nil {
		return err
	}
	tasks.Go(func() error { return s.bring(ctx) })
	return nil
}

// bring waits for a database that was away at the start, and then brings in what is on
// record there.
func (s *Service) bring(ctx context.Context) error {
	const name = "start: database"
	without := fmt.Sprintf("the service has started without its database, with what it knew on %s: it watches and switches, and who had an account then comes in, or who has a rescue code (plumbd code)", s.last.At.Format("2006-01-02 15:04 MST"))
	s.health.Grave(name, without)
	err := s.Store.Bring(ctx, s.late, func(err error) { s.health.Grave(name, without+": "+err.Error()) })
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	if err != nil {
		s.health.Grave("collation", err.Error())
	}
	s.health.Well(name)
	return s.insist(ctx, "gear", s.reload)
}
