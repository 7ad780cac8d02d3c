package reading

import (
	"time"

	"plumbbob/internal/core/estate"
)

// A Message is what gear has said by itself, at the time when it was heard.
type Message struct {
	Device estate.Key
	Site   estate.Key
	At     time.Time
	Level  Level
	App    string // what in the gear says it; may be empty
	Text   string
}
