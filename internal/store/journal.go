package store

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/journal"
	"plumbbob/internal/core/reading"
)

// Entry is one line of the journal.
type Entry = journal.Entry

// The kinds of journal entry.
const (
	EntryOperationAsked = "operation-asked"
	EntryOperationEnded = "operation-ended"
	EntryLogIn          = "log-in"
	EntryLogInRefused   = "log-in-refused"
	EntryLogOut         = "log-out"
	EntryAccount        = "account"
	EntryEstate         = "estate"
	EntrySecret         = "secret"
	EntryService        = "service"
	EntryBreak          = journal.KindBreak
	EntryIncident       = "incident"
	EntryController     = "controller"
	EntrySupply         = "supply" // what happened to a UPS by itself, or by command
	EntryOutlet         = "outlet" // names and settings of outlets
	EntryCard           = "card"   // the card of a PDU or a UPS
	EntryWiring         = "wiring"
	EntryProfile        = "profile"
	EntryWindow         = "window"
	EntryCalendar       = "calendar"
	EntrySerial         = "serial" // who sat at a serial line
	EntryScreen         = "screen" // who sat at a screen
	EntrySequence       = "sequence"
	EntryTelling        = "telling" // who is told of what, and was
	EntryGroup          = "group"   // several operations that were asked for together
	EntryRoutine        = "routine" // what is done without anybody at hand
	EntryLadder         = "ladder"  // how devices that hang are helped
	EntryDrill          = "drill"   // ways to rescue devices were tried without harm
)

// EntryKinds are all the kinds of entry.
var EntryKinds = []string{
	EntryOperationAsked, EntryOperationEnded, EntryLogIn, EntryLogInRefused, EntryLogOut, EntryAccount, EntryEstate, EntrySecret, EntryService, EntryBreak,
	EntryIncident, EntryController, EntrySupply, EntryOutlet, EntryCard, EntryWiring, EntryProfile, EntryWindow, EntryCalendar, EntryGroup, EntrySerial, EntryScreen, EntrySequence, EntryTelling, EntryRoutine, EntryLadder, EntryDrill,
}

// Write adds entries, all of them or none.
func (s *Store) Write(ctx context.Context, es ...Entry) error {
	return s.change(ctx, es, func(*sqlx.Tx) error { return nil })
}

// journalHead is the newest entry, locked until the transaction ends.
type journalHead struct {
	ID   int64        `db:"id"`
	Hash journal.Hash `db:"hash"`
}

// insertEntry adds an entry behind the newest. It comes last in a transaction:
// nobody else can add one before that ends.
func insertEntry(ctx context.Context, tx *sqlx.Tx, e Entry) error {
	var head journalHead
	if err := tx.GetContext(ctx, &head, `SELECT id, hash FROM journal_head WHERE one = 1 FOR UPDATE`); err != nil {
		return fmt.Errorf("head of the journal: %w", err)
	}
	e.RecordedAt = time.Now()
	fit(&e)
	e.Seal(head.ID+1, head.Hash)
	_, err := tx.NamedExecContext(ctx, `
		INSERT INTO journal (id, at, recorded_at, site, device, who, kind, text, why, result, operation_id, before_w, after_w, prev, hash)
		VALUES (:id, :at, :recorded_at, :site, :device, :who, :kind, :text, :why, :result, :operation_id, :before_w, :after_w, :prev, :hash)`, e)
	if err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, `UPDATE journal_head SET id = ?, hash = ? WHERE one = 1`, e.ID, e.Hash)
	return err
}

// fit bounds an entry to what its columns hold, before it is sealed: what is stored
// has to be what was sealed, and no text may keep an entry out of the record.
func fit(e *Entry) {
	for _, f := range []struct {
		text *string
		most int
	}{
		{(*string)(&e.Site), 63}, {(*string)(&e.Device), 63}, {&e.Who, 64}, {&e.Kind, 32}, {&e.Text, 60_000}, {&e.Why, 500}, {&e.Result, 16}, {&e.OperationID, 10},
	} {
		// MariaDB cuts blanks at the end of what is too long, without a word.
		*f.text = reading.Bounded(strings.TrimRight(strings.ToValidUTF8(*f.text, "?"), " "), f.most)
	}
}

// change makes a change and the journal entries about it, all of it or nothing.
func (s *Store) change(ctx context.Context, entries []Entry, f func(tx *sqlx.Tx) error) error {
	return s.within(ctx, func(tx *sqlx.Tx) error {
		if err := f(tx); err != nil {
			return err
		}
		for _, e := range entries {
			if err := insertEntry(ctx, tx, e); err != nil {
				return err
			}
		}
		return nil
	})
}

