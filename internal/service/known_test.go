package service

import (
	"context"
	"log/slog"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/bus"
	"plumbbob/internal/health"
	"plumbbob/internal/people"
	"plumbbob/internal/store/storetest"
)

// TestAHostKeyIsKnownWithoutTheDatabase: whose key was seen is reached again after a start
// that finds the database away, although seeing it is not in the journal.
func TestAHostKeyIsKnownWithoutTheDatabase(t *testing.T) {
	st := storetest.Open(t)
	s := &Service{o: Options{DataDir: t.TempDir()}, Store: st, learned: make(chan struct{}, 1), health: health.New(slog.New(slog.DiscardHandler)), people: people.New(people.Parts{Store: st, Bus: &bus.Bus{}})}
	kept := func(what string) func() bool {
		return func() bool {
			text, _ := os.ReadFile(s.lastKnownFile())
			return strings.Contains(string(text), what)
		}
	}
	pins, err := s.hostKeys(t.Context())
	require.NoError(t, err)
	ctx, stop := context.WithCancel(t.Context())
	ended := make(chan struct{})
	go func() { defer close(ended); _ = s.keepKnown(ctx, nil) }()
	defer func() { stop(); <-ended }()
	require.Eventually(t, kept(`"Hosts"`), keepKnownEvery/2, 10*time.Millisecond)
	require.NoError(t, pins.Learn("192.0.2.7:22", "5ee9"))
	require.Eventually(t, kept(`"192.0.2.7:22":"5ee9"`), keepKnownEvery/2, 10*time.Millisecond)
}
