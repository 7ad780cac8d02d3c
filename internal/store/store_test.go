package store_test

import (
	"context"
	"log/slog"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/store"
	"plumbbob/internal/store/mariadb"
	"plumbbob/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

var outlet = estate.OutletEnd("skarvoe-pdu", 3)

func newOperation(id string) *operation.Operation {
	now := time.Now().UTC().Truncate(time.Millisecond)
	o := &operation.Operation{ID: id, Order: operation.Order{Kind: operation.Cycle, Device: "skarvoe-router", Outlets: []estate.End{outlet}, By: "admin", Asked: now}, Progress: operation.Progress{Saved: now}}
	o.Lay(true)
	return o
}

func entry(kind string) store.Entry { return store.Entry{At: time.Now(), Kind: kind, Who: "admin"} }

func TestAnOutletIsClaimedOnce(t *testing.T) {
	s := storetest.Open(t)
	first := newOperation("1")
	require.NoError(t, s.CreateOperation(t.Context(), first, entry(store.EntryOperationAsked)))
	require.ErrorIs(t, s.CreateOperation(t.Context(), newOperation("2"), entry(store.EntryOperationAsked)), store.ErrConflict)
	_, err := s.Operation(t.Context(), "2")
	require.ErrorIs(t, err, store.ErrNotFound, "a refused operation leaves nothing behind")

	first.State, first.Ended = operation.Done, time.Now()
	require.NoError(t, s.EndOperation(t.Context(), first, entry(store.EntryOperationEnded)))
	require.ErrorIs(t, s.EndOperation(t.Context(), first, entry(store.EntryOperationEnded)), store.ErrConflict)
	require.NoError(t, s.CreateOperation(t.Context(), newOperation("3"), entry(store.EntryOperationAsked)))

	j, err := s.Journal(t.Context(), store.JournalFilter{Limit: 10})
	require.NoError(t, err)
	require.Len(t, j, 3, "two asked, one ended")
}

func TestAnOperationComesBackWhole(t *testing.T) {
	s := storetest.Open(t)
	o := newOperation("1")
	require.NoError(t, s.CreateOperation(t.Context(), o, entry(store.EntryOperationAsked)))
	o.Step(operation.Started{At: o.Asked.Add(time.Second)})
	o.Step(operation.Measured{At: o.Asked.Add(2 * time.Second), Outlets: map[estate.End]operation.Reading{outlet: {On: true, Metered: true, W: 11.2}}})
	require.NoError(t, s.SaveOperation(t.Context(), o))
	running, err := s.Operations(t.Context(), store.OperationFilter{State: operation.Running, Limit: 9})
	require.NoError(t, err)
	require.Equal(t, []*operation.Operation{o}, running)
}

func TestEstateVersionsDoNotOvertake(t *testing.T) {
	s := storetest.Open(t)
	_, err := s.Estate(t.Context())
	require.ErrorIs(t, err, store.ErrNotFound)
	require.NoError(t, s.SaveEstate(t.Context(), 0, "admin", "one", nil, entry(store.EntryEstate)))
	v, err := s.Estate(t.Context())
	require.NoError(t, err)
	require.ErrorIs(t, s.SaveEstate(t.Context(), 0, "admin", "two", nil, entry(store.EntryEstate)), store.ErrConflict)

	id, err := s.SeriesID(t.Context(), store.Series{Device: "old", Name: "draw", Unit: "W"})
	require.NoError(t, err)
	require.NoError(t, s.SaveEstate(t.Context(), v.ID, "admin", "two", map[estate.Key]estate.Key{"old": "new"}, entry(store.EntryEstate)))
	again, err := s.SeriesID(t.Context(), store.Series{Device: "new", Name: "draw", Unit: "W"})
	require.NoError(t, err)
	require.Equal(t, id, again, "a renamed device keeps its history")
}

func TestLogIns(t *testing.T) {
	s := storetest.Open(t)
	require.NoError(t, s.CreateAccount(t.Context(), "admin", "keeper", "hash"))
	require.ErrorIs(t, s.CreateAccount(t.Context(), "admin", "keeper", "hash"), store.ErrConflict)
	a, err := s.Account(t.Context(), "admin")
	require.NoError(t, err)
	require.NoError(t, s.CreateSession(t.Context(), "good", a.ID, store.ClientSession, "laptop", time.Now().Add(time.Hour)))
	require.NoError(t, s.CreateSession(t.Context(), "late", a.ID, store.ClientSession, "laptop", time.Now().Add(-time.Hour)))
	x, err := s.Session(t.Context(), "good")
	require.NoError(t, err)
	require.Equal(t, "admin", x.Account)
	_, err = s.Session(t.Context(), "late")
	require.ErrorIs(t, err, store.ErrNotFound)
	require.NoError(t, s.SetPassword(t.Context(), "admin", "other", ""))
	_, err = s.Session(t.Context(), "good")
	require.ErrorIs(t, err, store.ErrNotFound, "a new password ends the old log-ins")
}

func TestSomebodyCanAlwaysGiveRoles(t *testing.T) {
	s, ctx := storetest.Open(t), t.Context()
	for _, name := range []string{"ada", "bo"} {
		require.NoError(t, s.CreateAccount(ctx, name, "keeper", "hash"))
	}
	require.NoError(t, s.CreateAccount(ctx, "cy", "viewer", "hash"))
	require.ErrorIs(t, s.SetRole(ctx, "nobody", "viewer", "keeper"), store.ErrNotFound)
	require.NoError(t, s.SetRole(ctx, "cy", "operator", "keeper"))
	require.NoError(t, s.SetRole(ctx, "bo", "steward", "keeper"))
	require.NoError(t, s.SetRole(ctx, "ada", "keeper", "keeper"), "which changes nothing")
	require.ErrorIs(t, s.SetRole(ctx, "ada", "viewer", "keeper"), store.ErrConflict)
	require.ErrorIs(t, s.RemoveAccount(ctx, "ada", "keeper"), store.ErrConflict)

	bo, err := s.Account(ctx, "bo")
	require.NoError(t, err)
	for _, token := range []string{"this", "other"} {
		require.NoError(t, s.CreateSession(ctx, token, bo.ID, store.ClientSession, "laptop", time.Now().Add(time.Hour)))
	}
	require.NoError(t, s.SetPassword(ctx, "bo", "new", "this"))
	_, err = s.Session(ctx, "this")
	require.NoError(t, err, "whoever changes their password stays logged in there")
	all, err := s.Accounts(ctx)
	require.NoError(t, err)
	require.Len(t, all, 3)
	require.Equal(t, []any{"bo", "steward", 1, true}, []any{all[1].Name, all[1].Role, all[1].LogIns, all[1].LastLogIn.Valid})

	require.NoError(t, s.RemoveAccount(ctx, "bo", "keeper"))
	_, err = s.Session(ctx, "this")
	require.ErrorIs(t, err, store.ErrNotFound, "an account takes its log-ins along")
}

func TestPrivateServerSurvivesAKill(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "db")
	log := slog.New(slog.DiscardHandler)
	m, err := mariadb.Start(t.Context(), dir, log)
	require.NoError(t, err)
	s, err := store.Open(t.Context(), m.Config())
	require.NoError(t, err)
	require.NoError(t, s.Write(t.Context(), entry(store.EntryService)))

	require.NoError(t, syscall.Kill(m.PID(), syscall.SIGKILL))
	require.Eventually(t, func() bool {
		ctx, cancel := context.WithTimeout(t.Context(), time.Second)
		defer cancel()
		j, err := s.Journal(ctx, store.JournalFilter{Limit: 1})
		return err == nil && len(j) == 1
	}, 30*time.Second, 100*time.Millisecond, "it is started again, and nothing is lost")

	require.NoError(t, s.Close())
	pid := m.PID()
	require.NoError(t, m.Close())
	require.ErrorIs(t, syscall.Kill(pid, 0), syscall.ESRCH, "the server is gone")
	_, err = s.Estate(t.Context())
	require.Error(t, err)

	m, err = mariadb.Start(t.Context(), dir, log)
	require.NoError(t, err)
	require.NoError(t, m.Close())
}
