package client

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/plain"
	"plumbbob/internal/orderfile"
)

const routineHelp = `A routine is done step by step without anybody at hand: at stated times, when something happens, or
when somebody begins it. Whatever it switches goes through the same previews and interlocks as what
people do. docs/automation.md shows how one is written.`

func (a *app) routineCommand() *cobra.Command {
	c := &cobra.Command{Use: "routine", Short: "What is done without anybody at hand: add, check, import, try, run, list, show, runs, stop", Long: routineHelp, RunE: needsSubcommand}
	schema := &cobra.Command{
		Use: "schema", Short: "The JSON Schema of a routine, for editors", Args: args(0, 0, "plumb routine schema"),
		RunE: func(*cobra.Command, []string) error { _, err := a.out.Write(orderfile.Schema); return err },
	}
	remove := &cobra.Command{
		Use: "remove NAME", Short: "Forget a routine; what it did stays on record", Args: args(1, 1, "plumb routine remove NAME"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			if _, err := ask[nothing](s)(s.RemoveRoutine(c.Context(), given[0])); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Routine %s is removed.\n", given[0])
			return nil
		}),
	}
	c.AddCommand(a.routineAdd(), a.routineSet("check", "Look whether routines are right, and change nothing", true), a.routineSet("import", "Add the routines of a file, or replace those of the same names", false),
		a.routineTry(), a.routineRun(), a.routineList(), a.routineShow(), a.routineRuns(),
		a.routineSteer("stop", "Stop one that runs, at the next safe point", contract.Stop), a.routineSteer("pause", "Have one that runs begin nothing more", contract.Pause), a.routineSteer("resume", "Have one that waits go on", contract.Resume),
		a.routineSwitch("off", "Have one begin by nothing but people", true), a.routineSwitch("on", "Have one begin by itself again", false), remove, schema)
	return c
}

func (a *app) routineSet(verb, short string, check bool) *cobra.Command {
	return &cobra.Command{
		Use: verb + " FILE", Short: short, Args: args(1, 1, "plumb routine "+verb+" FILE"), Long: routineHelp,
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			text, err := a.read(given[0], orderfile.MaxSize)
			if err != nil {
				return err
			}
			return a.setRoutine(c.Context(), s, contract.RoutineText{Text: string(text), Check: &check, Name: &given[0]})
		}),
	}
}

func (a *app) setRoutine(ctx context.Context, s *service, text contract.RoutineText) error {
	got, err := ask[contract.RoutineSet](s)(s.SetRoutines(ctx, text))
	if err != nil {
		return err
	}
	a.lacks(got.Lacks)
	if a.output != "table" {
		return a.show(got, func() table { return clockTable(got.Next) })
	}
	words := "In force"
	if text.Check != nil && *text.Check {
		words = "Right"
	}
	fmt.Fprintf(a.out, "%s: %s.\n", words, strings.Join(got.Names, ", "))
	for _, n := range got.Next {
		fmt.Fprintf(a.out, "%s begins next %s (%s)\n", n.Name, datedZone(n.At), n.Zone)
	}
	return nil
}

// routineKinds are what one line can have done.
var routineKinds = []string{"on", "off", "cycle", "reset", "shutdown", "sleep", "wake", "restart"}

func (a *app) routineAdd() *cobra.Command {
	var name, hold, late string
	var show bool
	usage := `plumb routine add "every day at 03:30" cycle DEVICE`
	c := &cobra.Command{
		Use: "add WHEN WHAT DEVICE", Short: "One thing, again and again, in one line", Args: args(3, 3, usage),
		Long:    "Writes the routine of one step, and has it in force. The clock is that of the site of the device. WHAT is one of " + strings.Join(routineKinds, ", ") + ".",
		Example: "  " + `plumb routine add "every day at 03:30" cycle skarvoe-cell`,
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			when, what, device := given[0], given[1], given[2]
			if !slices.Contains(routineKinds, what) {
				return fail(ExitUsage, "%q is nothing that can be done in one line: %s are", what, strings.Join(routineKinds, ", "))
			}
			d, err := ask[contract.Device](s)(s.GetDevice(c.Context(), device))
			if err != nil {
				return err
			}
			name = cmp.Or(name, what+"-"+device)
			var text strings.Builder
			fmt.Fprintf(&text, "plumb-routine: 1\nname: %s\ntitle: %s\nsite: %s\nwhen:\n  - at: %s\n", name, quoted(fmt.Sprintf("%s %s, %s", what, device, when)), d.Summary.Site, quoted(when))
			if late != "" {
				fmt.Fprintf(&text, "    late: %s\n", quoted(late))
			}
			fmt.Fprintf(&text, "steps:\n  - %s: %s\n", what, device)
			if hold != "" {
				fmt.Fprintf(&text, "    hold: %s\n", quoted(hold))
			}
			if show {
				_, err := fmt.Fprint(a.out, text.String())
				return err
			}
			there, err := ask[[]contract.Routine](s)(s.ListRoutines(c.Context()))
			if err != nil {
				return err
			}
			if slices.ContainsFunc(there, func(r contract.Routine) bool { return r.Name == name }) {
				return fail(ExitUsage, "there is a routine %s already: give this one another --name, or remove that with plumb routine remove %s", name, name)
			}
			return a.setRoutine(c.Context(), s, contract.RoutineText{Text: text.String(), Name: &name})
		}),
	}
	c.Flags().StringVar(&name, "name", "", "of the routine (default WHAT-DEVICE)")
	c.Flags().StringVar(&hold, "hold", "", "how long a cycle keeps power off, as in 10s")
	c.Flags().StringVar(&late, "late", "", "how late it may begin when nothing could begin it at its time, as in 1h (default 5m)")
	c.Flags().BoolVar(&show, "show", false, "only show the text of it, to be gone on with")
	return c
}

