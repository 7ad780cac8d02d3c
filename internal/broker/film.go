package broker

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"plumbbob/internal/bus"
	"plumbbob/internal/canvas"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/picture"
	"plumbbob/internal/core/serial"
	"plumbbob/internal/store"
)

// film is what a screen showed lately that is watched while nobody sits at it, and what was read
// there. The lock of the screen guards what is to be kept; the rest is of who films.
type film struct {
	of    *canvas.Canvas
	seen  uint64
	strip picture.Strip
	rows  []string // that were read last
	known serial.Recogniser
	by    *estate.Estate // whose patterns it knows
	found []serial.Found // that are not kept yet

	owed  []store.Picture // likewise
	asked bool            // the strip is to be kept
	why   string
	until time.Time // what comes until then is kept as well
}

// How a screen is filmed.
const (
	filmEvery  = time.Second
	filmAfter  = 30 * time.Second // goes on once a device has fallen silent
	mostOwed   = 2 * picture.StripMost
	mostFilmed = 200 << 20 // bytes of one site
	dropFilms  = 20        // pictures, after which it is seen whether they are too much
)

// keepFilm films a screen that is watched, until ctx ends.
func (s *screen) keepFilm(ctx context.Context) {
	tick := time.NewTicker(filmEvery)
	defer tick.Stop()
	saved := 0
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		if s.room.isWatched(s.device) {
			s.sip(ctx)
			s.shoot(time.Now())
		}
		s.oweStrip()
		s.saveFound(ctx)
		saved += s.saveFilm(ctx)
		if saved >= dropFilms {
			saved = 0
			_ = s.room.Records.DropPictures(ctx, s.site(), mostFilmed) // or the next time
		}
	}
}

// sip has the gear send what has changed, once: who looks all the time is sent all of it, which
// nobody needs while nobody sits there.
func (s *screen) sip(ctx context.Context) {
	s.mu.Lock()
	g, alone := s.gear, len(s.seats.All) == 0
	s.mu.Unlock()
	if g == nil || !alone {
		return
	}
	c := g.Canvas()
	news := c.News(c.Now())
	if g.Look(true) != nil {
		return // it is being lost
	}
	select {
	case <-ctx.Done():
	case <-news:
	case <-time.After(filmEvery):
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.gear == g && len(s.seats.All) == 0 {
		_ = g.Look(false) // likewise
	}
}

// shoot takes a picture, if enough has changed.
func (s *screen) shoot(now time.Time) {
	s.mu.Lock()
	c := s.canvas
	s.mu.Unlock()
	f := &s.film
	if c == nil {
		return
	}
	if f.of != c {
		f.of, f.seen = c, canvas.Blank
	}
	var p *picture.Picture
	changed := 0
	at := c.Look(f.seen, func(q *picture.Picture, parts []picture.Rect) {
		for _, r := range parts {
			changed += r.W * r.H
		}
		changed = max(1, changed*1000/(q.W*q.H))
		if f.strip.Wants(changed, now) {
			p = q.Clone()
		}
	})
	if p == nil {
		return
	}
	f.seen = at
	packed, err := s.room.Pack(p)
	if err != nil {
		return // a picture always can be packed
	}
	shot := picture.Shot{At: now, Changed: changed, Packed: packed}
	f.strip.Add(shot)
	s.mu.Lock()
	if now.Before(f.until) && !f.asked {
		s.owe(shot)
	}
	s.mu.Unlock()
	s.read(p, now)
}

// oweStrip has the whole strip be kept, where that was asked for.
func (s *screen) oweStrip() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.film.asked {
		return
	}
	s.film.asked = false
	for _, x := range s.film.strip.Shots {
		s.owe(x)
	}
}

// owe has a shot be kept. mu is held.
func (s *screen) owe(x picture.Shot) {
	f := &s.film
	f.owed = append(f.owed, store.Picture{Device: s.device, Site: s.site(), At: x.At.UTC(), Why: f.why, Content: x.Packed})
	f.owed = f.owed[max(0, len(f.owed)-mostOwed):]
}

