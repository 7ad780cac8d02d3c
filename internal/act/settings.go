package act

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/core/sending"
	"plumbbob/internal/core/setting"
	"plumbbob/internal/durable"
	"plumbbob/internal/gear"
	"plumbbob/internal/gear/garage"
	"plumbbob/internal/store"
)

// Setting is what is to be different about how gear is set up. Exactly one of its
// parts is given.
type Setting struct {
	Outlet     *OutletSetting      `json:"outlet,omitempty"`
	Supply     *gear.SupplyCommand `json:"supply,omitempty"`
	Controller *ControllerSetting  `json:"controller,omitempty"`
	Log        *LogSetting         `json:"log,omitempty"`
}

// OutletSetting is one thing about one outlet.
type OutletSetting struct {
	Port      string             `json:"port"`
	Name      *string            `json:"name,omitempty"`
	AfterLoss *reading.AfterLoss `json:"afterLoss,omitempty"`
	OnDelay   *time.Duration     `json:"onDelay,omitempty"`
	OffDelay  *time.Duration     `json:"offDelay,omitempty"`
}

// LogSetting has the event log of a controller erased, if it is what was read.
type LogSetting struct {
	Version string `json:"version"`
}

// plan is how one setting is said, warned of and sent.
type plan struct {
	kind     string   // of its entry in the journal
	words    []string // what would be different; none: it is so already
	warnings []string
	blind    bool // what it does cannot be read back
	send     func(context.Context) error
}

func (p *plan) say(format string, args ...any) {
	p.words = append(p.words, fmt.Sprintf(format, args...))
}
func (p *plan) warn(format string, args ...any) {
	p.warnings = append(p.warnings, fmt.Sprintf(format, args...))
}

// differ says that something would be different, if it would.
func (p *plan) differ(what, from, to string) {
	if from != to {
		p.say("%s: %s → %s", what, orNone(from), orNone(to))
	}
}

// Planned is what a setting would change, worked out before anything is sent.
type Planned struct {
	Words, Warnings []string
}

// PlanSetting looks at the gear and says what a setting would change. Its error is
// a *operation.UsageError or a *gear.Error.
func (a *Actor) PlanSetting(ctx context.Context, k estate.Key, s Setting) (Planned, error) {
	d := a.Keeper.Estate().Device(k)
	p, err := a.plan(ctx, d, s)
	if err != nil {
		return Planned{}, err
	}
	return Planned{p.words, p.warnings}, nil
}

// plan reads how the gear is set up, and compares.
func (a *Actor) plan(ctx context.Context, d *estate.Device, s Setting) (p *plan, err error) {
	err = gear.Safely(func() error {
		p, err = a.planOf(ctx, d, s)
		return err
	})
	return p, err
}

func (a *Actor) planOf(ctx context.Context, d *estate.Device, s Setting) (*plan, error) {
	switch {
	case d == nil:
		return nil, &operation.UsageError{Text: "that device is not in the estate any more"}
	case s.Outlet != nil:
		return a.planOutlet(ctx, d, s.Outlet)
	case s.Supply != nil:
		return a.planSupply(ctx, d, *s.Supply)
	case s.Controller != nil:
		return a.planController(ctx, d, s.Controller)
	case s.Log != nil:
		return a.planLog(ctx, d, s.Log)
	}
	return nil, &operation.UsageError{Text: "say what is to change"}
}

// settingWithin is how long reading or changing settings may take: the whole of
// them is some forty questions to a slow box.
const settingWithin = 40 * time.Second

