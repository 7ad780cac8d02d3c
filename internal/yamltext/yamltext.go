// Package yamltext reads what people write in YAML, and complains by line.
package yamltext

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"plumbbob/internal/core/plain"
)

// Faults are what is wrong with a text, each with its line.
type Faults struct{ List []string }

func (f *Faults) Error() string { return strings.Join(f.List, "\n") }

// A Form is what a text is to be.
type Form struct {
	MaxSize int    // in bytes
	Key     string // what it begins with, and its version
	Version int
	Help    string // the command that shows more: "plumb telling schema"
}

// A Text is one that is read.
type Text struct {
	name   string
	first  int // the line before its own
	root   yaml.Node
	form   Form
	faults []string
}

// Read reads a text into a struct; name stands in its complaints, and first is how many lines stand
// before it in its file. Its error is *Faults.
func Read(name string, text []byte, first int, form Form, into any) (*Text, error) {
	t := &Text{name: name, first: first, form: form}
	if len(text) > form.MaxSize {
		return nil, &Faults{[]string{fmt.Sprintf("%s: is larger than %d KiB", name, form.MaxSize>>10)}}
	}
	dec := yaml.NewDecoder(bytes.NewReader(text))
	dec.KnownFields(true)
	switch err := dec.Decode(into); {
	case errors.Is(err, io.EOF):
		return nil, &Faults{[]string{fmt.Sprintf("%s: is empty: it begins with %s: %d", name, form.Key, form.Version)}}
	case err != nil:
		return nil, &Faults{t.syntax(err)}
	}
	_ = yaml.Unmarshal(text, &t.root) // it has just been read
	return t, nil
}

// Begins complains where the text is of another version, or of none.
func (t *Text) Begins(version int) {
	if version != t.form.Version {
		t.Fault([]string{t.form.Key}, "it must begin with %s: %d", t.form.Key, t.form.Version)
	}
}

var (
	yamlLine = regexp.MustCompile(`line (\d+): (.*)`)
	noField  = regexp.MustCompile(`field (.+) not found in type .*`)
	noType   = regexp.MustCompile("cannot unmarshal \\S+( `.*`)? into .*")
)

// syntax says what the YAML package complains about, by line.
func (t *Text) syntax(err error) (out []string) {
	for _, m := range yamlLine.FindAllStringSubmatch(err.Error(), -1) {
		text := noField.ReplaceAllString(m[2], "there is no key $1 here")
		text = noType.ReplaceAllString(text, "this is not what belongs here$1: see "+t.form.Help)
		line, _ := strconv.Atoi(m[1])
		out = append(out, fmt.Sprintf("%s:%d: %s", t.name, line+t.first, plain.Line(text)))
	}
	if len(out) == 0 {
		out = []string{t.name + ": " + plain.Line(err.Error())}
	}
	return out
}

// Fault complains about what stands at a path: keys, and places in lists from 0.
func (t *Text) Fault(path []string, format string, args ...any) {
	at := &t.root
	if at.Kind == yaml.DocumentNode && len(at.Content) > 0 {
		at = at.Content[0]
	}
	line := at.Line
	for _, part := range path {
		next, l := child(at, part)
		if next == nil {
			break
		}
		at, line = next, l
	}
	t.faults = append(t.faults, fmt.Sprintf("%s:%d: %s", t.name, line+t.first, fmt.Sprintf(format, args...)))
}

func child(n *yaml.Node, part string) (*yaml.Node, int) {
	switch n.Kind {
	case yaml.MappingNode:
		for i := 0; i+1 < len(n.Content); i += 2 {
			if n.Content[i].Value == part {
				return n.Content[i+1], n.Content[i].Line
			}
		}
	case yaml.SequenceNode:
		if i, err := strconv.Atoi(part); err == nil && i < len(n.Content) {
			return n.Content[i], n.Content[i].Line
		}
	}
	return nil, 0
}

// Err is all that was complained about, or nil.
func (t *Text) Err() error {
	if len(t.faults) == 0 {
		return nil
	}
	return &Faults{t.faults}
}
