package api

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/profile"
	"plumbbob/internal/store"
	"plumbbob/internal/watch"
)

// ListProfiles implements the contract.
func (s *Server) ListProfiles(context.Context, contract.ListProfilesRequestObject) (contract.ListProfilesResponseObject, error) {
	used := map[string]int{}
	e := s.Keeper.Estate()
	for i := range e.Devices {
		for _, ep := range e.Devices[i].Endpoints {
			used[ep.Profile]++
		}
	}
	out := contract.ListProfiles200JSONResponse{}
	for _, name := range profile.Names() {
		p, err := profile.Find(name)
		if err != nil {
			continue // removed in this moment
		}
		out = append(out, contract.Profile{Name: name, Title: p.Title, Protocol: p.Protocol, Builtin: profile.Builtin(name), Maps: p.Maps(), Used: used[name]})
	}
	return out, nil
}

// GetProfile implements the contract.
func (s *Server) GetProfile(ctx context.Context, req contract.GetProfileRequestObject) (contract.GetProfileResponseObject, error) {
	if t, ok := profile.Text(req.Name); ok {
		return contract.GetProfile200JSONResponse{Text: t}, nil
	}
	all, err := s.Store.Profiles(ctx)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(all, func(p store.Profile) bool { return p.Name == req.Name })
	if i < 0 {
		return nil, &missing{fmt.Sprintf("there is no profile %q: plumb profile list shows them", req.Name)}
	}
	return contract.GetProfile200JSONResponse{Text: all[i].Text}, nil
}

// SetProfile implements the contract.
func (s *Server) SetProfile(ctx context.Context, req contract.SetProfileRequestObject) (contract.SetProfileResponseObject, error) {
	p, err := profile.Parse(req.Name, []byte(req.Body.Text))
	switch {
	case err != nil:
		return nil, usage("%s", err)
	case p.Name != req.Name:
		return nil, usage("the profile calls itself %s, and not %s", p.Name, req.Name)
	case profile.Builtin(p.Name):
		return nil, usage("%s is a built-in profile: give yours another name", p.Name)
	}
	who := whoIs(ctx).Account
	if err := s.Store.SetProfile(ctx, store.Profile{Name: p.Name, Text: req.Body.Text, SetBy: who}, entry(ctx, store.EntryProfile, "Profile %s set", p.Name)); err != nil {
		return nil, err
	}
	if err := profile.Add(p); err != nil {
		return nil, usage("%s", err)
	}
	s.Keyring.Reopen(p.Name)
	s.Health.Well("profile " + p.Name)
	s.written()
	return contract.SetProfile204Response{}, nil
}

// RemoveProfile implements the contract.
func (s *Server) RemoveProfile(ctx context.Context, req contract.RemoveProfileRequestObject) (contract.RemoveProfileResponseObject, error) {
	e := s.Keeper.Estate()
	for i := range e.Devices {
		for _, ep := range e.Devices[i].Endpoints {
			if ep.Profile == req.Name {
				return nil, usage("%s %s uses profile %s: give it another one first", e.Devices[i].Key, ep.Name, req.Name)
			}
		}
	}
	if profile.Builtin(req.Name) {
		return nil, usage("%s is a built-in profile and stays", req.Name)
	}
	if err := s.Store.RemoveProfile(ctx, req.Name, entry(ctx, store.EntryProfile, "Profile %s removed", req.Name)); errors.Is(err, store.ErrConflict) {
		return nil, &missing{fmt.Sprintf("there is no profile %q that was added", req.Name)}
	} else if err != nil {
		return nil, err
	}
	profile.Remove(req.Name)
	s.written()
	return contract.RemoveProfile204Response{}, nil
}

// TryProfile implements the contract.
func (s *Server) TryProfile(ctx context.Context, req contract.TryProfileRequestObject) (contract.TryProfileResponseObject, error) {
	p, err := profile.Parse("profile", []byte(req.Body.Text))
	if err != nil {
		return nil, usage("%s", err)
	}
	trial := watch.Trial{
		Profile: p, Address: req.Body.Address, Secret: text(req.Body.Secret), Pin: strings.ToLower(strings.ReplaceAll(text(req.Body.Pin), ":", "")),
		SendAnywhere: mayBind(ctx),
	}
	tried := entry(ctx, store.EntryProfile, "Profile %s tried at %s with the secret %s", p.Name, trial.Address, cmp.Or(trial.Secret, "(none)"))
	if err := s.Store.Write(ctx, tried); err != nil { // on record before anything is sent
		return nil, err
	}
	s.written()
	found, err := s.Watcher.Try(ctx, trial)
	if err != nil {
		return nil, err
	}
	return contract.TryProfile200JSONResponse(findingsView(found)), nil
}

func findingsView(f watch.Findings) contract.ProfileFindings {
	out := contract.ProfileFindings{Matches: f.Matches, Found: []contract.NamedText{}, Missing: []contract.NamedText{}}
	for _, x := range f.Found {
		out.Found = append(out.Found, contract.NamedText{Name: x.Name, Text: x.Text})
	}
	for _, x := range f.Missing {
		out.Missing = append(out.Missing, contract.NamedText{Name: x.Name, Text: x.Text})
	}
	return out
}
