package lab

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"sync"
	"time"

	"plumbbob/internal/canvas"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/picture"
	"plumbbob/internal/lab/video"
)

// channelPorts is how many ports the lab's KVMs have of which one is seen at a time.
const channelPorts = 4

// channel is a KVM with several ports: what is seen there is one of them.
type channel struct {
	*canvas.Canvas
	l     *Lab
	b     *box
	ports map[int]*display // those that something is wired to

	mu      sync.Mutex
	shows   int
	looking int
	locks   int // how often Scroll Lock was pressed just now
}

// channelOf makes the one of a KVM.
func (l *Lab) channelOf(ctx context.Context, kvm estate.Key) *channel {
	c := &channel{Canvas: canvas.New(640, 480), l: l, b: l.boxes[kvm], ports: map[int]*display{}, shows: 1}
	for i := range l.e.Devices {
		d := &l.e.Devices[i]
		for _, end := range d.Video {
			if n, err := strconv.Atoi(end.Port); end.Device == kvm && err == nil {
				c.ports[n] = l.displayOf(ctx, d.Key)
			}
		}
	}
	l.tasks.Go(func() error { return c.live(ctx) })
	return c
}

// live has the screen be that of the port that is seen.
func (c *channel) live(ctx context.Context) error {
	tick := time.NewTicker(c.l.o.Frame)
	defer tick.Stop()
	var from *display
	seen := uint64(0)
	for {
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-tick.C:
		}
		switch now := c.display(); {
		case now == nil:
			p := video.NoSignal()
			c.Take(p, []picture.Rect{{W: p.W, H: p.H}})
			from = nil
		case now != from:
			from, seen = now, now.Look(0, c.Take)
		default:
			seen = now.Look(seen, c.Take)
		}
	}
}

// display is the screen that is seen; nil: nothing is wired there.
func (c *channel) display() *display {
	n := c.l.Seen(c.b.d.Key)
	c.mu.Lock()
	defer c.mu.Unlock()
	if n != c.shows {
		if was := c.ports[c.shows]; was != nil {
			was.look(-c.looking)
		}
		if is := c.ports[n]; is != nil {
			is.look(c.looking)
		}
		c.shows = n
	}
	return c.ports[c.shows]
}

func (c *channel) look(n int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.looking += n
	if is := c.ports[c.shows]; is != nil {
		is.look(n)
	}
}

// plug plugs the keyboard of a KVM in, or out. Its host takes it anew.
func (l *Lab) plug(kvm estate.Key, in bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	b := l.boxes[kvm]
	if n := strconv.Itoa(max(1, b.seen)); in && b.keysOut {
		for _, x := range l.boxes {
			for _, end := range x.d.Video {
				if end.Device == kvm && end.Port == n {
					x.deaf = false
				}
			}
		}
	}
	b.keysOut = !in
}

// Plugged says whether the keyboard of a KVM is plugged in.
func (w *World) Plugged(kvm estate.Key) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	return !w.boxes[kvm].keysOut
}

// Key goes to the box that is seen, but for Scroll Lock twice and a digit, which choose another.
func (c *channel) Key(down bool, sym uint32, code uint16) {
	if down && c.chooses(sym, code) {
		return
	}
	if x := c.display(); x != nil && c.l.Plugged(c.b.d.Key) {
		x.Key(down, sym, code)
	}
}

func (c *channel) chooses(sym uint32, code uint16) bool {
	const lockSym, lockCode, firstDigit = 0xff14, 0x46, 0x02
	n := int(sym) - '0'
	if code != 0 {
		n = int(code) - firstDigit + 1
	}
	c.mu.Lock()
	locks := c.locks
	if c.locks = 0; code == lockCode || code == 0 && sym == lockSym {
		c.locks = locks + 1
	}
	c.mu.Unlock()
	if locks != 2 || n < 1 || n > channelPorts {
		return false
	}
	return c.l.Choose(c.b.d.Key, n) == nil
}

// Point moves the pointer of the box that is seen.
func (c *channel) Point(x, y int, buttons uint8) {
	if d := c.display(); d != nil {
		d.Point(x, y, buttons)
	}
}

// Lights are those of the keyboard at the port that is seen.
func (c *channel) Lights() uint8 {
	if d := c.display(); d != nil {
		return d.Lights()
	}
	return 0
}

// Choose has a KVM show another port.
func (w *World) Choose(kvm estate.Key, port int) error {
	if port < 1 || port > channelPorts {
		return fmt.Errorf("%s has no port %d: it has %d", kvm, port, channelPorts)
	}
	return w.on(kvm, func(b *box) { b.seen = port })
}

// Seen is the port that a KVM shows.
func (w *World) Seen(kvm estate.Key) int {
	w.mu.Lock()
	defer w.mu.Unlock()
	return max(1, w.boxes[kvm].seen)
}

// serveChannel answers for the card of a KVM with several ports, by an API of our own. It is
// described in docs/lab-kvm-api.md.
func (l *Lab) serveChannel(ctx context.Context, d *estate.Device, ep estate.Endpoint) error {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /unit", func(w http.ResponseWriter, _ *http.Request) {
		answer(w, http.StatusOK, map[string]string{"unit": "KV-4", "serial": "KVM-" + string(d.Key), "version": "2.0"})
	})
	mux.HandleFunc("GET /seen", func(w http.ResponseWriter, _ *http.Request) {
		answer(w, http.StatusOK, map[string]int{"port": l.Seen(d.Key)})
	})
	mux.HandleFunc("GET /keyboard", func(w http.ResponseWriter, _ *http.Request) {
		answer(w, http.StatusOK, map[string]bool{"in": l.Plugged(d.Key)})
	})
	mux.HandleFunc("PUT /keyboard", func(w http.ResponseWriter, r *http.Request) {
		var wish struct{ In int }
		if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 1<<10)).Decode(&wish); err != nil {
			answer(w, http.StatusBadRequest, map[string]string{"fault": "that is no JSON"})
			return
		}
		l.plug(d.Key, wish.In != 0)
		answer(w, http.StatusAccepted, map[string]any{})
	})
	mux.HandleFunc("PUT /seen", func(w http.ResponseWriter, r *http.Request) {
		var wish struct{ Port int }
		if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 1<<10)).Decode(&wish); err != nil {
			answer(w, http.StatusBadRequest, map[string]string{"fault": "that is no JSON"})
			return
		}
		if err := l.Choose(d.Key, wish.Port); err != nil {
			answer(w, http.StatusUnprocessableEntity, map[string]string{"fault": err.Error()})
			return
		}
		answer(w, http.StatusAccepted, map[string]any{})
	})
	return l.serveWeb(ctx, d, ep, asUser(mux))
}

// asUser lets those in who have the secret of the lab's boards.
func asUser(inside http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if user, password, _ := r.BasicAuth(); user != BoardSecret.User || password != BoardSecret.Password {
			answer(w, http.StatusUnauthorized, map[string]string{"fault": "who are you?"})
			return
		}
		inside.ServeHTTP(w, r)
	})
}
