package client

import (
	"cmp"
	"context"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/plain"
	"plumbbob/internal/orderfile"
)

const ladderHelp = `A ladder helps devices that hang, from gentle to hard, within limits: it acts only on what is proved to
hang on a way that works, and cuts power only where it has been seen which device hangs on the outlet.
Until it is armed it only says what it would do. docs/automation.md shows how one is written.`

func (a *app) ladderCommand() *cobra.Command {
	c := &cobra.Command{Use: "ladder", Short: "How devices that hang are helped: add, check, import, list, show, try, arm, disarm, reset, remove", Long: ladderHelp, RunE: needsSubcommand}
	schema := &cobra.Command{
		Use: "schema", Short: "The JSON Schema of a ladder, for editors", Args: args(0, 0, "plumb ladder schema"),
		RunE: func(*cobra.Command, []string) error { _, err := a.out.Write(orderfile.LadderSchema); return err },
	}
	disarm := a.ladderDo("disarm NAME", "Have one only say what it would do", func(ctx context.Context, s *service, name string) (string, error) {
		_, err := ask[nothing](s)(s.ArmLadder(ctx, name, contract.ArmLadderJSONRequestBody{Armed: false}))
		return "Ladder %s only says what it would do.\n", err
	})
	remove := a.ladderDo("remove NAME", "Forget a ladder; what it did stays on record, and counts", func(ctx context.Context, s *service, name string) (string, error) {
		_, err := ask[nothing](s)(s.RemoveLadder(ctx, name))
		return "Ladder %s is removed.\n", err
	})
	c.AddCommand(a.ladderAdd(), a.ladderSet("check", "Look whether ladders are right, and change nothing", true), a.ladderSet("import", "Add the ladders of a file, or replace those of the same names", false),
		a.ladderList(), a.ladderShow(), a.ladderTry(), a.ladderArm(), disarm, a.ladderReset(), remove, schema)
	return c
}

// ladderDo is a command that does one thing to a ladder.
func (a *app) ladderDo(use, short string, do func(ctx context.Context, s *service, name string) (words string, err error)) *cobra.Command {
	return &cobra.Command{
		Use: use, Short: short, Args: args(1, 1, "plumb ladder "+use),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			words, err := do(c.Context(), s, given[0])
			if err == nil {
				fmt.Fprintf(a.out, words, given[0])
			}
			return err
		}),
	}
}

func (a *app) ladderSet(verb, short string, check bool) *cobra.Command {
	return &cobra.Command{
		Use: verb + " FILE", Short: short, Args: args(1, 1, "plumb ladder "+verb+" FILE"), Long: ladderHelp,
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			text, err := a.read(given[0], orderfile.MaxSize)
			if err != nil {
				return err
			}
			return a.setLadder(c.Context(), s, contract.RoutineText{Text: string(text), Check: &check, Name: &given[0]})
		}),
	}
}

func (a *app) setLadder(ctx context.Context, s *service, text contract.RoutineText) error {
	got, err := ask[contract.LadderSet](s)(s.SetLadders(ctx, text))
	if err != nil {
		return err
	}
	a.lacks(got.Lacks)
	names := strings.Join(got.Names, ", ")
	if text.Check != nil && *text.Check {
		fmt.Fprintf(a.out, "Right: %s.\n", names)
		return nil
	}
	fmt.Fprintf(a.out, "In force, and rehearsing: %s. plumb ladder try %s says what it would have done, plumb ladder arm %s has it act.\n", names, got.Names[0], got.Names[0])
	return nil
}

var perDay = regexp.MustCompile(`^(\d{1,3})(?:/day)?$`)

// ladderKinds are what plumb ladder add tries, from gentle to hard.
var ladderKinds = []string{"restart", "reset", "cycle"}

// shortLadder is one that was asked for in one line.
type shortLadder struct {
	name, most      string
	hung, silent    time.Duration
	settle          time.Duration
	kinds           [3]bool
	call, witnesses []string
}

