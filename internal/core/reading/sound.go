package reading

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"math"
	"strings"
	"unicode/utf8"
)

// What gear says is bounded here, once for all drivers: names are short, and unique
// on a device where they have to be; a value that nothing on earth has is none.

// How long the parts of a sensor's reading may be, in bytes. A series is stored
// behind "sensor:" in 63.
const (
	maxSeries = 56
	maxUnit   = 24
	maxWords  = 200
)

// greatest is beyond all that any unit here can mean.
const greatest = 1e15

// Sane says whether a value can have been measured.
func Sane(v float64) bool { return !math.IsNaN(v) && math.Abs(v) <= greatest }

// Bounded shortens a text that is longer than most bytes, in a way that stays
// distinct: what is cut off stands as a hash.
func Bounded(s string, most int) string {
	if len(s) <= most {
		return s
	}
	cut := max(0, most-hashDigits-1)
	for cut > 0 && !utf8.RuneStart(s[cut]) {
		cut--
	}
	return strings.TrimRight(s[:cut], "-") + "-" + hashOf(s)
}

const hashDigits = 8

func hashOf(s string) string {
	sum := sha256.Sum256([]byte(s))
	return hex.EncodeToString(sum[:])[:hashDigits]
}

// Sound bounds what was read of a device's sensors, in the order in which it lists
// them: that is what keeps those apart that have the same name.
func Sound(list []Sensor) []Sensor {
	seen := make(map[string]bool, len(list))
	for i := range list {
		s := &list[i]
		if s.Series == "" { // a name without a letter or a digit of ours
			s.Series = "sensor-" + hashOf(s.Name)
		}
		s.Series = Bounded(s.Series, maxSeries)
		for n, base := 2, s.Series; seen[s.Series]; n++ {
			tail := fmt.Sprintf("-%d", n)
			s.Series = Bounded(base, maxSeries-len(tail)) + tail
		}
		seen[s.Series] = true
		s.Unit, s.Words = Bounded(s.Unit, maxUnit), Bounded(s.Words, maxWords)
		if s.Value != nil && !Sane(*s.Value) {
			s.Words, s.Value, s.Level = fmt.Sprintf("says %g, which cannot be", *s.Value), nil, Absent
		}
	}
	return list
}
