package lab

import (
	"fmt"
	"net"
	"net/netip"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/wire/syslog"
)

// Log has a device send a message over syslog, from its own address, if it is up to that.
func (w *World) Log(k estate.Key, severity syslog.Severity, text string) error {
	var from netip.Addr
	up := false
	err := w.on(k, func(b *box) {
		up = w.up(b, time.Now()) && !b.hung
		from = ownAddress(b.d)
	})
	switch {
	case err != nil:
		return err
	case w.syslogPort == 0:
		return fmt.Errorf("nothing in this lab listens for messages")
	case !from.IsValid():
		return fmt.Errorf("%s has no address of its own", k)
	case !up:
		return nil // it says nothing
	}
	c, err := net.DialUDP("udp", net.UDPAddrFromAddrPort(netip.AddrPortFrom(from, 0)), &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1), Port: int(w.syslogPort)})
	if err != nil {
		return fmt.Errorf("lab: a message of %s: %w", k, err)
	}
	defer func() { _ = c.Close() }()
	_, err = c.Write(syslog.Message{Facility: 3, Severity: severity, At: time.Now(), Host: string(k), App: "system", Text: text}.Append(nil))
	return err
}

// ownAddress is the first on loopback at which a device is itself.
func ownAddress(d *estate.Device) netip.Addr {
	var all []string
	for _, p := range d.Probes {
		all = append(all, p.Target)
	}
	for _, ep := range d.Endpoints {
		if !d.OverSerial(ep) {
			all = append(all, ep.Addresses...)
		}
	}
	for _, at := range all {
		if a, err := netip.ParseAddr(estate.HostOf(at)); err == nil && a.IsLoopback() {
			return a
		}
	}
	return netip.Addr{}
}
