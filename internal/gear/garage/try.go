package garage

import (
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/gear"
	"plumbbob/internal/profile"
)

// tryWithin is how long one question of a trial may take.
const tryWithin = 3 * time.Second

// OpenTrial opens gear that is not in the estate, with a profile that need not be
// known. Whoever asks for it closes it.
func (g *Garage) OpenTrial(p *profile.Profile, address, secretName, pin string) (gear.Driver, error) {
	if secretName == "" && p.TakesSecret() {
		return nil, notSent(gear.BadSecret, "profile %s logs in: name the secret that the gear takes", p.Name)
	}
	g.mu.Lock()
	v, err := g.secret(secretName)
	g.mu.Unlock()
	if err != nil {
		return nil, err
	}
	ep := estate.Endpoint{Protocol: estate.Protocol(p.Protocol), Addresses: []string{address}, Secret: secretName, Pin: pin, Timeout: tryWithin}
	return open(opening{id: estate.EndpointID{Device: estate.Key(address), Name: "trial"}, ep: ep, secret: v, profile: p})
}
