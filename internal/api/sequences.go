package api

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/broker"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/keyboard"
	"plumbbob/internal/core/sequence"
	"plumbbob/internal/store"
)

// ListSequences implements the contract.
func (s *Server) ListSequences(ctx context.Context, _ contract.ListSequencesRequestObject) (contract.ListSequencesResponseObject, error) {
	all, err := s.Store.Sequences(ctx)
	if err != nil {
		return nil, err
	}
	out := contract.ListSequences200JSONResponse{}
	for _, q := range all {
		out = append(out, contract.Sequence{Name: q.Name, Text: q.Text, Layout: q.Layout, SetAt: q.SetAt.UTC(), SetBy: q.SetBy})
	}
	return out, nil
}

// SetSequence implements the contract.
func (s *Server) SetSequence(ctx context.Context, req contract.SetSequenceRequestObject) (contract.SetSequenceResponseObject, error) {
	if !estate.ValidKey(req.Name) {
		return nil, usage("%q cannot be a name: use lower-case letters, digits and hyphens", req.Name)
	}
	layout := cmp.Or(orZero(req.Body.Layout), usualLayout)
	if !slices.Contains(keyboard.Layouts(), layout) {
		return nil, usage("%q is no layout that is known: %s are", layout, strings.Join(keyboard.Layouts(), ", "))
	}
	if _, err := sequence.ReadForAScreen(req.Body.Text, layout); err != nil {
		return nil, usage("sequence %s: %s", req.Name, err)
	}
	q := store.SequenceText{Name: req.Name, Text: req.Body.Text, Layout: layout, SetAt: nowUTC(), SetBy: whoIs(ctx).Account}
	if err := s.Store.SetSequence(ctx, q, entry(ctx, store.EntrySequence, "Sequence %s set", req.Name)); err != nil {
		return nil, err
	}
	return contract.SetSequence204Response{}, nil
}

// RemoveSequence implements the contract.
func (s *Server) RemoveSequence(ctx context.Context, req contract.RemoveSequenceRequestObject) (contract.RemoveSequenceResponseObject, error) {
	err := s.Store.RemoveSequence(ctx, req.Name, entry(ctx, store.EntrySequence, "Sequence %s removed", req.Name))
	if errors.Is(err, store.ErrConflict) {
		return nil, noSequence(req.Name)
	}
	if err != nil {
		return nil, err
	}
	return contract.RemoveSequence204Response{}, nil
}

func noSequence(name string) error {
	return &missing{fmt.Sprintf("there is no sequence %q: plumb sequence list shows them", name)}
}

// play plays a sequence beside what else is done at the screen, until it ends or somebody stops it.
func (l *looker) play(ctx context.Context, name string) error {
	all, err := l.sequences(ctx)
	if err != nil {
		return errors.New("nothing was pressed: the sequences cannot be read now")
	}
	at := slices.IndexFunc(all, func(q store.SequenceText) bool { return q.Name == name })
	if at < 0 {
		return noSequence(name)
	}
	q := all[at]
	moves, err := sequence.ReadForAScreen(q.Text, q.Layout)
	if err != nil {
		return fmt.Errorf("sequence %s: %w", name, err)
	}
	return l.beside(ctx, func(ctx context.Context) error {
		ctx, stop := context.WithCancelCause(ctx)
		defer stop(nil)
		l.stop.Store(&stop)
		told := func(text string) {
			_ = l.send(ctx, screenMessage{Playing: &playing{Name: name, Text: text}}) // or they have gone
		}
		told("it begins")
		err := l.view.Play(ctx, moves, q.Layout, broker.Pace{Held: keyHeld, Gap: keyGap}, told)
		l.view.LetGo()
		m := screenMessage{Playing: &playing{Name: name, Text: "it is through", Ended: true}}
		said := "to its end"
		if err != nil {
			m.Playing.Text, m.Playing.Failed, said = err.Error(), true, err.Error()
		}
		l.view.Record("Played the sequence %s at the screen of %s: %s", name, l.device, said)
		_ = l.send(context.WithoutCancel(ctx), m) // or they have gone
		return nil
	})
}

// playing is how far a sequence has come.
type playing struct {
	Name   string `json:"name"`
	Text   string `json:"text"`
	Ended  bool   `json:"ended"`
	Failed bool   `json:"failed"`
}

var errStopped = errors.New("it was stopped")

func (l *looker) stopPlaying() {
	if stop := l.stop.Load(); stop != nil {
		(*stop)(errStopped)
	}
}
