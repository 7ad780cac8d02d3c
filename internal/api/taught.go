package api

import (
	"cmp"
	"context"
	"errors"
	"fmt"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/glyph"
	"plumbbob/internal/screen"
	"plumbbob/internal/store"
)

// The size of a text mode, where nothing else is said.
const usualColumns, usualLines = 80, 25

// mostTaught is how many characters are kept that people have said.
const mostTaught = 20_000

// TeachScreen implements the contract.
func (s *Server) TeachScreen(ctx context.Context, req contract.TeachScreenRequestObject) (contract.TeachScreenResponseObject, error) {
	key := estate.Key(req.Key)
	p, err := s.shown(ctx, key, true)
	if err != nil {
		return nil, err
	}
	grid := glyph.Grid{Columns: cmp.Or(orZero(req.Body.Columns), usualColumns), Lines: cmp.Or(orZero(req.Body.Lines), usualLines)}
	learnt, err := glyph.Learn(p, screen.Fonts(), grid, req.Body.Row-1, req.Body.Says)
	if err != nil {
		return nil, usage("row %d of the screen of %s: %s", req.Body.Row, key, err)
	}
	out := contract.TeachScreen200JSONResponse{}
	cells := make([]store.TaughtCell, len(learnt))
	now := nowUTC()
	for i, c := range learnt {
		cells[i] = store.TaughtCell{Width: c.W, Height: c.H, Bits: []byte(c.Bits), Char: c.Char, SetAt: now, SetBy: whoIs(ctx).Account}
		out.Characters += string(c.Char)
	}
	if len(cells) > 0 {
		if err := s.teach(ctx, key, cells, out.Characters); err != nil {
			return nil, err
		}
	}
	out.Text = textOf(p)
	return out, nil
}

func (s *Server) teach(ctx context.Context, key estate.Key, cells []store.TaughtCell, characters string) error {
	have, err := s.Store.TaughtCells(ctx)
	if err != nil {
		return err
	}
	if len(have)+len(cells) > mostTaught {
		return usage("%d characters are kept already, and %d are the most: plumb glyph list shows them, and plumb glyph forget those of a size", len(have), mostTaught)
	}
	e := entry(ctx, store.EntryScreen, "Taught what the screen of %s draws: %s", key, characters)
	e.Device = key
	if err := s.Store.Teach(ctx, cells, e); err != nil {
		return err
	}
	return KnowTaught(ctx, s.Store)
}

// KnowTaught has pictures be read with what people have taught.
func KnowTaught(ctx context.Context, st *store.Store) error {
	all, err := st.TaughtCells(ctx)
	if err != nil {
		return err
	}
	cells := make([]glyph.Cell, len(all))
	for i, c := range all {
		cells[i] = glyph.Cell{W: c.Width, H: c.Height, Bits: string(c.Bits), Char: c.Char}
	}
	screen.Taught(cells)
	return nil
}

// ListTaught implements the contract.
func (s *Server) ListTaught(ctx context.Context, _ contract.ListTaughtRequestObject) (contract.ListTaughtResponseObject, error) {
	all, err := s.Store.TaughtCells(ctx)
	if err != nil {
		return nil, err
	}
	out := contract.ListTaught200JSONResponse{}
	for _, c := range all {
		if n := len(out); n == 0 || out[n-1].Width != c.Width || out[n-1].Height != c.Height {
			out = append(out, contract.TaughtFont{Width: c.Width, Height: c.Height})
		}
		f := &out[len(out)-1]
		f.Characters += string(c.Char)
		if c.SetAt.After(f.SetAt) {
			f.SetAt, f.SetBy = c.SetAt.UTC(), c.SetBy
		}
	}
	return out, nil
}

// ForgetTaught implements the contract.
func (s *Server) ForgetTaught(ctx context.Context, req contract.ForgetTaughtRequestObject) (contract.ForgetTaughtResponseObject, error) {
	var w, h int
	if n, err := fmt.Sscanf(req.Size+"\n", "%dx%d\n", &w, &h); err != nil || n != 2 {
		return nil, usage("%q is no size of cells: write it as 8x16", req.Size)
	}
	err := s.Store.Forget(ctx, w, h, entry(ctx, store.EntryScreen, "Forgot the characters of %d × %d pixels that were taught", w, h))
	if errors.Is(err, store.ErrConflict) {
		return nil, &missing{fmt.Sprintf("no characters of %d × %d pixels were taught: plumb glyph list shows those that were", w, h)}
	}
	if err != nil {
		return nil, err
	}
	if err := KnowTaught(ctx, s.Store); err != nil {
		return nil, err
	}
	return contract.ForgetTaught204Response{}, nil
}
