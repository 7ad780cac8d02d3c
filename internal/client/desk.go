package client

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/kballard/go-shellquote"
	"github.com/spf13/cobra"

	"plumbbob/internal/api/contract"
)

const deskHelp = `Type commands of plumb, without its name in front:

  NAME             what is known of a device; verbs behind it are about that one
  board            all devices, what is wrong first
  look, serial     ask it again at once; sit at its serial line
  reset, cycle     have it start anew, by the gentlest means or by its power
  off, on          its power: what goes down with it is shown, and asked
  incident list    what is open
  help VERB        how a verb is used; help all lists all of them
  leave            (or Ctrl-D) to go

Tab completes verbs and names, Ctrl-C stops what runs, the arrow keys bring
back what was typed.`

func (a *app) deskCommand() *cobra.Command {
	return &cobra.Command{
		Use: "desk", Short: "What is wrong, and a line to type into: one command after the other", Args: args(0, 0, "plumb desk"),
		Long: `Begin with what is wrong, and then take one command after the other. It is what the
service's SSH gate and its telephone line show, for any terminal that can move its cursor.

` + deskHelp,
		RunE: a.loggedIn(func(c *cobra.Command, _ []string, s *service) error {
			if !a.terminal() {
				return fail(ExitUsage, "nobody is there to type: plumb desk is for a terminal")
			}
			restore, err := a.term.Raw()
			if err != nil {
				return err
			}
			defer restore()
			columns, rows := a.term.Size()
			far := NewFar(keysOf{c.Context(), a.term}, os.Stdout, columns, rows)
			defer a.term.Resized(func() { far.SetSize(a.term.Size()) })()
			d := desk{app: &app{
				in: a.in, term: far, out: far, err: far, output: a.output, config: a.config,
				colour: a.colour, width: a.width, height: a.height, utc: a.utc, toTerminal: true,
			}, far: far}
			d.sit(c.Context())
			return nil
		}),
	}
}

// keysOf reads the keys of a terminal.
type keysOf struct {
	ctx context.Context
	Terminal
}

func (k keysOf) Read(p []byte) (int, error) { return k.Keys(k.ctx, p) }

// A desk takes one command after the other from somebody at a terminal.
type desk struct {
	*app
	far    *Far
	device string // that the last command was about
	known  []string
}

// sit takes commands until somebody leaves, or ctx ends.
func (d *desk) sit(ctx context.Context) int {
	d.far.line.AutoCompleteCallback = func(line string, at int, key rune) (string, int, bool) {
		if key != '\t' {
			return "", 0, false
		}
		return d.complete(ctx, line, at)
	}
	d.begin(ctx)
	for {
		text, err := d.far.command(ctx, d.prompt())
		if err != nil {
			if errors.Is(err, io.EOF) {
				fmt.Fprintln(d.out, "Good-bye.")
			}
			return ExitDone
		}
		words, err := shellquote.Split(text)
		switch {
		case err != nil:
			fmt.Fprintf(d.err, "%s: a quote has no end\n", text)
		case len(words) == 0:
		case slices.Contains([]string{"leave", "exit", "quit", "logout"}, words[0]):
			fmt.Fprintln(d.out, "Good-bye.")
			return ExitDone
		default:
			d.do(ctx, words)
		}
	}
}

func (d *desk) prompt() string {
	if d.device == "" {
		return "plumb> "
	}
	return "plumb " + d.device + "> "
}

// begin says what is wrong.
func (d *desk) begin(ctx context.Context) {
	b, err := d.look(ctx)
	if err != nil {
		fmt.Fprintln(d.err, err)
		return
	}
	d.headline(b)
	wrong := boardFilter{}
	for _, v := range verdictNames() {
		if v != string(contract.VerdictStateSteady) && v != string(contract.VerdictStateParked) {
			wrong.verdicts = append(wrong.verdicts, v)
		}
	}
	shown := 0
	for _, x := range wrongFirst {
		for _, v := range b.Devices {
			if v.Verdict.State != x || !wrong.keeps(v) {
				continue
			}
			if shown++; shown > d.fits() {
				continue
			}
			fmt.Fprintf(d.out, "%s %s %s\n", d.paint(string(x), fmt.Sprintf("%-10s", words(x))), v.Key, d.wrap(because(v), 12+len(v.Key), "           "))
		}
	}
	switch {
	case len(b.Devices) == 0:
		fmt.Fprintln(d.out, emptyBoard(b))
	case shown == 0:
		fmt.Fprintln(d.out, "Nothing is wrong.")
	case shown > d.fits():
		fmt.Fprintf(d.out, "and %d more: board lists them\n", shown-d.fits())
	}
	fmt.Fprintln(d.out, "\nType the name of a device, or a verb; help says which there are.")
}

// fits is how many lines of what is wrong leave room on one page.
func (d *desk) fits() int {
	_, rows := d.far.Size()
	return max(5, rows/2)
}

func (d *desk) look(ctx context.Context) (contract.Board, error) {
	s, err := d.service()
	if err != nil {
		return contract.Board{}, err
	}
	b, err := ask[contract.Board](s)(s.GetBoard(ctx))
	if err == nil {
		d.known = d.known[:0]
		for _, x := range b.Devices {
			d.known = append(d.known, x.Key)
		}
	}
	return b, err
}