// changeBy is change by one statement that must change exactly one row; ErrConflict
// when there is none.
func (s *Store) changeBy(ctx context.Context, entries []Entry, query string, args ...any) error {
	return s.change(ctx, entries, func(tx *sqlx.Tx) error { return changedOne(tx.ExecContext(ctx, query, args...)) })
}

const entryColumns = `id, at, recorded_at, site, device, who, kind, text, why, result, operation_id, before_w, after_w, prev, hash`

// sealJournal begins the chain: with nothing, or with the entries that were
// made before there was one, in their order and counted anew.
func (s *Store) sealJournal(ctx context.Context) error {
	return s.within(ctx, func(tx *sqlx.Tx) error {
		var begun int
		if err := tx.GetContext(ctx, &begun, `SELECT COUNT(*) FROM journal_head`); err != nil || begun > 0 {
			return err
		}
		var old []Entry
		if err := tx.SelectContext(ctx, &old, `SELECT `+entryColumns+` FROM journal ORDER BY id`); err != nil {
			return err
		}
		head := journalHead{Hash: journal.First}
		for i := range old {
			was := old[i].ID
			old[i].Seal(head.ID+1, head.Hash)
			head = journalHead{old[i].ID, old[i].Hash}
			_, err := tx.ExecContext(ctx, `UPDATE journal SET id = ?, prev = ?, hash = ? WHERE id = ?`, old[i].ID, old[i].Prev, old[i].Hash, was)
			if err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO journal_head (one, id, hash) VALUES (1, ?, ?)`, head.ID, head.Hash)
		return err
	})
}

// VerifyJournal goes through the whole journal, and lists every break.
func (s *Store) VerifyJournal(ctx context.Context) (journal.Proof, error) {
	p := journal.Proof{Whole: true}
	var head journalHead
	if err := s.db.GetContext(ctx, &head, `SELECT id, hash FROM journal_head WHERE one = 1`); err != nil {
		return p, sorted(err)
	}
	archived, err := s.Archived(ctx)
	if err != nil {
		return p, err
	}
	p.Chain = journal.Behind(archived.Last, archived.Hash)
	if err := s.EachEntry(ctx, archived.Last, func(e *Entry) error { p.Add(e); return nil }); err != nil {
		return p, err
	}
	p.End(head.ID) // more may have come meanwhile, but none can go
	return p, nil
}

// pageOfEntries is how many entries are held at once.
const pageOfEntries = 1000

// EachEntry calls f with every entry behind one, the oldest first, until f
// returns an error.
func (s *Store) EachEntry(ctx context.Context, after int64, f func(*Entry) error) error {
	for {
		var es []Entry
		err := s.db.SelectContext(ctx, &es, `SELECT `+entryColumns+` FROM journal WHERE id > ? ORDER BY id LIMIT ?`, after, pageOfEntries)
		if err != nil {
			return sorted(err)
		}
		for i := range es {
			if err := f(&es[i]); err != nil {
				return err
			}
			after = es[i].ID
		}
		if len(es) < pageOfEntries {
			return nil
		}
	}
}

// Copied returns how far a copy of the journal has come. One that is new begins
// with what comes next.
func (s *Store) Copied(ctx context.Context, name string) (id int64, err error) {
	if err := s.exec(ctx, `INSERT IGNORE INTO journal_copy (name, id) SELECT ?, id FROM journal_head`, name); err != nil {
		return 0, err
	}
	return id, sorted(s.db.GetContext(ctx, &id, `SELECT id FROM journal_copy WHERE name = ?`, name))
}

// SetCopied records how far a copy of the journal has come.
func (s *Store) SetCopied(ctx context.Context, name string, id int64) error {
	return s.exec(ctx, `UPDATE journal_copy SET id = ? WHERE name = ?`, id, name)
}

// JournalFilter narrows what is read of the journal.
type JournalFilter struct {
	Before int64 // only entries with a smaller id; 0 means from the newest
	After  int64 // only entries with a larger id
	Device estate.Key
	Who    string
	Kind   string
	Limit  int
}

// Journal returns entries, the newest first.
func (s *Store) Journal(ctx context.Context, f JournalFilter) ([]Entry, error) {
	var es []Entry
	err := s.db.SelectContext(ctx, &es, `
		SELECT `+entryColumns+` FROM journal
		WHERE (? = 0 OR id < ?) AND id > ? AND (? = '' OR device = ?) AND (? = '' OR who = ?) AND (? = '' OR kind = ?)
		ORDER BY id DESC LIMIT ?`, f.Before, f.Before, f.After, f.Device, f.Device, f.Who, f.Who, f.Kind, f.Kind, f.Limit)
	return es, sorted(err)
}
