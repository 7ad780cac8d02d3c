package lease

import (
	"context"
	"log/slog"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/health"
	"plumbbob/internal/store"
	"plumbbob/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

const short = 9 * time.Second // more than is kept back before its end

func open(t *testing.T, dsn, dir string) (*Lease, *store.Store) {
	c, err := store.ParseDSN(dsn)
	require.NoError(t, err)
	s, err := store.Open(t.Context(), c)
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	l := New(s, health.New(slog.New(slog.DiscardHandler)), dir, false)
	l.lasts = short
	return l, s
}

func step(t *testing.T, s *store.Store, id string) error {
	now := time.Now().UTC()
	o := &operation.Operation{ID: id, Order: operation.Order{Kind: operation.Off, Device: estate.Key(id), By: "admin", Asked: now}, Progress: operation.Progress{Saved: now, State: operation.Running}}
	return s.CreateOperation(t.Context(), o, store.Entry{At: now, Kind: store.EntryOperationAsked})
}

// TestOneAlone: until it has run out by its own time nobody else takes it; then who
// held it may do nothing more, whatever he believes.
func TestOneAlone(t *testing.T) {
	dsn := storetest.Config(t).FormatDSN()
	one, s1 := open(t, dsn, "one")
	two, s2 := open(t, dsn, "two")
	require.Error(t, one.Holds(), "not before it is taken")
	one.renew(t.Context())
	two.renew(t.Context())
	require.NoError(t, one.Holds())
	require.ErrorContains(t, two.Holds(), "another service acts on this database")
	require.True(t, two.Other())
	require.NoError(t, step(t, s1, "a"))

	time.Sleep(short - before + 100*time.Millisecond)
	require.ErrorContains(t, one.Holds(), "has run out", "who cannot renew it stops first")
	two.renew(t.Context())
	require.Error(t, two.Holds(), "and the other waits until its end")
	time.Sleep(before)
	two.renew(t.Context())
	require.NoError(t, two.Holds())
	require.ErrorIs(t, step(t, s1, "b"), store.ErrFenced, "a step of the one that slept has no effect")
	require.NoError(t, step(t, s2, "b"))
	one.renew(t.Context())
	require.True(t, one.Other())

	two.Give()
	one.renew(t.Context())
	require.NoError(t, one.Holds(), "what is given back need not be waited for")
	require.EqualValues(t, 3, one.Epoch())

	again, s3 := open(t, dsn, "one")
	again.renew(t.Context())
	require.NoError(t, again.Holds(), "who had its data directory before has ended")
	require.NoError(t, step(t, s3, "c"))
	require.ErrorIs(t, step(t, s1, "d"), store.ErrFenced, "or is fenced, if it has not")
	one.renew(t.Context())
	require.True(t, one.Other(), "and takes nothing back")
}

// TestADatabaseThatGoesAway takes the lease with it once it has run out, and gives it
// back; one of its own takes nothing.
func TestADatabaseThatGoesAway(t *testing.T) {
	c := storetest.Config(t)
	l, _ := open(t, c.FormatDSN(), "one")
	l.renew(t.Context())
	root := c.Clone()
	root.User = "root"
	db := sqlx.MustConnect("mysql", root.FormatDSN())
	defer func() { _ = db.Close() }()
	db.MustExec(`SET GLOBAL read_only = 1`)
	l.renew(t.Context())
	require.NoError(t, l.Holds(), "for as long as it lasts")
	time.Sleep(short - before + 100*time.Millisecond)
	l.renew(t.Context())
	require.ErrorContains(t, l.Holds(), "could not be renewed")
	require.False(t, l.Other(), "and nobody is known to have taken over")
	db.MustExec(`SET GLOBAL read_only = 0`)
	l.renew(t.Context())
	require.NoError(t, l.Holds())
	require.EqualValues(t, 1, l.Epoch(), "nobody has held it meanwhile")

	var own *Lease
	require.NoError(t, own.Holds())
	require.NoError(t, own.Wait(context.Background()))
	require.False(t, own.Other())
	own.Give()
}
