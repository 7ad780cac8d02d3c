package client

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"

	"github.com/spf13/cobra"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/journal"
)

func (a *app) journalVerifyCommand() *cobra.Command {
	return &cobra.Command{
		Use: "verify [FILE]", Short: "Prove that no entry was altered or removed",
		Long: `Go through the whole journal and check that each entry carries the hash of the
one before: that of the service, or, with FILE, one that was exported, for which
no service is needed.

The head that is printed seals all entries before it. Keep it elsewhere: when it
is found again later, at the same entry, nothing before that has changed.`,
		Args: args(0, 1, "plumb journal verify [FILE]"),
		RunE: func(c *cobra.Command, given []string) error {
			if len(given) == 1 {
				return a.verifyFile(given[0])
			}
			s, err := a.service()
			if err != nil {
				return err
			}
			seal, err := ask[contract.JournalSeal](s)(s.VerifyJournal(c.Context()))
			if err != nil {
				return err
			}
			return a.sealed(seal)
		},
	}
}

// sealed says whether a chain holds.
func (a *app) sealed(s contract.JournalSeal) error {
	if a.output != "table" {
		if err := a.show(s, func() table {
			return table{columns: []string{"holds", "entries", "head"}, rows: [][]cell{row(s.Holds, s.Entries, s.Head)}}
		}); err != nil {
			return err
		}
	} else if s.Holds && s.Entries == 0 {
		fmt.Fprintln(a.out, "The journal is empty.")
	} else if s.Holds {
		fmt.Fprintf(a.out, "The journal holds: %d entries, none altered, none removed.\nHead, at entry %d:\n  %s\n", s.Entries, *s.Newest, s.Head)
	}
	if !s.Holds {
		return fail(ExitFailed, "the journal does not hold: entry %d %s. %d entries before it hold", *s.BreaksAt, *s.Trouble, s.Entries)
	}
	return nil
}

// maxEntry bounds a line of an exported journal.
const maxEntry = 1 << 20

func (a *app) verifyFile(name string) error {
	f, err := os.Open(name)
	if err != nil {
		return fail(ExitUsage, "%s", err)
	}
	defer func() { _ = f.Close() }()
	lines := bufio.NewScanner(f)
	lines.Buffer(nil, maxEntry)
	var chain journal.Chain
	for n := 1; lines.Scan(); n++ {
		var v contract.JournalEntry
		if err := json.Unmarshal(lines.Bytes(), &v); err != nil {
			return fail(ExitUsage, "%s:%d: is not an entry of a journal: %s", name, n, err)
		}
		e := entryOf(v)
		if err := chain.Add(&e); err != nil {
			b := new(journal.BreakError)
			errors.As(err, &b)
			return a.sealed(contract.JournalSeal{Entries: chain.N, Newest: &chain.Last, Head: string(chain.Head), BreaksAt: &b.ID, Trouble: &b.Text})
		}
	}
	if err := lines.Err(); err != nil {
		return fail(ExitUsage, "%s: %s", name, err)
	}
	return a.sealed(contract.JournalSeal{Holds: true, Entries: chain.N, Newest: &chain.Last, Head: string(chain.Head)})
}

func entryOf(v contract.JournalEntry) journal.Entry {
	return journal.Entry{
		ID: v.ID, At: v.At, RecordedAt: v.Recorded, Site: estate.Key(v.Site), Device: estate.Key(v.Device), Who: v.Who, Kind: v.Kind,
		Text: v.Text, Why: v.Why, Result: v.Result, OperationID: v.Operation, BeforeW: v.BeforeW, AfterW: v.AfterW,
		Prev: journal.Hash(v.Prev), Hash: journal.Hash(v.Hash),
	}
}

func (a *app) journalExportCommand() *cobra.Command {
	var file string
	var after int64
	c := &cobra.Command{
		Use: "export", Short: "The whole journal as JSON Lines, the oldest entry first",
		Example: "  plumb journal export --file journal.jsonl && plumb journal verify journal.jsonl",
		Args:    args(0, 0, "plumb journal export [--file FILE] [--after ID]"),
		RunE: a.loggedIn(func(c *cobra.Command, _ []string, s *service) error {
			return a.exportJournal(c.Context(), s, file, after)
		}),
	}
	c.Flags().StringVar(&file, "file", "", "where to write it; standard output by default")
	c.Flags().Int64Var(&after, "after", 0, "only entries newer than this id")
	return c
}

func (a *app) exportJournal(ctx context.Context, s *service, file string, after int64) (err error) {
	p := contract.ExportJournalParams{}
	if after > 0 {
		p.After = &after
	}
	// The body may be larger than memory, so it is copied as it comes.
	res, err := s.ExportJournal(ctx, &p)
	if err != nil || res.StatusCode != http.StatusOK {
		_, err := ask[nothing](s)(res, err)
		return err
	}
	defer func() { _ = res.Body.Close() }()
	to := a.out
	if file != "" && file != "-" {
		f, err := os.OpenFile(file, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
		if err != nil {
			return fail(ExitFailed, "%s", err)
		}
		defer func() { err = errors.Join(err, f.Close()) }()
		to = f
	}
	if _, err := io.Copy(to, res.Body); err != nil {
		return fail(ExitUnreachable, "the journal broke off: %s", err)
	}
	return nil
}
