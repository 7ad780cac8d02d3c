package tell

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"plumbbob/internal/bus"
	"plumbbob/internal/core/journal"
	"plumbbob/internal/health"
	"plumbbob/internal/store"
	"plumbbob/internal/whole"
)

// JournalArchive moves what is old out of the journal, into files of JSON Lines whose
// first line has the ends of the chain. Nothing is dropped that is not in a file, on
// disk, and holds.
type JournalArchive struct {
	Store  *store.Store
	Health *health.Book
	Bus    *bus.Bus
	Dir    string
	Keep   time.Duration // in the journal; 0: for ever
}

const (
	archiveEvery = time.Hour
	archiveMost  = 50_000 // entries in one file
)

// Run archives until ctx ends, and returns the cause.
func (a *JournalArchive) Run(ctx context.Context) error {
	tick := time.NewTicker(archiveEvery)
	defer tick.Stop()
	for {
		more, err := a.Once(ctx, time.Now())
		if err != nil && ctx.Err() == nil && !errors.Is(err, store.ErrAway) {
			a.Health.Ails("journal archive", "what is old stays in the journal: "+err.Error())
		} else if err == nil {
			a.Health.Well("journal archive")
		}
		if more && err == nil {
			continue
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-tick.C:
		}
	}
}

// Once archives one file of what is old, and says whether there may be more.
func (a *JournalArchive) Once(ctx context.Context, now time.Time) (more bool, err error) {
	if a.Keep <= 0 {
		return false, nil
	}
	if err := a.Store.DropArchived(ctx); err != nil { // what a crash has left
		return false, err
	}
	ends, err := a.Store.Oldest(ctx, now.Add(-a.Keep), archiveMost)
	if err != nil || ends.Last == 0 {
		return false, err
	}
	text, err := a.part(ctx, &ends)
	if err != nil {
		return false, err
	}
	if err := os.MkdirAll(a.Dir, 0o700); err != nil {
		return false, err
	}
	name := fmt.Sprintf("journal-%09d-%09d.jsonl", ends.First, ends.Last)
	if err := whole.Write(filepath.Join(a.Dir, name), text); err != nil {
		return false, err
	}
	entry := store.Entry{
		At: now.UTC(), Who: "plumbd", Kind: store.EntryService, Result: "done",
		Text: fmt.Sprintf("Entries %d to %d archived in %s, which ends with %s", ends.First, ends.Last, name, ends.Hash),
	}
	if err := a.Store.Archive(ctx, store.ArchivedPart{Ends: ends, File: name, At: now}, entry); err != nil {
		return false, err
	}
	a.Bus.Journal.Publish(bus.NewEntry{})
	return ends.Last-ends.First+1 >= archiveMost, nil
}

// errPart ends the reading of a part.
var errPart = errors.New("that is all")

// part is the text of a file with these entries, which have to hold.
func (a *JournalArchive) part(ctx context.Context, ends *journal.Ends) ([]byte, error) {
	var entries bytes.Buffer
	lines := json.NewEncoder(&entries)
	proof := journal.Proof{Chain: journal.Behind(ends.First-1, ends.Prev)}
	err := a.Store.EachEntry(ctx, ends.First-1, func(e *journal.Entry) error {
		if e.ID > ends.Last {
			return errPart
		}
		proof.Add(e)
		return lines.Encode(e)
	})
	if err != nil && !errors.Is(err, errPart) {
		return nil, err
	}
	if proof.End(ends.Last); len(proof.Open) > 0 {
		return nil, fmt.Errorf("it does not hold at entry %d: acknowledge that first (plumb journal verify)", proof.Open[0].ID)
	}
	ends.Hash = proof.Head
	first, err := json.Marshal(journal.Archive{Archive: ends})
	return append(append(first, '\n'), entries.Bytes()...), err
}
