// Package internal_test holds the rooms to what each may know of the others.
package internal_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// A rule is what a room may import of the project, and why it is so. A name that
// ends in a slash stands for all that is below it.
type rule struct {
	may []string
	why string
}

// rules are by room; the longest that fits counts.
var rules = map[string]rule{
	"core/":           {[]string{"core/"}, "computation knows nothing of what it is used by"},
	"wire/":           {[]string{"wire/"}, "a protocol stands for itself: it knows neither devices nor records"},
	"wire/rfb":        {[]string{"core/picture"}, "a protocol of pictures"},
	"canvas":          {[]string{"core/picture"}, "a picture that one draws and many look at"},
	"gear":            {[]string{"canvas", "core/picture", "core/plain", "core/reading", "core/sending", "profile"}, "what gear can do, without any gear"},
	"gear/":           {[]string{"attach", "canvas", "core/estate", "core/picture", "core/reading", "core/sending", "gear", "profile", "secret", "snmpauth", "wire/"}, "a driver knows its own protocol, no other driver, and nothing of operations"},
	"gear/garage":     {[]string{"attach", "core/", "gear", "gear/", "profile", "secret", "wire/wol"}, "the one place that knows every driver"},
	"gear/geartest":   {[]string{"core/sending", "gear"}, "of tests"},
	"attach":          {[]string{"gear", "wire/names", "wire/telnet"}, "the owner of a line: it knows no device and no dialogue"},
	"profile":         {[]string{"../profiles"}, "data, and its format"},
	"estatefile":      {[]string{"core/", "profile"}, "a file format"},
	"tellfile":        {[]string{"calendar", "core/", "yamltext"}, "a file format"},
	"calendar":        {nil, "a file format"},
	"password":        {nil, "one algorithm"},
	"version":         {nil, "what the Go tool has noted"},
	"secret":          {[]string{"whole"}, "one algorithm"},
	"snmpauth":        {[]string{"secret"}, "one algorithm"},
	"whole":           {nil, "files"},
	"stream":          {nil, "a queue"},
	"browser":         {nil, "of tests"},
	"report":          {nil, "of tests"},
	"lease":           {[]string{"health", "store"}, "the right to act, out of the database"},
	"health":          {nil, "a list, for every room that finds something wrong with the service"},
	"store":           {[]string{"core/", "health"}, "records know what is recorded, and nobody who records"},
	"store/":          {[]string{"store", "store/"}, "the private server, and the tests' own"},
	"bus":             {[]string{"core/"}, "values, on their way from who knows them to who wants to"},
	"watch":           {[]string{"bus", "core/", "gear", "gear/garage", "profile", "wire/icmp", "wire/names"}, "it asks gear, keeps nothing and decides nothing"},
	"hint":            {[]string{"core/", "wire/"}, "it only has gear asked sooner"},
	"gate":            {[]string{"broker", "canvas", "client", "core/", "people", "store", "wire/rfb"}, "a door: behind it are the client's commands, and screens"},
	"localports":      {[]string{"attach", "gear", "health", "wire/"}, "ports of this machine, for whoever has something to say there"},
	"broker":          {[]string{"attach", "bus", "canvas", "core/", "gear", "health", "store"}, "it holds lines for people, and knows no driver and no transport"},
	"keep":            {[]string{"bus", "core/", "health", "store"}, "it takes in what is heard, wherever it comes from; it never touches gear"},
	"durable":         {[]string{"health", "store"}, "it carries out what is recorded first, whatever that is"},
	"act":             {[]string{"bus", "calendar", "core/", "durable", "gear", "gear/garage", "health", "keep", "lease", "store", "watch", "whole"}, "the only room that changes gear"},
	"incidents":       {[]string{"bus", "core/", "durable", "health", "keep", "store"}, "a book about what is believed"},
	"yamltext":        {[]string{"core/plain"}, "a file format"},
	"orderfile":       {[]string{"core/", "yamltext"}, "a file format"},
	"drill":           {[]string{"core/", "store"}, "it asks for a look, and previews nothing that acts"},
	"orders":          {[]string{"act", "bus", "core/", "durable", "health", "keep", "lease", "orderfile", "store"}, "what was laid down beforehand: it asks act, as people do"},
	"people":          {[]string{"bus", "core/operation", "password", "store", "whole"}, "who may come in, by whichever door"},
	"tell":            {[]string{"bus", "calendar", "core/", "health", "secret", "snmpauth", "store", "tellfile", "whole", "wire/names", "wire/pin", "wire/sms", "wire/syslog"}, "it sends what is on record"},
	"api":             {[]string{"act", "api/contract", "broker", "bus", "calendar", "core/", "drill", "estatefile", "gear", "health", "incidents", "keep", "lease", "people", "profile", "screen", "secret", "store", "stream", "tell", "orderfile", "orders", "tellfile", "version", "watch", "yamltext"}, "the edge asks rooms: no driver, no garage, no protocol"},
	"screen":          {[]string{"core/glyph", "core/picture", "core/plain", "core/serial"}, "an emulated terminal: a library, and what keeps it from harm; and pictures as files"},
	"api/contract":    {nil, "generated"},
	"client":          {[]string{"api/contract", "core/estate", "core/journal", "core/keyboard", "core/picture", "core/plain", "core/sequence", "core/serial", "core/verdict", "estatefile", "orderfile", "tellfile", "profile", "secret", "version", "whole"}, "it knows the service by its contract alone"},
	"service":         {[]string{"act", "api", "broker", "bus", "core/", "drill", "estatefile", "gate", "gear", "gear/garage", "gear/sshgear", "health", "hint", "incidents", "keep", "lease", "localports", "orders", "password", "people", "profile", "screen", "secret", "store", "store/mariadb", "stream", "tell", "watch", "whole", "wire/icmp", "wire/names", "wire/syslog"}, "it puts the rooms together"},
	"daemon":          {[]string{"../web", "core/group", "localports", "password", "people", "service", "store", "version", "wire/names"}, "the command line of what people install: it carries no simulated gear"},
	"labcli":          {[]string{"../demo", "../web", "client", "core/", "daemon", "estatefile", "keep", "lab", "localports", "orderfile", "password", "service", "store", "tell", "version", "wire/icmp", "wire/names"}, "the command line of the lab and the demo"},
	"lab":             {[]string{"canvas", "core/estate", "core/picture", "lab/bmc", "lab/machine", "lab/phone", "lab/post", "lab/video", "secret", "wire/"}, "gear of its own: it knows no driver and no room"},
	"lab/phone":       {[]string{"wire/sms"}, "a modem, and who is called by it"},
	"lab/post":        {nil, "a mail server, which delivers to nobody"},
	"lab/bmc":         {[]string{"wire/"}, "a controller knows nothing of the estate"},
	"lab/video":       {[]string{"core/picture"}, "what is on a screen: it knows no box and no cable"},
	"lab/machine":     {nil, "what a computer shows: it knows no box and no line"},
	"lab/bmc/bmctest": {[]string{"lab/bmc", "wire/ipmi", "wire/ipmi/rmcp"}, "of tests"},
	"lab/labtest":     {[]string{"../demo", "core/estate", "estatefile", "lab"}, "of tests"},
}

