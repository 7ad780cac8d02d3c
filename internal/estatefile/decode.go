package estatefile

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"reflect"
	"strings"

	"go.yaml.in/yaml/v3"
)

// decode reads the file as it is written; nil when it is not in its form. The YAML
// package compares every key of a mapping with every other, which takes half a minute
// for 60,000 devices: so they are taken out, and each is decoded by itself.
func (p *parser) decode(text []byte) *file {
	dec := yaml.NewDecoder(bytes.NewReader(text))
	if err := dec.Decode(&p.root); err != nil {
		p.syntax(text, err)
		return nil
	}
	if err := dec.Decode(&yaml.Node{}); !errors.Is(err, io.EOF) && !p.lenient {
		p.fault(nil, "there is a second document, behind ---: an estate is one document")
	}
	w := walk{most: mostNodes, inside: map[*yaml.Node]bool{}}
	w.unknown(&p.root, reflect.TypeFor[file]())
	if w.most <= 0 {
		p.fault(nil, "has more than %d members once its aliases are written out: that cannot be an estate", mostNodes)
		return nil
	}
	if !p.lenient {
		p.faults.List = append(p.faults.List, w.faults...)
	}
	before := len(p.faults.List)
	var f file
	rest, devices := p.apart()
	if err := rest.Decode(&f); err != nil {
		p.syntax(text, err)
	}
	if devices != nil {
		p.devices(text, devices, &f)
	}
	if len(p.faults.List) > before || len(w.faults) > 0 && !p.lenient {
		return nil
	}
	return &f
}

// mostNodes bounds what aliases can make of a small file.
const mostNodes = 4_000_000

// apart is the document without its devices, and these; nil when they are no plain mapping.
func (p *parser) apart() (rest *yaml.Node, devices *yaml.Node) {
	top := p.top()
	if top.Kind != yaml.MappingNode {
		return top, nil
	}
	_, devices = p.child(top, "devices")
	if devices == nil || devices.Kind != yaml.MappingNode {
		return top, nil
	}
	without := *top
	without.Content = nil
	for i := 0; i+1 < len(top.Content); i += 2 {
		if top.Content[i].Value == "<<" {
			return top, nil
		}
		if top.Content[i+1] != devices {
			without.Content = append(without.Content, top.Content[i], top.Content[i+1])
		}
	}
	for i := 0; i < len(devices.Content); i += 2 {
		if devices.Content[i].Value == "<<" || devices.Content[i].Kind != yaml.ScalarNode {
			return top, nil
		}
	}
	return &without, devices
}

func (p *parser) devices(text []byte, n *yaml.Node, f *file) {
	f.Devices = make(map[string]device, len(n.Content)/2)
	lines := make(map[string]int, len(n.Content)/2)
	for i := 0; i+1 < len(n.Content); i += 2 {
		key := n.Content[i]
		if at, twice := lines[key.Value]; twice {
			p.faults.List = append(p.faults.List, Fault{key.Line, fmt.Sprintf("mapping key %q already defined at line %d", key.Value, at)})
			continue
		}
		lines[key.Value] = key.Line
		var d device
		if err := n.Content[i+1].Decode(&d); err != nil {
			p.syntax(text, err)
		}
		f.Devices[key.Value] = d
	}
}

// A walk goes through a document beside the type that it is for, and notes the keys that
// the type has not got: the YAML package does that only for a text as a whole.
type walk struct {
	most   int                 // members that may still be looked at
	inside map[*yaml.Node]bool // aliases that are being gone through: one in itself has no end
	faults []Fault
}

var unmarshaler = reflect.TypeFor[yaml.Unmarshaler]()

func (w *walk) unknown(n *yaml.Node, t reflect.Type) {
	if w.most--; w.most <= 0 || n == nil {
		return
	}
	switch {
	case n.Kind == yaml.AliasNode:
		if w.inside[n.Alias] {
			return // which the YAML package complains about
		}
		w.inside[n.Alias] = true
		w.unknown(n.Alias, t)
		delete(w.inside, n.Alias)
		return
	case n.Kind == yaml.DocumentNode && len(n.Content) > 0:
		w.unknown(n.Content[0], t)
		return
	}
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	if reflect.PointerTo(t).Implements(unmarshaler) {
		return // it looks itself
	}
	switch {
	case t.Kind() == reflect.Slice && n.Kind == yaml.SequenceNode:
		for _, m := range n.Content {
			w.unknown(m, t.Elem())
		}
	case t.Kind() == reflect.Map && n.Kind == yaml.MappingNode:
		for i := 1; i < len(n.Content); i += 2 {
			if n.Content[i-1].Value == "<<" {
				w.unknown(n.Content[i], t)
			} else {
				w.unknown(n.Content[i], t.Elem())
			}
		}
	case t.Kind() == reflect.Struct && n.Kind == yaml.MappingNode:
		w.members(n, t)
	case t.Kind() == reflect.Struct && n.Kind == yaml.SequenceNode: // of what is merged
		for _, m := range n.Content {
			w.unknown(m, t)
		}
	}
}

func (w *walk) members(n *yaml.Node, t reflect.Type) {
	for i := 1; i < len(n.Content); i += 2 {
		key := n.Content[i-1]
		if key.Value == "<<" {
			w.unknown(n.Content[i], t)
			continue
		}
		field, ok := fieldOf(t, key.Value)
		if !ok {
			w.faults = append(w.faults, fault(fmt.Sprintf("line %d: field %s not found in type %s", key.Line, key.Value, t)))
			continue
		}
		w.unknown(n.Content[i], field)
	}
}

func fieldOf(t reflect.Type, key string) (reflect.Type, bool) {
	for i := range t.NumField() {
		if name, _, _ := strings.Cut(t.Field(i).Tag.Get("yaml"), ","); name == key {
			return t.Field(i).Type, true
		}
	}
	return nil, false
}
