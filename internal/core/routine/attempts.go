package routine

import (
	"fmt"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/plain"
)

// Ask is an instruction that asks whoever carries a run out whether what follows may be done now.
const Ask Do = "ask"

// Turn is where a run goes on when it was asked whether something may be done.
type Turn int

// The turns.
const (
	Onward Turn = iota // as its OK says: it is done, or the next attempt is made
	Enough             // it is not needed any more
	Refuse             // nothing more may be done
)

// An Attempt is one of several things of which the next is tried when one has not helped.
type Attempt struct {
	Rung   int // for whoever is asked
	Path   string
	Device estate.Key
	Steps  []Step
	Proof  string // the condition that it has helped
	Settle time.Duration
}

// NothingHelped is why a program of attempts fails.
const NothingHelped = "nothing has helped"

// Attempts lays out a program of them. Before each it is asked whether that may be done. The last steps
// are done when every attempt was in vain, or nothing more may be done; after them the run has failed.
func Attempts(name string, all []Attempt, with map[string]string, last []Step, find func(name string) *Routine) ([]Op, error) {
	c := &compiler{find: find, with: with, deep: []string{name}}
	var asks, proofs []int
	for _, a := range all {
		c.path = a.Path
		ask := c.emit(Op{Do: Ask, N: a.Rung, Device: a.Device, Words: "Ask whether that may be done"})
		first := len(c.ops)
		steps := append([]Step{}, a.Steps...)
		for i := range steps {
			steps[i].Path = a.Path
		}
		if err := c.list(steps); err != nil {
			return nil, err
		}
		c.path = a.Path
		proofs, asks = append(proofs, len(c.ops)), append(asks, ask)
		c.emit(Op{Do: Do(Until), Expr: a.Proof, Time: a.Settle, Words: fmt.Sprintf("Wait until %s has recovered, for up to %s", a.Device, plain.Span(a.Settle))})
		for i := first; i < len(c.ops); i++ {
			if c.ops[i].Fail < 0 {
				c.ops[i].Fail = len(c.ops) // the next attempt, or the last steps
			}
		}
		c.ops[ask].Fail = len(c.ops)
	}
	give := len(c.ops)
	if err := c.list(last); err != nil {
		return nil, err
	}
	c.path = ""
	c.emit(Op{Do: doGiveUp, Words: NothingHelped})
	over := c.emit(Op{Do: doEnd})
	for _, i := range asks {
		c.ops[i].Lanes = []int{over, give}
	}
	for _, i := range proofs {
		c.ops[i].Next = over
	}
	if len(c.ops) > mostOps {
		return nil, fmt.Errorf("it comes to %d steps, and %d are the most", len(c.ops), mostOps)
	}
	return c.ops, nil
}
