// Package gear says what management gear can do, as small interfaces. A driver
// (a sub-package) implements those that its gear really has, and a caller asks
// for one with As: c, ok := gear.As[gear.OutletCycler](d).
//
//	gear.go      what can be read and switched, and how it fails
//	screen.go    pictures, keys and pointers
//	settings.go  how gear is set up
package gear

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"runtime/debug"
	"syscall"
	"time"

	"plumbbob/internal/core/reading"
	"plumbbob/internal/core/sending"
)

// Outlets is gear with outlets that can be read and switched.
//
// A ctx that has ended sends nothing. OutcomeOf tells what became of a
// SwitchOutlet that failed; one that succeeded has been accepted by the gear,
// and whether it happened must be read back.
type Outlets interface {
	ReadOutlets(ctx context.Context) (reading.Outlets, error)
	SwitchOutlet(ctx context.Context, number int, on bool) error
}

// Driver is gear of any kind. What it can do shows by what it implements, or,
// where that depends on its profile, by what its parts implement: ask with As.
type Driver interface {
	Close() error
}

// As returns a driver, or the part of it, that is a T.
func As[T any](d Driver) (T, bool) {
	if t, ok := d.(T); ok {
		return t, true
	}
	if whole, ok := d.(interface{ Parts() []any }); ok {
		for _, p := range whole.Parts() {
			if t, ok := p.(T); ok {
				return t, true
			}
		}
	}
	var none T
	return none, false
}

// OutletCycler is gear that carries out a whole cycle by itself.
type OutletCycler interface {
	CycleOutlet(ctx context.Context, number int, hold time.Duration) error
}

// Kind sorts what can go wrong with gear into what people can do about it.
type Kind string

// The kinds of error.
const (
	Unreachable  Kind = "unreachable"   // no answer
	BadSecret    Kind = "bad-secret"    // it will not have our credential
	NotPermitted Kind = "not-permitted" // our credential may not do this
	Busy         Kind = "busy"
	Updating     Kind = "updating" // it is starting up, or its firmware is being updated
	Unsupported  Kind = "unsupported"
	Malformed    Kind = "malformed" // an answer that makes no sense
)

// An Error says what went wrong with gear, and whether a command may have
// happened all the same.
type Error struct {
	Kind    Kind
	Outcome sending.Outcome
	Text    string // for people: what, where, what to do
	Err     error  // what the protocol said
}

func (e *Error) Error() string { return e.Text }
func (e *Error) Unwrap() error { return e.Err }

// OutcomeOf says what became of a command: Accepted without an error, and
// Unclear for an error that does not say.
func OutcomeOf(err error) sending.Outcome {
	if err == nil {
		return sending.Accepted
	}
	var e *Error
	if errors.As(err, &e) {
		return e.Outcome
	}
	return sending.Unclear
}

// Safely runs what a driver does. A driver that panics fails in what it was asked,
// and takes nothing else down; what became of a command is not known then.
func Safely(f func() error) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = &Error{Kind: Malformed, Outcome: sending.Unclear, Text: fmt.Sprintf("its driver has failed, which is a fault of this program: %v", p), Err: &PanicError{p, debug.Stack()}}
		}
	}()
	return f()
}

// A PanicError is what a driver panicked with, and where.
type PanicError struct {
	Value any
	Stack []byte
}

func (e *PanicError) Error() string { return fmt.Sprintf("%v\n%s", e.Value, e.Stack) }

// KindOf returns the kind of an error, Unreachable when it does not say.
func KindOf(err error) Kind {
	var e *Error
	if errors.As(err, &e) {
		return e.Kind
	}
	return Unreachable
}

// Unreached says in words why gear at some place could not be talked to; speaks is what it does
// not do then, as "answer SSH".
func Unreached(where, speaks string, err error) string {
	var timeout net.Error
	switch {
	case errors.Is(err, syscall.ECONNREFUSED):
		return where + ": nothing listens there"
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, net.ErrClosed), errors.Is(err, syscall.ECONNRESET):
		return where + " ended the connection"
	case errors.Is(err, context.Canceled):
		return where + ": given up before it answered"
	case errors.Is(err, context.DeadlineExceeded), errors.As(err, &timeout) && timeout.Timeout():
		return where + " does not " + speaks
	}
	return fmt.Sprintf("%s does not %s: %s", where, speaks, err)
}

// ChassisCommand is one thing to do to a host's power.
type ChassisCommand string

