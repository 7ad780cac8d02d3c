package store

import (
	"context"
	"strings"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/core/serial"
)

// A LinePart is a part of what a serial line has said.
type LinePart struct {
	Device  estate.Key `db:"device"`
	Site    estate.Key `db:"site"`
	Began   time.Time  `db:"began"`
	Ended   time.Time  `db:"ended"`
	Content []byte     `db:"content"` // as serial.Part writes it
}

// SaveLinePart keeps a part; one that began at the same moment is the same, and has grown.
func (s *Store) SaveLinePart(ctx context.Context, p LinePart) error {
	return s.exec(ctx, `
		INSERT INTO line_part (device, began, ended, site, content) VALUES (?, ?, ?, ?, ?)
		ON DUPLICATE KEY UPDATE ended = VALUES(ended), content = VALUES(content)`, p.Device, p.Began.UTC(), p.Ended.UTC(), p.Site, p.Content)
}

// LineParts has each part of a time seen, in order, or the newest first, until that
// returns false.
func (s *Store) LineParts(ctx context.Context, k estate.Key, from, to time.Time, newestFirst bool, see func(LinePart) bool) error {
	order := map[bool]string{true: " DESC"}[newestFirst]
	rows, err := s.db.QueryxContext(ctx, `
		SELECT device, site, began, ended, content FROM line_part
		WHERE device = ? AND ended >= ? AND began <= ? ORDER BY began`+order, k, from.UTC(), to.UTC())
	if err != nil {
		return sorted(err)
	}
	defer func() { _ = rows.Close() }() // what matters of it is in rows.Err
	for rows.Next() {
		var p LinePart
		if err := rows.StructScan(&p); err != nil {
			return sorted(err)
		}
		if !see(p) {
			return nil
		}
	}
	return sorted(rows.Err())
}

// DropLines drops of what one line has said the oldest that is more than so many bytes.
func (s *Store) DropLines(ctx context.Context, k estate.Key, most int) error {
	return s.dropAbove(ctx, "line_part", "device", "began", k, most)
}

// dropAbove drops the oldest rows of what has grown beyond so many bytes of content: those of a
// device or a site, ordered by a time.
func (s *Store) dropAbove(ctx context.Context, table, owner, at string, k estate.Key, most int) error {
	var rows []struct {
		At    time.Time `db:"at"`
		Bytes int       `db:"bytes"`
	}
	if err := s.db.SelectContext(ctx, &rows, `SELECT `+at+` AS at, LENGTH(content) AS bytes FROM `+table+` WHERE `+owner+` = ? ORDER BY `+at+` DESC`, k); err != nil {
		return sorted(err)
	}
	all := 0
	for _, r := range rows {
		if all += r.Bytes; all > most {
			return s.drop(ctx, table, owner+" = ? AND "+at+" <= ?", k, r.At)
		}
	}
	return nil
}

// A LineEvent is something known that a serial line has said.
type LineEvent struct {
	Device estate.Key    `db:"device"`
	Site   estate.Key    `db:"site"`
	At     time.Time     `db:"at"`
	Name   string        `db:"name"`
	Level  reading.Level `db:"level"`
	Text   string        `db:"text"`
	Screen bool          `db:"screen"` // its screen has shown it, and not its line said
}

const longestEvent = 250 // characters of its text

// AddLineEvents keeps what was recognised, on a serial line or on a screen.
func (s *Store) AddLineEvents(ctx context.Context, k, site estate.Key, screen bool, found []serial.Found) error {
	if len(found) == 0 {
		return nil
	}
	var args []any
	for _, f := range found {
		text := []rune(f.Text)
		args = append(args, k, site, f.At.UTC(), f.Name, f.Level, string(text[:min(len(text), longestEvent)]), screen)
	}
	rows := strings.TrimSuffix(strings.Repeat("(?, ?, ?, ?, ?, ?, ?), ", len(found)), ", ")
	return s.exec(ctx, `INSERT INTO line_event (device, site, at, name, level, text, screen) VALUES `+rows, args...)
}

// LineEvents are what was recognised on the line of a device and on its screen, or, without one, on all, the
// newest first.
func (s *Store) LineEvents(ctx context.Context, k estate.Key, since time.Time, limit int) (events []LineEvent, err error) {
	query, args := `SELECT device, site, at, name, level, text, screen FROM line_event WHERE at >= ?`, []any{since.UTC()}
	if k != "" {
		query, args = query+` AND device = ?`, append(args, k)
	}
	err = s.db.SelectContext(ctx, &events, query+` ORDER BY at DESC, id DESC LIMIT ?`, append(args, limit)...)
	return events, sorted(err)
}
