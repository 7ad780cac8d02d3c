// Package names turns the names of hosts into addresses for those who must not wait
// for it: a resolver that is dead costs one time-out for a name that was never
// found, and nothing for one that was.
package names

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"
)

const (
	within = 2 * time.Second // for a name to be found the first time
	fresh  = time.Minute     // after which an address is looked up again, beside whoever uses it
	most   = 20_000          // names that are kept
)

// Book keeps the last good address of every name. It may be shared between
// goroutines; its zero value asks the system's resolver.
type Book struct {
	Lookup func(ctx context.Context, host string) ([]netip.Addr, error) // nil: the system's

	policy atomic.Pointer[Policy]

	mu     sync.Mutex
	known  map[string]*entry
	asking sync.WaitGroup
}

// entry is one name. done is open while it is being looked up.
type entry struct {
	addr netip.Addr // the last good one
	at   time.Time  // when that was found, or last looked for
	err  error      // of the last look-up, while there is no good one
	done chan struct{}
}

// Default is the book of this process.
var Default = &Book{}

// An Error says that a name could not be found.
type Error struct {
	Host string
	Err  error
}

func (e *Error) Error() string { return fmt.Sprintf("the name %s cannot be found: %v", e.Host, e.Err) }
func (e *Error) Unwrap() error { return e.Err }

// Allow has addresses given out from now on that a policy allows, and no others.
func (b *Book) Allow(p Policy) { b.policy.Store(&p) }

// A ForbiddenError says that a host may not be connected to.
type ForbiddenError struct {
	Host string
	Err  error
}

func (e *ForbiddenError) Error() string {
	return fmt.Sprintf("%s is not connected to: %v", e.Host, e.Err)
}
func (e *ForbiddenError) Unwrap() error { return e.Err }

// Addr returns the address of a host. A name that was found before is answered at
// once, and looked up again beside that when it is older than a minute. The error is
// an *Error, a *ForbiddenError, or that of ctx.
func (b *Book) Addr(ctx context.Context, host string) (netip.Addr, error) {
	a, err := b.find(ctx, host)
	if p := b.policy.Load(); err == nil && p != nil {
		if why := p.Check(a); why != nil {
			return netip.Addr{}, &ForbiddenError{host, why}
		}
	}
	return a, err
}

func (b *Book) find(ctx context.Context, host string) (netip.Addr, error) {
	if a, err := netip.ParseAddr(host); err == nil {
		return a, nil
	}
	b.mu.Lock()
	e := b.known[host]
	if e == nil {
		if b.known == nil || len(b.known) >= most {
			b.known = map[string]*entry{}
		}
		e = &entry{}
		b.known[host] = e
	}
	if e.done == nil && time.Since(e.at) > fresh {
		b.look(host, e)
	}
	addr, err, done := e.addr, e.err, e.done
	b.mu.Unlock()
	if addr.IsValid() {
		return addr, nil
	}
	if done != nil {
		select {
		case <-done:
		case <-ctx.Done():
			return addr, context.Cause(ctx)
		}
		b.mu.Lock()
		addr, err = e.addr, e.err
		b.mu.Unlock()
	}
	if !addr.IsValid() {
		return addr, &Error{host, err}
	}
	return addr, nil
}

// again is how soon a name that was not found is looked for anew.
const again = 5 * time.Second

// look starts a look-up, with the lock held. It ends by itself, whoever waits.
func (b *Book) look(host string, e *entry) {
	e.done = make(chan struct{})
	b.asking.Go(func() {
		ctx, cancel := context.WithTimeout(context.Background(), within)
		defer cancel()
		lookup := b.Lookup
		if lookup == nil {
			lookup = func(ctx context.Context, host string) ([]netip.Addr, error) {
				return net.DefaultResolver.LookupNetIP(ctx, "ip", host)
			}
		}
		addrs, err := lookup(ctx, host)
		if err == nil && len(addrs) == 0 {
			err = errors.New("it has no address")
		}
		b.mu.Lock()
		defer b.mu.Unlock()
		e.at = time.Now()
		switch {
		case err == nil:
			e.addr, e.err = addrs[0].Unmap(), nil
		case e.addr.IsValid(): // the last good one counts
		default:
			e.err, e.at = err, time.Now().Add(again-fresh)
		}
		close(e.done)
		e.done = nil
	})
}

// HostPort is Addr for "host:port".
func (b *Book) HostPort(ctx context.Context, address string) (string, error) {
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		return "", fmt.Errorf("%q is not HOST:PORT: %w", address, err)
	}
	addr, err := b.Addr(ctx, host)
	if err != nil {
		return "", err
	}
	return net.JoinHostPort(addr.String(), port), nil
}

// DialContext connects to "host:port", by name or by address.
func (b *Book) DialContext(ctx context.Context, network, address string) (net.Conn, error) {
	to, err := b.HostPort(ctx, address)
	if err != nil {
		return nil, err
	}
	var d net.Dialer
	return d.DialContext(ctx, network, to)
}