// quoted is a text as YAML reads it whatever is in it.
func quoted(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(plain.Line(s)) + `"`
}

// withFlag takes arguments of a routine: --with device=skarvoe-cell.
func withFlag(c *cobra.Command, with *[]string) {
	c.Flags().StringArrayVar(with, "with", nil, "an argument, as in device=skarvoe-cell; again for each")
}

func arguments(with []string) (map[string]string, error) {
	out := map[string]string{}
	for _, w := range with {
		name, v, ok := strings.Cut(w, "=")
		if !ok || name == "" {
			return nil, fail(ExitUsage, "--with %q: write NAME=VALUE", w)
		}
		out[name] = v
	}
	return out, nil
}

func (a *app) routineTry() *cobra.Command {
	var with []string
	c := &cobra.Command{
		Use: "try NAME|FILE", Short: "What it would do now, step by step, without doing it", Args: args(1, 1, "plumb routine try NAME|FILE [--with NAME=VALUE]"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			args, err := arguments(with)
			if err != nil {
				return err
			}
			q := contract.RoutineTrial{Name: &given[0], With: &args}
			if strings.ContainsAny(given[0], "./") {
				text, err := a.read(given[0], orderfile.MaxSize)
				if err != nil {
					return err
				}
				q.Name, q.Text = nil, new(string(text))
			}
			steps, err := ask[[]contract.TrialStep](s)(s.TryRoutine(c.Context(), q))
			if err != nil {
				return err
			}
			return a.show(steps, func() table { return trialTable(steps) })
		}),
	}
	withFlag(c, &with)
	return c
}

func trialTable(steps []contract.TrialStep) table {
	t := table{columns: []string{"STEP", "DOES", "NOW"}}
	for _, x := range steps {
		says := x.Says
		if !x.Ok {
			says = "careful: " + says
		}
		t.rows = append(t.rows, row(x.Path, x.Words, says))
	}
	return t
}

func (a *app) routineRun() *cobra.Command {
	var with []string
	var yes, follow bool
	c := &cobra.Command{
		Use: "run NAME", Short: "Begin one now", Args: args(1, 1, "plumb routine run NAME [--with NAME=VALUE] [--yes] [--follow]"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			args, err := arguments(with)
			if err != nil {
				return err
			}
			if !yes {
				if err := a.agreeRoutine(c.Context(), s, given[0], args); err != nil {
					return err
				}
			}
			r, err := ask[contract.RoutineRun](s)(s.BeginRoutine(c.Context(), given[0], contract.RoutineBegin{With: &args}))
			if err != nil {
				return err
			}
			if follow {
				return a.followRun(c.Context(), s, r)
			}
			if a.output != "table" {
				return a.show(r, func() table { return runTable([]contract.RoutineRun{r}) })
			}
			fmt.Fprintf(a.out, "Routine %s has begun (run %s). Watch it with plumb routine show %s --follow, stop it with plumb routine stop %s\n", r.Routine, r.ID, r.ID, r.ID)
			return nil
		}),
	}
	withFlag(c, &with)
	c.Flags().BoolVarP(&yes, "yes", "y", false, "agree to it without being asked")
	c.Flags().BoolVarP(&follow, "follow", "f", false, "show each step as it is done")
	return c
}

// agreeRoutine shows what a routine would do, and asks.
func (a *app) agreeRoutine(ctx context.Context, s *service, name string, with map[string]string) error {
	steps, err := ask[[]contract.TrialStep](s)(s.TryRoutine(ctx, contract.RoutineTrial{Name: &name, With: &with}))
	if err != nil {
		return err
	}
	if err := a.show(steps, func() table { return trialTable(steps) }); err != nil {
		return err
	}
	if !a.terminal() {
		return fail(ExitUsage, "nobody is there to agree: add --yes to begin it, or use plumb routine try only to look")
	}
	typed, err := a.line(ctx, "Begin this? Type yes: ")
	if err == nil && typed != "yes" {
		err = fail(ExitFailed, "nothing is begun")
	}
	return err
}