// ChangeSetting changes how gear is set up, and returns once that is read back, or
// once ctx ends; then it goes on by itself. Besides those of PlanSetting its error
// is a *gear.Error when the gear did not do it, or that of the store.
func (a *Actor) ChangeSetting(ctx context.Context, k estate.Key, s Setting, why string, by operation.Asker) (Planned, error) {
	planning, cancel := context.WithTimeout(ctx, settingWithin)
	defer cancel()
	d := a.Keeper.Estate().Device(k)
	p, err := a.plan(planning, d, s)
	if err != nil {
		return Planned{}, err
	}
	done := Planned{p.words, p.warnings}
	if len(p.words) == 0 {
		return done, nil
	}
	want, err := json.Marshal(s)
	if err != nil {
		return done, fmt.Errorf("setting: %w", err)
	}
	c := &setting.Change{
		V: setting.Version, ID: durable.NewID(), Device: d.Key, Site: d.Site, Kind: p.kind, Want: want, Words: p.words, Blind: p.blind,
		By: by.By(), Why: why, Asked: time.Now().UTC(), State: setting.Looked,
	}
	r, err := a.startSetting(c, p.send)
	if err != nil {
		return done, err
	}
	select {
	case <-r.Ended():
		return done, r.failure()
	case <-ctx.Done():
		return done, context.Cause(ctx)
	}
}

// settingRun is one change while it is carried out.
type settingRun struct {
	*durable.Runner[setting.Change, setting.Event, setting.Command]
	a     *Actor
	c     *setting.Change
	send  func(context.Context) error // nil of one that is taken up again
	fresh bool                        // nothing is on record of it, nor sent
	err   error                       // what the gear answered, or why it ended before
}

func (a *Actor) startSetting(c *setting.Change, send func(context.Context) error) (*settingRun, error) {
	a.mu.Lock()
	ctx := a.ctx
	a.mu.Unlock()
	if ctx == nil || ctx.Err() != nil {
		return nil, ErrNotReady
	}
	if err := a.mayBegin(); err != nil {
		return nil, err
	}
	r := &settingRun{a: a, c: c, send: send, fresh: c.State == setting.Looked}
	r.Runner = durable.New(r)
	a.settings.Start(a.ctx, &a.work, c.ID, r.Runner, setting.Started{At: time.Now().UTC()})
	return r, nil
}

func (r *settingRun) Step(in setting.Event) []setting.Command { return r.c.Step(in) }

func (r *settingRun) Copied() *setting.Change {
	c := *r.c
	return &c
}

// Woken is never needed: a change waits for nothing but its own commands.
func (r *settingRun) Woken(time.Time, time.Time) setting.Event { return nil }

var errStopping = errors.New("the service is stopping before it is known what became of it: the next start reads it back")

// failure is why a change was not done, once its run is over.
func (r *settingRun) failure() error {
	switch {
	case r.c.State == setting.Done:
		return nil
	case r.err != nil:
		return r.err
	case !r.c.Ends():
		return errStopping
	}
	return &gear.Error{Kind: gear.Malformed, Outcome: sending.Unclear, Text: r.c.Outcome()}
}

// CarryOut does what the machine says, in order; what came of it is the next event.
func (r *settingRun) CarryOut(ctx context.Context, cmds []setting.Command) (more []setting.Event, _ time.Time, over bool) {
	for _, c := range cmds {
		switch c := c.(type) {
		case setting.Save:
			if r.c.Ends() {
				continue // its end is recorded as one
			}
			err := r.a.Store.SaveSetting(ctx, r.c)
			if err != nil && r.fresh {
				r.err = err
				return nil, time.Time{}, true
			}
			if err != nil {
				r.a.Log.Warn("how far a change of gear has come could not be recorded", "device", r.c.Device, "because", err)
			}
			r.fresh = false
			r.Show()
		case setting.Send:
			more = append(more, r.sent(ctx))
		case setting.Check:
			more = append(more, r.check(ctx, c.After))
		case setting.Finish:
			r.finish(ctx)
			return nil, time.Time{}, true
		}
	}
	return more, time.Time{}, false
}

func (r *settingRun) sent(ctx context.Context) setting.Event {
	within, cancel := context.WithTimeout(ctx, settingWithin)
	defer cancel()
	r.err = gear.Safely(func() error { return r.send(within) })
	in := setting.Answered{At: time.Now().UTC(), Outcome: gear.OutcomeOf(r.err)}
	if r.err != nil {
		in.Why = r.err.Error()
	}
	return in
}