// ruleFor is the rule of a room: its own, or that of all below a name.
func ruleFor(room string) (rule, bool) {
	if r, ok := rules[room]; ok {
		return r, true
	}
	for at := room; at != "."; {
		at = filepath.Dir(at)
		if r, ok := rules[at+"/"]; ok {
			return r, true
		}
	}
	return rule{}, false
}

func allows(r rule, room, name string) bool {
	return slices.ContainsFunc(r.may, func(may string) bool {
		return name == may || strings.HasSuffix(may, "/") && strings.HasPrefix(name, may) || name == room
	})
}

// each parses every source file that is no test.
func each(t *testing.T, f func(room, path string, file *ast.File, set *token.FileSet)) {
	t.Helper()
	err := filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		set := token.NewFileSet()
		file, err := parser.ParseFile(set, path, nil, 0)
		if err == nil {
			f(filepath.Dir(path), path, file, set)
		}
		return err
	})
	require.NoError(t, err)
}

func TestRoomsKnowOnlyWhatTheyMay(t *testing.T) {
	seen := map[string]bool{}
	each(t, func(room, path string, file *ast.File, _ *token.FileSet) {
		seen[room] = true
		r, ok := ruleFor(room)
		require.True(t, ok, "the room %s has no rule: say in this table what it may import, and why", room)
		for _, i := range file.Imports {
			name, ours := strings.CutPrefix(strings.Trim(i.Path.Value, `"`), "plumbbob/")
			if !ours {
				continue
			}
			if inside, ok := strings.CutPrefix(name, "internal/"); ok {
				name = inside
			} else {
				name = "../" + name
			}
			require.True(t, allows(r, room, name), "%s imports %s: %s", path, name, r.why)
		}
	})
	for room := range rules {
		if !strings.HasSuffix(room, "/") {
			require.True(t, seen[room], "the rule for %s is for a room that is not there", room)
		}
	}
}

