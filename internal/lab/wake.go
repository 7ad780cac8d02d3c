package lab

import (
	"context"
	"errors"
	"fmt"
	"net"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/wire/wol"
)

// listenWake hears magic packets on the segment of a device.
func (l *Lab) listenWake(ctx context.Context, d *estate.Device) error {
	mac, err := net.ParseMAC(d.Wake.MAC)
	if err != nil {
		return fmt.Errorf("wake: %w", err)
	}
	addr, err := net.ResolveUDPAddr("udp", d.Wake.Broadcast)
	if err != nil {
		return fmt.Errorf("wake: %w", err)
	}
	conn, err := net.ListenUDP("udp", addr)
	if err != nil {
		return fmt.Errorf("wake: %w: is another lab running?", err)
	}
	context.AfterFunc(ctx, func() { _ = conn.Close() })
	l.tasks.Go(func() error {
		buf := make([]byte, 512)
		for {
			n, _, err := conn.ReadFromUDP(buf)
			if errors.Is(err, net.ErrClosed) {
				return context.Cause(ctx)
			}
			var p wol.Packet
			if err == nil && p.Decode(buf[:n]) == nil && p.MAC == [6]byte(mac) {
				l.wake(d.Key)
			}
		}
	})
	return nil
}

// wake has a box that sleeps start, if the packet reaches it.
func (w *World) wake(k estate.Key) {
	w.mu.Lock()
	defer w.mu.Unlock()
	now := time.Now()
	b := w.boxes[k]
	if ok, _, _ := w.outside.reach(k, "", now); !ok || b.powered.IsZero() || !b.asleep {
		return
	}
	b.asleep = false
	b.powered = now // it starts as if power had come
}
