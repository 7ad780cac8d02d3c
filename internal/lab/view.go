package lab

import (
	"fmt"
	"io"
	"log"
	"maps"
	"net/http"
	"net/http/httputil"
	"net/url"
	"slices"
	"time"

	"plumbbob/internal/core/estate"
)

// A view is the world as it is seen from where a service stands, by ways and at addresses of its own.
type view struct {
	w *World
	e *estate.Estate
}

// line is how the line of a box is that leads out of its site.
type line int

const (
	lineUp    line = iota
	lineStuck      // it says that it is up, and nothing gets through until the box starts anew
	lineDown       // and it says so
)

// Beside has the lab seen by a second service, with an estate file of its own: what it names are boxes of
// the lab's estate, by ways and at addresses as they are from there.
func (l *Lab) Beside(e *estate.Estate) error {
	for i := range e.Devices {
		if k := e.Devices[i].Key; l.boxes[k] == nil {
			return fmt.Errorf("the lab has no device %q: it has %v", k, slices.Sorted(maps.Keys(l.boxes)))
		}
	}
	other := *l
	other.view = &view{l.World, e}
	return other.serve(l.ctx)
}

// Runs says that a service runs on a box, at a URL: who asks the box over HTTP reaches that.
func (l *Lab) Runs(k estate.Key, at string) error {
	to, err := url.Parse(at)
	if err != nil {
		return fmt.Errorf("lab: %w", err)
	}
	p := &httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) { r.SetURL(to) }, ErrorLog: log.New(io.Discard, "", 0)}
	return l.on(k, func(b *box) { b.service = p })
}

func (w *World) serviceOn(k estate.Key) http.Handler {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.boxes[k].service
}

// Met is how often orders of two services have met at one outlet: one came while what the other had
// ordered was not over.
func (w *World) Met() int {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.met
}

// orderLasts is for how long an order belongs to who gave it.
const orderLasts = time.Minute

// ordered notes whose an order is; with the lock held.
func (w *World) ordered(o *outlet) {
	now := time.Now()
	if o.orderedBy != nil && o.orderedBy != w.asking && now.Sub(o.orderedAt) < orderLasts {
		w.met++
	}
	o.orderedBy, o.orderedAt = w.asking, now
}

// restartLine: what is stuck does not survive a start of the box; a line that is down does.
func (b *box) restartLine() {
	if b.line == lineStuck {
		b.line = lineUp
	}
}

// StickLine has the line of a box that leads out of its site let nothing through, although it says that it
// is up, until the box starts anew.
func (w *World) StickLine(k estate.Key) error { return w.on(k, func(b *box) { b.line = lineStuck }) }

// DropLine takes that line down, which the box says.
func (w *World) DropLine(k estate.Key) error { return w.on(k, func(b *box) { b.line = lineDown }) }

// inside says whether a box is where the view's service stands.
func (v *view) inside(k estate.Key) bool {
	here, there := v.e.Device(v.e.Standpoint), v.e.Device(k)
	return here != nil && there != nil && here.Site == there.Site
}

// reach follows the cables from the standpoint to one side of a device. It
// says whether a packet gets there, and what the way does to it.
func (v *view) reach(k estate.Key, endpoint string, now time.Time) (ok bool, loss float64, delay time.Duration) {
	if k == v.e.Standpoint {
		return true, 0, 0
	}
	b := v.w.boxes[k]
	if b.unplugged && endpoint == "" || b.line != lineUp && !v.inside(k) {
		return false, 0, 0
	}
	for _, c := range v.cables(k, endpoint) {
		via := v.w.boxes[c.Via.Device]
		if !v.w.up(via, now) && via.d.Key != v.e.Standpoint || via.line != lineUp && v.inside(via.d.Key) {
			continue
		}
		if ok, loss, delay = v.reach(c.Via.Device, "", now); ok {
			return true, 1 - (1-loss)*(1-b.loss), delay + b.delay
		}
	}
	return false, 0, 0
}

// cables are those by which a side of a box is really reached.
func (v *view) cables(k estate.Key, endpoint string) []estate.NetworkCable {
	if moved := v.w.boxes[k].moved; moved != "" && endpoint == "" {
		return []estate.NetworkCable{{Via: estate.End{Device: moved}}}
	}
	return v.e.PathOf(k, endpoint)
}

// answers decides the fate of one question to a device: whether it is answered,
// and after how long.
func (v *view) answers(k estate.Key, endpoint string) (bool, time.Duration) {
	w := v.w
	w.mu.Lock()
	defer w.mu.Unlock()
	now := time.Now()
	ok, loss, delay := v.reach(k, endpoint, now)
	if !ok || !w.stands(w.boxes[k], endpoint, now) || w.rng.Float64() < loss {
		return false, 0
	}
	return true, delay + time.Duration(w.rng.IntN(400))*time.Microsecond
}
