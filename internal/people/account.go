package people

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"time"

	"plumbbob/internal/bus"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/password"
	"plumbbob/internal/store"
)

// greatest is the role without which nobody could give roles.
const greatest = string(operation.Keeper)

// accountName is what the name of an account may be. Nothing else is ever looked up.
var accountName = regexp.MustCompile(`^[a-z][a-z0-9._-]{0,31}$`)

func usage(format string, args ...any) error {
	return &operation.UsageError{Text: fmt.Sprintf(format, args...)}
}

// NoAccountError: there is no such account.
type NoAccountError struct{ Name string }

func (e *NoAccountError) Error() string {
	return fmt.Sprintf("there is no account %q: plumb account list shows them", e.Name)
}

// problem words what the store says about an account.
func problem(err error, name string) error {
	switch {
	case errors.Is(err, store.ErrNotFound):
		return &NoAccountError{name}
	case errors.Is(err, store.ErrConflict):
		return usage("%s is the last %s, and somebody has to be able to give roles: make somebody else one first", name, greatest)
	}
	return err
}

func entry(by, format string, args ...any) store.Entry {
	return store.Entry{At: time.Now().UTC(), Kind: store.EntryAccount, Who: by, Text: fmt.Sprintf(format, args...), Result: "done"}
}

func checkRole(role string) error {
	if !slices.Contains(operation.Roles, operation.Role(role)) {
		return usage("%q is not a role: it is viewer, operator, steward or keeper", role)
	}
	return nil
}

// changed tells that an account has been changed; of its log-ins one may stay.
func (d *Desk) changed(name, token string) {
	d.forget(name, token)
	d.Bus.Journal.Publish(bus.NewEntry{})
	d.Bus.Accounts.Publish(bus.AccountChanged{})
}

// Add adds an account, and returns the password that was made for it.
func (d *Desk) Add(ctx context.Context, by, name, role string) (pass string, err error) {
	if !accountName.MatchString(name) {
		return "", usage("%q cannot be the name of an account: use lower-case letters, digits, hyphens and dots, a letter first", name)
	}
	if name == Rescue {
		return "", usage("%s is who comes in with a rescue code: choose another name", Rescue)
	}
	if err := checkRole(role); err != nil {
		return "", err
	}
	pass = password.Generate()
	err = d.Store.CreateAccount(ctx, name, role, password.Hash(pass), entry(by, "Account %s added, as %s", name, role))
	if errors.Is(err, store.ErrConflict) {
		return "", usage("there is an account %s already: plumb account role %s ROLE changes it", name, name)
	}
	if err != nil {
		return "", err
	}
	d.changed(name, "")
	return pass, nil
}

// SetRole gives an account another role.
func (d *Desk) SetRole(ctx context.Context, by, name, role string) error {
	if err := checkRole(role); err != nil {
		return err
	}
	if err := d.Store.SetRole(ctx, name, role, greatest, entry(by, "Account %s is %s now", name, role)); err != nil {
		return problem(err, name)
	}
	d.changed(name, "")
	return nil
}

// Remove removes an account, with its log-ins.
func (d *Desk) Remove(ctx context.Context, by, name string) error {
	if err := d.Store.RemoveAccount(ctx, name, greatest, entry(by, "Account %s removed", name)); err != nil {
		return problem(err, name)
	}
	d.changed(name, "")
	return nil
}

// Reset makes another password for somebody else, and ends their log-ins.
func (d *Desk) Reset(ctx context.Context, by, name string) (pass string, err error) {
	if name == by {
		return "", usage("that is your own account: plumb account password, without a name, changes it")
	}
	pass = password.Generate()
	if err := d.Store.SetPassword(ctx, name, password.Hash(pass), "", entry(by, "Another password generated for %s", name)); err != nil {
		return "", problem(err, name)
	}
	d.changed(name, "")
	return pass, nil
}

// SetOwn changes the password of who asks, which ends their other log-ins. The old one
// makes sure that it is them, and not somebody at a console that was left open.
func (d *Desk) SetOwn(ctx context.Context, name, token, old, next string) error {
	if err := password.Choose(next, name); err != nil {
		return usage("the new password %s", err)
	}
	_, err := d.checked(ctx, Credentials{Account: name, Password: old, From: "console of " + name})
	if errors.Is(err, ErrWrong) {
		return usage("the old password is wrong")
	}
	if err != nil {
		return err
	}
	if err := d.Store.SetPassword(ctx, name, password.Hash(next), token, entry(name, "Own password changed")); err != nil {
		return err
	}
	d.changed(name, token)
	return nil
}
