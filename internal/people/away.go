package people

import (
	"context"
	"errors"
	"time"

	"plumbbob/internal/store"
)

// NotedLasts is how long a log-in lasts that no database has taken: by a rescue code, or
// while that is away. It is nowhere on record, and ends with the service.
const NotedLasts = time.Hour

// Remember takes what lets people in while the database is away.
func (d *Desk) Remember(all []store.KnownAccount) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.accounts = make(map[string]store.KnownAccount, len(all))
	for _, a := range all {
		d.accounts[a.Name] = a
	}
}

// account finds an account. While the database is away it goes by what was known last,
// and the account has no id.
func (d *Desk) account(ctx context.Context, name string) (store.Account, error) {
	a, err := d.Store.Account(ctx, name)
	if !errors.Is(err, store.ErrAway) {
		return a, err
	}
	k, any := d.remembered(name)
	switch {
	case !any:
		return a, err
	case k.Name == "":
		return a, store.ErrNotFound
	}
	return store.Account{Name: k.Name, Role: k.Role, PasswordHash: k.PasswordHash}, nil
}

// remembered is what was known of an account, and whether any is.
func (d *Desk) remembered(name string) (a store.KnownAccount, any bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.accounts[name], len(d.accounts) > 0
}

// note has somebody in whom no database knows to be.
func (d *Desk) note(ctx context.Context, in LogIn, entry store.Entry, kind, name string) LogIn {
	in.Expires = time.Now().Add(NotedLasts).UTC()
	d.mu.Lock()
	d.noted[store.HashToken(in.Token)] = store.Session{Account: in.Account, Role: in.Role, Kind: kind, Name: name, ExpiresAt: in.Expires}
	d.mu.Unlock()
	d.write(ctx, entry)
	return in
}

// notedAs finds who is in without the database.
func (d *Desk) notedAs(h store.TokenHash) (store.Session, bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	s, ok := d.noted[h]
	if ok && time.Now().After(s.ExpiresAt) {
		delete(d.noted, h)
		return s, false
	}
	return s, ok
}

// anyRescued says whether somebody is in by a rescue code.
func (d *Desk) anyRescued() bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, s := range d.noted {
		if s.Account == Rescue && time.Now().Before(s.ExpiresAt) {
			return true
		}
	}
	return false
}
