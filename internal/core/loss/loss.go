// Package loss estimates how many of the packets to and from something are lost, and how
// many questions have to go unanswered in a row before that is more than bad luck.
package loss

import "math"

// A Meter counts the questions of late: those that were answered in the end, and those
// that went unanswered before. A silence that lasts is in neither. The zero Meter has
// seen nothing.
type Meter struct{ Lost, Won float64 }

// forgets is what is left of a count with each answer that comes: some twenty questions
// are remembered.
const forgets = 0.95

// Answered notes an answer, after so many questions that went unanswered.
func (m Meter) Answered(missed int) Meter {
	return Meter{m.Lost*forgets + float64(missed), m.Won*forgets + 1}
}

// Add adds what was seen elsewhere on the same way.
func (m Meter) Add(o Meter) Meter { return Meter{m.Lost + o.Lost, m.Won + o.Won} }

// Share is the share of questions that go unanswered.
func (m Meter) Share() float64 {
	if m.Lost+m.Won == 0 {
		return 0
	}
	return m.Lost / (m.Lost + m.Won)
}

// How many questions in a row have to go unanswered: so many that chance alone does it
// less than once in 10,000 days, at 20,000 questions a day.
const (
	Least   = 3
	most    = 30
	once    = 21.4 // ln(20,000 · 10,000 · 10), with some room for bursts
	few     = 0.8  // lost of late, by which a way is suspect at all
	suspect = 6    // questions, while little is known of it
)

// Need is how many.
func (m Meter) Need() int {
	if m.Lost < few {
		return Least
	}
	n := int(math.Ceil(once / -math.Log(min(m.Share(), 0.6))))
	return min(max(n, suspect), most)
}
