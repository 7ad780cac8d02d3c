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
	"strconv"

	"github.com/spf13/cobra"

	"plumbbob/internal/api/contract"
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
	switch {
	case a.output != "table":
		if err := a.show(s, func() table {
			return table{columns: []string{"holds", "entries", "head"}, rows: [][]cell{row(s.Holds, s.Entries, s.Head)}}
		}); err != nil {
			return err
		}
	case s.Entries == 0 && s.Holds:
		fmt.Fprintln(a.out, "The journal is empty.")
	default:
		open := 0
		for _, b := range s.Breaks {
			text := fmt.Sprintf("Entry %d %s", b.Entry, b.Text)
			if b.By != nil {
				text += fmt.Sprintf(" — acknowledged by %s: %s", *b.By, deref(b.Why))
			} else {
				open++
			}
			fmt.Fprintln(a.out, a.wrap(text, 0, "    "))
		}
		if len(s.Breaks) == 0 {
			fmt.Fprintf(a.out, "The journal holds: %d entries, none altered, none removed.\n", s.Entries)
		} else if open == 0 {
			fmt.Fprintf(a.out, "Beside that the journal holds: %d entries.\n", s.Entries)
		}
		if s.Archived != nil {
			fmt.Fprintln(a.out, a.wrap(fmt.Sprintf("Entries up to %d are in archives, the newest of them journal/%s, which ends with %s", s.Archived.Last, s.Archived.File, s.Archived.Hash), 0, "    "))
		}
		fmt.Fprintf(a.out, "Head, at entry %d:\n  %s\n", *s.Newest, s.Head)
	}
	if !s.Holds {
		return fail(ExitFailed, "the journal does not hold: see what happened, and acknowledge it with plumb journal acknowledge ENTRY --why TEXT")
	}
	return nil
}

func (a *app) journalAcknowledgeCommand() *cobra.Command {
	var why string
	c := &cobra.Command{
		Use: "acknowledge ENTRY", Short: "Acknowledge a break of the journal, as it is now", Args: args(1, 1, "plumb journal acknowledge ENTRY --why TEXT"),
		Long: `Acknowledge a break that plumb journal verify tells of, by an entry of its own: who,
when and why stand in the journal from then on. A break that changes afterwards is
another, and shows again.`,
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			id, err := strconv.ParseInt(given[0], 10, 64)
			if err != nil {
				return fail(ExitUsage, "%q is not the number of an entry: plumb journal verify lists the breaks", given[0])
			}
			if why == "" {
				return fail(ExitUsage, "say what happened: add --why TEXT")
			}
			_, err = ask[nothing](s)(s.AcknowledgeBreak(c.Context(), id, contract.Acknowledgement{Why: why}))
			return err
		}),
	}
	c.Flags().StringVar(&why, "why", "", "what happened")
	return c
}

// maxEntry bounds a line of an exported journal.
const maxEntry = 1 << 20

func (a *app) verifyFile(name string) error {
	f, err := a.open(name)
	if err != nil {
		return err
	}
	defer func() { _ = f.Close() }()
	lines := bufio.NewScanner(f)
	lines.Buffer(nil, maxEntry)
	var p journal.Proof
	var ends journal.Ends
	for n := 1; lines.Scan(); n++ {
		var head journal.Archive
		if n == 1 && json.Unmarshal(lines.Bytes(), &head) == nil && head.Archive != nil {
			ends = *head.Archive
			p.Chain = journal.Behind(ends.First-1, ends.Prev)
			continue
		}
		var e journal.Entry
		if err := json.Unmarshal(lines.Bytes(), &e); err != nil {
			return fail(ExitUsage, "%s:%d: is not an entry of a journal: %s", name, n, err)
		}
		p.Add(&e)
	}
	if err := lines.Err(); err != nil {
		return fail(ExitUsage, "%s: %s", name, err)
	}
	p.End(ends.Last)
	if ends.Last > 0 && p.Head != ends.Hash {
		return fail(ExitFailed, "the archive does not hold: it ends with %s, and its first line says %s", p.Head, ends.Hash)
	}
	seal := contract.JournalSeal{Holds: len(p.Open) == 0, Entries: p.N, Newest: &p.Last, Head: string(p.Head)}
	for _, b := range p.Breaks {
		view := contract.JournalBreak{Entry: b.ID, Text: b.Text}
		if b.Seen != nil {
			view.By, view.Why = &b.Seen.By, &b.Seen.Why
		}
		seal.Breaks = append(seal.Breaks, view)
	}
	return a.sealed(seal)
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
		f, err := a.create(file, os.O_TRUNC)
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
