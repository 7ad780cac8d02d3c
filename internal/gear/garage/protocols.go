package garage

import (
	"slices"
	"strings"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/gear"
	"plumbbob/internal/gear/httpgear"
	"plumbbob/internal/gear/ipmigear"
	"plumbbob/internal/gear/linegear"
	"plumbbob/internal/gear/rfbgear"
	"plumbbob/internal/gear/snmpgear"
	"plumbbob/internal/gear/sshgear"
	"plumbbob/internal/profile"
	"plumbbob/internal/secret"
)

// opening is what a driver is made from.
type opening struct {
	id      estate.EndpointID
	ep      estate.Endpoint
	secret  secret.Value
	pins    sshgear.Pins
	local   Local
	profile *profile.Profile // of a trial; nil: the one that the endpoint names
}

// protocol is how one protocol is spoken.
type protocol struct {
	secrets []string // the kinds that it takes
	open    func(opening) (gear.Driver, error)
}

// protocols has them all: a new one is a driver, a row here, and what it gives in
// the model of the estate.
var protocols = map[estate.Protocol]protocol{
	estate.SNMP: {[]string{secret.SNMPv3, secret.SNMPv2c, secret.SNMPv1}, withProfile(func(o opening) (gear.Driver, error) {
		return snmpgear.Open(snmpgear.Options{Name: o.name(), Addresses: o.ep.Addresses, Profile: o.profile, Secret: o.secret, Timeout: o.ep.Timeout})
	})},
	estate.HTTPAPI: {[]string{secret.Login, secret.Token}, withProfile(func(o opening) (gear.Driver, error) {
		return httpgear.Open(httpgear.Options{Name: o.name(), Addresses: o.ep.Addresses, Profile: o.profile, Secret: o.secret, Pin: o.ep.Pin, Timeout: o.ep.Timeout})
	})},
	estate.IPMI: {[]string{secret.IPMI}, func(o opening) (gear.Driver, error) {
		return ipmigear.Open(ipmigear.Options{Name: o.name(), Addresses: o.ep.Addresses, Secret: o.secret, Suites: o.ep.Suites, Legacy: o.ep.Legacy, Shared: o.ep.Shared})
	}},
	estate.SSH: {[]string{secret.SSHKey, secret.Login}, func(o opening) (gear.Driver, error) {
		return sshgear.Open(sshgear.Options{Name: o.name(), Addresses: o.ep.Addresses, Secret: o.secret, Pin: o.ep.Pin, Timeout: o.ep.Timeout, Pins: o.pins})
	}},
	estate.Telnet: {[]string{secret.Login}, func(o opening) (gear.Driver, error) {
		return linegear.Open(linegear.Options{Name: o.name(), Addresses: o.ep.Addresses, Secret: o.secret, Prompt: o.ep.Prompt, Timeout: o.ep.Timeout})
	}},
	estate.TTY: {[]string{secret.Login}, func(o opening) (gear.Driver, error) {
		if o.local == nil {
			return nil, errNoPorts
		}
		return linegear.Open(linegear.Options{Name: o.name(), Addresses: o.ep.Addresses, Secret: o.secret, Prompt: o.ep.Prompt, Timeout: o.ep.Timeout, Dial: o.local.Cable})
	}},
	estate.Modem: {nil, func(o opening) (gear.Driver, error) {
		if o.local == nil {
			return nil, errNoPorts
		}
		return linegear.OpenPhone(o.ep.Addresses, o.local), nil
	}},
	estate.RFB: {[]string{secret.Token, secret.Login}, func(o opening) (gear.Driver, error) {
		return rfbgear.Open(rfbgear.Options{Name: o.name(), Addresses: o.ep.Addresses, Secret: o.secret, Pin: o.ep.Pin, Timeout: o.ep.Timeout, Known: o.pins.Known, Learn: o.pins.Learn})
	}},
	estate.Camera: {[]string{secret.Login, secret.Token}, func(o opening) (gear.Driver, error) {
		return httpgear.OpenCamera(httpgear.Options{Name: o.name(), Addresses: o.ep.Addresses, Secret: o.secret, Pin: o.ep.Pin, Timeout: o.ep.Timeout}, o.ep.Path)
	}},
}

// errNoPorts: this process has no serial ports for gear.
var errNoPorts = notSent(gear.Unsupported, "there are no serial ports here")

func (o opening) name() string { return string(o.id.Device) }

// withProfile finds the profile before the driver is made.
func withProfile(make func(opening) (gear.Driver, error)) func(opening) (gear.Driver, error) {
	return func(o opening) (gear.Driver, error) {
		if o.profile == nil {
			p, err := profile.Find(o.ep.Profile)
			if err != nil {
				return nil, notSent(gear.Unsupported, "%s: %s", o.id, err)
			}
			o.profile = p
		}
		return make(o)
	}
}

// open makes the driver for the protocol of an endpoint.
func open(o opening) (gear.Driver, error) {
	p, ok := protocols[o.ep.Protocol]
	if !ok {
		return nil, notSent(gear.Unsupported, "%s: nothing here speaks %s", o.id, o.ep.Protocol)
	}
	if o.ep.Secret != "" && !slices.Contains(p.secrets, o.secret.Kind) {
		return nil, notSent(gear.BadSecret, "secret %s is of kind %s, and %s needs %s", o.ep.Secret, o.secret.Kind, o.id, strings.Join(p.secrets, " or "))
	}
	return p.open(o)
}
