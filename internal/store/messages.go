package store

import (
	"context"
	"strings"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/reading"
)

// AddMessages keeps what gear has said.
func (s *Store) AddMessages(ctx context.Context, all []reading.Message) error {
	if len(all) == 0 {
		return nil
	}
	var args []any
	for _, m := range all {
		args = append(args, m.Device, m.Site, m.At.UTC(), m.Level, m.App, m.Text)
	}
	rows := strings.TrimSuffix(strings.Repeat("(?, ?, ?, ?, ?, ?), ", len(all)), ", ")
	return s.exec(ctx, `INSERT INTO gear_message (device, site, at, level, app, text) VALUES `+rows, args...)
}

// A MessageFilter says which messages are meant; what is empty means all.
type MessageFilter struct {
	Device estate.Key
	Site   estate.Key
	Since  time.Time
	Least  reading.Level
	Find   string // in its device, what said it, or its text; in lower case
	Limit  int
}

// Messages are what gear has said, the newest first.
func (s *Store) Messages(ctx context.Context, f MessageFilter) (all []reading.Message, err error) {
	query, args := `SELECT device, site, at, level, app, text FROM gear_message WHERE at >= ?`, []any{f.Since.UTC()}
	for _, x := range []struct {
		wanted    bool
		condition string
		value     any
	}{
		{f.Device != "", "device = ?", f.Device},
		{f.Site != "", "site = ?", f.Site},
		{f.Least == reading.Critical, "level = ?", reading.Critical},
		{f.Least == reading.Warning, "level <> ?", reading.Fine},
		{f.Find != "", "INSTR(LOWER(CONCAT(device, ' ', app, ' ', text)), ?) > 0", f.Find},
	} {
		if x.wanted {
			query, args = query+` AND `+x.condition, append(args, x.value)
		}
	}
	err = s.db.SelectContext(ctx, &all, query+` ORDER BY at DESC, id DESC LIMIT ?`, append(args, f.Limit)...)
	return all, sorted(err)
}
