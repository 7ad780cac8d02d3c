package garage

import (
	"context"
	"net"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/gear"
	"plumbbob/internal/wire/wol"
)

// Wake sends a magic packet to a device. That it left is all that is known
// then: nothing acknowledges it.
func (g *Garage) Wake(ctx context.Context, k estate.Key) error {
	g.mu.Lock()
	d := g.estate.Device(k)
	var password string
	var bound error
	if d != nil && d.Wake != nil {
		v := g.secrets[d.Wake.Secret]
		password = v.Password
		bound = within(v, estate.Endpoint{Protocol: "wake", Secret: d.Wake.Secret, Addresses: []string{d.Wake.Broadcast}})
	}
	g.mu.Unlock()
	if d == nil || d.Wake == nil {
		return notSent(gear.Unsupported, "how %s is woken is not known any more", k)
	}
	if bound != nil {
		return bound
	}
	mac, err := net.ParseMAC(d.Wake.MAC)
	if err != nil {
		return notSent(gear.Unsupported, "%s: %s", k, err)
	}
	if d.Wake.Secret != "" && len(password) != 4 && len(password) != 6 {
		return notSent(gear.BadSecret, "secret %s is not set, or is no SecureOn password: it has 4 or 6 bytes", d.Wake.Secret)
	}
	if err := wol.Send(ctx, d.Wake.Broadcast, wol.Packet{MAC: [6]byte(mac), Password: []byte(password)}); err != nil {
		return notSent(gear.Unreachable, "%s could not be sent a magic packet: %s", k, err)
	}
	return nil
}
