// Package observation is what came of asking, as a message: who was asked, when, what
// came of that, and what it brought. It can be written down and read again, so that a
// site can tell another what it sees.
package observation

import (
	"encoding/json"
	"fmt"
	"reflect"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/core/verdict"
)

// An Observation is the outcome of one question: to an endpoint, or, where that has
// no name, to the production side of a device.
type Observation struct {
	Site     estate.Key     `json:"site"`
	Device   estate.Key     `json:"device"`
	Endpoint string         `json:"endpoint,omitempty"`
	Probe    int            `json:"probe"` // which of the questions to its production side
	Result   verdict.Result `json:"result"`
	Beside   bool           `json:"beside,omitempty"` // it says nothing about whether the endpoint answers
	Brought  Payloads       `json:"brought,omitempty"`
}

// EndpointID is the endpoint that was asked.
func (o Observation) EndpointID() estate.EndpointID {
	return estate.EndpointID{Device: o.Device, Name: o.Endpoint}
}

// ProbeID is the question that was asked.
func (o Observation) ProbeID() verdict.ProbeID {
	return verdict.ProbeID{Device: o.Device, Index: o.Probe}
}

// A Kind says what a payload is.
type Kind string

// A Payload is one thing that an answer brought. A new one is a type here, what a
// driver reads it with, and where it is shown.
type Payload interface{ Kind() Kind }

// The payloads.
type (
	Outlets    reading.Outlets
	Chassis    reading.Chassis
	Supply     reading.Supply
	Fronts     []reading.Front
	Sensors    []reading.Sensor
	Events     reading.EventLog
	Sheet      reading.Sheet
	Weak       []reading.Weakness
	Neighbours []reading.Neighbour
)

// Kind implements Payload.
func (Outlets) Kind() Kind { return "outlets" }

// Kind implements Payload.
func (Chassis) Kind() Kind { return "chassis" }

// Kind implements Payload.
func (Supply) Kind() Kind { return "supply" }

// Kind implements Payload.
func (Fronts) Kind() Kind { return "fronts" }

// Kind implements Payload.
func (Sensors) Kind() Kind { return "sensors" }

// Kind implements Payload.
func (Events) Kind() Kind { return "events" }

// Kind implements Payload.
func (Sheet) Kind() Kind { return "sheet" }

// Kind implements Payload.
func (Weak) Kind() Kind { return "weaknesses" }

// Kind implements Payload.
func (Neighbours) Kind() Kind { return "neighbours" }

// types are the payloads by their kinds.
var types = func() map[Kind]reflect.Type {
	out := map[Kind]reflect.Type{}
	for _, p := range []Payload{Outlets{}, Chassis{}, Supply{}, Fronts{}, Sensors{}, Events{}, Sheet{}, Weak{}, Neighbours{}} {
		out[p.Kind()] = reflect.TypeOf(p)
	}
	return out
}()

// Payloads are what one answer brought.
type Payloads []Payload

type written struct {
	Kind  Kind            `json:"kind"`
	Value json.RawMessage `json:"value"`
}

// MarshalJSON writes each with its kind.
func (ps Payloads) MarshalJSON() ([]byte, error) {
	out := make([]written, len(ps))
	for i, p := range ps {
		value, err := json.Marshal(p)
		if err != nil {
			return nil, fmt.Errorf("observation: %s: %w", p.Kind(), err)
		}
		out[i] = written{p.Kind(), value}
	}
	return json.Marshal(out)
}

// UnmarshalJSON reads what MarshalJSON wrote. A kind that is not known here is left
// out: whoever sent it may be newer.
func (ps *Payloads) UnmarshalJSON(b []byte) error {
	var in []written
	if err := json.Unmarshal(b, &in); err != nil {
		return fmt.Errorf("observation: %w", err)
	}
	*ps = nil
	for _, w := range in {
		t, ok := types[w.Kind]
		if !ok {
			continue
		}
		p := reflect.New(t)
		if err := json.Unmarshal(w.Value, p.Interface()); err != nil {
			return fmt.Errorf("observation: %s: %w", w.Kind, err)
		}
		*ps = append(*ps, p.Elem().Interface().(Payload))
	}
	return nil
}
