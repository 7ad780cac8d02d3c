package client

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"plumbbob/internal/api/contract"
)

// wish is what was asked for on the command line.
type wish struct {
	kind     contract.OperationKind
	means    string
	outlets  []string
	hold     time.Duration
	within   time.Duration
	force    bool
	endpoint string
	button   string
	into     string
	preview  bool
	yes      bool
	why      string
	override []string
	names    []string
	follow   bool

	// Of groups, and of what is for later.
	site, pdu, ups, tag string
	at                  string
	atOnce              int
	gap                 time.Duration
	goOn                bool
	until               string
}

// together says whether more is asked for than one operation at once.
func (w wish) together() bool { return w.site+w.pdu+w.ups+w.tag+w.at != "" }

// An action is one of the commands that operate on devices.
type action struct {
	kind  contract.OperationKind
	short string
	long  string
	// An example of it, that is right in the demo: the device, and why.
	device, why string
	flags       func(f *pflag.FlagSet, w *wish)
}

const meansHelp = "command, chassis, wake, panel, poe, outlet, or of a UPS output; the gentlest that can work now by default"

var actions = []action{
	{contract.OperationKindOn, "Switch a device on", switched, "skarvoe-heater", "frost tonight", switchFlags},
	{contract.OperationKindOff, "Cut a device off at once; plumb shutdown asks its system first", switched, "skarvoe-heater", "summer", switchFlags},
	{contract.OperationKindCycle, "Switch a device off, wait, and on again", switched, "skarvoe-router", "hung", func(f *pflag.FlagSet, w *wish) {
		switchFlags(f, w)
		spanVar(f, &w.hold, "hold", 10*time.Second, positive, "how long to stay off")
		f.StringVar(&w.into, "into", "", intoHelp)
	}},
	{contract.OperationKindShutdown, "Ask a device's operating system to shut down, and wait", "By its command line, its controller or the button on its front.", "ostrel-virt-1", "new memory", func(f *pflag.FlagSet, w *wish) {
		spanVar(f, &w.within, "within", 3*time.Minute, positive, "how long it may take")
		f.BoolVar(&w.force, "force", false, "switch it off when it has not shut down by then")
		f.StringVar(&w.means, "means", "", meansHelp)
	}},
	{contract.OperationKindReset, "Start a device's system anew, with its power on", "By its command line, which is the gentlest, its controller, or the reset button on its front.", "skarvoe-kiosk", "screen stands still", func(f *pflag.FlagSet, w *wish) {
		f.StringVar(&w.means, "means", "", meansHelp)
		f.StringVar(&w.into, "into", "", intoHelp)
	}},
	{contract.OperationKindNmi, "Send a diagnostic interrupt to a device", "Through its controller. Most systems write a memory dump and restart.", "ostrel-virt-1", "hung: a dump for its maker", nil},
	{contract.OperationKindSleep, "Tell a device's operating system to sleep", "By its command line. plumb on wakes it.", "tamsin-workshop", "nobody there", nil},
	{contract.OperationKindPress, "Press a button on the front of a device", "Through the panel leads of a KVM. A press of power for longer than 4 s has firmware\ncut the power.", "skarvoe-kiosk", "does not start", func(f *pflag.FlagSet, w *wish) {
		spanVar(f, &w.hold, "for", 400*time.Millisecond, positive, "how long to press")
		f.StringVar(&w.button, "button", "power", "power or reset")
	}},
}

// restartCommand starts a controller, or a card, anew: not the machine.
func (a *app) restartCommand(what, short string) *cobra.Command {
	w := &wish{kind: contract.OperationKindRestart}
	c := &cobra.Command{
		Use: "restart DEVICE", Short: short, Args: args(1, 1, "plumb "+what+" restart DEVICE"),
		Long: short + ".\n\nIts host, or what it switches, goes on as it is: that is seen to.",
		RunE: func(c *cobra.Command, devices []string) error { return a.operate(c.Context(), devices, *w) },
	}
	c.Flags().StringVar(&w.endpoint, "endpoint", "", "which one; the first that can be by default")
	c.Flags().BoolVar(&w.force, "cold", false, "from the very beginning, where it can be less")
	consentFlags(c.Flags(), w)
	return c
}

// oldRestart says how a restart is asked for now.
func oldRestart() *cobra.Command {
	return &cobra.Command{
		Use: "restart DEVICE", Hidden: true, DisableFlagParsing: true,
		RunE: func(_ *cobra.Command, given []string) error {
			device := "DEVICE"
			if len(given) > 0 {
				device = given[0]
			}
			return fail(ExitUsage, "it is plumb controller restart %[1]s, or plumb card restart %[1]s, now; for the machine itself there are plumb reset %[1]s and plumb cycle %[1]s", device)
		},
	}
}

const intoHelp = "have its controller lead this one start to setup, diagnostics, disk, network or disc"

