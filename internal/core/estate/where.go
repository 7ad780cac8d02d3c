package estate

import (
	"fmt"
	"strings"
)

// SecretUses says of each secret where an estate has it sent: "snmp://198.51.100.7:161".
func (e *Estate) SecretUses() map[string][]string {
	uses := map[string][]string{}
	for i := range e.Devices {
		d := &e.Devices[i]
		for _, ep := range d.Endpoints {
			if ep.Secret == "" {
				continue
			}
			for _, a := range ep.Addresses {
				uses[ep.Secret] = append(uses[ep.Secret], string(ep.Protocol)+"://"+a)
			}
		}
		if d.Wake != nil && d.Wake.Secret != "" {
			uses[d.Wake.Secret] = append(uses[d.Wake.Secret], "wake://"+d.Wake.Broadcast)
		}
	}
	return uses
}

// EachHost asks of every host at which gear is, or something is probed, whether it may
// be, and returns the first no.
func (e *Estate) EachHost(may func(host string) error) error {
	for i := range e.Devices {
		d := &e.Devices[i]
		var at []string
		for _, ep := range d.Endpoints {
			at = append(at, ep.Addresses...)
		}
		for _, p := range d.Probes {
			at = append(at, p.Target)
		}
		for _, a := range at {
			if err := may(HostOf(a)); err != nil {
				return fmt.Errorf("%s: %w", d.Key, err)
			}
		}
	}
	return nil
}

// HostOf is the host of an address, HOST:PORT, or of a URL. Both were checked before.
func HostOf(address string) string {
	if _, rest, ok := strings.Cut(address, "://"); ok {
		address, _, _ = strings.Cut(rest, "/")
		address = address[strings.LastIndex(address, "@")+1:]
	}
	if inside, ok := strings.CutPrefix(address, "["); ok {
		address, _, _ = strings.Cut(inside, "]")
		return address
	}
	if strings.Count(address, ":") == 1 {
		address, _, _ = strings.Cut(address, ":")
	}
	return address
}
