package store

import (
	"context"
	"encoding/json"
	"fmt"

	"plumbbob/internal/core/estate"
)

// A document is something kept whole in a row, beside the columns for finding it.
// Device is as the estate has it now: it may have been renamed since.
type document struct {
	ID     string     `db:"id"`
	Device estate.Key `db:"device"`
	Doc    []byte     `db:"doc"`
}

// A form is how a kind of document is read and written.
type form[T any] struct {
	what   string                        // in words, for when one cannot be read
	newest int                           // version that this program knows
	set    func(t *T, device estate.Key) // what its columns say better; may be nil
}

// write writes one document as it is kept.
func (f form[T]) write(id string, t *T) ([]byte, error) {
	doc, err := json.Marshal(t)
	if err != nil {
		return nil, fmt.Errorf("%s %s: %w", f.what, id, err)
	}
	return doc, nil
}

// read reads one document, of any version that was ever written.
func (f form[T]) read(d document) (*T, error) {
	var version struct {
		V int `json:"v"`
	}
	t := new(T)
	err := json.Unmarshal(d.Doc, &version)
	if err == nil && version.V > f.newest {
		err = fmt.Errorf("it was written by a newer version of this program (%d, and %d is known)", version.V, f.newest)
	}
	if err == nil {
		err = json.Unmarshal(d.Doc, t)
	}
	if err != nil {
		return nil, &UnreadableError{f.what, d.ID, d.Device, err}
	}
	if f.set != nil {
		f.set(t, d.Device)
	}
	return t, nil
}

// An UnreadableError is about one record that cannot be read, and spoils nothing
// but itself.
type UnreadableError struct {
	What   string
	ID     string
	Device estate.Key
	Err    error
}

func (e *UnreadableError) Error() string {
	return fmt.Sprintf("%s %s of %s cannot be read: %s", e.What, e.ID, e.Device, e.Err)
}
func (e *UnreadableError) Unwrap() error { return e.Err }

// readAll reads documents one by one. What cannot be read is set aside: it is told
// of once, and everything else goes on.
func readAll[T any](s *Store, f form[T], docs []document) (out []*T, unreadable []*UnreadableError) {
	for _, d := range docs {
		t, err := f.read(d)
		if bad, ok := err.(*UnreadableError); ok { //nolint:errorlint // it is what read returns
			s.Health.Ails("record "+bad.ID, bad.Error()+": it is left out")
			unreadable = append(unreadable, bad)
			continue
		}
		out = append(out, t)
	}
	return out, unreadable
}

// list reads the documents that a query finds, with their id and device.
func list[T any](ctx context.Context, s *Store, f form[T], query string, args ...any) ([]*T, []*UnreadableError, error) {
	var docs []document
	if err := s.db.SelectContext(ctx, &docs, query, args...); err != nil {
		return nil, nil, sorted(err)
	}
	out, unreadable := readAll(s, f, docs)
	return out, unreadable, nil
}

// one reads the document that a query finds.
func one[T any](ctx context.Context, s *Store, f form[T], query string, args ...any) (*T, error) {
	var d document
	if err := s.db.GetContext(ctx, &d, query, args...); err != nil {
		return nil, sorted(err)
	}
	return f.read(d)
}
