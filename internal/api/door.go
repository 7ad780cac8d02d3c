package api

import (
	"context"
	_ "embed"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/labstack/echo/v5"

	"plumbbob/internal/core/operation"
)

// The door of the API: no request comes in that the contract does not describe, and no
// route is there without a decision about who may use it.

//go:embed openapi.yaml
var contractText []byte

// How long bodies may be, by what asks for more than is usual.
const (
	usualBody = 64 << 10
	textBody  = 9 << 20 // an estate file, in JSON
)

var longBodies = map[string]int64{
	"importEstate": textBody, "diffEstate": textBody, "setProfile": textBody, "tryProfile": textBody, "setCalendar": textBody,
	"logIn": 4 << 10, "createToken": 4 << 10, // from anybody
}

// nobody is who needs not be logged in.
const nobody operation.Role = "nobody"

// A gate is what the contract says of one operation.
type gate struct {
	id    string
	least operation.Role
	body  int64
	route *routers.Route

	zipped bool // who asks takes gzip
	url    url.URL
	zone   *time.Location // in which they want to read times; nil: in that of each site
}

// gates are by method and path, as the router has them.
type gates struct {
	by    map[string]gate
	paths map[string][]string // path → methods
}

// openGates reads the contract. An operation without a decision about who may use it
// is an error, which stops the start.
func openGates() (gates, error) {
	g := gates{map[string]gate{}, map[string][]string{}}
	doc, err := openapi3.NewLoader().LoadFromData(contractText)
	if err != nil {
		return g, fmt.Errorf("the contract: %w", err)
	}
	for path, item := range doc.Paths.Map() {
		for method, op := range item.Operations() {
			least, _ := op.Extensions["x-least-role"].(string)
			role := operation.Role(least)
			if role != nobody && !slices.Contains(operation.Roles, role) {
				return g, fmt.Errorf("the contract: who may %s %s is not decided: x-least-role is %q", method, path, least)
			}
			if open := op.Security != nil && len(*op.Security) == 0; open != (role == nobody) {
				return g, fmt.Errorf("the contract: %s %s is for %q, and its security says otherwise", method, path, least)
			}
			if op.RequestBody != nil {
				for _, media := range op.RequestBody.Value.Content {
					closeSchema(media.Schema, map[*openapi3.Schema]bool{})
				}
			}
			at := basePath + echoPath(path)
			body, ok := longBodies[op.OperationID]
			if !ok {
				body = usualBody
			}
			g.by[method+" "+at] = gate{id: op.OperationID, least: role, body: body, route: &routers.Route{Spec: doc, Path: path, PathItem: item, Method: method, Operation: op}}
			g.paths[at] = append(g.paths[at], method)
		}
	}
	return g, nil
}

// echoPath is a path of the contract as the router writes it.
func echoPath(path string) string {
	return strings.NewReplacer("{", ":", "}", "").Replace(path)
}

// closeSchema refuses members that a request's schema does not have: a mistyped one
// must not be taken for one that was left out. One that is null counts as that.
func closeSchema(ref *openapi3.SchemaRef, seen map[*openapi3.Schema]bool) {
	if ref == nil || ref.Value == nil || seen[ref.Value] {
		return
	}
	s := ref.Value
	seen[s] = true
	if s.Type.Is("object") && s.AdditionalProperties.Schema == nil {
		s.AdditionalProperties.Has = new(false)
	}
	for name, p := range s.Properties {
		closeSchema(p, seen)
		if p.Value != nil && !slices.Contains(s.Required, name) {
			p.Value.Nullable = true // as good as left out
		}
	}
	closeSchema(s.Items, seen)
}

// decided makes sure that there is no route of the API beside the contract.
func (g gates) decided(routes echo.Routes) error {
	for _, r := range routes {
		if _, ok := g.by[r.Method+" "+r.Path]; !ok && strings.HasPrefix(r.Path, basePath+"/") && r.Method != echo.RouteNotFound {
			return fmt.Errorf("the contract does not say who may %s %s", r.Method, r.Path)
		}
	}
	return nil
}

type gateKey struct{}

// find puts the gate of a request beside it, and turns away what leads nowhere.
func (g gates) find(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r := c.Request()
		x, ok := g.by[r.Method+" "+c.Path()]
		if !ok || slices.ContainsFunc(c.PathValues(), func(p echo.PathValue) bool { return p.Value == "" }) {
			return g.nowhere(c)
		}
		if r.ContentLength > x.body {
			return &tooLongError{x.body}
		}
		x.zipped, x.url = takesGzip(r), *r.URL
		var err error
		if x.zone, err = askedZone(r); err != nil {
			return err
		}
		r.Body = http.MaxBytesReader(c.Response(), r.Body, x.body)
		c.SetRequest(r.WithContext(context.WithValue(r.Context(), gateKey{}, x)))
		return next(c)
	}
}

