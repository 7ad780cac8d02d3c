package reading

import "math"

// Usual is what something measures at an hour of the day, over so many days.
type Usual struct {
	W, Spread float64 // the mean, and the standard deviation
	Days      int
}

// How far from what is usual a value is far, and on how many days it has to be known.
const (
	usualDays  = 5
	farSpreads = 4
	farShare   = 0.3
	farLeast   = 5.0 // W
)

// Far says whether a draw in W is far from that: by its spread, by a share, and by some
// watts.
func (u Usual) Far(w float64) bool {
	return u.Days >= usualDays && math.Abs(w-u.W) > max(farSpreads*u.Spread, farShare*u.W, farLeast)
}
