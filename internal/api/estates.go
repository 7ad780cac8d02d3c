package api

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/estatefile"
	"plumbbob/internal/secret"
	"plumbbob/internal/store"
	"plumbbob/internal/stream"
)

// ExportEstate implements the contract.
func (s *Server) ExportEstate(ctx context.Context, _ contract.ExportEstateRequestObject) (contract.ExportEstateResponseObject, error) {
	v, err := s.Store.Estate(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return contract.ExportEstate200JSONResponse{Text: "plumb-estate: 1\n"}, nil
	}
	if err != nil {
		return nil, err
	}
	return contract.ExportEstate200JSONResponse{Version: v.ID, At: ptr(v.At.UTC()), Who: &v.Who, Text: v.Text}, nil
}

// proposal is an estate that somebody wants, compared with the one there is.
type proposal struct {
	version int
	now     *estate.Estate
	view    contract.EstateChanges
	renamed map[estate.Key]estate.Key
}

func (s *Server) compare(ctx context.Context, b *contract.EstateImport) (proposal, error) {
	var p proposal
	file := "estate"
	if b.File != nil && *b.File != "" {
		file = *b.File
	}
	var err error
	if p.now, err = estatefile.Parse(file, []byte(b.Text)); err != nil {
		return p, err
	}
	v, err := s.Store.Estate(ctx)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return p, err
	}
	p.version = v.ID
	p.view = contract.EstateChanges{Version: v.ID, Changes: []string{}}
	old := estate.Empty()
	if v.Text != "" {
		if old, err = estatefile.Parse("the estate on record", []byte(v.Text)); err != nil {
			return p, err
		}
	}
	p.renamed = map[estate.Key]estate.Key{}
	for _, c := range estate.Diff(old, p.now) {
		p.view.Changes = append(p.view.Changes, c.String())
		if c.Kind == estate.Renamed {
			p.renamed[estate.Key(c.From)] = estate.Key(strings.TrimPrefix(c.Thing, "device "))
		}
	}
	unset, err := s.unset(ctx, p.now)
	if err != nil {
		return p, err
	}
	if len(unset) > 0 {
		p.view.Unset = &unset
	}
	return p, nil
}

// unset lists the secrets that an estate names and nobody has set.
func (s *Server) unset(ctx context.Context, e *estate.Estate) ([]string, error) {
	have, err := s.Store.Secrets(ctx)
	if err != nil {
		return nil, err
	}
	var out []string
	for i := range e.Devices {
		for _, name := range secretsOf(&e.Devices[i]) {
			set := slices.ContainsFunc(have, func(x store.SealedSecret) bool { return x.Name == name })
			if !set && !slices.Contains(out, name) {
				out = append(out, name)
			}
		}
	}
	return out, nil
}

// secretsOf names the secrets with which a device is reached, or woken.
func secretsOf(d *estate.Device) (names []string) {
	for _, ep := range d.Endpoints {
		if ep.Secret != "" {
			names = append(names, ep.Secret)
		}
	}
	if d.Wake != nil && d.Wake.Secret != "" {
		names = append(names, d.Wake.Secret)
	}
	return names
}

// DiffEstate implements the contract.
func (s *Server) DiffEstate(ctx context.Context, req contract.DiffEstateRequestObject) (contract.DiffEstateResponseObject, error) {
	p, err := s.compare(ctx, req.Body)
	if err != nil {
		return nil, err
	}
	return contract.DiffEstate200JSONResponse(p.view), nil
}

// ImportEstate implements the contract.
func (s *Server) ImportEstate(ctx context.Context, req contract.ImportEstateRequestObject) (contract.ImportEstateResponseObject, error) {
	p, err := s.compare(ctx, req.Body)
	if err != nil {
		return nil, err
	}
	if v := req.Body.Version; v != nil && *v != p.version {
		return nil, fmt.Errorf("the estate has been changed by somebody else since you looked: look again with plumb estate diff: %w", store.ErrConflict)
	}
	if err := s.mayReplace(ctx, p.now); err != nil {
		return nil, err
	}
	if len(p.view.Changes) == 0 {
		return contract.ImportEstate200JSONResponse(p.view), nil
	}
	who := whoIs(ctx).Account
	entry := store.Entry{At: nowUTC(), Kind: store.EntryEstate, Who: who, Text: summarize(p.view.Changes), Result: "done"}
	if err := s.Store.SaveEstate(ctx, p.version, who, req.Body.Text, p.renamed, entry); err != nil {
		return nil, err
	}
	s.Health.Well("estate")
	s.Health.Well("estate is old")
	s.SetEstate(ctx, p.now)
	s.publish(stream.Estate, "all", struct{}{})
	s.written()
	return contract.ImportEstate200JSONResponse(p.view), nil
}

// mayReplace refuses an estate without what an operation is working on: power
// may still have to be switched on again there.
func (s *Server) mayReplace(ctx context.Context, e *estate.Estate) error {
	ops, err := s.Actor.List(ctx, store.OperationFilter{State: operation.Running, Limit: 500})
	if err != nil {
		return err
	}
	for _, o := range ops {
		for _, end := range o.Outlets {
			if e.Device(o.Device) == nil || e.Device(end.Device) == nil {
				return fmt.Errorf("operation %s is running on %s for %s, which this file leaves out: wait until it has ended: %w", o.ID, end, o.Device, store.ErrConflict)
			}
		}
	}
	return nil
}

const mostInEntry = 12

func summarize(changes []string) string {
	text := "Estate imported: " + strings.Join(changes[:min(len(changes), mostInEntry)], "; ")
	if more := len(changes) - mostInEntry; more > 0 {
		text += fmt.Sprintf("; and %d more", more)
	}
	return text
}

// ListSecrets implements the contract.
func (s *Server) ListSecrets(ctx context.Context, _ contract.ListSecretsRequestObject) (contract.ListSecretsResponseObject, error) {
	all, err := s.Store.Secrets(ctx)
	if err != nil {
		return nil, err
	}
	out := contract.ListSecrets200JSONResponse{}
	for _, x := range all {
		out = append(out, contract.Secret{Name: x.Name, Kind: x.Kind, SetBy: x.SetBy, Set: x.SetAt.UTC()})
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
	sealed, err := s.Sealer.Seal(req.Name, v)
	if err != nil {
		return nil, err
	}
	who := whoIs(ctx).Account
	if err := s.Store.SetSecret(ctx, store.SealedSecret{Name: req.Name, Kind: v.Kind, Sealed: sealed, SetBy: who}, entry(ctx, store.EntrySecret, "Secret %s set", req.Name)); err != nil {
		return nil, err
	}
	s.Keyring.SetSecret(req.Name, v)
	s.Health.Well("secret " + req.Name)
	s.written()
	return contract.SetSecret204Response{}, nil
}

func text(p *string) string { return *cmp.Or(p, new(string)) }

// RemoveSecret implements the contract.
func (s *Server) RemoveSecret(ctx context.Context, req contract.RemoveSecretRequestObject) (contract.RemoveSecretResponseObject, error) {
	e := s.Keeper.Estate()
	for i := range e.Devices {
		if d := &e.Devices[i]; slices.Contains(secretsOf(d), req.Name) {
			return nil, usage("%s is reached with secret %s: give it another one first, or replace it with plumb secret set %s", d.Key, req.Name, req.Name)
		}
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