// The commands.
const (
	ChassisOff   ChassisCommand = "off" // at once
	ChassisOn    ChassisCommand = "on"
	ChassisReset ChassisCommand = "reset"
	ChassisNMI   ChassisCommand = "nmi"
	ChassisSoft  ChassisCommand = "shutdown" // asks the operating system
)

// Chassis is gear whose power can be measured and switched as a whole. A
// command is never sent twice: OutcomeOf tells what became of one that failed.
type Chassis interface {
	ReadChassis(ctx context.Context) (reading.Chassis, error)
	CommandChassis(ctx context.Context, do ChassisCommand) error
}

// Sensors is gear that measures.
type Sensors interface {
	ReadSensors(ctx context.Context) ([]reading.Sensor, error)
}

// EventLog is gear that keeps a log of its own. ClearEvents erases it only
// when it still is the version that was read.
type EventLog interface {
	ReadEvents(ctx context.Context) (reading.EventLog, error)
	ClearEvents(ctx context.Context, version string) error
}

// Inventory is gear that knows who made it.
type Inventory interface {
	ReadSheet(ctx context.Context) (reading.Sheet, error)
}

// Supply is a UPS.
type Supply interface {
	ReadSupply(ctx context.Context) (reading.Supply, error)
}

// SupplyCommand is one thing to tell a UPS that leaves its output alone.
type SupplyCommand struct {
	Do string `json:"do"` // one of SupplyCommands
	On bool   `json:"on"` // of auto-restart
}

// What a UPS can be told. A cancel takes back what has not happened yet.
const (
	TestGeneral     = "test"
	TestQuick       = "quick-test"
	TestDeep        = "deep-test"
	TestAbort       = "abort-test"
	SupplyCancel    = "cancel"
	SupplyAutoStart = "auto-restart"
)

// SupplyCommands lists them.
var SupplyCommands = []string{TestGeneral, TestQuick, TestDeep, TestAbort, SupplyCancel, SupplyAutoStart}

// SupplyControl is a UPS that can be told things. What is told is read back:
// one that accepts and does not obey is an error.
type SupplyControl interface {
	CommandSupply(ctx context.Context, c SupplyCommand) error
}

// Output is a UPS whose output can be switched as a whole. OutcomeOf tells what
// became of a command that failed; whether one that succeeded has happened must
// be read back, with ReadSupply.
type Output interface {
	SwitchOutput(ctx context.Context, on bool) error
	// CycleOutput takes no longer than CyclesAtMost.
	CycleOutput(ctx context.Context, hold time.Duration) error
}

// CyclesAtMost is the longest that a UPS leaves its output off by itself (RFC
// 1628, upsRebootWithDuration).
const CyclesAtMost = 300 * time.Second

// Neighbours is a switch that says who is on its ports.
type Neighbours interface {
	ReadNeighbours(ctx context.Context) ([]reading.Neighbour, error)
}

// Clock is gear with a clock of its own.
type Clock interface {
	ReadClock(ctx context.Context) (time.Time, error)
}

// Restarter is gear whose own computer can be started anew, while what it switches
// stays as it is. Cold is from the very beginning, where there is a difference.
type Restarter interface {
	Restart(ctx context.Context, cold bool) error
}

// Panel is a board with leads to the buttons and lights on the fronts of devices.
// A press is never sent twice: OutcomeOf tells what became of one that failed.
type Panel interface {
	ReadPanel(ctx context.Context) ([]reading.Front, error)
	PressButton(ctx context.Context, lead int, b sending.Button, hold time.Duration) error
}

// CommandLine is a device that can be told things. OutcomeOf tells what became
// of a command that failed; one that ended the connection has been accepted.
type CommandLine interface {
	Tell(ctx context.Context, text string) error
}

// Transcript is a line of characters that is listened to all the time.
type Transcript interface {
	// LastLines are up to n lines that were lately said on it, the oldest first.
	LastLines(n int) []string
}

// Answerer is gear that can be asked whether it is there, and nothing else.
type Answerer interface {
	Answer(ctx context.Context) error
}

// Paced is gear that knows how long its answers take: how long a question may take
// follows that.
type Paced interface {
	RoundTrip() time.Duration // 0 before there was an answer
}

// Identified is gear that says what it is.
type Identified interface {
	Identify(ctx context.Context) (Identity, error)
}

// Identity is what gear says that it is (SNMPv2-MIB, RFC 3418).
type Identity struct{ Description, ObjectID, Name string }

// Inspected is gear whose settings can be looked at for weaknesses.
type Inspected interface {
	Weaknesses(ctx context.Context) ([]reading.Weakness, error)
}