// text is the document that it becomes.
func (l *shortLadder) text(device, site string) (string, error) {
	uplink := len(l.witnesses) > 0
	switch {
	case !slices.Contains(l.kinds[:], true):
		return "", fail(ExitUsage, "say what is tried: --restart, --reset, --cycle, one or several")
	case uplink != (l.silent > 0):
		return "", fail(ExitUsage, "--silent-for and --witness go together: who watches a way out from within says for how long none of the witnesses beyond it may answer")
	case l.most != "" && !perDay.MatchString(l.most):
		return "", fail(ExitUsage, "--at-most: %q is no number such as 3/day", l.most)
	}
	lasting := l.hung
	if uplink {
		lasting = l.silent
	}
	var b strings.Builder
	fmt.Fprintf(&b, "plumb-ladder: 1\nname: %s\nsite: %s\nfor: {devices: [%s]}\nlasting: %s\n", l.name, site, device, plain.Span(lasting))
	if uplink {
		fmt.Fprintf(&b, "uplink: {witnesses: [%s]}\n", strings.Join(l.witnesses, ", "))
	}
	fmt.Fprintln(&b, "rungs:")
	for i, is := range l.kinds {
		if is {
			fmt.Fprintf(&b, "  - {do: %s, settle: %s}\n", ladderKinds[i], plain.Span(l.settle))
		}
	}
	if len(l.call) > 0 {
		fmt.Fprintf(&b, "call: [%s]\n", strings.Join(l.call, ", "))
	}
	if l.most != "" {
		fmt.Fprintf(&b, "at most: {a device and day: %s}\n", perDay.FindStringSubmatch(l.most)[1])
	}
	return b.String(), nil
}

func (a *app) ladderAdd() *cobra.Command {
	var l shortLadder
	var show bool
	c := &cobra.Command{
		Use: "add DEVICE", Short: "A ladder for one device, in one line", Args: args(1, 1, "plumb ladder add DEVICE --hung-for 5m --reset --cycle --at-most 3/day --call NAME"),
		Long: ladderHelp + "\n\nWith --silent-for and --witness the device is the way out of where the service stands: it is helped\nwhile none of the witnesses beyond it answers.",
		Example: "  plumb ladder add skarvoe-router --hung-for 5m --cycle --at-most 3/day --call duty\n" +
			"  plumb ladder add skarvoe-cell --silent-for 5m --witness ostrel-ops,tamsin-cell,inch-cell --reset --cycle",
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			d, err := ask[contract.Device](s)(s.GetDevice(c.Context(), given[0]))
			if err != nil {
				return err
			}
			l.name = cmp.Or(l.name, given[0])
			text, err := l.text(given[0], d.Summary.Site)
			if err != nil {
				return err
			}
			if show {
				_, err := fmt.Fprint(a.out, text)
				return err
			}
			there, err := ask[[]contract.Ladder](s)(s.ListLadders(c.Context()))
			if err != nil {
				return err
			}
			if slices.ContainsFunc(there, func(x contract.Ladder) bool { return x.Name == l.name }) {
				return fail(ExitUsage, "there is a ladder %s already: give this one another --name, or remove that with plumb ladder remove %s", l.name, l.name)
			}
			return a.setLadder(c.Context(), s, contract.RoutineText{Text: text, Name: &l.name})
		}),
	}
	f := c.Flags()
	f.StringVar(&l.name, "name", "", "of the ladder (default that of the device)")
	f.DurationVar(&l.hung, "hung-for", 5*time.Minute, "for how long the device has to hang")
	f.DurationVar(&l.silent, "silent-for", 0, "of a way out: for how long no witness may answer")
	f.StringSliceVar(&l.witnesses, "witness", nil, "of a way out: devices beyond it, three at least, at different places")
	f.DurationVar(&l.settle, "settle", 5*time.Minute, "how long it is given to recover, each time")
	for i, w := range ladderKinds {
		f.BoolVar(&l.kinds[i], w, false, "try to "+w+" it")
	}
	f.StringVar(&l.most, "at-most", "", "how often, as in 3/day (default 3/day)")
	f.StringSliceVar(&l.call, "call", nil, "who is told when it is at its end")
	f.BoolVar(&show, "show", false, "only show the text of it, to be gone on with")
	return c
}

