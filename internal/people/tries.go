package people

import (
	"fmt"
	"math"
	"net/netip"
	"sync"
	"time"
)

// A WaitError asks for patience.
type WaitError struct {
	Wait time.Duration
	Why  string
}

func (e *WaitError) Error() string {
	return fmt.Sprintf("%s: wait %d s", e.Why, int(math.Ceil(e.Wait.Seconds())))
}

// How often somebody may be wrong before everybody like them has to wait. One who
// forgets a password must not keep colleagues out who share an address, and
// strangers must not keep out the owner, who comes from where they have come before.
const (
	freeHere    = 5  // for one account, from one network
	freeNetwork = 30 // for all accounts, from one network
	freeAccount = 20 // for one account, from networks where it never came in

	tryWait   = 30 * time.Second
	triesLast = 5 * time.Minute // before they are forgotten
	triesMost = 20_000          // that are remembered
	homesLast = 90 * 24 * time.Hour
)

// tries counts wrong passwords. A try counts before it is checked, so that many at
// once are no way around.
type tries struct {
	now func() time.Time

	mu    sync.Mutex
	count map[string]*count
	homes map[string]time.Time // where accounts came in, and when
}

type count struct {
	n    int
	last time.Time
}

func newTries(now func() time.Time) *tries {
	return &tries{now: now, count: map[string]*count{}, homes: map[string]time.Time{}}
}

// Network is what an address stands for: whoever has one IPv6 address has 2^64.
func Network(from string) string {
	a, err := netip.ParseAddr(from)
	if err != nil {
		return from
	}
	if a = a.Unmap(); a.Is6() {
		p, _ := a.WithZone("").Prefix(64)
		return p.String()
	}
	return a.String()
}

// begun is a try that is being checked. It counts as wrong until it is said not to.
type begun struct {
	t    *tries
	keys []string
	home string
}

// begin counts a try, or says how long to wait.
func (t *tries) begin(account, from string) (*begun, error) {
	net := Network(from)
	b := &begun{t: t, home: account + " at " + net}
	free := map[string]int{b.home: freeHere, "from " + net: freeNetwork}
	t.mu.Lock()
	defer t.mu.Unlock()
	now := t.now()
	if at, ok := t.homes[b.home]; !ok || now.Sub(at) > homesLast {
		free["account "+account] = freeAccount
	}
	t.tidy(now)
	var wait time.Duration
	for key, most := range free {
		if c := t.count[key]; c != nil && c.n >= most && now.Sub(c.last) < triesLast {
			wait = max(wait, tryWait-now.Sub(c.last))
		}
	}
	if wait > 0 {
		return nil, &WaitError{wait, "too many wrong passwords"}
	}
	for key := range free {
		c := t.count[key]
		if c == nil || now.Sub(c.last) >= triesLast {
			c = &count{}
			t.count[key] = c
		}
		c.n++
		c.last = now
		b.keys = append(b.keys, key)
	}
	return b, nil
}

// tidy forgets what is old, or, where strangers send more than can be remembered, all.
func (t *tries) tidy(now time.Time) {
	if len(t.count) < triesMost && len(t.homes) < triesMost {
		return
	}
	for key, c := range t.count {
		if now.Sub(c.last) >= triesLast {
			delete(t.count, key)
		}
	}
	for key, at := range t.homes {
		if now.Sub(at) > homesLast {
			delete(t.homes, key)
		}
	}
	if len(t.count) >= triesMost {
		clear(t.count)
	}
	if len(t.homes) >= triesMost {
		clear(t.homes)
	}
}

// neither takes a try back that could not be checked.
func (b *begun) neither() {
	b.t.mu.Lock()
	defer b.t.mu.Unlock()
	for _, key := range b.keys {
		if c := b.t.count[key]; c != nil && c.n > 0 {
			c.n--
		}
	}
}

// succeeded takes a try back that was right, and what was wrong here before. The
// count of the network stays: who knows one password may still guess others.
func (b *begun) succeeded() {
	b.neither()
	b.t.mu.Lock()
	defer b.t.mu.Unlock()
	delete(b.t.count, b.home)
	b.t.homes[b.home] = b.t.now()
}
