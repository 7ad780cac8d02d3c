package api

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/secret"
	"plumbbob/internal/store"
)

// ListSecrets implements the contract.
func (s *Server) ListSecrets(ctx context.Context, _ contract.ListSecretsRequestObject) (contract.ListSecretsResponseObject, error) {
	all, err := s.Store.Secrets(ctx)
	if err != nil {
		return nil, err
	}
	out := contract.ListSecrets200JSONResponse{}
	for _, x := range all {
		view := contract.Secret{Name: x.Name, Kind: x.Kind, SetBy: x.SetBy, Set: x.SetAt.UTC(), To: []string{}}
		if v, err := s.Sealer.Open(x.Name, x.Sealed); err == nil { // the board says of those that cannot be opened
			view.To = append(view.To, v.Bounds()...)
		}
		out = append(out, view)
	}
	return out, nil
}

var secretName = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,62}$`)

// SetSecret implements the contract.
func (s *Server) SetSecret(ctx context.Context, req contract.SetSecretRequestObject) (contract.SetSecretResponseObject, error) {
	if !secretName.MatchString(req.Name) {
		return nil, usage("%q cannot be the name of a secret: use lower-case letters, digits, hyphens and dots", req.Name)
	}
	b := req.Body
	v := secret.Value{
		Kind: string(b.Kind), Community: text(b.Community), User: text(b.User),
		AuthProtocol: text(b.AuthProtocol), AuthPass: text(b.AuthPass), PrivProtocol: text(b.PrivProtocol), PrivPass: text(b.PrivPass),
		Password: text(b.Password), ControllerKey: text(b.ControllerKey),
	}
	if err := v.Check(); err != nil {
		return nil, usage("%s", err)
	}
	to := s.Keeper.Estate().SecretUses()[req.Name]
	if b.To != nil {
		to = *b.To
	} else if was, err := s.secret(ctx, req.Name); err == nil {
		to = append(to, was.Bounds()...)
	}
	if err := checkBounds(to); err != nil {
		return nil, err
	}
	v = v.BoundTo(to)
	if err := s.keep(ctx, req.Name, v, entry(ctx, store.EntrySecret, "Secret %s set, to be sent to %s", req.Name, boundWords(v))); err != nil {
		return nil, err
	}
	return contract.SetSecret204Response{}, nil
}

// BindSecret implements the contract.
func (s *Server) BindSecret(ctx context.Context, req contract.BindSecretRequestObject) (contract.BindSecretResponseObject, error) {
	if err := checkBounds(req.Body.To); err != nil {
		return nil, err
	}
	v, err := s.secret(ctx, req.Name)
	if err != nil {
		return nil, err
	}
	to := req.Body.To
	if req.Body.Also != nil && *req.Body.Also {
		to = append(to, v.Bounds()...)
	}
	v = v.BoundTo(to)
	if err := s.keep(ctx, req.Name, v, entry(ctx, store.EntrySecret, "Secret %s bound to %s", req.Name, boundWords(v))); err != nil {
		return nil, err
	}
	return contract.BindSecret200JSONResponse{To: append([]string{}, v.Bounds()...)}, nil
}

// secret opens one that is on record.
func (s *Server) secret(ctx context.Context, name string) (secret.Value, error) {
	all, err := s.Store.Secrets(ctx)
	if err != nil {
		return secret.Value{}, err
	}
	i := slices.IndexFunc(all, func(x store.SealedSecret) bool { return x.Name == name })
	if i < 0 {
		return secret.Value{}, &missing{fmt.Sprintf("there is no secret %q: plumb secret list shows them", name)}
	}
	v, err := s.Sealer.Open(name, all[i].Sealed)
	if err != nil {
		return v, usage("the secret %s cannot be opened: set it again with plumb secret set %s", name, name)
	}
	return v, nil
}

// keep seals and records a secret, and has it used.
func (s *Server) keep(ctx context.Context, name string, v secret.Value, e store.Entry) error {
	sealed, err := s.Sealer.Seal(name, v)
	if err != nil {
		return err
	}
	if err := s.Store.SetSecret(ctx, store.SealedSecret{Name: name, Kind: v.Kind, Sealed: sealed, SetBy: e.Who}, e); err != nil {
		return err
	}
	s.Keyring.SetSecret(name, v)
	s.Health.Well("secret " + name)
	s.written()
	all := s.Keeper.Estate().Devices
	for i := range all { // who waited for it is asked with it now
		if d := &all[i]; slices.ContainsFunc(d.Endpoints, func(ep estate.Endpoint) bool { return ep.Secret == name }) {
			s.Watcher.Again(ctx, d.Key)
		}
	}
	return nil
}

func checkBounds(to []string) error {
	for _, b := range to {
		if err := secret.CheckBound(b); err != nil {
			return usage("%s", err)
		}
	}
	return nil
}

// boundWords says where a secret may go, in an entry of the journal.
func boundWords(v secret.Value) string {
	const most = 8
	to := v.Bounds()
	switch {
	case len(to) == 0:
		return "nowhere yet"
	case len(to) > most:
		return fmt.Sprintf("%s and %d more", strings.Join(to[:most], ", "), len(to)-most)
	}
	return strings.Join(to, ", ")
}

// mayBind says whether who asks may say where secrets are sent.
func mayBind(ctx context.Context) bool {
	return operation.Role(whoIs(ctx).Role).AtLeast(operation.Keeper)
}

// outside lists what an estate would have secrets sent to that they may not go to yet.
func (s *Server) outside(ctx context.Context, e *estate.Estate) (map[string][]string, error) {
	all, err := s.Store.Secrets(ctx)
	if err != nil {
		return nil, err
	}
	out, uses := map[string][]string{}, e.SecretUses()
	for _, x := range all {
		v, err := s.Sealer.Open(x.Name, x.Sealed)
		if err != nil {
			continue // it is sent nowhere
		}
		if more := v.Outside(uses[x.Name]); len(more) > 0 {
			out[x.Name] = more
		}
	}
	return out, nil
}

// bind has secrets go where a new estate needs them, if who imports it may say so.
func (s *Server) bind(ctx context.Context, outside map[string][]string) error {
	for _, name := range slices.Sorted(maps.Keys(outside)) {
		if !mayBind(ctx) {
			return usage("the secret %s may not be sent to %s: a keeper allows it with plumb secret bind %s %s", name, outside[name][0], name, strings.Join(outside[name], " "))
		}
		v, err := s.secret(ctx, name)
		if err != nil {
			return err
		}
		v = v.BoundTo(append(v.Bounds(), outside[name]...))
		if err := s.keep(ctx, name, v, entry(ctx, store.EntrySecret, "Secret %s bound to %s as well, with the estate", name, strings.Join(outside[name], ", "))); err != nil {
			return err
		}
	}
	return nil
}

// RemoveSecret implements the contract.
func (s *Server) RemoveSecret(ctx context.Context, req contract.RemoveSecretRequestObject) (contract.RemoveSecretResponseObject, error) {
	e := s.Keeper.Estate()
	for i := range e.Devices {
		if d := &e.Devices[i]; slices.Contains(secretsOf(d), req.Name) {
			return nil, usage("%s is reached with secret %s: give it another one first, or replace it with plumb secret set %s", d.Key, req.Name, req.Name)
		}
	}
	if by := s.Outbox.Uses(req.Name); by != "" {
		return nil, usage("the channel %s uses secret %s: give it another one first, or replace it with plumb secret set %s", by, req.Name, req.Name)
	}
	if by := s.Orders.Uses(req.Name); by != "" {
		return nil, usage("the routine %s is begun with secret %s: give it another one first, or replace it with plumb secret set %s", by, req.Name, req.Name)
	}
	err := s.Store.RemoveSecret(ctx, req.Name, entry(ctx, store.EntrySecret, "Secret %s removed", req.Name))
	if errors.Is(err, store.ErrConflict) {
		return nil, &missing{fmt.Sprintf("there is no secret %q: plumb secret list shows them", req.Name)}
	}
	if err != nil {
		return nil, err
	}
	s.Keyring.RemoveSecret(req.Name)
	s.written()
	return contract.RemoveSecret204Response{}, nil
}
