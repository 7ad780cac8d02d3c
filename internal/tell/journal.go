// Package tell sends out what happens here to those who want to know.
//
//	journal.go  a copy of the journal, to a syslog collector
//	archive.go  what is old of it, to files
package tell

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"time"

	"plumbbob/internal/bus"
	"plumbbob/internal/core/journal"
	"plumbbob/internal/store"
	"plumbbob/internal/wire/syslog"
)

// JournalCopy sends every entry of the journal to a collector, in order. How far
// it has come is on record, so that a restart, or a collector that was away,
// leaves no gap.
type JournalCopy struct {
	Store *store.Store
	To    *syslog.Collector
	Log   *slog.Logger

	wake <-chan bus.NewEntry
}

// NewJournalCopy returns a copy of all that is written from now on, or since it
// was last sent. It sends nothing before Run. That the database is away is no error.
func NewJournalCopy(ctx context.Context, s *store.Store, to *syslog.Collector, log *slog.Logger, b *bus.Bus) (*JournalCopy, error) {
	_, err := s.Copied(ctx, copyName)
	if errors.Is(err, store.ErrAway) {
		err = nil
	}
	wake, _ := b.Journal.Queue(1)
	return &JournalCopy{Store: s, To: to, Log: log, wake: wake}, err
}

// copyName is under which it is on record how far the copy has come.
const copyName = "syslog"

// Every so often it is tried again, and entries are looked for that nobody told of.
const copyEvery = 10 * time.Second

// Run copies until ctx ends, and returns the cause.
func (c *JournalCopy) Run(ctx context.Context) error {
	defer func() { _ = c.To.Close() }()
	tick := time.NewTicker(copyEvery)
	defer tick.Stop()
	host, _ := os.Hostname()
	said := false
	for {
		err := c.catchUp(ctx, host)
		if err != nil && ctx.Err() == nil && !said {
			c.Log.Warn("the copy of the journal waits", "because", err)
		}
		said = err != nil
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-tick.C:
		case <-c.wake:
		}
	}
}

func (c *JournalCopy) catchUp(ctx context.Context, host string) error {
	at, err := c.Store.Copied(ctx, copyName)
	if err != nil {
		return err
	}
	was := at
	err = c.Store.EachEntry(ctx, at, func(e *store.Entry) error {
		if err := c.To.Send(ctx, message(e, host)); err != nil {
			return err
		}
		at = e.ID
		return nil
	})
	if at > was {
		if err := c.Store.SetCopied(ctx, copyName, at); err != nil {
			return err
		}
	}
	return err
}

func message(e *journal.Entry, host string) syslog.Message {
	m := syslog.Message{
		Facility: syslog.LogAudit, Severity: syslog.Notice, At: e.At, Host: host, App: "plumbd", ID: e.Kind, Text: e.Text,
		Data: map[string]string{
			"id": fmt.Sprint(e.ID), "who": e.Who, "site": string(e.Site), "device": string(e.Device), "result": e.Result,
			"operation": e.OperationID, "why": e.Why, "hash": string(e.Hash),
		},
	}
	for _, k := range []string{"id", "who", "site", "device", "result", "operation", "why", "hash"} {
		if m.Data[k] != "" {
			m.Keys = append(m.Keys, k)
		}
	}
	if e.Result == "failed" || e.Result == "refused" {
		m.Severity = syslog.Warning
	}
	return m
}