// check reads back by working out anew what would have to be changed.
func (r *settingRun) check(ctx context.Context, after time.Duration) setting.Event {
	durable.Pause(ctx, after)
	in := setting.Found{}
	var s Setting
	err := json.Unmarshal(r.c.Want, &s)
	if err == nil {
		within, cancel := context.WithTimeout(ctx, settingWithin)
		defer cancel()
		var p *plan
		if p, err = r.a.plan(within, r.a.Keeper.Estate().Device(r.c.Device), s); err == nil {
			in.Left = p.words
		}
	}
	if in.At = time.Now().UTC(); err != nil {
		in.Why = err.Error()
	}
	return in
}

// finish records the end, and has the device read again.
func (r *settingRun) finish(ctx context.Context) {
	result := map[setting.State]string{setting.Done: "done", setting.Failed: "failed"}[r.c.State]
	e := store.Entry{
		At: r.c.Ended, Site: r.c.Site, Device: r.c.Device, Who: r.c.By, Kind: r.c.Kind, Why: r.c.Why, Text: r.c.Outcome(), Result: result,
	}
	if err := durable.Insist(ctx, r.a.Health, "record of setting "+r.c.ID, func() error { return r.a.Store.EndSetting(ctx, r.c, e) }); err == nil {
		r.a.written()
	}
	r.Show()
	r.a.Watcher.Again(ctx, r.c.Device)
}

// resumeSettings finds out what became of changes that were interrupted.
func (a *Actor) resumeSettings(ctx context.Context) (complete bool, err error) {
	list, err := a.Store.UnendedSettings(ctx)
	if err != nil {
		return false, err
	}
	for _, c := range list {
		if !a.settings.Reserve(c.ID) {
			continue
		}
		a.Log.Warn("a change of gear was interrupted, and is read back", "device", c.Device, "what", strings.Join(c.Words, "; "))
		if _, err := a.startSetting(c, nil); err != nil {
			a.settings.Drop(c.ID)
			return false, err
		}
	}
	return true, nil
}

func (a *Actor) planOutlet(ctx context.Context, d *estate.Device, s *OutletSetting) (*plan, error) {
	o, ok := d.SourceAt(s.Port)
	if !ok {
		return nil, &operation.UsageError{Text: fmt.Sprintf("%s has no outlet %q: plumb outlet list %s shows them", d.Key, s.Port, d.Key)}
	}
	driver, err := garage.Outlets[gear.OutletSettings](a.Garage, d.Key)
	if err != nil {
		return nil, err
	}
	now, err := a.outletNow(ctx, d.Key, o)
	if err != nil {
		return nil, err
	}
	p := &plan{kind: store.EntryOutlet}
	what := estate.End{Device: d.Key, Port: s.Port}.Words()
	switch {
	case s.Name != nil:
		if strings.TrimSpace(*s.Name) != *s.Name {
			return nil, &operation.UsageError{Text: "a name neither begins nor ends with a space"}
		}
		p.differ(what+", name", now.Name, *s.Name)
		p.send = func(ctx context.Context) error { return driver.NameOutlet(ctx, o.Number, *s.Name) }
	case s.AfterLoss != nil:
		p.blind = now.AfterLoss == ""
		p.differ(what+", after a power loss", string(now.AfterLoss), string(*s.AfterLoss))
		p.send = func(ctx context.Context) error { return driver.SetAfterLoss(ctx, o.Number, *s.AfterLoss) }
	case s.OnDelay != nil || s.OffDelay != nil:
		p.blind = now.OnDelay == nil && now.OffDelay == nil
		p.differDelay(what+", on delay", now.OnDelay, s.OnDelay)
		p.differDelay(what+", off delay", now.OffDelay, s.OffDelay)
		p.send = func(ctx context.Context) error { return driver.SetDelays(ctx, o.Number, s.OnDelay, s.OffDelay) }
	default:
		return nil, &operation.UsageError{Text: "say what is to change: name, afterLoss, or a delay"}
	}
	return p, nil
}

