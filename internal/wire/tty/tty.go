// Package tty opens the serial ports of this machine (termios(3), tty_ioctl(4)).
//
// The libraries for that wait with select(2), which cannot take the files of a service
// that has more than a thousand open.
package tty

import (
	"errors"
	"fmt"
	"os"
	"time"

	"golang.org/x/sys/unix"

	"plumbbob/internal/wire/telnet"
)

// ErrNoLines: the port has no lines of a modem, as a pseudo-terminal has none.
var ErrNoLines = errors.New("this port has no lines of a modem")

const breakLasts = 300 * time.Millisecond

// A Port is one that is open. Nobody else on this machine opens it meanwhile.
type Port struct {
	*os.File
	set telnet.Port
}

// Open opens the port at a path, set as telnet.ParsePort reads it.
func Open(path, set string) (*Port, error) {
	how, err := telnet.ParsePort(set)
	if err != nil {
		return nil, err
	}
	f, err := os.OpenFile(path, os.O_RDWR|unix.O_NOCTTY|unix.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	p := &Port{File: f}
	if err := p.control(func(fd int) error { return unix.IoctlSetInt(fd, unix.TIOCEXCL, 0) }); err != nil {
		_ = f.Close()
		return nil, fmt.Errorf("%s is no serial port: %w", path, err)
	}
	if err := p.apply(how); err != nil {
		_ = f.Close()
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return p, nil
}

func (p *Port) control(f func(fd int) error) error {
	raw, err := p.SyscallConn()
	if err != nil {
		return err
	}
	var failed error
	return errors.Join(raw.Control(func(fd uintptr) { failed = f(int(fd)) }), failed)
}

var (
	sizes    = map[int]uint32{5: unix.CS5, 6: unix.CS6, 7: unix.CS7, 8: unix.CS8}
	parities = map[byte]uint32{
		telnet.NoParity: 0, telnet.OddParity: unix.PARENB | unix.PARODD, telnet.EvenParity: unix.PARENB,
		telnet.MarkParity: unix.PARENB | unix.PARODD | unix.CMSPAR, telnet.SpaceParity: unix.PARENB | unix.CMSPAR,
	}
)

// apply sets the port, raw, at any speed (BOTHER). Hanging up when it is closed stays on, so
// that a modem hangs up with us (HUPCL).
func (p *Port) apply(set telnet.Port) error {
	t := unix.Termios{
		Cflag:  unix.CREAD | unix.CLOCAL | unix.HUPCL | unix.BOTHER | sizes[set.Bits] | parities[set.Parity],
		Ispeed: uint32(set.Speed), Ospeed: uint32(set.Speed),
	}
	if set.Stop != telnet.OneStop { // one and a half, of five bits
		t.Cflag |= unix.CSTOPB
	}
	switch set.Flow {
	case telnet.XonXoff:
		t.Iflag |= unix.IXON | unix.IXOFF
		t.Cc[unix.VSTART], t.Cc[unix.VSTOP] = 0x11, 0x13
	case telnet.HardFlow:
		t.Cflag |= unix.CRTSCTS
	}
	t.Cc[unix.VMIN] = 1
	err := p.control(func(fd int) error { return unix.IoctlSetTermios(fd, unix.TCSETS2, &t) })
	if err == nil {
		p.set = set
	}
	return err
}

// Break holds the line broken for as long as the Break key does.
func (p *Port) Break() error {
	begin := func(fd int) error { return unix.IoctlSetInt(fd, unix.TIOCSBRK, 0) }
	end := func(fd int) error { return unix.IoctlSetInt(fd, unix.TIOCCBRK, 0) }
	if err := p.control(begin); err != nil {
		return err
	}
	time.Sleep(breakLasts)
	return p.control(end)
}

// Set is how the port is set: "9600 8N1".
func (p *Port) Set() string { return p.set.String() }

// SetTo sets it otherwise.
func (p *Port) SetTo(set string) error {
	how, err := telnet.ParsePort(set)
	if err != nil {
		return err
	}
	return p.apply(how)
}

// SetReady says that somebody is there (DTR, circuit 108/2 of V.24), or not. Its error is
// ErrNoLines where that cannot be said.
func (p *Port) SetReady(on bool) error {
	how := uint(unix.TIOCMBIC)
	if on {
		how = unix.TIOCMBIS
	}
	if p.control(func(fd int) error { return unix.IoctlSetPointerInt(fd, how, unix.TIOCM_DTR) }) != nil {
		return ErrNoLines
	}
	return nil
}

// Modem are the lines that a modem drives. Its error is ErrNoLines where there are none.
func (p *Port) Modem() (telnet.Modem, error) {
	var bits int
	err := p.control(func(fd int) (err error) {
		bits, err = unix.IoctlGetInt(fd, unix.TIOCMGET)
		return err
	})
	if err != nil {
		return telnet.Modem{}, ErrNoLines
	}
	return telnet.Modem{Carrier: bits&unix.TIOCM_CAR != 0, Ring: bits&unix.TIOCM_RNG != 0, Ready: bits&unix.TIOCM_DSR != 0, Clear: bits&unix.TIOCM_CTS != 0}, nil
}