func (a *app) routineList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "All of them: what begins them, and when next", Args: args(0, 0, "plumb routine list"),
		RunE: a.loggedIn(func(c *cobra.Command, _ []string, s *service) error {
			all, err := ask[[]contract.Routine](s)(s.ListRoutines(c.Context()))
			if err != nil {
				return err
			}
			if len(all) == 0 && a.output == "table" {
				fmt.Fprintln(a.out, "There is none: plumb routine add and plumb routine import add some.")
				return nil
			}
			return a.show(all, func() table {
				t := table{columns: []string{"NAME", "STATE", "BEGINS", inZone("NEXT"), "WHAT FOR"}}
				for _, r := range all {
					t.rows = append(t.rows, row(r.Name, routineState(r), cmp.Or(strings.Join(r.Begins, "; "), "by hand"), stamp(r.Next), r.Title))
				}
				return t
			})
		}),
	}
}

func routineState(r contract.Routine) string {
	switch {
	case r.Fault != "":
		return "cannot be read"
	case r.Running != "":
		return "running"
	case r.Off:
		return "off"
	case len(r.Unknown) > 0:
		return "lacks " + strings.Join(r.Unknown, ", ")
	}
	return "on"
}

func (a *app) routineShow() *cobra.Command {
	var follow bool
	c := &cobra.Command{
		Use: "show NAME|RUN", Short: "The text of a routine, or what one run of it did", Args: args(1, 1, "plumb routine show NAME|RUN [--follow]"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			all, err := ask[[]contract.Routine](s)(s.ListRoutines(c.Context()))
			if err != nil {
				return err
			}
			for _, r := range all {
				if r.Name != given[0] {
					continue
				}
				if a.output != "table" {
					return a.show(r, func() table { return table{} })
				}
				if r.Fault != "" {
					fmt.Fprintf(a.err, "careful: it cannot be read: %s\n", plain.Line(r.Fault))
				}
				for _, l := range strings.Split(strings.TrimRight(r.Text, "\n"), "\n") {
					fmt.Fprintln(a.out, plain.Line(l))
				}
				return nil
			}
			r, err := ask[contract.RoutineRun](s)(s.GetRoutineRun(c.Context(), given[0]))
			if err != nil {
				return err
			}
			if follow {
				return a.followRun(c.Context(), s, r)
			}
			if a.output != "table" {
				return a.show(r, func() table { return stepTable(r.Steps) })
			}
			return a.printRun(r)
		}),
	}
	c.Flags().BoolVarP(&follow, "follow", "f", false, "of a run: show each step as it is done")
	return c
}

func (a *app) printRun(r contract.RoutineRun) error {
	fmt.Fprintf(a.out, "%s, run %s: %s\n", r.Routine, r.ID, runStateWords(r))
	fmt.Fprintf(a.out, "Began %s, %s\n", datedZone(r.Began), plain.Line(r.Why))
	for _, n := range r.Now {
		fmt.Fprintf(a.out, "Now at %s\n", plain.Line(n))
	}
	if r.Lost > 0 {
		fmt.Fprintf(a.out, "%s before these are no longer kept.\n", counted(r.Lost, "step"))
	}
	if len(r.Steps) == 0 {
		return nil
	}
	return a.show(r.Steps, func() table { return stepTable(r.Steps) })
}

func runStateWords(r contract.RoutineRun) string {
	words := string(r.State)
	if r.Note != "" {
		words += ": " + plain.Line(r.Note)
	}
	return words
}

func stepTable(steps []contract.RunStep) table {
	t := table{columns: []string{inZone("WHEN"), "STEP", "DID", "", "WHAT CAME OF IT"}}
	for _, x := range steps {
		mark := "✓"
		if !x.Ok {
			mark = "✗"
		}
		t.rows = append(t.rows, row(logged(&x.At), x.Path, x.Words, mark, x.Note))
	}
	return t
}

func (a *app) routineRuns() *cobra.Command {
	var limit int
	c := &cobra.Command{
		Use: "runs [NAME]", Short: "What they did, the newest first", Args: args(0, 1, "plumb routine runs [NAME]"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			p := contract.ListRoutineRunsParams{Limit: &limit}
			if len(given) > 0 {
				p.Routine = &given[0]
			}
			all, err := ask[[]contract.RoutineRun](s)(s.ListRoutineRuns(c.Context(), &p))
			if err != nil {
				return err
			}
			if len(all) == 0 && a.output == "table" {
				fmt.Fprintln(a.out, "None has run.")
				return nil
			}
			return a.show(all, func() table { return runTable(all) })
		}),
	}
	c.Flags().IntVar(&limit, "limit", 50, "how many")
	return c
}