func (a *app) ladderList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "All of them: whom they help, and whether they act", Args: args(0, 0, "plumb ladder list"),
		RunE: a.loggedIn(func(c *cobra.Command, _ []string, s *service) error {
			all, err := ask[[]contract.Ladder](s)(s.ListLadders(c.Context()))
			if err != nil {
				return err
			}
			if len(all) == 0 && a.output == "table" {
				fmt.Fprintln(a.out, "There is none: plumb ladder add and plumb ladder import add some.")
				return nil
			}
			return a.show(all, func() table {
				t := table{columns: []string{"NAME", "STATE", "DEVICES", "HUNG FOR", "RUNGS", "WHAT FOR"}}
				for _, l := range all {
					t.rows = append(t.rows, row(l.Name, ladderState(l), len(l.Devices), lasting(time.Duration(l.LastingSeconds)*time.Second), strings.Join(l.Rungs, "; "), l.Title))
				}
				return t
			})
		}),
	}
}

func ladderState(l contract.Ladder) string {
	switch {
	case l.Fault != "":
		return "cannot be read"
	case slices.ContainsFunc(l.Holds, func(h contract.LadderHold) bool { return h.Device == "" }):
		return "rests"
	case len(l.Climbs) > 0:
		return "is at work"
	case l.Armed && len(l.Holds) > 0:
		return "armed, at its end at " + strconv.Itoa(len(l.Holds))
	case l.Armed:
		return "armed"
	}
	return "rehearsing"
}

func (a *app) findLadder(ctx context.Context, s *service, name string) (l contract.Ladder, err error) {
	all, err := ask[[]contract.Ladder](s)(s.ListLadders(ctx))
	if err != nil {
		return l, err
	}
	i := slices.IndexFunc(all, func(l contract.Ladder) bool { return l.Name == name })
	if i < 0 {
		return l, fail(ExitUsage, "there is no ladder %q: plumb ladder list shows them", name)
	}
	return all[i], nil
}

func (a *app) ladderShow() *cobra.Command {
	return &cobra.Command{
		Use: "show NAME", Short: "The text of one, and where it is at its end", Args: args(1, 1, "plumb ladder show NAME"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			l, err := a.findLadder(c.Context(), s, given[0])
			if err != nil {
				return err
			}
			if a.output != "table" {
				return a.show(l, func() table { return table{} })
			}
			fmt.Fprintf(a.out, "# %s\n", ladderState(l))
			for _, h := range l.Holds {
				fmt.Fprintf(a.out, "# at its end at %s since %s: %s\n", cmp.Or(h.Device, "all"), datedZone(h.At), plain.Line(h.Why))
			}
			fmt.Fprintf(a.out, "# helps %s\n", cmp.Or(strings.Join(l.Devices, ", "), "nobody"))
			for _, x := range strings.Split(strings.TrimRight(l.Text, "\n"), "\n") {
				fmt.Fprintln(a.out, plain.Line(x))
			}
			return nil
		}),
	}
}

var lastDays = regexp.MustCompile(`^(\d{1,4})d$`)

