package store

import (
	"context"
	"crypto/rand"
	"database/sql"
	"time"

	"github.com/jmoiron/sqlx"

	"plumbbob/internal/core/incident"
	"plumbbob/internal/core/telling"
)

// A NoteRow is a note, and how it was sent.
type NoteRow struct {
	telling.Note
	Noted   time.Time
	Tries   int
	Channel string // by which it went, or was tried last
	Says    string // what its channel answered, or why it failed
	Subject string
	Text    string
	Code    string // by which it is answered
}

// Told are notes without how they were sent.
func Told(rows []NoteRow) []telling.Note {
	out := make([]telling.Note, len(rows))
	for n, r := range rows {
		out[n] = r.Note
	}
	return out
}

// noteRow is one as it is kept.
type noteRow struct {
	ID       string         `db:"id"`
	Incident string         `db:"incident_id"`
	Person   string         `db:"person"`
	What     string         `db:"what"`
	Rule     string         `db:"rule"`
	Step     int            `db:"step"`
	State    string         `db:"state"`
	Noted    time.Time      `db:"noted_at"`
	Due      time.Time      `db:"due_at"`
	Held     string         `db:"held"`
	Tries    int            `db:"tries"`
	Sent     sql.NullTime   `db:"sent_at"`
	Kind     string         `db:"kind"`
	Size     int            `db:"size"`
	Channel  string         `db:"channel"`
	Says     string         `db:"says"`
	Subject  string         `db:"subject"`
	Text     sql.NullString `db:"text"`
	Code     string         `db:"code"`
}

const noteColumns = `id, incident_id, person, what, rule, step, state, noted_at, due_at, held, tries, sent_at, kind, size, channel, says, subject, text, code`

func (r noteRow) note() NoteRow {
	return NoteRow{
		Note: telling.Note{
			ID: r.ID, Incident: r.Incident, Person: r.Person, What: telling.What(r.What), Rule: r.Rule, Step: r.Step,
			State: telling.State(r.State), Due: r.Due, Held: r.Held, At: r.Sent.Time, Kind: r.Kind, Size: r.Size,
		},
		Noted: r.Noted, Tries: r.Tries, Channel: r.Channel, Says: r.Says, Subject: r.Subject, Text: r.Text.String, Code: r.Code,
	}
}

// A Teller says what is to be told of an incident, beside what was noted before.
type Teller func(i *incident.Incident, have []telling.Note) telling.Change