// askedZone is the zone that the header Time-Zone names: "Europe/Oslo", "UTC", "+01:00".
func askedZone(r *http.Request) (*time.Location, error) {
	name := r.Header.Get("Time-Zone")
	if name == "" {
		return nil, nil //nolint:nilnil // nobody has asked
	}
	if at, err := time.Parse("-07:00", name); err == nil {
		_, offset := at.Zone()
		return time.FixedZone(name, offset), nil
	}
	zone, err := time.LoadLocation(name)
	if err != nil || len(name) > 64 || name == "Local" {
		return nil, &invalidError{"Time-Zone", fmt.Sprintf("%q is no time zone: write a name such as Europe/Oslo, or how far it is off, such as +01:00", name)}
	}
	return zone, nil
}

// nowhere says whether there is nothing, or something else can be done there.
func (g gates) nowhere(c *echo.Context) error {
	path := c.Request().URL.Path
	for at, methods := range g.paths {
		if matches(at, path) {
			slices.Sort(methods)
			c.Response().Header().Set("Allow", strings.Join(methods, ", "))
			return echo.ErrMethodNotAllowed
		}
	}
	return &missing{"the API has no " + path + ": docs/api.md has what there is"}
}

// matches says whether a path is one of a route.
func matches(route, path string) bool {
	a, b := strings.Split(route, "/"), strings.Split(path, "/")
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if a[i] != b[i] && (!strings.HasPrefix(a[i], ":") || b[i] == "") {
			return false
		}
	}
	return true
}

func gateOf(ctx context.Context) gate {
	x, _ := ctx.Value(gateKey{}).(gate)
	return x
}

// allow refuses what the role does not allow.
func allow(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		ctx := c.Request().Context()
		if x := gateOf(ctx); x.least != nobody {
			if err := atLeast(ctx, x.least); err != nil {
				return err
			}
		}
		return next(c)
	}
}

// validate refuses what the contract does not describe.
func validate(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r := c.Request()
		x := gateOf(r.Context())
		params := map[string]string{}
		for _, p := range c.PathValues() {
			value, err := url.PathUnescape(p.Value)
			if err != nil {
				value = p.Value
			}
			params[p.Name] = value
		}
		if r.ContentLength == 0 && r.Body != nil {
			r.Body = http.NoBody
		}
		if x.route.Operation.RequestBody != nil && r.ContentLength != 0 && r.Header.Get("Content-Type") == "" {
			r.Header.Set("Content-Type", "application/json") // there is nothing else
		}
		in := &openapi3filter.RequestValidationInput{
			Request: r, PathParams: params, QueryParams: r.URL.Query(), Route: x.route,
			Options: &openapi3filter.Options{AuthenticationFunc: openapi3filter.NoopAuthenticationFunc, SkipSettingDefaults: true},
		}
		if err := unknownParameter(in); err != nil {
			return err
		}
		if err := openapi3filter.ValidateRequest(r.Context(), in); err != nil {
			return invalid(err, x)
		}
		if err := readable(r, x.route.Operation.OperationID); err != nil {
			return err
		}
		return next(c)
	}
}

// unknownParameter refuses a parameter that the contract does not have there.
func unknownParameter(in *openapi3filter.RequestValidationInput) error {
	var known []string
	for _, list := range []openapi3.Parameters{in.Route.PathItem.Parameters, in.Route.Operation.Parameters} {
		for _, p := range list {
			if p.Value.In == openapi3.ParameterInQuery {
				known = append(known, p.Value.Name)
			}
		}
	}
	for name := range in.QueryParams {
		if !slices.Contains(known, name) {
			return &invalidError{"?" + name, unknownWords(name, known)}
		}
	}
	return nil
}

// An invalidError says what of a request the contract does not allow.
type invalidError struct{ at, text string }

func (e *invalidError) Error() string {
	if e.at == "" {
		return e.text
	}
	return e.at + ": " + e.text
}

// A tooLongError refuses a body before it is read.
type tooLongError struct{ most int64 }

func (e *tooLongError) Error() string {
	return fmt.Sprintf("what was sent is longer than the %d kB that are read here", e.most>>10)
}

