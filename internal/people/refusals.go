package people

import (
	"context"
	"fmt"
	"sync"
	"time"

	"plumbbob/internal/store"
)

// refusals counts wrong passwords for the journal: the first for an account is written at
// once, and what follows within a minute as a number. Whoever guesses must not be able to
// fill the record.
type refusals struct {
	mu sync.Mutex
	by map[string]*refusal // by account
}

type refusal struct {
	written time.Time
	more    int             // since then
	from    map[string]bool // where those came from
	last    string
}

const (
	refusalsEvery = time.Minute
	refusalsMost  = 10_000 // accounts that are counted apart
	fromMost      = 100    // addresses that are told apart
)

// noAccount stands for all names that no account has.
const noAccount = "(no account)"

// refused notes a wrong password, for an account that there is, or not.
func (d *Desk) refused(ctx context.Context, c Credentials, known bool) {
	name, now := nameOf(c.Account), time.Now()
	count := name
	if !known {
		count = noAccount
	}
	d.refusals.mu.Lock()
	r := d.refusals.by[count]
	first := r == nil || now.Sub(r.written) >= refusalsEvery && r.more == 0
	if first {
		if d.refusals.by == nil || len(d.refusals.by) >= refusalsMost {
			d.refusals.by = map[string]*refusal{}
		}
		d.refusals.by[count] = &refusal{written: now, from: map[string]bool{}}
	} else {
		r.more++
		r.last = c.From
		if len(r.from) < fromMost {
			r.from[c.From] = true
		}
	}
	d.refusals.mu.Unlock()
	if first {
		d.write(ctx, store.Entry{Kind: store.EntryLogInRefused, Who: name, Text: "Wrong password from " + c.From, Result: "refused"})
	}
}

// flushEvery is how soon after the database is back the journal has what waited for it.
const flushEvery = 5 * time.Second

// Run writes down what was counted, and what waits, until ctx ends, and then once more.
func (d *Desk) Run(ctx context.Context) error {
	count, flush := time.NewTicker(refusalsEvery), time.NewTicker(flushEvery)
	defer count.Stop()
	defer flush.Stop()
	for ctx.Err() == nil {
		select {
		case <-flush.C:
			d.flush(ctx)
			continue
		case <-ctx.Done():
		case <-count.C:
		}
		d.writeRefusals(ctx)
		d.flush(ctx)
	}
	return context.Cause(ctx)
}

func (d *Desk) writeRefusals(ctx context.Context) {
	d.refusals.mu.Lock()
	var due []store.Entry
	for name, r := range d.refusals.by {
		if r.more > 0 {
			due = append(due, store.Entry{Kind: store.EntryLogInRefused, Who: name, Text: r.words(), Result: "refused"})
			*r = refusal{written: time.Now(), from: map[string]bool{}}
		} else if time.Since(r.written) > refusalsEvery {
			delete(d.refusals.by, name)
		}
	}
	d.refusals.mu.Unlock()
	for _, e := range due {
		d.write(ctx, e)
	}
}

func (r *refusal) words() string {
	text := fmt.Sprintf("%d more wrong passwords since %s", r.more, r.written.UTC().Format("15:04:05 MST"))
	switch n := len(r.from); {
	case n == 1:
		return text + ", from " + r.last
	case n >= fromMost:
		return fmt.Sprintf("%s, from %d addresses and more, the last %s", text, n, r.last)
	default:
		return fmt.Sprintf("%s, from %d addresses, the last %s", text, n, r.last)
	}
}
