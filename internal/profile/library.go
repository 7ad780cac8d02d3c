package profile

import (
	"bytes"
	_ "embed" // for the schema
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"
	"sync"

	"go.yaml.in/yaml/v3"

	"plumbbob/profiles"
)

// Schema is the JSON Schema of the format, for editors.
//
//go:embed profile.schema.json
var Schema []byte

// library holds every profile that can be named. Built-in ones are read once,
// and none is changed after it has been put there.
var library = sync.OnceValue(func() *shelf {
	s := &shelf{byName: map[string]*Profile{}, builtin: map[string]bool{}}
	entries, _ := profiles.Files.ReadDir(".") // an embedded directory cannot fail
	for _, e := range entries {
		text, _ := profiles.Files.ReadFile(e.Name())
		p, err := Parse(e.Name(), text)
		if err != nil {
			panic(err) // a test reads them all
		}
		s.byName[p.Name], s.builtin[p.Name] = p, true
	}
	return s
})

type shelf struct {
	mu      sync.RWMutex
	byName  map[string]*Profile
	builtin map[string]bool
}

// Find returns a profile by its name. It must not be changed.
func Find(name string) (*Profile, error) {
	s := library()
	s.mu.RLock()
	defer s.mu.RUnlock()
	if p := s.byName[name]; p != nil {
		return p, nil
	}
	return nil, fmt.Errorf("there is no profile %q: there is %s", name, strings.Join(s.names(), ", "))
}

// Names lists the profiles.
func Names() []string {
	s := library()
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.names()
}

func (s *shelf) names() []string {
	names := make([]string, 0, len(s.byName))
	for n := range s.byName {
		names = append(names, n)
	}
	slices.Sort(names)
	return names
}

// Builtin says whether a profile came with the program.
func Builtin(name string) bool { return library().builtin[name] }

// Add makes a profile of somebody's own known, in place of an earlier one of
// that name. A built-in one stays as it is.
func Add(p *Profile) error {
	s := library()
	if s.builtin[p.Name] {
		return fmt.Errorf("%s is a built-in profile: give yours another name", p.Name)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.byName[p.Name] = p
	return nil
}

// Remove forgets a profile that was added.
func Remove(name string) {
	s := library()
	if s.builtin[name] {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.byName, name)
}

// Text returns a built-in profile as it is written.
func Text(name string) (string, bool) {
	text, err := profiles.Files.ReadFile(path.Base(name) + ".yaml")
	return string(text), err == nil
}

// MaxSize bounds what is read of a profile.
const MaxSize = 256 << 10

// Parse reads a profile and refuses one that cannot work. file stands in the
// errors, which name the line where there is one.
func Parse(file string, text []byte) (*Profile, error) {
	if len(text) > MaxSize {
		return nil, fmt.Errorf("%s: is larger than %d KiB: that cannot be a profile", file, MaxSize>>10)
	}
	var p Profile
	dec := yaml.NewDecoder(bytes.NewReader(text))
	dec.KnownFields(true)
	if err := dec.Decode(&p); err != nil {
		return nil, fmt.Errorf("%s: %s", file, plain(err))
	}
	if err := p.check(); err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	return &p, nil
}

// plain says what the YAML package says in the words of the format.
func plain(err error) string {
	if errors.Is(err, io.EOF) {
		return fmt.Sprintf("is empty: begin it with plumb-profile: %d", Version)
	}
	s := strings.TrimPrefix(err.Error(), "yaml: ")
	s = strings.TrimPrefix(s, "unmarshal errors:\n  ")
	if i := strings.Index(s, " not found in type "); i >= 0 {
		s = strings.Replace(s[:i], "field ", "there is no key ", 1) + " here"
	}
	return strings.ReplaceAll(s, "\n  ", "; ")
}
