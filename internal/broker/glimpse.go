package broker

import (
	"context"
	"errors"
	"fmt"
	"time"

	"plumbbob/internal/canvas"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/picture"
	"plumbbob/internal/gear"
)

// Glimpse is what the screen of a device shows now, without sitting down at it: as somebody
// sees it who does, or by a connection for a moment. Where a KVM shows one port at a time, it is
// told to show this one if brings says so, and else only looked at if it does.
func (r *Room) Glimpse(ctx context.Context, k estate.Key, settle time.Duration, brings bool) (*picture.Picture, error) {
	if p := r.seen(k); p != nil {
		return p, nil
	}
	paths, err := r.Screens(k)
	if err != nil {
		return nil, err
	}
	var failed []error
	for _, p := range paths {
		seen, err := r.glimpseBy(ctx, k, p, settle, brings)
		if err == nil {
			return seen, nil
		}
		failed = append(failed, fmt.Errorf("%s: %w", p.Name, err))
	}
	return nil, errors.Join(failed...)
}

// seen is what those see who sit at a screen; nil: nobody does.
func (r *Room) seen(k estate.Key) *picture.Picture {
	r.mu.Lock()
	s := r.screens[k]
	r.mu.Unlock()
	if s == nil {
		return nil
	}
	s.mu.Lock()
	c, up := s.canvas, s.up
	s.mu.Unlock()
	if up && c.Drawn() {
		return c.Picture()
	}
	return nil
}

func (r *Room) glimpseBy(ctx context.Context, k estate.Key, p gear.View, settle time.Duration, brings bool) (*picture.Picture, error) {
	if p.Port != nil {
		is, err := isSeen(ctx, p.Port)
		if err != nil {
			return nil, err
		}
		if !is && !brings {
			return nil, &waiting{fmt.Sprintf("port %s is not the one that it shows, and is not brought up for a picture", p.Port.Name)}
		}
		if by := r.channels.heldBy(p.Port); !is && by != nil && by.device != k {
			if err := waitsFor(p.Port, by); err != nil {
				return nil, err
			}
		}
		if is {
			p.Port = &gear.Port{KVM: p.Port.KVM, Name: p.Port.Name, Shown: p.Port.Shown, Show: leaveIt}
		}
	}
	a, err := attachTo(ctx, p)
	if err != nil {
		return nil, err
	}
	defer func() { _ = a.Close() }()
	seen, err := glimpse(ctx, a, settle)
	if err != nil || p.Port == nil || p.Port.Shown == nil {
		return seen, err
	}
	if is, err := isSeen(ctx, p.Port); err != nil || !is { // or it is of somebody else's host
		return nil, errors.Join(errors.New("another port was chosen while it was looked at"), err)
	}
	return seen, nil
}

func leaveIt(context.Context, gear.Attached) error { return nil }

// glimpse waits until something has been drawn, and that has been there for a moment: a first
// picture may come in parts.
func glimpse(ctx context.Context, a gear.Attached, settle time.Duration) (*picture.Picture, error) {
	if err := a.Look(true); err != nil {
		return nil, err
	}
	c := a.Canvas()
	drawn := c.News(canvas.Blank)
	var settled <-chan time.Time
	for {
		select {
		case <-drawn:
			drawn, settled = nil, time.After(settle)
		case <-settled:
			return c.Picture(), nil
		case <-a.Ended():
			return nil, a.Err()
		case <-ctx.Done():
			return nil, errors.New("it has shown nothing yet")
		}
	}
}
