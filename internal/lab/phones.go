package lab

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"strings"
	"time"

	"github.com/creack/pty"
	"golang.org/x/term"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/lab/phone"
	"plumbbob/internal/wire/modem"
)

// The service's machine has a modem at a serial port, which is a pseudo-terminal here, and
// whatever the estate has a telephone number for can be called by it.

// untilOpened is how often is looked whether somebody has opened the port.
const untilOpened = 50 * time.Millisecond

// startPhone puts the modem at its port, whose path is ModemPath then.
func (l *Lab) startPhone(ctx context.Context) error {
	master, slave, err := pty.Open()
	if err != nil {
		return fmt.Errorf("lab: a port for the modem: %w", err)
	}
	l.ModemPath = slave.Name()
	_, err = term.MakeRaw(int(slave.Fd()))
	if err = errors.Join(err, slave.Close()); err != nil {
		return fmt.Errorf("lab: the modem's port: %w", err)
	}
	numbers := map[string]func(context.Context) (net.Conn, error){}
	for i := range l.e.Devices {
		d := &l.e.Devices[i]
		for _, ep := range d.Endpoints {
			if ep.Protocol != estate.Modem {
				continue
			}
			_, number, _ := strings.Cut(ep.Addresses[0], " ")
			if number, err = modem.Number(number); err != nil {
				return fmt.Errorf("lab: %s: %w", d.Key, err)
			}
			numbers[number] = l.phoneOf(ctx, d)
		}
	}
	l.Phone = phone.New(master, numbers)
	context.AfterFunc(ctx, func() { _ = master.Close() })
	l.tasks.Go(func() error {
		l.Phone.Serve(ctx, master, func(err error) bool { // nobody has the port open, which is as if its cable said so
			l.Phone.Ready(false)
			time.Sleep(untilOpened)
			return ctx.Err() == nil && !errors.Is(err, os.ErrClosed)
		})
		return nil
	})
	return nil
}

// phoneOf is the modem at the serial port of a device: it has the power of what the port
// is plugged into.
func (l *Lab) phoneOf(ctx context.Context, d *estate.Device) func(context.Context) (net.Conn, error) {
	t, at := l.ttyOf(ctx, d.Key), l.boxes[d.Key]
	if len(d.Serial) > 0 {
		at = l.boxes[d.Serial[0].Device]
	}
	return func(asks context.Context) (net.Conn, error) {
		select { // it rings
		case <-asks.Done():
			return nil, context.Cause(asks)
		case <-time.After(time.Duration(float64(3*time.Second) / l.o.Speed)):
		}
		l.mu.Lock()
		on := l.up(at, time.Now())
		l.mu.Unlock()
		if !on {
			<-asks.Done()
			return nil, context.Cause(asks)
		}
		here, there := net.Pipe()
		l.tasks.Go(func() error {
			defer func() { _ = there.Close() }()
			stop := context.AfterFunc(ctx, func() { _ = there.Close() })
			defer stop()
			t.sit(ctx, there, nil)
			return nil
		})
		return here, nil
	}
}

// callIn is somebody elsewhere who calls the service's modem.
func (l *Lab) callIn(ctx context.Context, c net.Conn, in io.Reader) {
	far, err := l.Phone.Call(ctx)
	if err != nil {
		return
	}
	defer func() { _ = far.Close() }()
	go func() {
		_, _ = io.Copy(far, in)
		_ = far.Close()
	}()
	_, _ = io.Copy(c, far)
}