// read looks for what is known in the text that is new on a screen.
func (s *screen) read(p *picture.Picture, now time.Time) {
	f := &s.film
	rows, is := s.room.text(p)
	if !is {
		f.rows = nil
		return
	}
	if e := s.room.Estate(); e != f.by {
		f.by, f.known.Stated = e, stated(e.Device(s.device))
	}
	rows = said(rows)
	for _, row := range rows {
		if !slices.Contains(f.rows, row) {
			f.found = append(f.found, f.known.Read([]byte(row+"\n"), now)...)
		}
	}
	if last := end(rows); len(f.rows) == 0 || end(f.rows) != last {
		f.found = append(f.found, f.known.Read([]byte(last), now)...)
		f.found = append(f.found, f.known.Settle(now)...)
		f.found = append(f.found, f.known.Read([]byte("\n"), now)...)
	}
	f.found = f.found[max(0, len(f.found)-mostFound):]
	f.rows = rows
}

// text is what stands on a picture, where it is one of text.
func (r *Room) text(p *picture.Picture) (rows []string, is bool) {
	if r.ReadText == nil {
		return nil, false
	}
	return r.ReadText(p)
}

// said are rows without those that are blank, and without the blanks around them.
func said(rows []string) (out []string) {
	for _, row := range rows {
		if row = strings.TrimSpace(row); row != "" {
			out = append(out, row)
		}
	}
	return out
}

// end is the last row.
func end(rows []string) string {
	if len(rows) == 0 {
		return ""
	}
	return rows[len(rows)-1]
}

// saveFound tells what was read, and keeps it.
func (s *screen) saveFound(ctx context.Context) {
	f := &s.film
	if len(f.found) == 0 {
		return
	}
	s.room.Bus.Recognised.Publish(bus.LineSaid{Device: s.device, Screen: true, Found: f.found})
	err := s.room.Records.AddLineEvents(ctx, s.device, s.site(), true, f.found)
	if errors.Is(err, store.ErrAway) {
		return // it is told and kept the next time
	}
	f.found = nil // a row that the store refuses is refused the next time as well
}

// saveFilm brings to the store what is to be kept, and returns how many pictures that were.
func (s *screen) saveFilm(ctx context.Context) (saved int) {
	f := &s.film
	for {
		s.mu.Lock()
		if len(f.owed) == 0 {
			s.mu.Unlock()
			return saved
		}
		p := f.owed[0]
		s.mu.Unlock()
		within, cancel := context.WithTimeout(ctx, saveTakes)
		err := s.room.Records.SavePicture(within, p)
		cancel()
		if errors.Is(err, store.ErrAway) {
			s.room.Health.Ails("films", fmt.Sprintf("what screens showed is not kept now, and waits: %s", err))
			return saved
		}
		// One that the store refuses is refused the next time as well.
		if err == nil {
			s.room.Health.Well("films")
			saved++
		}
		s.mu.Lock()
		if len(f.owed) > 0 && f.owed[0].At.Equal(p.At) {
			f.owed = f.owed[1:]
		}
		s.mu.Unlock()
	}
}

// fallen is a device that has fallen silent, and how.
type fallen struct {
	device estate.Key
	why    string
}

// mostFallen is for how many at once what their screens showed is kept.
const mostFallen = 1000

// KeepFilm keeps what the screen of a device showed in the last minutes, and does for a while. It
// does not wait: who judges must not be held up by a screen that is stuck.
func (r *Room) KeepFilm(k estate.Key, why string) {
	select {
	case r.fallen <- fallen{k, why}:
	default: // so many fall silent at once by what their screens do not show
	}
}

// keepFilms does what KeepFilm wants, until ctx ends.
func (r *Room) keepFilms(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case x := <-r.fallen:
			r.mu.Lock()
			s := r.screens[x.device]
			r.mu.Unlock()
			if s == nil || !r.isWatched(x.device) {
				continue
			}
			s.mu.Lock()
			s.film.why, s.film.until, s.film.asked = x.why, time.Now().Add(filmAfter), true
			s.mu.Unlock()
		}
	}
}

// isWatched says whether a screen is watched while nobody sits at it.
func (r *Room) isWatched(k estate.Key) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.watched[k]
}
