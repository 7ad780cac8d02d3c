package api

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/journal"
	"plumbbob/internal/store"
)

// GetJournal implements the contract.
func (s *Server) GetJournal(ctx context.Context, req contract.GetJournalRequestObject) (contract.GetJournalResponseObject, error) {
	f := store.JournalFilter{Limit: limitOf(req.Params.Limit)}
	if req.Params.Before != nil {
		f.Before = *req.Params.Before
	}
	if req.Params.Device != nil {
		f.Device = estate.Key(*req.Params.Device)
	}
	if req.Params.Who != nil {
		f.Who = *req.Params.Who
	}
	if req.Params.Kind != nil {
		if f.Kind = *req.Params.Kind; !slices.Contains(store.EntryKinds, f.Kind) {
			return nil, usage("the journal has no kind %q: it has %s", f.Kind, strings.Join(store.EntryKinds, ", "))
		}
	}
	es, err := s.Store.Journal(ctx, f)
	if err != nil {
		return nil, err
	}
	out := contract.GetJournal200JSONResponse{Body: []contract.JournalEntry{}}
	for _, e := range es {
		out.Body = append(out.Body, entryView(e))
	}
	if len(es) == 0 && f.Before == 0 {
		if err := s.knows(f.Device); err != nil {
			return nil, err
		}
	}
	out.Headers.Link = nextPage(ctx, es, f.Limit, func(e store.Entry) string { return fmt.Sprint(e.ID) })
	return out, nil
}

// VerifyJournal implements the contract.
func (s *Server) VerifyJournal(ctx context.Context, _ contract.VerifyJournalRequestObject) (contract.VerifyJournalResponseObject, error) {
	p, err := s.Store.VerifyJournal(ctx)
	if err != nil {
		return nil, err
	}
	out := contract.VerifyJournal200JSONResponse{Holds: len(p.Open) == 0, Entries: p.N, Head: string(p.Head), Breaks: []contract.JournalBreak{}}
	if p.N > 0 {
		out.Newest = &p.Last
	}
	a, err := s.Store.Archived(ctx)
	if err != nil {
		return nil, err
	}
	if a.Last > 0 {
		out.Archived = &contract.JournalArchived{Last: a.Last, Hash: string(a.Hash), File: a.File}
	}
	for _, b := range p.Breaks {
		view := contract.JournalBreak{Entry: b.ID, Text: b.Text}
		if b.Seen != nil {
			view.By, view.Why = &b.Seen.By, &b.Seen.Why
		}
		out.Breaks = append(out.Breaks, view)
	}
	return out, nil
}

// AcknowledgeBreak implements the contract.
func (s *Server) AcknowledgeBreak(ctx context.Context, req contract.AcknowledgeBreakRequestObject) (contract.AcknowledgeBreakResponseObject, error) {
	p, err := s.Store.VerifyJournal(ctx)
	if err != nil {
		return nil, err
	}
	known := false
	for _, b := range p.Open {
		if b.ID != req.ID {
			continue
		}
		known = true
		e := entry(ctx, store.EntryBreak, "%s", b.Acknowledges())
		e.Why = req.Body.Why
		if err := s.Store.Write(ctx, e); err != nil {
			return nil, err
		}
	}
	if !known {
		return nil, &missing{fmt.Sprintf("there is no break at entry %d that nobody has acknowledged: plumb journal verify lists them", req.ID)}
	}
	s.written()
	return contract.AcknowledgeBreak204Response{}, nil
}

// ExportJournal implements the contract.
func (s *Server) ExportJournal(ctx context.Context, req contract.ExportJournalRequestObject) (contract.ExportJournalResponseObject, error) {
	lines := &journalLines{ctx: ctx, store: s.Store}
	if req.Params.After != nil {
		lines.after = *req.Params.After
	}
	return lines, s.Store.Ping(ctx) // once it has begun, an error can only break it off
}

// journalLines writes a journal as it is read: it may be longer than memory.
type journalLines struct {
	ctx   context.Context
	store *store.Store
	after int64
}

// VisitExportJournalResponse implements the contract.
func (l *journalLines) VisitExportJournalResponse(w http.ResponseWriter) error {
	w.Header().Set("Content-Type", "application/x-ndjson")
	w.Header().Set("Content-Disposition", `attachment; filename="journal.jsonl"`)
	out := bufio.NewWriter(w)
	enc := json.NewEncoder(out)
	err := l.store.EachEntry(l.ctx, l.after, func(e *store.Entry) error { return enc.Encode(e) })
	return errors.Join(err, out.Flush())
}

// entryView keeps what the hash of an entry is made of.
func entryView(e store.Entry) contract.JournalEntry {
	return contract.JournalEntry{
		ID: e.ID, At: e.At.UTC(), Recorded: e.RecordedAt.UTC(), Site: string(e.Site), Device: string(e.Device), Who: e.Who,
		Kind: e.Kind, Text: e.Text, Why: e.Why, Result: e.Result, Operation: e.OperationID,
		BeforeW: journal.Thousandth(e.BeforeW), AfterW: journal.Thousandth(e.AfterW), Prev: string(e.Prev), Hash: string(e.Hash),
	}
}