// What the core may import. Nothing here can do I/O by itself, and
// of time only what reckons is used.
var coreImports = []string{
	"bufio", "bytes", "cmp", "compress/flate", "container/heap", "crypto/sha256", "encoding/base32", "encoding/binary", "encoding/hex", "encoding/json", "errors", "fmt", "image", "image/color", "image/jpeg", "io", "maps", "math", "net/netip", "reflect", "regexp", "math/bits", "slices", "strconv", "strings", "time", "unicode", "unicode/utf8",
	// Libraries that only reckon: expressions, and times.
	"cel.dev/cel-go/cel", "cel.dev/cel-go/common/ast", "cel.dev/cel-go/common/types", "cel.dev/cel-go/common/types/ref", "github.com/robfig/cron/v3",
}

// What would be a clock, or a wait, in the core; fmt that prints is output.
var coreForbids = map[string][]string{
	"time": {"Now", "Since", "Until", "Sleep", "After", "AfterFunc", "Tick", "NewTimer", "NewTicker", "Local", "LoadLocation"},
	"fmt":  {"Print", "Printf", "Println", "Scan", "Scanf", "Scanln"},
}

// TestTheCoreStandsAlone: no clock, no I/O, no goroutine, no channel, no lock, no
// log, no process, whatever they are reached by.
func TestTheCoreStandsAlone(t *testing.T) {
	each(t, func(room, path string, file *ast.File, set *token.FileSet) {
		if room != "core" && !strings.HasPrefix(room, "core/") {
			return
		}
		for _, wrong := range impure(file, set) {
			require.Fail(t, "the core has to be pure", wrong)
		}
	})
	for text, want := range map[string]string{
		"import \"os\"":                                           "imports os",
		"import \"log/slog\"":                                     "imports log/slog",
		"import \"sync\"":                                         "imports sync",
		"import t \"time\"; var x = t.Now()":                      "time.Now",
		"import \"time\"; var x = time.Now":                       "time.Now",
		"import \"time\"; func f() { time.Sleep(1) }":             "time.Sleep",
		"func f() { go f() }":                                     "a goroutine",
		"var c chan int":                                          "a channel",
		"import \"fmt\"; func f() { fmt.Println() }":              "fmt.Println",
		"func f() { println() }":                                  "println",
		"import \"time\"; func f(t time.Time) { _ = t }":          "",
		"import \"fmt\"; func f() string { return fmt.Sprint() }": "",
	} {
		set := token.NewFileSet()
		file, err := parser.ParseFile(set, "x.go", "package x; "+text, 0)
		require.NoError(t, err)
		require.Contains(t, strings.Join(impure(file, set), "; "), want, text)
		require.Equal(t, want == "", len(impure(file, set)) == 0, text)
	}
}

// impure lists what a file of the core must not have.
func impure(file *ast.File, set *token.FileSet) (found []string) {
	add := func(n ast.Node, what string) { found = append(found, set.Position(n.Pos()).String()+": "+what) }
	named := map[string]string{}
	for _, i := range file.Imports {
		name := strings.Trim(i.Path.Value, `"`)
		if !strings.HasPrefix(name, "plumbbob/") && !slices.Contains(coreImports, name) {
			add(i, "imports "+name)
		}
		as := name[strings.LastIndex(name, "/")+1:]
		if i.Name != nil {
			as = i.Name.Name
		}
		named[as] = name
	}
	ast.Inspect(file, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.GoStmt:
			add(n, "a goroutine")
		case *ast.ChanType:
			add(n, "a channel")
		case *ast.SelectorExpr:
			if x, ok := n.X.(*ast.Ident); ok && slices.Contains(coreForbids[named[x.Name]], n.Sel.Name) {
				add(n, named[x.Name]+"."+n.Sel.Name)
			}
		case *ast.CallExpr:
			if f, ok := n.Fun.(*ast.Ident); ok && (f.Name == "println" || f.Name == "print") {
				add(n, f.Name)
			}
		}
		return true
	})
	return found
}
