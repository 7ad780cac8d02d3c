package api

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/password"
	"plumbbob/internal/store"
	"plumbbob/internal/stream"
)

// greatest is the role without which nobody could give roles.
const greatest = string(operation.Keeper)

var accountName = regexp.MustCompile(`^[a-z][a-z0-9._-]{0,31}$`)

// ListAccounts implements the contract.
func (s *Server) ListAccounts(ctx context.Context, _ contract.ListAccountsRequestObject) (contract.ListAccountsResponseObject, error) {
	all, err := s.Store.Accounts(ctx)
	out := contract.ListAccounts200JSONResponse{}
	for _, a := range all {
		v := contract.Account{Name: a.Name, Role: contract.Role(a.Role), Created: a.CreatedAt.UTC(), LogIns: a.LogIns}
		if a.LastLogIn.Valid {
			v.LastLogIn = ptr(a.LastLogIn.Time.UTC())
		}
		out = append(out, v)
	}
	return out, err
}

// AddAccount implements the contract.
func (s *Server) AddAccount(ctx context.Context, req contract.AddAccountRequestObject) (contract.AddAccountResponseObject, error) {
	name, role := req.Body.Name, string(req.Body.Role)
	if !accountName.MatchString(name) {
		return nil, usage("%q cannot be the name of an account: use lower-case letters, digits, hyphens and dots, a letter first", name)
	}
	if err := checkRole(role); err != nil {
		return nil, err
	}
	pass := password.Generate()
	err := s.Store.CreateAccount(ctx, name, role, password.Hash(pass), entry(ctx, store.EntryAccount, "Account %s added, as %s", name, role))
	if errors.Is(err, store.ErrConflict) {
		return nil, usage("there is an account %s already: plumb account role %s ROLE changes it", name, name)
	}
	if err != nil {
		return nil, err
	}
	s.accountChanged()
	return contract.AddAccount201JSONResponse{Account: name, Password: pass}, nil
}

func checkRole(role string) error {
	if !slices.Contains(operation.Roles, operation.Role(role)) {
		return usage("%q is not a role: it is viewer, operator, steward or keeper", role)
	}
	return nil
}

func (s *Server) accountChanged() {
	s.JournalWritten()
	s.publish(stream.Account, "all", struct{}{})
}

// accountProblem words what the store says about an account.
func accountProblem(err error, name string) error {
	switch {
	case errors.Is(err, store.ErrNotFound):
		return &missing{fmt.Sprintf("there is no account %q: plumb account list shows them", name)}
	case errors.Is(err, store.ErrConflict):
		return usage("%s is the last %s, and somebody has to be able to give roles: make somebody else one first", name, greatest)
	}
	return err
}

// SetRole implements the contract.
func (s *Server) SetRole(ctx context.Context, req contract.SetRoleRequestObject) (contract.SetRoleResponseObject, error) {
	role := string(req.Body.Role)
	if err := checkRole(role); err != nil {
		return nil, err
	}
	if err := s.Store.SetRole(ctx, req.Name, role, greatest, entry(ctx, store.EntryAccount, "Account %s is %s now", req.Name, role)); err != nil {
		return nil, accountProblem(err, req.Name)
	}
	s.sessions.forgetAccount(req.Name, "")
	s.accountChanged()
	return contract.SetRole204Response{}, nil
}

// RemoveAccount implements the contract.
func (s *Server) RemoveAccount(ctx context.Context, req contract.RemoveAccountRequestObject) (contract.RemoveAccountResponseObject, error) {
	if err := s.Store.RemoveAccount(ctx, req.Name, greatest, entry(ctx, store.EntryAccount, "Account %s removed", req.Name)); err != nil {
		return nil, accountProblem(err, req.Name)
	}
	s.sessions.forgetAccount(req.Name, "")
	s.accountChanged()
	return contract.RemoveAccount204Response{}, nil
}

// ResetPassword implements the contract.
func (s *Server) ResetPassword(ctx context.Context, req contract.ResetPasswordRequestObject) (contract.ResetPasswordResponseObject, error) {
	if req.Name == whoIs(ctx).Account {
		return nil, usage("that is your own account: plumb account password, without a name, changes it")
	}
	pass := password.Generate()
	if err := s.Store.SetPassword(ctx, req.Name, password.Hash(pass), "", entry(ctx, store.EntryAccount, "Another password generated for %s", req.Name)); err != nil {
		return nil, accountProblem(err, req.Name)
	}
	s.sessions.forgetAccount(req.Name, "")
	s.accountChanged()
	return contract.ResetPassword200JSONResponse{Account: req.Name, Password: pass}, nil
}

// ChangePassword implements the contract.
func (s *Server) ChangePassword(ctx context.Context, req contract.ChangePasswordRequestObject) (contract.ChangePasswordResponseObject, error) {
	who := whoIs(ctx)
	if n := len([]rune(req.Body.New)); n < password.MinLength {
		return nil, usage("the new password has %d characters, and needs at least %d", n, password.MinLength)
	}
	if err := s.ownPassword(ctx, who.Account, req.Body.Old); err != nil {
		return nil, err
	}
	if err := s.Store.SetPassword(ctx, who.Account, password.Hash(req.Body.New), who.token, entry(ctx, store.EntryAccount, "Own password changed")); err != nil {
		return nil, err
	}
	s.sessions.forgetAccount(who.Account, who.token)
	s.accountChanged()
	return contract.ChangePassword204Response{}, nil
}

// ownPassword makes sure that it is the owner who changes a password, and not
// somebody at a console that was left open.
func (s *Server) ownPassword(ctx context.Context, name, old string) error {
	remote := "console of " + name
	if wait := s.tries.wait(name, remote); wait > 0 {
		return &tooManyTries{wait}
	}
	a, err := s.Store.Account(ctx, name)
	if err != nil {
		return err
	}
	right, err := password.Check(old, a.PasswordHash)
	if err != nil {
		return err
	}
	if !right {
		s.tries.failed(name, remote)
		return usage("the old password is wrong")
	}
	return nil
}
