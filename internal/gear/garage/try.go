package garage

import (
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/gear"
	"plumbbob/internal/profile"
)

// tryWithin is how long one question of a trial may take.
const tryWithin = 3 * time.Second

// A Trial is gear that is not in the estate, with a profile that need not be known.
type Trial struct {
	Profile      *profile.Profile
	Address      string
	Secret       string // its name, or empty
	Pin          string
	SendAnywhere bool // also where the secret is not bound to: whoever asks may bind it
}

// OpenTrial opens the gear of a trial. Whoever asks for it closes it.
func (g *Garage) OpenTrial(t Trial) (gear.Driver, error) {
	if t.Secret == "" && t.Profile.TakesSecret() {
		return nil, notSent(gear.BadSecret, "profile %s logs in: name the secret that the gear takes", t.Profile.Name)
	}
	g.mu.Lock()
	v, err := g.secret(t.Secret)
	g.mu.Unlock()
	if err != nil {
		return nil, err
	}
	ep := estate.Endpoint{Protocol: estate.Protocol(t.Profile.Protocol), Addresses: []string{t.Address}, Secret: t.Secret, Pin: t.Pin, Timeout: tryWithin}
	if err := within(v, ep); err != nil && !t.SendAnywhere {
		return nil, err
	}
	return open(opening{id: estate.EndpointID{Device: estate.Key(t.Address), Name: "trial"}, ep: ep, secret: v, profile: t.Profile})
}