const switched = `Nothing is believed that is not measured: the operation is done when the draw,
the chassis or the light on its front says so, and the device answers again.`

func switchFlags(f *pflag.FlagSet, w *wish) {
	f.StringSliceVar(&w.outlets, "outlet", nil, "only this outlet, PDU/NUMBER; all feeds of the device by default")
	f.StringVar(&w.means, "means", "", meansHelp)
}

func (a *app) operateCommands() []*cobra.Command {
	out := []*cobra.Command{oldRestart()}
	for _, x := range actions {
		w := &wish{kind: x.kind}
		c := &cobra.Command{
			Use: string(x.kind) + " DEVICE… | --site SITE | --pdu PDU | --ups UPS | --tag TAG", Short: x.short,
			Long:    x.short + ".\n\n" + x.long + "\n\nWhat that does is shown first, and has to be agreed to.",
			Example: fmt.Sprintf("  plumb %[1]s %[2]s --preview\n  plumb %[1]s %[2]s --yes --why %[3]q --follow", x.kind, x.device, x.why),
			Args:    args(0, 500, "plumb "+string(x.kind)+" DEVICE…"),
			RunE:    func(c *cobra.Command, devices []string) error { return a.operate(c.Context(), devices, *w) },
		}
		f := c.Flags()
		if x.flags != nil {
			x.flags(f, w)
		}
		consentFlags(f, w)
		groupFlags(f, w)
		out = append(out, c)
	}
	return out
}

// consentFlags are how somebody looks at a preview, and agrees to it.
func consentFlags(f *pflag.FlagSet, w *wish) {
	f.BoolVar(&w.preview, "preview", false, "only show what it would take down")
	f.BoolVarP(&w.yes, "yes", "y", false, "agree to the preview without being asked")
	f.StringVar(&w.why, "why", "", "the reason, for the journal")
	f.StringSliceVar(&w.override, "override", nil, "go ahead against this interlock; needs --why")
	f.StringSliceVar(&w.names, "name", nil, "the name of a guarded device that may be cut")
	f.BoolVarP(&w.follow, "follow", "f", false, "stay, and show the steps as they happen")
}

func (w wish) intent(device string) contract.Intent {
	in := contract.Intent{Kind: w.kind, Device: device, Force: &w.force}
	if len(w.outlets) > 0 {
		in.Outlets = &w.outlets
	}
	if w.hold > 0 {
		in.HoldSeconds = new(w.hold.Seconds())
	}
	if w.means != "" {
		in.Means = new(contract.Means(w.means))
	}
	if w.within > 0 {
		in.WithinSeconds = new(w.within.Seconds())
	}
	if w.endpoint != "" {
		in.Endpoint = &w.endpoint
	}
	if w.into != "" {
		in.Into = &w.into
	}
	if w.button != "" {
		in.Button = new(contract.IntentButton(w.button))
	}
	return in
}

// request asks for what a preview describes.
func (w wish) request(p contract.Preview) contract.OperationRequest {
	return contract.OperationRequest{Intent: w.intent(p.Device), Digest: p.Digest, Why: &w.why, Names: &w.names, Override: &w.override}
}

func (a *app) operate(ctx context.Context, devices []string, w wish) error {
	s, err := a.service()
	if err != nil {
		return err
	}
	for _, d := range devices {
		if pdu, _, outlet := strings.Cut(d, "/"); outlet {
			return fail(ExitUsage, "%s is an outlet, and devices are switched: plumb power --site SITE shows what hangs on %s; of one with several feeds, --outlet %s means only this", d, pdu, d)
		}
	}
	if w.means != "" && !contract.Means(w.means).Valid() {
		return fail(ExitUsage, "--means: %q is not command, chassis, wake, panel, poe, output or outlet", w.means)
	}
	if len(w.override) > 0 && w.why == "" {
		return fail(ExitUsage, "--override needs a reason: add --why TEXT")
	}
	if len(devices) != 1 || w.together() {
		return a.operateGroup(ctx, s, devices, w)
	}
	p, err := ask[contract.Preview](s)(s.PreviewOperation(ctx, w.intent(devices[0])))
	if err != nil {
		return err
	}
	if w.preview && a.output != "table" {
		return a.show([]contract.Preview{p}, func() table { return previewTable([]contract.Preview{p}) })
	}
	if !w.yes || w.preview {
		a.preview(p)
	}
	if err := stands(p.Interlocks, w); err != nil || w.preview {
		return err
	}
	if err := a.agree(ctx, title(p), p.Interlocks, &w); err != nil {
		return err
	}
	o, err := ask[contract.Operation](s)(once(ctx, func(key *string) (*http.Response, error) {
		return s.RequestOperation(ctx, &contract.RequestOperationParams{IdempotencyKey: key}, w.request(p))
	}))
	if err != nil {
		return err
	}
	return a.begun(ctx, s, o, w)
}

