package ipmi

import "plumbbob/internal/wire/cursor"

// Units are what a sensor measures in (table 43-1, bytes 21 to 23; table 43-15).
type Units struct {
	Base, Modifier uint8
	Relation       uint8 // 1: base per modifier, 2: base times modifier
	Rate           uint8 // 1: per µs … 6: per day
	Percent        bool
}

func readUnits(r *cursor.Reader, f *Format) Units {
	b := r.U8()
	*f = Format(b >> 6)
	return Units{Rate: b >> 3 & 7, Relation: b >> 1 & 3, Percent: b&1 != 0, Base: r.U8(), Modifier: r.U8()}
}

func (u Units) append(b []byte, f Format) []byte {
	return append(b, byte(f)<<6|u.Rate&7<<3|u.Relation&3<<1|bit(u.Percent, 1), u.Base, u.Modifier)
}

// The base units that somebody has to know by number.
const (
	UnitCelsius = 1
	UnitVolts   = 4
	UnitAmps    = 5
	UnitWatts   = 6
	UnitCFM     = 17
	UnitRPM     = 18
)

var baseUnits = [...]string{
	"", "°C", "°F", "K", "V", "A", "W", "J", "C", "VA", "nt", "lm", "lx", "cd", "kPa", "psi", "N", "cfm", "rpm", "Hz",
	"µs", "ms", "s", "min", "h", "d", "weeks", "mil", "in", "ft", "cu in", "cu ft", "mm", "cm", "m", "cu cm", "cu m", "l", "fl oz", "rad",
	"sr", "rev", "cycles", "g", "oz", "lb", "ft lb", "oz in", "G", "Gb", "H", "mH", "F", "µF", "Ω", "S", "mol", "Bq", "ppm", "",
	"dB", "dBA", "dBC", "Gy", "Sv", "K colour", "bit", "kbit", "Mbit", "Gbit", "B", "kB", "MB", "GB", "words", "dwords", "qwords", "lines",
	"hits", "misses", "retries", "resets", "overruns", "underruns", "collisions", "packets", "messages", "characters", "errors",
	"correctable errors", "uncorrectable errors", "fatal errors", "grams",
}

var rates = [...]string{"", "/µs", "/ms", "/s", "/min", "/h", "/d", ""}

func unitName(n uint8) string {
	if int(n) < len(baseUnits) {
		return baseUnits[n]
	}
	return ""
}

// String writes the unit as it stands behind a number: "°C", "rpm", "%".
func (u Units) String() string {
	s := unitName(u.Base)
	switch u.Relation {
	case 1:
		s += "/" + unitName(u.Modifier)
	case 2:
		s += "·" + unitName(u.Modifier)
	}
	s += rates[u.Rate&7]
	switch {
	case u.Percent && s == "":
		return "%"
	case u.Percent:
		return "% " + s
	}
	return s
}
