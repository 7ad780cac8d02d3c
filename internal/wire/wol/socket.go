package wol

import (
	"syscall"

	"golang.org/x/sys/unix"
)

// allowBroadcast lets a socket send to broadcast addresses.
func allowBroadcast(_, _ string, c syscall.RawConn) error {
	var failed error
	err := c.Control(func(fd uintptr) {
		failed = unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_BROADCAST, 1)
	})
	if err != nil {
		return err
	}
	return failed
}
