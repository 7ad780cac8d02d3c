package store

import (
	"context"

	"github.com/jmoiron/sqlx"

	"plumbbob/internal/core/group"
)

// CreateGroup records several operations that were asked for together.
func (s *Store) CreateGroup(ctx context.Context, g *group.Group, entry Entry) error {
	doc, err := groupForm.write(g.ID, g)
	if err != nil {
		return err
	}
	return s.step(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `
			INSERT INTO op_group (id, kind, state, who, asked_at, doc) VALUES (?, ?, ?, ?, ?, ?)`,
			g.ID, g.Intent.Kind, g.State, g.By.By(), g.Asked, doc)
		if err != nil {
			return err
		}
		return insertEntry(ctx, tx, entry)
	})
}

// SaveGroup records how far a group has come. An ended one does not change any more.
func (s *Store) SaveGroup(ctx context.Context, g *group.Group) error {
	doc, err := groupForm.write(g.ID, g)
	if err != nil {
		return err
	}
	return s.stepBy(ctx, `UPDATE op_group SET doc = ?, state = ? WHERE id = ? AND ended_at IS NULL`, doc, g.State, g.ID)
}

// EndGroup records the end of a group. ErrConflict: that has been done before.
func (s *Store) EndGroup(ctx context.Context, g *group.Group, entry Entry) error {
	doc, err := groupForm.write(g.ID, g)
	if err != nil {
		return err
	}
	return s.step(ctx, func(tx *sqlx.Tx) error {
		err := changedOne(tx.ExecContext(ctx, `UPDATE op_group SET doc = ?, state = ?, ended_at = ? WHERE id = ? AND ended_at IS NULL`, doc, g.State, g.Ended, g.ID))
		if err != nil {
			return err
		}
		return insertEntry(ctx, tx, entry)
	})
}

var groupForm = form[group.Group]{"group", group.Version, nil}

// GroupFilter narrows a list of groups.
type GroupFilter struct {
	Unended bool   // only those that have not ended
	Before  string // only those that were asked for before this one
	Limit   int
}

// Groups lists groups, the newest first.
func (s *Store) Groups(ctx context.Context, f GroupFilter) ([]*group.Group, error) {
	out, _, err := list(ctx, s, groupForm, `
		SELECT id, '' AS device, doc FROM op_group
		WHERE (? = 0 OR ended_at IS NULL) AND (? = '' OR (asked_at, id) < (SELECT asked_at, id FROM op_group WHERE id = ?))
		ORDER BY asked_at DESC, id DESC LIMIT ?`, f.Unended, f.Before, f.Before, f.Limit)
	return out, err
}

// Group finds one group.
func (s *Store) Group(ctx context.Context, id string) (*group.Group, error) {
	return one(ctx, s, groupForm, `SELECT id, '' AS device, doc FROM op_group WHERE id = ?`, id)
}