func runTable(all []contract.RoutineRun) table {
	t := table{columns: []string{"RUN", inZone("BEGAN"), "ROUTINE", "STATE", "WHY IT BEGAN", "NOTE"}}
	for _, r := range all {
		t.rows = append(t.rows, row(r.ID, stamp(&r.Began), r.Routine, string(r.State), r.Why, r.Note))
	}
	return t
}

func (a *app) routineSteer(verb, short string, do contract.SteerRoutineRunJSONBodyDo) *cobra.Command {
	return &cobra.Command{
		Use: verb + " NAME|RUN", Short: short, Args: args(1, 1, "plumb routine "+verb+" NAME|RUN"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			id := given[0]
			all, err := ask[[]contract.Routine](s)(s.ListRoutines(c.Context()))
			if err != nil {
				return err
			}
			for _, r := range all {
				if r.Name == id && r.Running == "" {
					return fail(ExitUsage, "routine %s does not run now", id)
				}
				if r.Name == id {
					id = r.Running
				}
			}
			r, err := ask[contract.RoutineRun](s)(s.SteerRoutineRun(c.Context(), id, contract.SteerRoutineRunJSONRequestBody{Do: do}))
			if err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Routine %s, run %s: %s\n", r.Routine, r.ID, runStateWords(r))
			return nil
		}),
	}
}

func (a *app) routineSwitch(verb, short string, off bool) *cobra.Command {
	return &cobra.Command{
		Use: verb + " NAME", Short: short, Args: args(1, 1, "plumb routine "+verb+" NAME"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			if _, err := ask[nothing](s)(s.SwitchRoutine(c.Context(), given[0], contract.SwitchRoutineJSONRequestBody{Off: off})); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Routine %s is %s.\n", given[0], verb)
			return nil
		}),
	}
}

// followEvery is how often a run that is followed is looked at.
const followEvery = 500 * time.Millisecond

// followRun shows each step of a run as it is done, and ends with it.
func (a *app) followRun(ctx context.Context, s *service, r contract.RoutineRun) error {
	shown := 0
	for {
		for _, x := range r.Steps[min(shown, len(r.Steps)):] {
			mark := "✓"
			if !x.Ok {
				mark = "✗"
			}
			fmt.Fprintf(a.out, "%s %s %s: %s", x.At.Local().Format(time.TimeOnly), mark, x.Path, plain.Line(x.Words))
			if x.Note != "" {
				fmt.Fprintf(a.out, ": %s", plain.Line(x.Note))
			}
			fmt.Fprintln(a.out)
		}
		shown = len(r.Steps)
		if r.Ended != nil {
			fmt.Fprintf(a.out, "%s: %s\n", r.Routine, runStateWords(r))
			if r.State != contract.RunStateDone {
				return fail(ExitFailed, "routine %s did not get to its end", r.Routine)
			}
			return nil
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(followEvery):
		}
		var err error
		if r, err = ask[contract.RoutineRun](s)(s.GetRoutineRun(ctx, r.ID)); err != nil {
			return err
		}
	}
}

func (a *app) clockCommand() *cobra.Command {
	c := &cobra.Command{Use: "clock", Short: "What begins by the clock: list", RunE: needsSubcommand}
	var days int
	list := &cobra.Command{
		Use: "list", Short: "What begins next, the earliest first", Args: args(0, 0, "plumb clock list [--days N]"),
		RunE: a.loggedIn(func(c *cobra.Command, _ []string, s *service) error {
			all, err := ask[[]contract.ClockTime](s)(s.ListClock(c.Context(), &contract.ListClockParams{Days: &days}))
			if err != nil {
				return err
			}
			if len(all) == 0 && a.output == "table" {
				fmt.Fprintf(a.out, "Nothing within %s.\n", counted(days, "day"))
				return nil
			}
			return a.show(all, func() table { return clockTable(all) })
		}),
	}
	list.Flags().IntVar(&days, "days", 7, "how far ahead")
	c.AddCommand(list)
	return c
}

func clockTable(all []contract.ClockTime) table {
	t := table{columns: []string{inZone("WHEN"), "THERE", "NAME", "WHAT"}}
	for _, x := range all {
		there := x.Zone
		if zone, err := time.LoadLocation(x.Zone); err == nil {
			there = x.At.In(zone).Format("Mon 15:04 MST")
		}
		t.rows = append(t.rows, row(stamp(&x.At), there, x.Name, x.What))
	}
	return t
}
