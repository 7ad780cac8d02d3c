package bmc

import (
	"context"
	"errors"
	"net"
	"time"

	"plumbbob/internal/wire/ipmi/rmcp"
)

// Fate decides about one packet on its way: how often it arrives, which may be
// never, and after how long. It is asked once for each direction.
type Fate func() (copies int, delay time.Duration)

// Serve answers packets until ctx ends, and returns the cause. A nil fate lets
// everything through.
func (c *Controller) Serve(ctx context.Context, conn *net.UDPConn, fate Fate) error {
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
	defer stop()
	if fate == nil {
		fate = func() (int, time.Duration) { return 1, 0 }
	}
	buf := make([]byte, rmcp.MaxPacket)
	for {
		n, from, err := conn.ReadFromUDPAddrPort(buf)
		if errors.Is(err, net.ErrClosed) {
			return context.Cause(ctx)
		}
		if err != nil {
			continue
		}
		there, delay := fate()
		for range there {
			reply, slow := c.handle(buf[:n], time.Now(), func(b []byte) {
				copies, wait := fate()
				for range copies {
					if wait > 0 {
						time.AfterFunc(wait, func() { _, _ = conn.WriteToUDPAddrPort(b, from) })
						continue
					}
					_, _ = conn.WriteToUDPAddrPort(b, from)
				}
			})
			back, more := fate()
			if reply == nil {
				continue
			}
			for range back {
				if wait := delay + more + slow; wait > 0 {
					time.AfterFunc(wait, func() { _, _ = conn.WriteToUDPAddrPort(reply, from) })
					continue
				}
				_, _ = conn.WriteToUDPAddrPort(reply, from)
			}
		}
	}
}
