// Package health is what ails the service itself: a row that cannot be read, a
// record that cannot be made, a database that is away. Whoever finds something
// says so once; it is in the log, on the board and in /healthz until it is well.
package health

import (
	"context"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"
)

// An Ailment is one thing that is wrong with the service.
type Ailment struct {
	Name  string // stable, for programs: what it is about
	Text  string // for people: what is wrong, and what to do
	Grave bool   // somebody should look at it now: power may be owed, or a record is missing
	Since time.Time
}

// most bounds how many are kept apart; what is more is only counted in the log.
const most = 200

// Book is what ails the service now. It may be shared between goroutines, and a nil
// one takes nothing down.
type Book struct {
	log *slog.Logger

	mu      sync.Mutex
	by      map[string]Ailment
	changed []func()
}

// New returns an empty book.
func New(log *slog.Logger) *Book { return &Book{log: log, by: map[string]Ailment{}} }

// Ails says that something is wrong. It is logged the first time, and when the
// words have changed.
func (b *Book) Ails(name, text string) { b.note(Ailment{Name: name, Text: text}) }

// Grave is Ails, of what somebody should look at now.
func (b *Book) Grave(name, text string) { b.note(Ailment{Name: name, Text: text, Grave: true}) }

func (b *Book) note(a Ailment) {
	if b == nil {
		return
	}
	b.mu.Lock()
	was, known := b.by[a.Name]
	if known && was.Text == a.Text && was.Grave == a.Grave || !known && len(b.by) >= most {
		b.mu.Unlock()
		return
	}
	a.Since = time.Now().UTC()
	if known {
		a.Since = was.Since
	}
	b.by[a.Name] = a
	tell := b.changed
	b.mu.Unlock()
	level := slog.LevelWarn
	if a.Grave {
		level = slog.LevelError
	}
	b.log.Log(context.Background(), level, "something ails the service", "what", a.Name, "because", a.Text)
	run(tell)
}

// Well says that it is not wrong any more.
func (b *Book) Well(name string) {
	if b == nil {
		return
	}
	b.mu.Lock()
	was, known := b.by[name]
	delete(b.by, name)
	tell := b.changed
	b.mu.Unlock()
	if known {
		b.log.Info("it is well again", "what", name, "was", was.Text)
		run(tell)
	}
}

// List returns what is wrong now, the grave first, and then by name.
func (b *Book) List() []Ailment {
	if b == nil {
		return nil
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	out := make([]Ailment, 0, len(b.by))
	for _, a := range b.by {
		out = append(out, a)
	}
	slices.SortFunc(out, func(a, b Ailment) int {
		if a.Grave != b.Grave {
			if a.Grave {
				return -1
			}
			return 1
		}
		return strings.Compare(a.Name, b.Name)
	})
	return out
}

// Listen has f called after every change, without a lock.
func (b *Book) Listen(f func()) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.changed = append(b.changed, f)
}

func run(fs []func()) {
	for _, f := range fs {
		f()
	}
}
