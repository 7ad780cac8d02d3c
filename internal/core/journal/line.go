package journal

import (
	"encoding/json"
	"math"
	"time"

	"plumbbob/internal/core/estate"
)

// line is an entry in a file of JSON Lines, an export or an archive: all that its hash is
// made of. The API shows entries in the same form.
type line struct {
	ID        int64      `json:"id"`
	At        time.Time  `json:"at"`
	Recorded  time.Time  `json:"recorded"`
	Site      estate.Key `json:"site"`
	Device    estate.Key `json:"device"`
	Who       string     `json:"who"`
	Kind      string     `json:"kind"`
	Text      string     `json:"text"`
	Why       string     `json:"why"`
	Result    string     `json:"result"`
	Operation string     `json:"operation"`
	BeforeW   *float64   `json:"beforeW,omitempty"`
	AfterW    *float64   `json:"afterW,omitempty"`
	Prev      Hash       `json:"prev"`
	Hash      Hash       `json:"hash"`
}

// MarshalJSON writes an entry as a line of a file.
func (e Entry) MarshalJSON() ([]byte, error) {
	return json.Marshal(line{
		e.ID, e.At.UTC(), e.RecordedAt.UTC(), e.Site, e.Device, e.Who, e.Kind, e.Text, e.Why, e.Result, e.OperationID,
		Thousandth(e.BeforeW), Thousandth(e.AfterW), e.Prev, e.Hash,
	})
}

// UnmarshalJSON reads one.
func (e *Entry) UnmarshalJSON(text []byte) error {
	var l line
	if err := json.Unmarshal(text, &l); err != nil {
		return err
	}
	*e = Entry{
		ID: l.ID, At: l.At, RecordedAt: l.Recorded, Site: l.Site, Device: l.Device, Who: l.Who, Kind: l.Kind, Text: l.Text, Why: l.Why,
		Result: l.Result, OperationID: l.Operation, BeforeW: l.BeforeW, AfterW: l.AfterW, Prev: l.Prev, Hash: l.Hash,
	}
	return nil
}

// Thousandth rounds watts as the hash takes them.
func Thousandth(w *float64) *float64 {
	if w == nil {
		return nil
	}
	r := math.Round(*w*1000) / 1000
	return &r
}

// Ends are the ends of a part of a journal that was taken out of it: the first line of
// an archive, before its entries.
type Ends struct {
	First int64 `json:"first" db:"first"`
	Last  int64 `json:"last" db:"last"`
	Prev  Hash  `json:"prev" db:"prev"` // of the entry before the first
	Hash  Hash  `json:"hash" db:"hash"` // of the last: it seals the part, and all before it
}

// An Archive is the first line of a file of entries that are in the journal no more.
type Archive struct {
	Archive *Ends `json:"archive"`
}
