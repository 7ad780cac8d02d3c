package service

import (
	"context"
	"errors"
	"fmt"
	"time"

	"plumbbob/internal/api"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/estatefile"
	"plumbbob/internal/profile"
	"plumbbob/internal/secret"
	"plumbbob/internal/store"
)

// What is brought back at the start. Each part stands for itself, and within each
// one bad row spoils only itself: it is left out, named, and everything else goes on.

const loadAgain = time.Second

// insist loads something, however often that has to be tried, until ctx ends.
func (s *Service) insist(ctx context.Context, what string, load func(context.Context) error) error {
	name := "start: " + what
	for {
		err := load(ctx)
		if err == nil {
			s.health.Well(name)
			return nil
		}
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		s.health.Grave(name, fmt.Sprintf("the service has not started whole: %s", err))
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(loadAgain):
		}
	}
}

// reload brings back from the database what is needed to reach the gear.
func (s *Service) reload(ctx context.Context) error {
	return errors.Join(s.loadGear(ctx, s.Store), api.KnowTaught(ctx, s.Store))
}

// loadGear brings back what is needed to reach the gear: secrets, profiles, the
// estate.
func (s *Service) loadGear(ctx context.Context, from known) error {
	secrets, err := from.Secrets(ctx)
	if err != nil {
		return fmt.Errorf("secrets: %w", err)
	}
	opened := map[string]secret.Value{}
	for _, x := range secrets {
		v, err := s.Sealer.Open(x.Name, x.Sealed)
		if err != nil {
			s.health.Grave("secret "+x.Name, fmt.Sprintf("the secret %s cannot be opened, so what it is for refuses us: set it again with plumb secret set %s, or bring back the file secrets.key that it was sealed with: %s", x.Name, x.Name, err))
			continue
		}
		s.garage.SetSecret(x.Name, v)
		opened[x.Name] = v
	}
	if err := s.addProfiles(ctx, from); err != nil {
		return fmt.Errorf("profiles: %w", err)
	}
	e, err := s.recallEstate(ctx, from)
	if err != nil {
		return fmt.Errorf("the estate: %w", err)
	}
	if e != nil {
		s.bindSecrets(ctx, opened, e)
		if err := e.EachHost(s.mayConnect); err != nil {
			s.health.Grave("connect", "the estate has something at an address that nothing is sent to, so nothing is known of it: "+err.Error())
		}
		s.setEstate(ctx, e)
	}
	return nil
}

// bindSecrets binds those that are of before there were bounds to where the estate uses
// them. What cannot be recorded now is bound all the same, and recorded at a later start.
func (s *Service) bindSecrets(ctx context.Context, opened map[string]secret.Value, e *estate.Estate) {
	uses := e.SecretUses()
	for name, v := range opened {
		if v.Bound != "" {
			continue
		}
		v = v.BoundTo(uses[name])
		s.garage.SetSecret(name, v)
		sealed, err := s.Sealer.Seal(name, v)
		if err == nil {
			text := fmt.Sprintf("Secret %s bound to where the estate uses it: %s", name, v.Bound)
			err = s.Store.SetSecret(ctx, store.SealedSecret{Name: name, Kind: v.Kind, Sealed: sealed, SetBy: "plumbd"},
				store.Entry{At: time.Now().UTC(), Who: "plumbd", Kind: store.EntrySecret, Text: text, Result: "done"})
		}
		if err != nil {
			s.o.Log.Warn("that a secret is bound could not be recorded", "secret", name, "because", err)
		}
	}
}

// addProfiles makes the profiles known that people have added. One that cannot be
// read any more is left out.
func (s *Service) addProfiles(ctx context.Context, from known) error {
	list, err := from.Profiles(ctx)
	if err != nil {
		return err
	}
	for _, x := range list {
		p, err := profile.Parse(x.Name, []byte(x.Text))
		if err == nil {
			err = profile.Add(p)
		}
		if err != nil {
			s.health.Grave("profile "+x.Name, fmt.Sprintf("the profile %s cannot be read any more, and what follows it cannot be reached: correct it with plumb profile add: %s", x.Name, err))
		}
	}
	return nil
}

// versionsBack is how many versions of the estate are tried, the newest first.
const versionsBack = 20

// recallEstate reads the estate on record: of the newest version what can be read,
// or, where that is nothing, an older one. Nil when there is none yet.
func (s *Service) recallEstate(ctx context.Context, from known) (*estate.Estate, error) {
	versions, err := from.EstateVersions(ctx, versionsBack)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	for i, v := range versions {
		e, faults := estatefile.Recall("the estate on record", []byte(v.Text))
		if e == nil {
			s.health.Grave(fmt.Sprintf("estate version %d", v.ID), "this version of the estate cannot be read any more, so an older one is used: import it anew: "+faults.Error())
			continue
		}
		if faults != nil {
			s.health.Grave("estate", "parts of the estate on record are not right any more: correct them, and import it anew: "+faults.Error())
		}
		if i > 0 {
			s.health.Grave("estate is old", fmt.Sprintf("version %d of the estate, of %s, is used: those after it cannot be read", v.ID, v.At.Format(time.DateOnly)))
		}
		return e, nil
	}
	return nil, nil
}

// remember brings back what was believed: what is meant to be off, and how things
// were.
func (s *Service) remember(ctx context.Context) error {
	if err := s.meantOff(ctx, s.Store); err != nil {
		return err
	}
	return s.keeper.Remember(ctx)
}

func (s *Service) meantOff(ctx context.Context, from known) error {
	parked, err := from.AllParked(ctx)
	if err != nil {
		return fmt.Errorf("what is meant to be off: %w", err)
	}
	for _, p := range parked {
		s.keeper.Park(p.Device, verdict.Parking{By: p.Who, Why: p.Why, Since: p.Since})
	}
	return nil
}