// invalid words what a request was refused for.
func invalid(err error, x gate) error {
	var long *http.MaxBytesError
	if errors.As(err, &long) {
		return &tooLongError{x.body}
	}
	var refused *openapi3filter.RequestError
	if !errors.As(err, &refused) {
		return &invalidError{"", err.Error()}
	}
	at := ""
	if refused.Parameter != nil {
		at = refused.Parameter.Name
		if refused.Parameter.In == openapi3.ParameterInQuery {
			at = "?" + at
		}
	}
	var schema *openapi3.SchemaError
	if errors.As(err, &schema) {
		if p := schema.JSONPointer(); len(p) > 0 {
			at += "/" + strings.Join(p, "/")
		}
		return &invalidError{at, schemaWords(schema)}
	}
	switch {
	case strings.Contains(refused.Reason, "Content-Type"):
		return &invalidError{"", "what is sent has to be JSON: set Content-Type: application/json"}
	case refused.RequestBody != nil && (refused.Err == nil || errors.Is(err, openapi3filter.ErrInvalidRequired)):
		return &invalidError{"", "a body in JSON is missing"}
	case errors.Is(err, openapi3filter.ErrInvalidRequired):
		return &invalidError{at, "is missing"}
	case refused.RequestBody != nil:
		return &invalidError{"", "what was sent is no JSON that can be read: " + clean(refused.Err)}
	}
	return &invalidError{at, clean(refused.Err)}
}

// clean is the last cause of an error, without what is of the library alone.
func clean(err error) string {
	for {
		next := errors.Unwrap(err)
		if next == nil {
			return strings.TrimPrefix(err.Error(), "json: ")
		}
		err = next
	}
}

// schemaWords says what is wrong with a value.
func schemaWords(e *openapi3.SchemaError) string {
	s := e.Schema
	switch e.SchemaField {
	case "enum":
		all := make([]string, len(s.Enum))
		for i, v := range s.Enum {
			all[i] = fmt.Sprint(v)
		}
		return fmt.Sprintf("%q is none of %s", fmt.Sprint(e.Value), strings.Join(all, ", "))
	case "maxLength":
		return fmt.Sprintf("has %d characters, and %d are the most", len([]rune(fmt.Sprint(e.Value))), *s.MaxLength)
	case "minLength":
		return fmt.Sprintf("has fewer than %d characters", s.MinLength)
	case "maximum":
		return fmt.Sprintf("%v is more than %v", e.Value, *s.Max)
	case "minimum":
		return fmt.Sprintf("%v is less than %v", e.Value, *s.Min)
	case "maxItems":
		return fmt.Sprintf("has more than %d items", *s.MaxItems)
	case "minItems":
		return fmt.Sprintf("has fewer than %d items", s.MinItems)
	case "type":
		return fmt.Sprintf("is no %s", strings.Join(s.Type.Slice(), " or "))
	case "required":
		if name := missingIn(e); name != "" {
			return fmt.Sprintf("%q is missing", name)
		}
	case "properties":
		if name := unknownIn(e); name != "" {
			known := make([]string, 0, len(s.Properties))
			for p := range s.Properties {
				known = append(known, p)
			}
			return unknownWords(name, known)
		}
	case "format":
		return fmt.Sprintf("%q is no %s", fmt.Sprint(e.Value), s.Format)
	}
	return e.Reason
}

// missingIn and unknownIn find the member that an error is about.
func missingIn(e *openapi3.SchemaError) string {
	have, _ := e.Value.(map[string]any)
	for _, name := range e.Schema.Required {
		if _, ok := have[name]; !ok {
			return name
		}
	}
	return ""
}

func unknownIn(e *openapi3.SchemaError) string {
	have, _ := e.Value.(map[string]any)
	var unknown []string
	for name := range have {
		if _, ok := e.Schema.Properties[name]; !ok {
			unknown = append(unknown, name)
		}
	}
	slices.Sort(unknown)
	if len(unknown) == 0 {
		return ""
	}
	return unknown[0]
}

// unknownWords names what is not known, and what may have been meant.
func unknownWords(name string, known []string) string {
	slices.Sort(known)
	best, least := "", 3
	for _, k := range known {
		if d := apart(name, k); d < least {
			best, least = k, d
		}
	}
	text := fmt.Sprintf("%q is not known here", name)
	switch {
	case best != "":
		return text + fmt.Sprintf(": did you mean %q?", best)
	case len(known) == 0:
		return text + ": nothing is"
	}
	return text + ": there is " + strings.Join(known, ", ")
}

// apart is how many letters have to be changed, put in or left out.
func apart(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		was := row[0]
		row[0] = i + 1
		for j := range len(b) {
			cost := was
			if a[i] != b[j] {
				cost = 1 + min(was, row[j], row[j+1])
			}
			was, row[j+1] = row[j+1], cost
		}
	}
	return row[len(b)]
}

// specification serves the contract itself.
func specification(c *echo.Context) error {
	c.Response().Header().Set("Content-Type", "application/yaml")
	_, err := c.Response().Write(contractText)
	return err
}
