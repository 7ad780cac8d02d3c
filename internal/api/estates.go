package api

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/estatefile"
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
	outside map[string][]string // where secrets would be sent that may not go there yet
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
	p.view = contract.EstateChanges{Version: v.ID, Changes: []string{}, Sends: []string{}}
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
	if p.outside, err = s.outside(ctx, p.now); err != nil {
		return p, err
	}
	for _, name := range slices.Sorted(maps.Keys(p.outside)) {
		p.view.Sends = append(p.view.Sends, fmt.Sprintf("secret %s would be sent to %s as well", name, strings.Join(p.outside[name], ", ")))
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
	if len(p.view.Changes) == 0 && !mayBind(ctx) {
		return contract.ImportEstate200JSONResponse(p.view), nil
	}
	if err := s.bind(ctx, p.outside); err != nil {
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
	if err := e.EachHost(s.MayConnect); err != nil {
		return usage("%s", err)
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

func text(p *string) string { return *cmp.Or(p, new(string)) }
