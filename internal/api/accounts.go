package api

import (
	"context"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/store"
)

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
	pass, err := s.People.Add(ctx, whoIs(ctx).Account, req.Body.Name, string(req.Body.Role))
	if err != nil {
		return nil, err
	}
	return contract.AddAccount201JSONResponse{Account: req.Body.Name, Password: pass}, nil
}

// SetRole implements the contract.
func (s *Server) SetRole(ctx context.Context, req contract.SetRoleRequestObject) (contract.SetRoleResponseObject, error) {
	return contract.SetRole204Response{}, s.People.SetRole(ctx, whoIs(ctx).Account, req.Name, string(req.Body.Role))
}

// RemoveAccount implements the contract.
func (s *Server) RemoveAccount(ctx context.Context, req contract.RemoveAccountRequestObject) (contract.RemoveAccountResponseObject, error) {
	return contract.RemoveAccount204Response{}, s.People.Remove(ctx, whoIs(ctx).Account, req.Name)
}

// ResetPassword implements the contract.
func (s *Server) ResetPassword(ctx context.Context, req contract.ResetPasswordRequestObject) (contract.ResetPasswordResponseObject, error) {
	pass, err := s.People.Reset(ctx, whoIs(ctx).Account, req.Name)
	if err != nil {
		return nil, err
	}
	return contract.ResetPassword200JSONResponse{Account: req.Name, Password: pass}, nil
}

// ChangePassword implements the contract.
func (s *Server) ChangePassword(ctx context.Context, req contract.ChangePasswordRequestObject) (contract.ChangePasswordResponseObject, error) {
	who := whoIs(ctx)
	return contract.ChangePassword204Response{}, s.People.SetOwn(ctx, who.Account, who.token, req.Body.Old, req.Body.New)
}

// ListOwnKeys implements the contract.
func (s *Server) ListOwnKeys(ctx context.Context, _ contract.ListOwnKeysRequestObject) (contract.ListOwnKeysResponseObject, error) {
	all, err := s.keysOf(ctx, whoIs(ctx).Account)
	return contract.ListOwnKeys200JSONResponse(all), err
}

// AddOwnKey implements the contract.
func (s *Server) AddOwnKey(ctx context.Context, req contract.AddOwnKeyRequestObject) (contract.AddOwnKeyResponseObject, error) {
	k, err := s.People.AddKey(ctx, whoIs(ctx).Account, whoIs(ctx).Account, req.Body.Key)
	return contract.AddOwnKey201JSONResponse(accountKey(k)), err
}

// RemoveOwnKey implements the contract.
func (s *Server) RemoveOwnKey(ctx context.Context, req contract.RemoveOwnKeyRequestObject) (contract.RemoveOwnKeyResponseObject, error) {
	return contract.RemoveOwnKey204Response{}, s.People.RemoveKey(ctx, whoIs(ctx).Account, whoIs(ctx).Account, req.Params.Print)
}

// ListAccountKeys implements the contract.
func (s *Server) ListAccountKeys(ctx context.Context, req contract.ListAccountKeysRequestObject) (contract.ListAccountKeysResponseObject, error) {
	all, err := s.keysOf(ctx, req.Name)
	return contract.ListAccountKeys200JSONResponse(all), err
}

// AddAccountKey implements the contract.
func (s *Server) AddAccountKey(ctx context.Context, req contract.AddAccountKeyRequestObject) (contract.AddAccountKeyResponseObject, error) {
	k, err := s.People.AddKey(ctx, whoIs(ctx).Account, req.Name, req.Body.Key)
	return contract.AddAccountKey201JSONResponse(accountKey(k)), err
}

// RemoveAccountKey implements the contract.
func (s *Server) RemoveAccountKey(ctx context.Context, req contract.RemoveAccountKeyRequestObject) (contract.RemoveAccountKeyResponseObject, error) {
	return contract.RemoveAccountKey204Response{}, s.People.RemoveKey(ctx, whoIs(ctx).Account, req.Name, req.Params.Print)
}

func (s *Server) keysOf(ctx context.Context, account string) ([]contract.AccountKey, error) {
	all, err := s.Store.AccountKeys(ctx, account)
	out := []contract.AccountKey{}
	for _, k := range all {
		out = append(out, accountKey(k))
	}
	return out, err
}

func accountKey(k store.AccountKey) contract.AccountKey {
	return contract.AccountKey{Print: k.Print.String(), Type: k.Type, Name: k.Name, Added: k.AddedAt.UTC()}
}
