package loss

import (
	"math"
	"time"
)

// Span is how long a Trip gathers before its figures are told.
const Span = 4 * time.Minute

// A Trip gathers how questions to something fare for a Span.
type Trip struct {
	Began     time.Time
	Won, Lost int
	sum       time.Duration
	last      time.Duration
	jitter    float64 // s
}

// Answered takes in an answer that came at a time, after so many questions that went
// unanswered and were no silence.
func (t *Trip) Answered(at time.Time, rtt time.Duration, missed int) {
	if t.Began.IsZero() {
		t.Began = at
	}
	if t.last > 0 { // RFC 3550, section 6.4.1, of round trips
		t.jitter += (math.Abs((rtt - t.last).Seconds()) - t.jitter) / 16
	}
	t.last = rtt
	t.Won, t.Lost, t.sum = t.Won+1, t.Lost+missed, t.sum+rtt
}

// Figures are the share of questions that went unanswered, in %, and the mean round trip
// and its jitter in ms.
func (t *Trip) Figures() (lost, rtt, jitter float64) {
	if t.Won == 0 {
		return 0, 0, 0
	}
	return 100 * float64(t.Lost) / float64(t.Lost+t.Won), 1000 * t.sum.Seconds() / float64(t.Won), 1000 * t.jitter
}

// Next begins a new Span. What jitter is goes on.
func (t *Trip) Next(at time.Time) { *t = Trip{Began: at, last: t.last, jitter: t.jitter} }