// notes has a teller change the notes of an incident.
func notes(ctx context.Context, tx *sqlx.Tx, i *incident.Incident, tell Teller) error {
	if tell == nil {
		return nil
	}
	var rows []noteRow
	if err := tx.SelectContext(ctx, &rows, `SELECT `+noteColumns+` FROM note WHERE incident_id = ? ORDER BY noted_at, id FOR UPDATE`, i.ID); err != nil {
		return err
	}
	have := make([]telling.Note, len(rows))
	for n, r := range rows {
		have[n] = r.note().Note
	}
	change := tell(i, have)
	now := time.Now().UTC()
	for _, n := range change.Add {
		if _, err := tx.ExecContext(ctx, `
			INSERT IGNORE INTO note (id, incident_id, person, what, rule, step, state, noted_at, due_at, held, kind, size, code) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
			n.ID, i.ID, n.Person, n.What, n.Rule, n.Step, telling.Queued, now, n.Due.UTC(), cut(n.Held, longestHeld), n.Kind, n.Size, newCode()); err != nil {
			return err
		}
	}
	for _, id := range change.Drop {
		if _, err := tx.ExecContext(ctx, `UPDATE note SET state = ? WHERE id = ? AND state = ?`, telling.Dropped, id, telling.Queued); err != nil {
			return err
		}
	}
	return nil
}

// codeSigns cannot be taken for one another, and codes of them are short enough to be typed.
const (
	codeSigns = "ABCDEFGHJKMNPQRSTUVWXYZ23456789"
	// CodeLength is how long a code is.
	CodeLength = 5
)

func newCode() string {
	var b [CodeLength]byte
	_, _ = rand.Read(b[:]) // it never fails
	for i := range b {
		b[i] = codeSigns[int(b[i])%len(codeSigns)]
	}
	return string(b[:])
}

// AnsweredNotes lists notes by the code of an answer: those that were sent since a moment, or are on
// their way: an answer may be here before it is recorded that what it answers has gone out.
func (s *Store) AnsweredNotes(ctx context.Context, code string, since time.Time) ([]NoteRow, error) {
	var rows []noteRow
	err := s.db.SelectContext(ctx, &rows, `SELECT `+noteColumns+` FROM note WHERE code = ? AND (sent_at >= ? OR sent_at IS NULL)`, code, since)
	out := make([]NoteRow, len(rows))
	for i, r := range rows {
		out[i] = r.note()
	}
	return out, sorted(err)
}

// Awaited says whether an answer may come by a channel: something was sent by it since a moment, of an
// incident that is open and that nobody sees to.
func (s *Store) Awaited(ctx context.Context, channel string, since time.Time) (is bool, err error) {
	err = s.db.GetContext(ctx, &is, `
		SELECT EXISTS (SELECT 1 FROM note n JOIN incident i ON i.id = n.incident_id
		WHERE n.channel = ? AND n.state = ? AND n.sent_at >= ? AND i.ended_at IS NULL)`, channel, telling.Sent, since)
	return is, sorted(err)
}

// Retell has a teller look at an incident again, because time has passed.
func (s *Store) Retell(ctx context.Context, i *incident.Incident, tell Teller) error {
	return s.within(ctx, func(tx *sqlx.Tx) error { return notes(ctx, tx, i, tell) })
}

// NoteAlone adds notes that are about no incident; those that are there already stay as they are.
func (s *Store) NoteAlone(ctx context.Context, all []NoteRow) error {
	now := time.Now().UTC()
	return s.change(ctx, nil, func(tx *sqlx.Tx) error {
		for _, n := range all {
			if _, err := tx.ExecContext(ctx, `
				INSERT IGNORE INTO note (id, incident_id, person, what, rule, step, state, noted_at, due_at, held, subject, text) VALUES (?, '', ?, ?, ?, 0, ?, ?, ?, ?, ?, ?)`,
				n.ID, n.Person, n.What, n.Rule, telling.Queued, now, n.Due.UTC(), cut(n.Held, longestHeld), n.Subject, n.Text); err != nil {
				return err
			}
		}
		return nil
	})
}

// ClaimNotes takes notes that are due, the oldest first, for who sends them; also those that were
// claimed before a moment and of which nothing was heard since: they may have gone out.
func (s *Store) ClaimNotes(ctx context.Context, now, lost time.Time, most int) (out []NoteRow, err error) {
	err = s.within(ctx, func(tx *sqlx.Tx) error {
		var rows []noteRow
		if err := tx.SelectContext(ctx, &rows, `
			(SELECT `+noteColumns+` FROM note WHERE state = ? AND due_at <= ? ORDER BY due_at LIMIT ?)
			UNION ALL (SELECT `+noteColumns+` FROM note WHERE state = ? AND claimed_at < ? LIMIT ?)`,
			telling.Queued, now, most, telling.Sending, lost, most); err != nil || len(rows) == 0 {
			return err
		}
		ids := make([]string, len(rows))
		out = make([]NoteRow, len(rows))
		for i, r := range rows {
			ids[i], out[i] = r.ID, r.note()
		}
		query, args, err := sqlx.In(`UPDATE note SET state = ?, claimed_at = ? WHERE id IN (?)`, telling.Sending, now, ids)
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, query, args...)
		return err
	})
	return out, err
}

// SaveNotes records what has become of notes that were claimed, with what the journal says of it.
func (s *Store) SaveNotes(ctx context.Context, all []NoteRow, entries ...Entry) error {
	return s.change(ctx, entries, func(tx *sqlx.Tx) error {
		for _, n := range all {
			_, err := tx.ExecContext(ctx, `
				UPDATE note SET state = ?, due_at = ?, held = ?, tries = ?, claimed_at = NULL, sent_at = ?, kind = ?, size = ?, channel = ?, says = ?, subject = ?, text = ? WHERE id = ?`,
				n.State, n.Due.UTC(), cut(n.Held, longestHeld), n.Tries, sql.NullTime{Time: n.At.UTC(), Valid: !n.At.IsZero()}, n.Kind, n.Size, n.Channel, cut(n.Says, longestSays), cut(n.Subject, longestSubject), n.Text, n.ID)
			if err != nil {
				return err
			}
		}
		return nil
	})
}

// How long texts are kept, in characters: what is longer must not keep a message, nor the incident
// that it is noted with, from being recorded.
const (
	longestHeld    = 200
	longestSays    = 1000
	longestSubject = 400
)

// cut leaves the beginning of a text, in characters.
func cut(s string, most int) string {
	if r := []rune(s); len(r) > most {
		return string(r[:most])
	}
	return s
}

// A NoteFilter says which notes are wanted; its zero value means all.
type NoteFilter struct {
	Incident string
	Person   string
	State    telling.State
	Limit    int // 0: no more than 1000
}

// Notes lists notes, the newest first.
func (s *Store) Notes(ctx context.Context, f NoteFilter) ([]NoteRow, error) {
	if f.Limit <= 0 || f.Limit > pageOfEntries {
		f.Limit = pageOfEntries
	}
	var rows []noteRow
	err := s.db.SelectContext(ctx, &rows, `
		SELECT `+noteColumns+` FROM note WHERE (? = '' OR incident_id = ?) AND (? = '' OR person = ?) AND (? = '' OR state = ?)
		ORDER BY noted_at DESC, id DESC LIMIT ?`, f.Incident, f.Incident, f.Person, f.Person, f.State, f.State, f.Limit)
	out := make([]NoteRow, len(rows))
	for i, r := range rows {
		out[i] = r.note()
	}
	return out, sorted(err)
}

// CountNotes says how many notes are in a state that were noted since a moment.
func (s *Store) CountNotes(ctx context.Context, is telling.State, since time.Time) (n int, err error) {
	err = s.db.GetContext(ctx, &n, `SELECT COUNT(*) FROM note WHERE state = ? AND noted_at >= ?`, is, since)
	return n, sorted(err)
}
