package lab

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/secret"
)

// StripSecret is what the lab's strips let somebody in with.
var StripSecret = secret.Value{Kind: secret.Token, Password: "made-up strip key"}

// stripKey is the header that carries it.
const stripKey = "X-Strip-Key"

// serveStrip answers for a strip that is switched over HTTP, by an API of our
// own that is different from the PDU's MIB in every way: it counts sockets from
// letters, measures in milliwatts, and knows nothing of cycles. It is described
// in docs/lab-strip-api.md.
func (l *Lab) serveStrip(ctx context.Context, d *estate.Device, ep estate.Endpoint) error {
	return l.serveWeb(ctx, d, ep, l.strip(d))
}

type socketView struct {
	No      int    `json:"no"`
	Label   string `json:"label"`
	Contact string `json:"contact"`
	Load    struct {
		MilliW  int `json:"mw"`
		MilliWh int `json:"mwh"`
	} `json:"load"`
	Wakes string `json:"wakes"`
}

var wakes = map[int]string{lossOff: "dark", lossOn: "lit", lossAsBefore: "same"}

func (l *Lab) strip(d *estate.Device) http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /v2/strip", func(w http.ResponseWriter, _ *http.Request) {
		answer(w, http.StatusOK, map[string]any{"model": "LS-" + strconv.Itoa(len(d.Outlets)), "serial": "STRIP-" + string(d.Key), "firmware": "0.9.4", "cupboard": map[string]any{"door": "shut", "decidegrees": 213}})
	})
	mux.HandleFunc("GET /v2/sockets", func(w http.ResponseWriter, _ *http.Request) {
		answer(w, http.StatusOK, map[string]any{"sockets": l.sockets(d)})
	})
	mux.HandleFunc("PATCH /v2/sockets/{no}", func(w http.ResponseWriter, r *http.Request) {
		var change struct {
			Contact, Label, Wakes *string
		}
		n, _ := strconv.Atoi(r.PathValue("no"))
		if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 4<<10)).Decode(&change); err != nil {
			answer(w, http.StatusBadRequest, map[string]string{"error": "that is no JSON"})
			return
		}
		status, text := l.change(estate.OutletEnd(d.Key, n), change.Contact, change.Label, change.Wakes)
		answer(w, status, map[string]string{"error": text})
	})
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get(stripKey) != StripSecret.Password {
			answer(w, http.StatusUnauthorized, map[string]string{"error": "who are you?"})
			return
		}
		mux.ServeHTTP(w, r)
	})
}

func (l *Lab) sockets(d *estate.Device) []socketView {
	l.mu.Lock()
	defer l.mu.Unlock()
	now := time.Now()
	var out []socketView
	for _, x := range d.Outlets {
		end := estate.End{Device: d.Key, Port: x.Port()}
		o := l.outlets[end]
		v := socketView{No: x.Number, Label: o.name, Contact: map[bool]string{true: "closed", false: "open"}[o.ordered], Wakes: wakes[o.afterLoss]}
		v.Load.MilliW = int(l.meter(end, now) * 1000)
		v.Load.MilliWh = int(o.wh * 1000)
		out = append(out, v)
	}
	return out
}

// change carries out a PATCH of one socket.
func (l *Lab) change(end estate.End, contact, label, wake *string) (status int, text string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	o := l.outlets[end]
	if o == nil {
		return http.StatusNotFound, fmt.Sprintf("there is no socket %s", end.Port)
	}
	if label != nil {
		o.name = *label
	}
	if wake != nil {
		for n, word := range wakes {
			if word == *wake {
				o.afterLoss = n
			}
		}
	}
	switch {
	case contact == nil:
	case *contact != "closed" && *contact != "open":
		return http.StatusUnprocessableEntity, "a contact is closed or open"
	case !o.switched:
		return http.StatusConflict, "that socket has no contact"
	default:
		l.command(end, *contact == "closed")
	}
	return http.StatusOK, ""
}

func answer(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v)
}
