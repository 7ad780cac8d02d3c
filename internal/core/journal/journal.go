// Package journal is the record of everything that was done. It is only ever
// added to: each entry carries the hash of the one before, so that an entry that
// was altered, removed or put in between shows.
//
// No I/O and no clock: the store keeps the entries, and a copy that was exported
// can be checked anywhere.
package journal

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"plumbbob/internal/core/estate"
)

// Entry is one line of the journal.
type Entry struct {
	ID          int64      `db:"id"`          // counts from 1, without a gap
	At          time.Time  `db:"at"`          // when it happened
	RecordedAt  time.Time  `db:"recorded_at"` // when it could be written down
	Site        estate.Key `db:"site"`
	Device      estate.Key `db:"device"`
	Who         string     `db:"who"`
	Kind        string     `db:"kind"`
	Text        string     `db:"text"`
	Why         string     `db:"why"`
	Result      string     `db:"result"`
	OperationID string     `db:"operation_id"`
	BeforeW     *float64   `db:"before_w"` // W
	AfterW      *float64   `db:"after_w"`  // W
	Prev        Hash       `db:"prev"`     // of the entry before; zero for the first
	Hash        Hash       `db:"hash"`
}

// Hash is a SHA-256 in hexadecimal digits.
type Hash string

// First is what the first entry carries for the one before it.
var First = Hash(strings.Repeat("0", 2*sha256.Size))

// Times are kept to the millisecond: what is hashed is what can be read again.
const precision = time.Millisecond

// Seal gives an entry its place behind another one. What is sealed must be
// stored as it is.
func (e *Entry) Seal(id int64, prev Hash) {
	e.ID, e.Prev = id, prev
	e.At, e.RecordedAt = e.At.UTC().Truncate(precision), e.RecordedAt.UTC().Truncate(precision)
	e.Text, e.Why = strings.ToValidUTF8(e.Text, "�"), strings.ToValidUTF8(e.Why, "�")
	e.Hash = e.Sum()
}

// Sum is the hash that an entry must have: of the hash before it and of its
// fields, as a JSON array, with times in RFC 3339 to the millisecond, and watts
// to the milliwatt.
func (e *Entry) Sum() Hash {
	const stamp = "2006-01-02T15:04:05.000Z"
	fields, err := json.Marshal([]any{
		e.Prev, e.ID, e.At.UTC().Format(stamp), e.RecordedAt.UTC().Format(stamp), e.Site, e.Device, e.Who,
		e.Kind, e.Text, e.Why, e.Result, e.OperationID, milliwatts(e.BeforeW), milliwatts(e.AfterW),
	})
	if err != nil { // there is nothing in it that cannot be written
		panic(err)
	}
	sum := sha256.Sum256(fields)
	return Hash(hex.EncodeToString(sum[:]))
}

func milliwatts(w *float64) string {
	if w == nil {
		return ""
	}
	return fmt.Sprintf("%.3f", *w)
}

// A BreakError says where a chain does not hold, and what that means.
type BreakError struct {
	ID   int64
	Text string
}

func (e *BreakError) Error() string { return fmt.Sprintf("entry %d: %s", e.ID, e.Text) }

// A Chain is as much of a journal as has been gone through. The zero value has
// not begun; a journal that was exported in part begins with any entry.
type Chain struct {
	N    int   // entries
	Last int64 // the id of the newest; 0 when it may begin anywhere
	Head Hash  // its hash: the seal of all of them
}

// Behind is a chain that goes on behind an entry which is elsewhere, as in an archive.
func Behind(last int64, head Hash) Chain { return Chain{Last: last, Head: head} }

// Add goes on by one entry, which must follow the one before. The error is a
// *BreakError, and the chain stays as it was.
func (c *Chain) Add(e *Entry) error {
	switch {
	case c.Last > 0 && e.ID > c.Last+1:
		return &BreakError{c.Last + 1, fmt.Sprintf("is missing, up to %d: it was removed", e.ID-1)}
	case c.Last > 0 && e.ID <= c.Last:
		return &BreakError{e.ID, fmt.Sprintf("stands behind %d: the order was changed", c.Last)}
	case e.ID == 1 && e.Prev != First:
		return &BreakError{e.ID, "is the first, and carries the hash of one before it: those were removed"}
	case e.Sum() != e.Hash:
		return &BreakError{e.ID, "was altered: its hash is not that of its text"}
	case c.Last > 0 && e.Prev != c.Head:
		return &BreakError{e.ID, fmt.Sprintf("does not carry the hash of %d: one of the two was replaced", c.Last)}
	}
	c.N++
	c.Last, c.Head = e.ID, e.Hash
	return nil
}
