package httpgear

import (
	"context"
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"plumbbob/internal/core/sending"
	"plumbbob/internal/gear"
	"plumbbob/internal/profile"
)

// maxRows bounds how many outlets a page may list.
const maxRows = 256

// visit is one round of looking: each page is fetched once, when it is first
// asked for. Its first error sticks.
type visit struct {
	ctx   context.Context
	web   *web
	pages map[string]*page
	err   error
}

type page struct {
	text []byte
	doc  any // of JSON
}

func (w *web) visit(ctx context.Context) *visit {
	return &visit{ctx: ctx, web: w, pages: map[string]*page{}}
}

func (v *visit) page(name string) *page {
	if p := v.pages[name]; p != nil || v.err != nil {
		return p
	}
	path := v.web.o.Profile.Pages[name]
	text, err := v.web.get(v.ctx, path)
	if err != nil {
		v.err = err
		return nil
	}
	p := &page{text: text}
	_ = json.Unmarshal(text, &p.doc) // one that is no JSON is for regular expressions
	v.pages[name] = p
	return p
}

// rows lists the outlets: their numbers, and where each stands in its list.
func (v *visit) rows(o *profile.Outlets) ([]int, map[int]any, error) {
	if o.Rows == nil {
		numbers := make([]int, min(o.Count, maxRows))
		for i := range numbers {
			numbers[i] = i + 1
		}
		return numbers, nil, nil
	}
	p := v.page(o.Rows.Page)
	if p == nil {
		return nil, nil, v.err
	}
	found, _ := pointer(p.doc, o.Rows.At)
	list, ok := found.([]any)
	if byName, isMap := found.(map[string]any); isMap { // an object with one member for each
		for _, k := range sortedKeys(byName) {
			list = append(list, byName[k])
		}
		ok = true
	}
	if !ok {
		return nil, nil, &gear.Error{Kind: gear.Malformed, Outcome: sending.Refused, Text: fmt.Sprintf("%s: there is no list at %s of %s", v.web.o.Name, o.Rows.At, v.web.o.Profile.Pages[o.Rows.Page])}
	}
	var numbers []int
	places := map[int]any{}
	for i, row := range list[:min(len(list), maxRows)] {
		n := i + 1
		if o.Number != nil {
			raw, _ := pointer(row, o.Number.At)
			n, _ = strconv.Atoi(text(raw))
		}
		if n > 0 && places[n] == nil {
			numbers = append(numbers, n)
			places[n] = row
		}
	}
	return numbers, places, nil
}

func sortedKeys(m map[string]any) []string {
	var keys []string
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}

// lookup finds the values of a profile on the pages. A value of a row that
// names no page of its own is looked for in that row.
func (v *visit) lookup(p *profile.Profile, places map[int]any) gear.Lookup {
	return func(x *profile.Value, row int) (string, bool) {
		n := strconv.Itoa(row)
		at := strings.ReplaceAll(x.At, "{n}", n)
		if x.Page == "" {
			found, ok := pointer(places[row], at)
			return text(found), ok
		}
		pg := v.page(x.Page)
		if pg == nil {
			return "", false
		}
		if x.Find != "" {
			re := compiled(x.Find, row, len(pg.text))
			if re == nil {
				return "", false
			}
			m := re.FindSubmatch(pg.text)
			if len(m) < 2 {
				return "", false
			}
			return gear.Clean(string(m[1])), true
		}
		found, ok := pointer(pg.doc, at)
		return text(found), ok
	}
}

// mostWork bounds what one expression may cost on one page: its steps for each byte.
const mostWork = 100_000_000

// An expression is a pattern that was compiled, or nil for what is none.
type expression struct {
	*regexp.Regexp
	steps int
}

// expressions are those that were compiled, by what is looked for and for which outlet.
var expressions struct {
	sync.Mutex
	by map[string]expression
}

const mostExpressions = 4096

// compiled is nil for what is no pattern, and for what would cost too much.
func compiled(find string, outlet, size int) *regexp.Regexp {
	key := find
	if strings.Contains(find, "{n}") {
		key = strconv.Itoa(outlet) + " " + find
	}
	expressions.Lock()
	defer expressions.Unlock()
	x, ok := expressions.by[key]
	if !ok {
		if expressions.by == nil || len(expressions.by) >= mostExpressions {
			expressions.by = map[string]expression{}
		}
		re, steps, err := profile.Expression(find, outlet)
		if err != nil {
			re = nil
		}
		x = expression{re, steps}
		expressions.by[key] = x
	}
	if x.steps*size > mostWork {
		return nil
	}
	return x.Regexp
}

// pointer follows a JSON pointer (RFC 6901).
func pointer(doc any, at string) (any, bool) {
	if at == "" {
		return doc, doc != nil
	}
	for part := range strings.SplitSeq(strings.TrimPrefix(at, "/"), "/") {
		part = strings.ReplaceAll(strings.ReplaceAll(part, "~1", "/"), "~0", "~")
		switch x := doc.(type) {
		case map[string]any:
			next, ok := x[part]
			if !ok {
				return nil, false
			}
			doc = next
		case []any:
			i, err := strconv.Atoi(part)
			if err != nil || i < 0 || i >= len(x) {
				return nil, false
			}
			doc = x[i]
		default:
			return nil, false
		}
	}
	return doc, doc != nil
}

// text is a JSON value as a profile compares it.
func text(v any) string {
	switch x := v.(type) {
	case string:
		return gear.Clean(x)
	case bool:
		return strconv.FormatBool(x)
	case float64:
		return strconv.FormatFloat(x, 'f', -1, 64)
	}
	return ""
}