// do does what was typed.
func (d *desk) do(ctx context.Context, given []string) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	defer d.far.stops(cancel)()
	if given[0] == "plumb" && len(given) > 1 {
		given = given[1:]
	}
	if given[0] == "help" {
		d.help(ctx, cancel, given[1:])
		return
	}
	if verb := d.verb(given[0]); verb == nil {
		d.name(ctx, given)
		return
	}
	given = d.aboutTheDevice(given)
	d.paged(ctx, cancel).run(ctx, given)
}

// paged is the desk with what is said shown page by page.
func (d *desk) paged(ctx context.Context, end func()) *app {
	a := *d.app
	width, _ := d.far.Size()
	a.width = max(40, width)
	a.out = &pager{Far: d.far, ctx: ctx, end: end}
	return &a
}

// verb is the command of this name, or nil.
func (d *desk) verb(name string) *cobra.Command {
	for _, c := range d.command().Commands() {
		if c.Name() == name || c.HasAlias(name) {
			return c
		}
	}
	return nil
}

// aboutTheDevice adds the device that was last shown to a verb that wants one and was
// given none, and notes the one that it was given.
func (d *desk) aboutTheDevice(given []string) []string {
	cmd, rest, err := d.command().Find(given)
	if err != nil || !strings.HasPrefix(usageOf(cmd), "DEVICE") {
		return given
	}
	if err := cmd.ParseFlags(rest); err != nil {
		return given // which is explained when it is run
	}
	switch named := cmd.Flags().Args(); {
	case len(named) == 0 && d.device != "":
		return append(slices.Clone(given), d.device)
	case len(named) == 1 && slices.Contains(d.known, named[0]):
		d.device = named[0]
	}
	return given
}

// usageOf is what a command is to be given.
func usageOf(c *cobra.Command) string {
	_, what, _ := strings.Cut(c.Use, " ")
	return strings.TrimLeft(what, "[(")
}

// name shows the device of a name, or says what might be meant.
func (d *desk) name(ctx context.Context, given []string) {
	if _, err := d.look(ctx); err != nil {
		fmt.Fprintln(d.err, err)
		return
	}
	var like []string
	for _, k := range d.known {
		switch {
		case k == given[0]:
			like = []string{k}
		case strings.Contains(k, given[0]):
			like = append(like, k)
			continue
		default:
			continue
		}
		break
	}
	switch {
	case len(like) != 1:
		text := fmt.Sprintf("%q is neither a verb nor a device", given[0])
		if len(like) > 0 {
			text += "; it might be " + strings.Join(like[:min(len(like), 8)], ", ")
		}
		fmt.Fprintln(d.err, d.wrap(text+". help lists the verbs, board the devices.", 0, ""))
	case len(given) > 1 && d.verb(given[1]) != nil: // skarvoe-router cycle
		d.do(ctx, slices.Concat(given[1:2], like, given[2:]))
	default:
		d.do(ctx, []string{"show", like[0]})
		fmt.Fprintln(d.out, d.wrap("For "+like[0]+": look, serial, reset, cycle, off, on, history, events; help says more.", 0, ""))
	}
}

func (d *desk) help(ctx context.Context, end func(), about []string) {
	d = &desk{app: d.paged(ctx, end), far: d.far}
	switch {
	case len(about) == 0:
		fmt.Fprintln(d.out, deskHelp)
	case about[0] == "all":
		for _, c := range d.command().Commands() {
			if c.IsAvailableCommand() {
				fmt.Fprintf(d.out, "  %-11s %s\n", c.Name(), d.wrap(c.Short, 14, "              "))
			}
		}
	default:
		d.run(ctx, append(slices.Clone(about), "--help"))
	}
}

// complete completes the word at the end of a line, or lists what it can be.
func (d *desk) complete(ctx context.Context, line string, at int) (string, int, bool) {
	if at != len(line) {
		return "", 0, false
	}
	before := line[strings.LastIndexByte(line, ' ')+1:]
	can := d.candidates(ctx, line[:len(line)-len(before)], before)
	switch {
	case len(can) == 0:
		return "", 0, false
	case len(can) == 1:
		line += can[0][len(before):] + " "
		return line, len(line), true
	}
	if more := commonStart(can)[len(before):]; more != "" {
		return line + more, len(line) + len(more), true
	}
	fmt.Fprintln(d.out, d.wrap(strings.Join(can[:min(len(can), 60)], "  "), 0, ""))
	return line, len(line), true
}

// candidates are what a word that begins like this can be.
func (d *desk) candidates(ctx context.Context, before, begun string) (can []string) {
	given, err := shellquote.Split(before)
	if err != nil {
		return nil
	}
	if len(given) == 0 {
		if len(d.known) == 0 {
			_, _ = d.look(ctx)
		}
		can = append(can, d.known...)
		can = append(can, "help", "leave")
	}
	var said bytes.Buffer
	of := *d.app
	of.out, of.err = &said, io.Discard
	of.run(ctx, slices.Concat([]string{cobra.ShellCompNoDescRequestCmd}, given, []string{begun}))
	for _, l := range strings.Split(said.String(), "\n") {
		if l != "" && l[0] != ':' {
			can = append(can, l)
		}
	}
	can = slices.DeleteFunc(can, func(c string) bool { return !strings.HasPrefix(c, begun) })
	slices.SortFunc(can, cmp.Compare[string])
	return slices.Compact(can)
}

func commonStart(all []string) string {
	start := all[0]
	for _, x := range all[1:] {
		for !strings.HasPrefix(x, start) {
			start = start[:len(start)-1]
		}
	}
	return start
}
