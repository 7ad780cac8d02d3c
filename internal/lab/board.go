package lab

import (
	"cmp"
	"context"
	"encoding/json"
	"net/http"
	"slices"
	"strconv"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/secret"
)

// BoardSecret is what the lab's panel boards let somebody in with.
var BoardSecret = secret.Value{Kind: secret.Login, User: "plumb", Password: "heron-lamp-19"}

// front is the buttons and the lights of a box that has leads to a board.
type front struct {
	off   bool // by its button, or by its own system; power may be there
	soft  int  // counts presses, so that what one of them began can be overtaken
	stuck bool // its system takes no notice of a short press
}

// boardFronts is how many fronts the lab's board has leads for.
const boardFronts = 4

// serveBoard answers for a board with leads to the fronts of other boxes, by an
// API of our own. It is described in docs/lab-panel-api.md.
func (l *Lab) serveBoard(ctx context.Context, d *estate.Device, ep estate.Endpoint) error {
	return l.serveWeb(ctx, d, ep, l.board(d))
}

// edids are the displays that the lab's board can pretend to be. The last is larger than any box
// of the lab can send.
var edids = []string{"1024x768", "800x600", "640x480", "2560x1600"}

// Edid is the display that a KVM pretends to be.
func (w *World) Edid(kvm estate.Key) string {
	w.mu.Lock()
	defer w.mu.Unlock()
	return cmp.Or(w.boxes[kvm].edid, edids[0])
}

const usualBoard = 44 // °C

func (w *World) boardCelsius(k estate.Key) float64 {
	w.mu.Lock()
	defer w.mu.Unlock()
	return usualBoard + w.boxes[k].hotter
}

type frontView struct {
	Lamp struct {
		Power string `json:"power"`
		Disk  string `json:"disk"`
	} `json:"lamp"`
}

func (l *Lab) board(d *estate.Device) http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /unit", func(w http.ResponseWriter, _ *http.Request) {
		answer(w, http.StatusOK, map[string]any{"unit": "PB-4", "serial": "BOARD-" + string(d.Key), "version": "1.2", "celsius": l.boardCelsius(d.Key)})
	})
	mux.HandleFunc("GET /display", func(w http.ResponseWriter, _ *http.Request) {
		answer(w, http.StatusOK, map[string]any{"offers": edids, "is": l.Edid(d.Key)})
	})
	mux.HandleFunc("PUT /display", func(w http.ResponseWriter, r *http.Request) {
		var wish struct{ Is string }
		switch err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 1<<10)).Decode(&wish); {
		case err != nil:
			answer(w, http.StatusBadRequest, map[string]string{"fault": "that is no JSON"})
		case !slices.Contains(edids, wish.Is):
			answer(w, http.StatusUnprocessableEntity, map[string]string{"fault": "that is not among the offers"})
		default:
			_ = l.on(d.Key, func(b *box) { b.edid = wish.Is }) // it is there: it has been asked
			answer(w, http.StatusAccepted, map[string]any{})
		}
	})
	mux.HandleFunc("GET /fronts", func(w http.ResponseWriter, _ *http.Request) {
		answer(w, http.StatusOK, map[string]any{"fronts": l.fronts(d.Key)})
	})
	mux.HandleFunc("POST /fronts/{n}/push", func(w http.ResponseWriter, r *http.Request) {
		var push struct {
			Key string
			For int // ms
		}
		n, _ := strconv.Atoi(r.PathValue("n"))
		switch err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 1<<10)).Decode(&push); {
		case err != nil:
			answer(w, http.StatusBadRequest, map[string]string{"fault": "that is no JSON"})
		case push.Key != "pwr" && push.Key != "rst":
			answer(w, http.StatusUnprocessableEntity, map[string]string{"fault": "a key is pwr or rst"})
		case push.For < 50 || push.For > 20_000:
			answer(w, http.StatusUnprocessableEntity, map[string]string{"fault": "50 to 20000 ms"})
		case !l.push(estate.OutletEnd(d.Key, n), push.Key == "rst", time.Duration(push.For)*time.Millisecond):
			answer(w, http.StatusNotFound, map[string]string{"fault": "nothing is wired there"})
		default:
			answer(w, http.StatusAccepted, map[string]any{})
		}
	})
	return asUser(mux)
}

// wired returns the box to whose front a lead goes, with the lock held.
func (w *World) wired(lead estate.End) *box {
	for _, b := range w.boxes {
		for _, end := range b.d.Panel {
			if end == lead && b.crossed != "" {
				return w.boxes[b.crossed]
			}
			if end == lead {
				return b
			}
		}
	}
	return nil
}

func (l *Lab) fronts(board estate.Key) map[int]frontView {
	l.mu.Lock()
	defer l.mu.Unlock()
	out := map[int]frontView{}
	now := time.Now()
	for n := 1; n <= boardFronts; n++ {
		b := l.wired(estate.OutletEnd(board, n))
		if b == nil {
			continue
		}
		lamp := map[bool]string{true: "lit", false: "dark"}
		var v frontView
		v.Lamp.Power = lamp[l.lit(b)]
		v.Lamp.Disk = lamp[l.lit(b) && !b.hung && now.UnixMilli()/400%3 == 0]
		out[n] = v
	}
	return out
}

// lit says whether the power light of a box is on.
func (w *World) lit(b *box) bool {
	switch {
	case b.powered.IsZero() || b.asleep:
		return false
	case b.chassis != nil:
		return b.chassis.on
	}
	return b.front == nil || !b.front.off
}

// forcesOff is how long firmware lets the power button be held before it cuts power.
const forcesOff = 4 * time.Second

// push holds a button of a front for a time. It is false when nothing is wired there.
func (w *World) push(lead estate.End, reset bool, hold time.Duration) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	b := w.wired(lead)
	switch {
	case b == nil || b.front == nil:
		return false
	case b.powered.IsZero():
		return true // a button without power behind it
	}
	f := b.front
	f.soft++
	n := f.soft
	later := func(d time.Duration, do func(now time.Time)) {
		time.AfterFunc(d, func() {
			w.mu.Lock()
			defer w.mu.Unlock()
			if f.soft == n && !b.powered.IsZero() {
				do(time.Now())
			}
		})
	}
	switch {
	case reset && !f.off:
		w.startFront(b, time.Now())
	case reset:
	case f.off || b.asleep:
		w.startFront(b, time.Now())
	case hold >= forcesOff:
		later(forcesOff, func(time.Time) { f.off, b.hung = true, false })
	case !b.hung && !f.stuck:
		later(w.scaled(softOffTime), func(time.Time) { f.off = true })
	}
	return true
}

// startFront starts a box from the beginning, with the lock held.
func (w *World) startFront(b *box, now time.Time) {
	b.front.off = false
	b.restart(now)
}
