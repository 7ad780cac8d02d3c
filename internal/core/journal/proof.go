package journal

import "fmt"

// A Break is a place at which a journal does not hold.
type Break struct {
	ID    int64
	Text  string // what that means
	Found Hash   // of the entry as it is now; empty where there is none
	Seen  *Seen  // who has acknowledged it, as it is now
}

// Seen is who has acknowledged a break, and why.
type Seen struct {
	By, Why string
	Entry   int64
}

// KindBreak is the kind of the entry by which somebody acknowledges a break.
const KindBreak = "journal-break"

// Acknowledges is the text of that entry. It names the break as it was found: one that
// changes afterwards is another.
func (b *Break) Acknowledges() string {
	return fmt.Sprintf("Break at entry %d acknowledged, found as %s: %s", b.ID, orNone(b.Found), b.Text)
}

func orNone(h Hash) string {
	if h == "" {
		return "nothing"
	}
	return string(h)
}

// mostBreaks bounds what is told of: more than that is no journal any more.
const mostBreaks = 1000

// A Proof is a Chain that goes on behind a break, and lists them all. Its zero value has
// not begun.
type Proof struct {
	Chain
	Whole  bool // it has to begin with the first entry, or behind the one it goes on from
	Breaks []Break
	Open   []Break // those that nobody has acknowledged, once it has ended

	acks map[string]Seen
}

// Add goes on by one entry.
func (p *Proof) Add(e *Entry) {
	if p.N == 0 && p.Last == 0 && p.Whole && e.ID != 1 {
		p.broken(&BreakError{1, fmt.Sprintf("is missing, up to %d: it was removed", e.ID-1)}, "")
	}
	sound := true
	for {
		err := p.Chain.Add(e)
		if err == nil {
			break
		}
		sound = false
		b := err.(*BreakError) // it has no other
		found := e.Sum()
		if b.ID != e.ID { // something is missing before it; it may be sound itself
			found = ""
		}
		p.broken(b, found)
		p.Last, p.Head = e.ID-1, e.Prev // go on as if it followed
		if b.ID == e.ID {
			p.N++
			p.Last, p.Head = e.ID, e.Hash
			break
		}
	}
	if sound && e.Kind == KindBreak {
		if p.acks == nil {
			p.acks = map[string]Seen{}
		}
		p.acks[e.Text] = Seen{By: e.Who, Why: e.Why, Entry: e.ID}
	}
}

func (p *Proof) broken(b *BreakError, found Hash) {
	if len(p.Breaks) < mostBreaks {
		p.Breaks = append(p.Breaks, Break{ID: b.ID, Text: b.Text, Found: found})
	}
}

// End closes a proof: head is the id of the newest entry that there has to be, or 0.
func (p *Proof) End(head int64) {
	if p.Last < head {
		p.broken(&BreakError{p.Last + 1, fmt.Sprintf("is missing, up to %d: it was removed", head)}, "")
	}
	for i := range p.Breaks {
		b := &p.Breaks[i]
		if seen, ok := p.acks[b.Acknowledges()]; ok {
			b.Seen = &seen
		} else {
			p.Open = append(p.Open, *b)
		}
	}
}