func (p *plan) differDelay(what string, from, to *time.Duration) {
	if to == nil {
		return
	}
	was := ""
	if from != nil {
		was = from.String()
	}
	p.differ(what, was, to.String())
}

// outletNow reads one outlet.
func (a *Actor) outletNow(ctx context.Context, k estate.Key, o estate.Outlet) (reading.Outlet, error) {
	driver, err := a.Garage.Outlets(k)
	if err != nil {
		return reading.Outlet{}, err
	}
	all, err := driver.ReadOutlets(ctx)
	if err != nil {
		return reading.Outlet{}, err
	}
	for _, r := range all.Outlets {
		if r.Number == o.Number && (r.Kind == estate.PoE) == (o.Kind == estate.PoE) {
			return r, nil
		}
	}
	return reading.Outlet{}, &gear.Error{Kind: gear.Malformed, Outcome: sending.NotSent, Text: fmt.Sprintf("%s does not list its %s %d", k, o.Kind.Words(), o.Number)}
}

// planSupply is what a UPS can be told that leaves its output alone.
func (a *Actor) planSupply(ctx context.Context, d *estate.Device, c gear.SupplyCommand) (*plan, error) {
	driver, err := garage.Supply[gear.SupplyControl](a.Garage, d.Key)
	if err != nil {
		return nil, err
	}
	p := &plan{kind: store.EntrySupply, blind: true, send: func(ctx context.Context) error {
		if err := driver.CommandSupply(ctx, c); err != nil {
			return err
		}
		a.lookAtSupply(ctx, d.Key)
		return nil
	}}
	if c.Do != gear.SupplyAutoStart {
		p.say("%s told: %s", d.Key, c.Do)
		return p, nil
	}
	reader, err := garage.Supply[gear.Supply](a.Garage, d.Key)
	if err != nil {
		return nil, err
	}
	now, err := reader.ReadSupply(ctx)
	if err != nil {
		return nil, err
	}
	words, was := map[bool]string{true: "yes", false: "no"}, ""
	if auto := now.Control.AutoRestart; auto != nil {
		was, p.blind = words[*auto], false
	}
	p.differ(fmt.Sprintf("%s comes on when the utility returns", d.Key), was, words[c.On])
	return p, nil
}

// lookAtSupply has whoever has told a UPS something see at once how it is then.
func (a *Actor) lookAtSupply(ctx context.Context, k estate.Key) {
	reader, err := garage.Supply[gear.Supply](a.Garage, k)
	if err != nil {
		return
	}
	if now, err := reader.ReadSupply(ctx); err == nil { // the next round reads it anyhow
		a.Keeper.TakeSupply(k, now)
	}
}

// planLog keeps a copy of the log before it is erased.
func (a *Actor) planLog(ctx context.Context, d *estate.Device, s *LogSetting) (*plan, error) {
	driver, err := garage.Controller[gear.EventLog](a.Garage, d.Key)
	if err != nil {
		return nil, err
	}
	log, err := driver.ReadEvents(ctx)
	if err != nil {
		return nil, err
	}
	if log.Version != s.Version {
		return nil, fmt.Errorf("the event log of %s has changed since you read it: read it again: %w", d.Key, store.ErrConflict)
	}
	p := &plan{kind: store.EntryController, blind: true}
	p.say("Event log cleared, %d entries kept here", len(log.Events))
	p.send = func(ctx context.Context) error {
		if err := a.Keeper.Archive(ctx, d, log); err != nil {
			return &gear.Error{Kind: gear.Busy, Outcome: sending.NotSent, Text: "the event log could not be saved, so it was not cleared: " + err.Error(), Err: err}
		}
		return driver.ClearEvents(ctx, s.Version)
	}
	return p, nil
}
