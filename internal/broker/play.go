package broker

import (
	"context"
	"fmt"
	"regexp"
	"strings"
	"time"

	"plumbbob/internal/core/sequence"
)

// readsEvery is how often a screen is read while something is waited for.
const readsEvery = 300 * time.Millisecond

// Pace is how long keys are held, and how long the pauses between them are.
type Pace struct{ Held, Gap time.Duration }

// Play does what a sequence says, on a keyboard of some layout; told is told of what is waited for. Its
// error says at which line that has ended.
func (v *View) Play(ctx context.Context, moves []sequence.Move, layout string, pace Pace, told func(text string)) error {
	for _, m := range moves {
		if err := v.play(ctx, m, layout, pace, told); err != nil {
			return fmt.Errorf("it ended at line %d: %w", m.Line, err)
		}
	}
	return nil
}

func (v *View) play(ctx context.Context, m sequence.Move, layout string, pace Pace, told func(text string)) error {
	switch m.Do {
	case sequence.Wait:
		told(fmt.Sprintf("line %d waits for %q, for %s at the most", m.Line, m.Match, m.Time))
		return v.waitFor(ctx, m.Match, m.Time)
	case sequence.Pause:
		pause(ctx, m.Time)
		return context.Cause(ctx)
	}
	chords, err := m.Chords(layout)
	if err != nil {
		return err
	}
	return v.Strokes(ctx, chords, pace.Held, pace.Gap)
}

// waitFor waits until something stands on the screen, which has to be one of text.
func (v *View) waitFor(ctx context.Context, what *regexp.Regexp, within time.Duration) error {
	over := time.NewTimer(within)
	defer over.Stop()
	tick := time.NewTicker(readsEvery)
	defer tick.Stop()
	for {
		p := v.Picture()
		rows, is := v.s.room.text(p)
		if is && what.MatchString(strings.Join(rows, "\n")) {
			return nil
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-over.C:
			if !is {
				return fmt.Errorf("nothing like %q came within %s: the screen shows a picture of %d × %d pixels, or text in a font that is not known", what, within, p.W, p.H)
			}
			return fmt.Errorf("nothing like %q came within %s", what, within)
		}
	}
}