func (a *app) ladderTry() *cobra.Command {
	var last string
	c := &cobra.Command{
		Use: "try NAME", Short: "What it would have done, by what is on record", Args: args(1, 1, "plumb ladder try NAME [--last 90d]"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			m := lastDays.FindStringSubmatch(last)
			if m == nil {
				return fail(ExitUsage, "--last: %q is no number of days such as 90d", last)
			}
			days, _ := strconv.Atoi(m[1])
			p, err := ask[contract.LadderPast](s)(s.TryLadder(c.Context(), given[0], &contract.TryLadderParams{Days: &days}))
			if err != nil {
				return err
			}
			if len(p.Times) > 0 || a.output != "table" {
				if err := a.show(p, func() table { return pastTable(p.Times) }); err != nil {
					return err
				}
			}
			if a.output == "table" {
				fmt.Fprintln(a.out, pastWords(p))
			}
			return nil
		}),
	}
	c.Flags().StringVar(&last, "last", "90d", "how far back")
	return c
}

func pastTable(all []contract.LadderWould) table {
	t := table{columns: []string{inZone("HUNG FROM"), "UNTIL", "DEVICE", "ACTS", "WHY", "WOULD DO, AS THINGS ARE NOW"}}
	for _, x := range all {
		acts := "no"
		if x.Acts {
			acts = dated(x.At)
		}
		until := stamp(x.Until)
		if x.Until == nil {
			until = stamp(nil)
			until.people = "still"
		}
		t.rows = append(t.rows, row(stamp(&x.From), until, x.Device, acts, x.Why+map[bool]string{true: "; it came back by itself", false: ""}[x.Alone], x.Preview))
	}
	return t
}

func pastWords(p contract.LadderPast) string {
	words := fmt.Sprintf("Since %s its devices hung %s; it would have acted %s", dated(p.Since), times(len(p.Times)), times(p.Acts))
	if p.Alone > 0 {
		words += fmt.Sprintf(", %s of them at a device that came back by itself", times(p.Alone))
	}
	return words + "."
}

func times(n int) string {
	switch n {
	case 0:
		return "not once"
	case 1:
		return "once"
	}
	return strconv.Itoa(n) + " times"
}

func (a *app) ladderArm() *cobra.Command {
	var yes bool
	c := &cobra.Command{
		Use: "arm NAME", Short: "Have one act", Args: args(1, 1, "plumb ladder arm NAME [--yes]"), Long: "Shows what the ladder would have done in the last 90 days, and asks. Arming is in the journal.",
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			l, err := a.findLadder(c.Context(), s, given[0])
			if err != nil {
				return err
			}
			p, err := ask[contract.LadderPast](s)(s.TryLadder(c.Context(), given[0], &contract.TryLadderParams{}))
			if err != nil {
				return err
			}
			fmt.Fprintf(a.out, "%s helps %s that has hung for %s: %s.\n%s\n", l.Name, counted(len(l.Devices), "device"), plain.Span(time.Duration(l.LastingSeconds)*time.Second), strings.Join(l.Rungs, "; "), pastWords(p))
			if !yes {
				if !a.terminal() {
					return fail(ExitUsage, "nobody is there to agree: add --yes to arm it")
				}
				typed, err := a.line(c.Context(), "Have it act? Type its name: ")
				if err != nil {
					return err
				}
				if typed != l.Name {
					return fail(ExitFailed, "it is not armed")
				}
			}
			if _, err := ask[nothing](s)(s.ArmLadder(c.Context(), l.Name, contract.ArmLadderJSONRequestBody{Armed: true})); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Ladder %s is armed.\n", l.Name)
			return nil
		}),
	}
	c.Flags().BoolVarP(&yes, "yes", "y", false, "agree to it without being asked")
	return c
}

func (a *app) ladderReset() *cobra.Command {
	return &cobra.Command{
		Use: "reset NAME [DEVICE]", Short: "Have one go on that is at its end, at one device or altogether", Args: args(1, 2, "plumb ladder reset NAME [DEVICE]"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			var b contract.ResetLadderJSONRequestBody
			if len(given) > 1 {
				b.Device = &given[1]
			}
			if _, err := ask[nothing](s)(s.ResetLadder(c.Context(), given[0], b)); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Ladder %s goes on.\n", given[0])
			return nil
		}),
	}
}
