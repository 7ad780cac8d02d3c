package store

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"
)

const (
	dropBatch   = 500 // rows at a time: no lock is held for long
	dropAtMost  = 40  // batches of one table at a time; the rest goes next time
	keepEstates = 100 // versions of the estate, and of who is told, that stay, however old
)

// old is what has ended before a time, table by table. What has not ended stays.
var old = []struct{ table, condition string }{
	{"operation", "asked_at < ? AND ended_at < ?"},
	{"op_group", "asked_at < ? AND ended_at < ?"},
	{"routine_run", "began_at < ? AND ended_at < ?"},
	{"ladder_act", "at < ?"},
	{"incident", "ended_at < ?"},
	{"note", "noted_at < ? AND due_at < ?"},
	{"setting", "ended_at < ?"},
	{"wiring_check", "ended_at < ?"},
	{"file", "at < ?"},
	{"line_event", "at < ?"},
	{"discharge", "ended_at < ?"},
	{"document", "at < ? AND kind LIKE 'ev-%'"}, // event logs that were erased on the gear
}

// DropOld drops the records that ended longer ago than they are kept.
func (s *Store) DropOld(ctx context.Context, now time.Time, keep Retention) error {
	if keep.Lines > 0 {
		before := now.Add(-keep.Lines).UTC()
		for _, x := range []struct{ table, condition string }{{"line_part", "ended < ?"}, {"gear_message", "at < ?"}, {"picture", "at < ?"}} {
			if err := s.drop(ctx, x.table, x.condition, before); err != nil {
				return fmt.Errorf("drop old rows of %s: %w", x.table, err)
			}
		}
	}
	if keep.Records <= 0 {
		return nil // for ever
	}
	before := now.Add(-keep.Records).UTC()
	for _, x := range old {
		if err := s.drop(ctx, x.table, x.condition, slices.Repeat([]any{before}, strings.Count(x.condition, "?"))...); err != nil {
			return fmt.Errorf("drop old rows of %s: %w", x.table, err)
		}
	}
	for _, table := range []string{"estate_version", "telling"} {
		var newest int
		if err := s.db.GetContext(ctx, &newest, `SELECT COALESCE(MAX(id), 0) FROM `+table); err != nil {
			return sorted(err)
		}
		if err := s.drop(ctx, table, "at < ? AND id <= ?", before, newest-keepEstates); err != nil {
			return err
		}
	}
	return nil
}

func (s *Store) drop(ctx context.Context, table, condition string, args ...any) error {
	for range dropAtMost {
		r, err := s.db.ExecContext(ctx, `DELETE FROM `+table+` WHERE `+condition+fmt.Sprintf(` LIMIT %d`, dropBatch), args...)
		if err != nil {
			return sorted(err)
		}
		if n, err := r.RowsAffected(); err != nil || n < dropBatch {
			return sorted(err)
		}
	}
	return nil
}
