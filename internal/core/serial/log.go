// Package serial is what can be said of serial lines and of those who sit at them without
// any line: what was heard, and who has the keyboard.
//
//	log.go        what a line has lately said, counted in bytes
//	seats.go      who is on, who types, and who waits for the keyboard
//	tame.go       what of it a terminal may be shown
//	record.go     what it has said, with times, as it is kept
//	text.go       the same as lines of text
//	cast.go       and as a recording that can be played
//	recognise.go  what is known of what lines say
package serial

// A Log is the newest of what a line has said, counted in bytes from the beginning, so that
// who was away goes on without a gap, or is told how much is gone. The zero Log is empty.
type Log struct {
	kept  []byte
	first int64 // of the first byte that is kept
}

// Keep is how many bytes a Log holds.
const Keep = 256 << 10

// Append adds what was said.
func (l *Log) Append(p []byte) {
	l.kept = append(l.kept, p...)
	if over := len(l.kept) - Keep; over > 0 {
		l.kept = append(l.kept[:0], l.kept[over:]...)
		l.first += int64(over)
	}
}

// End is where what is said next begins.
func (l *Log) End() int64 { return l.first + int64(len(l.kept)) }

// Since copies what was said from a place on, up to so many bytes, and says where that
// begins: later than was asked for when some of it is gone, and no later than the end.
func (l *Log) Since(from int64, most int) (p []byte, begins int64) {
	begins = min(max(from, l.first), l.End())
	p = l.kept[begins-l.first:]
	return append([]byte(nil), p[:min(len(p), most)]...), begins
}

// Tail is the place that leaves so many bytes before the end, or the oldest.
func (l *Log) Tail(n int) int64 { return max(l.first, l.End()-int64(n)) }