// stands says which interlocks no answer of the user could lift.
func stands(ls []contract.Interlock, w wish) error {
	for _, l := range ls {
		switch {
		case l.Name == "out-of-reach":
			return fail(ExitUnreachable, "%s", l.Reason)
		case l.Lift == contract.InterlockLiftNever:
			return fail(ExitRefused, "refused (%s): %s", l.Name, l.Reason)
		case l.Lift == contract.InterlockLiftReason && !slices.Contains(w.override, l.Name):
			needs := ""
			if l.Role != nil {
				needs = fmt.Sprintf(" (needs the role %s)", *l.Role)
			}
			return fail(ExitRefused, "refused (%s): %s. To go ahead all the same: --override %s --why TEXT%s", l.Name, l.Reason, l.Name, needs)
		}
	}
	return nil
}

// agree asks for what is still missing: names of guarded devices, and a yes.
func (a *app) agree(ctx context.Context, what string, ls []contract.Interlock, w *wish) error {
	for _, l := range ls {
		if l.Lift != contract.InterlockLiftName {
			continue
		}
		for _, name := range deref(l.Devices) {
			if slices.Contains(w.names, name) {
				continue
			}
			if !a.terminal() || w.yes {
				return fail(ExitRefused, "refused (%s): %s. Name it with --name %s", l.Name, l.Reason, name)
			}
			typed, err := a.line(ctx, fmt.Sprintf("%s is guarded. Type its name to cut it: ", name))
			if err != nil {
				return err
			}
			if typed != name {
				return fail(ExitRefused, "refused (%s): %q is not %s; nothing was done", l.Name, typed, name)
			}
			w.names = append(w.names, name)
		}
	}
	if w.yes {
		return nil
	}
	if !a.terminal() {
		return fail(ExitUsage, "nobody is there to agree: add --yes to go ahead, or --preview only to look")
	}
	typed, err := a.line(ctx, what+"? Type yes: ")
	if err != nil {
		return err
	}
	if typed != "yes" {
		return fail(ExitFailed, "left as it is")
	}
	return nil
}

// begun says that an operation is under way, or follows it to its end.
func (a *app) begun(ctx context.Context, s *service, o contract.Operation, w wish) error {
	if !w.follow {
		if a.output != "table" {
			return a.show([]contract.Operation{o}, func() table { return operationTable([]contract.Operation{o}) })
		}
		fmt.Fprintln(a.out, a.wrap(fmt.Sprintf("%s: operation %s is under way. Watch it with plumb op show %s --follow", o.Outcome, o.ID, o.ID), 0, ""))
		return nil
	}
	if a.output == "table" {
		fmt.Fprintf(a.out, "%s\n", a.paint("bold", fmt.Sprintf("%s: operation %s", o.Outcome, o.ID)))
	}
	o, err := a.followOperation(ctx, s, o.ID)
	if err != nil || ctx.Err() != nil {
		return err
	}
	return a.ended(o)
}

// ended says how an operation went.
func (a *app) ended(o contract.Operation) error {
	if a.output != "table" {
		if err := a.show([]contract.Operation{o}, func() table { return operationTable([]contract.Operation{o}) }); err != nil {
			return err
		}
	} else {
		fmt.Fprintln(a.out, a.paint(string(o.State), a.wrap(o.Outcome, 0, "")))
	}
	if o.State == contract.OperationStateFailed {
		return fail(ExitFailed, "failed: %s", o.Device)
	}
	return nil
}

// title says what a preview is of: "Cycle outlet 3 of skarvoe-pdu, skarvoe-router".
func title(p contract.Preview) string {
	if strings.Contains(p.Title, p.Device) {
		return p.Title
	}
	return p.Title + ", " + p.Device
}

func (a *app) preview(p contract.Preview) {
	fmt.Fprintln(a.out, a.paint("bold", title(p)))
	for _, o := range p.Outlets {
		if o.Known {
			state := map[bool]string{true: "on", false: "off"}[*o.On]
			stale := ""
			if !o.Fresh {
				stale = ", stale"
			}
			fmt.Fprintf(a.out, "  now: %s %s, %s%s\n", o.Place, state, orDash(watts(o.W)), stale)
		}
	}
	for _, l := range p.Lines {
		fmt.Fprintf(a.out, "  %s\n", a.wrap(l.Text, 2, "    "))
	}
	for _, l := range p.Interlocks {
		fmt.Fprintln(a.out, a.paint("failed", "  ! "+a.wrap(l.Name+": "+l.Reason, 4, "    ")))
	}
}

func previewTable(ps []contract.Preview) table {
	t := table{columns: []string{"device", "kind", "text"}}
	for _, p := range ps {
		for _, l := range p.Lines {
			t.rows = append(t.rows, row(p.Device, string(l.Kind), l.Text))
		}
		for _, l := range p.Interlocks {
			t.rows = append(t.rows, row(p.Device, "interlock "+l.Name, l.Reason))
		}
	}
	return t
}
