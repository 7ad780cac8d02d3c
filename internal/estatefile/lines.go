package estatefile

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/agnivade/levenshtein"
	"go.yaml.in/yaml/v3"
)

// fault records what is wrong at a path of the file.
func (p *parser) fault(path []string, format string, args ...any) {
	p.faults.List = append(p.faults.List, Fault{p.line(path), fmt.Sprintf(format, args...)})
}

// line finds the line of a path, or of as much of it as is in the file.
func (p *parser) line(path []string) int {
	n, line := p.top(), 1
	for _, name := range path {
		key, value := p.child(n, name)
		if value == nil {
			return line
		}
		n, line = value, key.Line
	}
	return line
}

// words names a path as its reader would: which of a list's members only where there are several.
func (p *parser) words(path []string) string {
	n, words := p.top(), ""
	for i, name := range path {
		list := n != nil && n.Kind == yaml.SequenceNode
		switch at, err := strconv.Atoi(name); {
		case list && err == nil && len(n.Content) == 1:
		case list && err == nil:
			words += fmt.Sprintf(" (entry %d)", at+1)
		case i > 0 || len(path) == 1:
			words += " " + name
		}
		if n != nil {
			_, n = p.child(n, name)
		}
	}
	return strings.TrimSpace(words)
}

// keys lists the keys of a mapping in the order of the file.
func (p *parser) keys(path ...string) []string {
	n := p.top()
	for _, name := range path {
		if _, n = p.child(n, name); n == nil {
			return nil
		}
	}
	var keys []string
	for i := 0; n.Kind == yaml.MappingNode && i+1 < len(n.Content); i += 2 {
		keys = append(keys, n.Content[i].Value)
	}
	return keys
}

func (p *parser) top() *yaml.Node {
	if p.root.Kind == yaml.DocumentNode && len(p.root.Content) > 0 {
		return p.root.Content[0]
	}
	return &p.root
}

// child finds a member of a mapping or a sequence, and where it is named.
func (p *parser) child(n *yaml.Node, name string) (key, value *yaml.Node) {
	switch n.Kind {
	case yaml.MappingNode:
		if i, ok := p.members(n)[name]; ok {
			return n.Content[i], n.Content[i+1]
		}
	case yaml.SequenceNode:
		if i, err := strconv.Atoi(name); err == nil && i >= 0 && i < len(n.Content) {
			return n.Content[i], n.Content[i]
		}
	}
	return nil, nil
}

// members says where each key of a mapping is. It is asked once for each
// device, of a mapping that has them all: hence counted once.
func (p *parser) members(n *yaml.Node) map[string]int {
	at, ok := p.index[n]
	if !ok {
		at = make(map[string]int, len(n.Content)/2)
		for i := len(n.Content)/2*2 - 2; i >= 0; i -= 2 {
			at[n.Content[i].Value] = i
		}
		p.index[n] = at
	}
	return at
}

var (
	lineOf     = regexp.MustCompile(`^line (\d+): `)
	unknownKey = regexp.MustCompile(`^field (\S+) not found in type estatefile\.(\w+)$`)
	badValue   = regexp.MustCompile("^cannot unmarshal !!(\\w+)(?: `(.*)`)? into (.+)$")
)

// what can hold keys, by the name that the YAML package gives it.
var shapes = map[string]any{
	"file": file{}, "people": people{}, "site": site{}, "device": device{}, "outlets": outlets{},
	"endpoint": endpoint{}, "probe": probe{}, "powerCable": powerCable{},
	"sources": sources{}, "bank": bank{}, "inlet": inlet{}, "ups": ups{}, "wake": wake{}, "use": use{},
}

// fault translates one complaint of the YAML package.
func fault(m string) Fault {
	var f Fault
	if at := lineOf.FindStringSubmatch(m); at != nil {
		f.Line, _ = strconv.Atoi(at[1])
		m = m[len(at[0]):]
	}
	f.Text = m
	if x := unknownKey.FindStringSubmatch(m); x != nil {
		keys := keysOf(shapes[x[2]])
		f.Text = fmt.Sprintf("unknown key %q: %swhat can stand here is %s", x[1], meant(x[1], keys), strings.Join(keys, ", "))
	} else if x := badValue.FindStringSubmatch(m); x != nil {
		f.Text = fmt.Sprintf("%s does not belong here: %s is expected", value(x[1], x[2]), kindWords(x[3]))
	}
	return f
}

// syntax turns the complaints of the YAML package into ours.
func (p *parser) syntax(text []byte, err error) {
	if errors.Is(err, io.EOF) {
		p.faults.List = append(p.faults.List, Fault{1, fmt.Sprintf("is empty: begin it with plumb-estate: %d", Version)})
		return
	}
	var te *yaml.TypeError
	if !errors.As(err, &te) {
		p.faults.List = append(p.faults.List, broken(text, fault(strings.TrimPrefix(err.Error(), "yaml: "))))
		return
	}
	for _, m := range te.Errors {
		p.faults.List = append(p.faults.List, fault(m))
	}
}

var unknownAnchor = regexp.MustCompile(`^unknown anchor '(.+)' referenced$`)

// broken says what the YAML package does not: which line, and that it is a tab.
func broken(text []byte, f Fault) Fault {
	lines := strings.Split(string(text), "\n")
	if x := unknownAnchor.FindStringSubmatch(f.Text); x != nil {
		f.Line = 1 + slices.IndexFunc(lines, func(l string) bool { return strings.Contains(l, "*"+x[1]) })
		f.Text = fmt.Sprintf("*%s means what &%s named before, and nothing did", x[1], x[1])
	} else if 0 < f.Line && f.Line <= len(lines) && strings.HasPrefix(strings.TrimLeft(lines[f.Line-1], " "), "\t") {
		f.Text = "begins with a tab: indent with blanks"
	}
	return f
}

// notUTF8 finds the first line that is no text.
func notUTF8(text []byte) (line int, bad bool) {
	for l := range bytes.Lines(text) {
		line++
		if !utf8.Valid(l) {
			return line, true
		}
	}
	return 0, false
}

// meant is the key that a slip of the fingers would make of it.
func meant(key string, keys []string) string {
	for _, k := range keys {
		if levenshtein.ComputeDistance(key, k) <= max(1, len(key)/3) {
			return fmt.Sprintf("is %q meant? Otherwise ", k)
		}
	}
	return ""
}

func value(tag, text string) string {
	if text != "" {
		return strconv.Quote(text)
	}
	return map[string]string{"seq": "a list", "map": "a set of keys", "str": "text"}[tag]
}

func kindWords(goType string) string {
	switch {
	case strings.HasPrefix(goType, "[]"):
		return "a list"
	case strings.HasPrefix(goType, "map["), strings.HasPrefix(goType, "estatefile."):
		return "a set of keys"
	case strings.HasPrefix(goType, "int"), strings.HasPrefix(goType, "float"):
		return "a number"
	case goType == "bool":
		return "true or false"
	}
	return "text"
}

func keysOf(v any) []string {
	t := reflect.TypeOf(v)
	keys := make([]string, t.NumField())
	for i := range keys {
		keys[i] = t.Field(i).Tag.Get("yaml")
	}
	return keys
}
