package api

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"plumbbob/internal/act"
	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/plain"
	"plumbbob/internal/core/routine"
	"plumbbob/internal/orderfile"
	"plumbbob/internal/orders"
	"plumbbob/internal/secret"
	"plumbbob/internal/store"
	"plumbbob/internal/yamltext"
)

// ListRoutines implements the contract.
func (s *Server) ListRoutines(ctx context.Context, _ contract.ListRoutinesRequestObject) (contract.ListRoutinesResponseObject, error) {
	out := contract.ListRoutines200JSONResponse{}
	running := s.runningRoutines(ctx)
	for _, o := range s.Orders.Orders() {
		out = append(out, s.routineView(o, running))
	}
	return out, nil
}

// GetRoutine implements the contract.
func (s *Server) GetRoutine(ctx context.Context, req contract.GetRoutineRequestObject) (contract.GetRoutineResponseObject, error) {
	for _, o := range s.Orders.Orders() {
		if o.Row.Name == req.Name {
			return contract.GetRoutine200JSONResponse(s.routineView(o, s.runningRoutines(ctx))), nil
		}
	}
	return nil, noRoutine(req.Name)
}

func noRoutine(name string) error {
	return &missing{fmt.Sprintf("there is no routine %q: plumb routine list shows them", name)}
}

// runningRoutines are the runs that are under way, by routine.
func (s *Server) runningRoutines(ctx context.Context) map[string]string {
	out := map[string]string{}
	all, _ := s.Orders.Runs(ctx, store.RunFilter{Unended: true, Limit: mostRuns}) // without the database none are known
	for _, r := range all {
		if !r.Over() {
			out[r.Routine] = r.ID
		}
	}
	return out
}

const mostRuns = 500

func (s *Server) routineView(o orders.Order, running map[string]string) contract.Routine {
	r := contract.Routine{
		Name: o.Row.Name, Text: o.Row.Text, Off: o.Row.Off, SetAt: o.Row.SetAt.UTC(), SetBy: o.Row.SetBy, Fault: o.Fault, Unknown: append([]string{}, o.Unknown...),
		Begins: []string{}, Arguments: []contract.RoutineArgument{}, Running: running[o.Row.Name], Zone: s.Keeper.Estate().Zone(s.Keeper.Estate().Standpoint).String(),
	}
	if o.Routine == nil {
		return r
	}
	r.Title, r.Begins, r.Next = o.Title, begins(o.Routine), o.Next
	if zone := s.Orders.Around().Zone(o.Site); zone != nil {
		r.Zone = zone.String()
	}
	for _, name := range slices.Sorted(maps.Keys(o.With)) {
		r.Arguments = append(r.Arguments, contract.RoutineArgument{Name: name, Value: o.With[name]})
	}
	return r
}

// begins says what begins a routine, in words.
func begins(r *routine.Routine) []string {
	out := []string{}
	for _, t := range r.When {
		switch {
		case t.At != nil:
			out = append(out, t.At.Text)
		case t.While != "":
			words := "while " + t.While
			if t.For > 0 {
				words += " for " + plain.Span(t.For)
			}
			out = append(out, words)
		case t.Secret != "":
			out = append(out, "POST /orders/"+r.Name)
		default:
			words := "incidents: " + strings.Join(t.Kinds, ", ")
			if where := append(slices.Clone(t.Sites), t.Of...); len(where) > 0 {
				words += " of " + strings.Join(where, ", ")
			}
			out = append(out, words)
		}
	}
	return out
}

// SetRoutines implements the contract.
func (s *Server) SetRoutines(ctx context.Context, req contract.SetRoutinesRequestObject) (contract.SetRoutinesResponseObject, error) {
	all, err := s.parseRoutines(cmp.Or(orZero(req.Body.Name), "routine"), req.Body.Text)
	if err != nil {
		return nil, err
	}
	out := contract.SetRoutines200JSONResponse{Names: []string{}, Lacks: s.orderLacks(ctx, all), Next: []contract.ClockTime{}}
	now := nowUTC()
	var rows []store.RoutineRow
	for _, o := range all {
		out.Names = append(out.Names, o.Routine.Name)
		out.Next = append(out.Next, s.clockTimes(o.Routine, now, now.AddDate(1, 0, 0), 1)...)
		rows = append(rows, store.RoutineRow{Name: o.Routine.Name, Text: o.Text, Off: o.Routine.Off, SetAt: now, SetBy: whoIs(ctx).Account})
	}
	sortClock(out.Next)
	if orZero(req.Body.Check) {
		return out, nil
	}
	if err := s.Store.SetRoutines(ctx, rows, entry(ctx, store.EntryRoutine, "Set routines: %s", strings.Join(out.Names, ", "))); err != nil {
		return nil, err
	}
	s.written()
	return out, s.Orders.Refresh(ctx)
}

func (s *Server) parseRoutines(name, text string) ([]orderfile.Order, error) {
	all, err := orderfile.Parse(name, []byte(text), s.Orders.Around())
	var faults *yamltext.Faults
	if errors.As(err, &faults) {
		return nil, usage("%s", faults)
	}
	return all, err
}

// orderLacks lists what keeps routines from working: devices, other routines, sequences, tokens and
// people that there are not.
func (s *Server) orderLacks(ctx context.Context, all []orderfile.Order) []string {
	out := []string{}
	e := s.Keeper.Estate()
	with := map[string]*routine.Routine{}
	for _, o := range all {
		with[o.Routine.Name] = o.Routine
	}
	find := func(name string) *routine.Routine {
		if r := with[name]; r != nil {
			return r
		}
		return s.Orders.Find(name)
	}
	for _, o := range all {
		r := o.Routine
		say := func(format string, args ...any) { out = append(out, r.Name+": "+fmt.Sprintf(format, args...)) }
		for _, k := range orders.Unknown(e, o.About) {
			say("%s is not in the estate", k)
		}
		given := maps.Clone(r.With)
		for name, v := range given {
			if v == "" {
				given[name] = "x" // it is said later
			}
		}
		for _, steps := range [][]routine.Step{r.Steps, r.After} {
			ops, err := routine.Compile(r, steps, given, find)
			if err != nil {
				say("%s", err)
			}
			for _, op := range ops {
				if why := s.stepLacks(op); why != "" {
					say("step %s: %s", op.Path, why)
				}
			}
		}
		for _, t := range r.When {
			if t.Secret != "" {
				if v, err := s.secret(ctx, t.Secret); err != nil || v.Kind != secret.Token || len(v.Password) < LeastToken {
					say("the secret %s is no token of %d characters or more: plumb secret set %s --token", t.Secret, LeastToken, t.Secret)
				}
			}
			for _, site := range t.Sites {
				if e.Site(estate.Key(site)) == nil {
					say("%s is no site of the estate", site)
				}
			}
		}
	}
	return out
}

// stepLacks says what one step lacks.
func (s *Server) stepLacks(op routine.Op) string {
	return s.whoLacks(op.Who)
}

// whoLacks says which of some names is nobody's.
func (s *Server) whoLacks(names []string) string {
	plan, _ := s.Outbox.Plan()
	for _, who := range names {
		_, person := plan.People[who]
		_, team := plan.Teams[who]
		_, rota := plan.Rotas[who]
		if !person && !team && !rota {
			return who + " is nobody who is told of anything: plumb telling export shows who is"
		}
	}
	return ""
}

// SwitchRoutine implements the contract.
func (s *Server) SwitchRoutine(ctx context.Context, req contract.SwitchRoutineRequestObject) (contract.SwitchRoutineResponseObject, error) {
	words := map[bool]string{true: "Routine %s begins by nothing but people from now on", false: "Routine %s begins by itself from now on"}[req.Body.Off]
	return contract.SwitchRoutine204Response{}, s.changeRoutine(ctx, req.Name, func(e store.Entry) error {
		return s.Store.SwitchRoutine(ctx, req.Name, req.Body.Off, nowUTC(), e)
	}, words)
}

// RemoveRoutine implements the contract.
func (s *Server) RemoveRoutine(ctx context.Context, req contract.RemoveRoutineRequestObject) (contract.RemoveRoutineResponseObject, error) {
	return contract.RemoveRoutine204Response{}, s.changeRoutine(ctx, req.Name, func(e store.Entry) error { return s.Store.RemoveRoutine(ctx, req.Name, e) }, "Routine %s removed")
}

func (s *Server) changeRoutine(ctx context.Context, name string, change func(store.Entry) error, words string) error {
	err := change(entry(ctx, store.EntryRoutine, words, name))
	if errors.Is(err, store.ErrConflict) {
		return noRoutine(name)
	}
	if err != nil {
		return err
	}
	s.written()
	return s.Orders.Refresh(ctx)
}

// BeginRoutine implements the contract.
func (s *Server) BeginRoutine(ctx context.Context, req contract.BeginRoutineRequestObject) (contract.BeginRoutineResponseObject, error) {
	by := s.asker(ctx)
	id, err := s.Orders.Begin(ctx, req.Name, orZero(req.Body.With), by, "begun by "+by.Name)
	if err != nil {
		return nil, routineError(req.Name, err)
	}
	r, err := s.Orders.FindRun(ctx, id)
	if err != nil {
		return nil, err
	}
	return contract.BeginRoutine202JSONResponse(runView(r)), nil
}

func routineError(name string, err error) error {
	switch {
	case errors.Is(err, store.ErrNotFound):
		return noRoutine(name)
	case errors.Is(err, orders.ErrRunning):
		return usage("routine %s: %s", name, err)
	}
	return err
}

// TryRoutine implements the contract.
func (s *Server) TryRoutine(ctx context.Context, req contract.TryRoutineRequestObject) (contract.TryRoutineResponseObject, error) {
	var r *routine.Routine
	if text := orZero(req.Body.Text); text != "" {
		all, err := s.parseRoutines("routine", text)
		if err != nil {
			return nil, err
		}
		if len(all) != 1 {
			return nil, usage("try one routine at a time: there are %d in the text", len(all))
		}
		r = all[0].Routine
	} else if r = s.Orders.Find(orZero(req.Body.Name)); r == nil {
		return nil, noRoutine(orZero(req.Body.Name))
	}
	steps, err := s.Orders.Try(ctx, r, orZero(req.Body.With))
	if err != nil {
		return nil, err
	}
	out := contract.TryRoutine200JSONResponse{}
	for _, t := range steps {
		out = append(out, contract.TrialStep{Path: t.Path, Words: t.Words, Ok: t.OK, Says: t.Says})
	}
	return out, nil
}

// ListRoutineRuns implements the contract.
func (s *Server) ListRoutineRuns(ctx context.Context, req contract.ListRoutineRunsRequestObject) (contract.ListRoutineRunsResponseObject, error) {
	all, err := s.Orders.Runs(ctx, store.RunFilter{Routine: orZero(req.Params.Routine), Limit: cmp.Or(orZero(req.Params.Limit), 50)})
	if err != nil {
		return nil, err
	}
	out := contract.ListRoutineRuns200JSONResponse{}
	for _, r := range all {
		v := runView(r)
		if r.Over() {
			v.Steps = []contract.RunStep{} // whoever looks at one asks for it: a list is to be short
		}
		out = append(out, v)
	}
	return out, nil
}

// GetRoutineRun implements the contract.
func (s *Server) GetRoutineRun(ctx context.Context, req contract.GetRoutineRunRequestObject) (contract.GetRoutineRunResponseObject, error) {
	r, err := s.Orders.FindRun(ctx, req.ID)
	if err != nil {
		return nil, noRun(req.ID, err)
	}
	return contract.GetRoutineRun200JSONResponse(runView(r)), nil
}

func noRun(id string, err error) error {
	if errors.Is(err, store.ErrNotFound) {
		return &missing{fmt.Sprintf("there is no run %q: plumb routine runs shows them", id)}
	}
	if errors.Is(err, act.ErrEnded) {
		return usage("the run %s has ended already", id)
	}
	return err
}

// SteerRoutineRun implements the contract.
func (s *Server) SteerRoutineRun(ctx context.Context, req contract.SteerRoutineRunRequestObject) (contract.SteerRoutineRunResponseObject, error) {
	by := whoIs(ctx).Account
	var r *routine.Run
	var err error
	words := ""
	switch req.Body.Do {
	case contract.Stop:
		words = "Stops the run %s of routine %s"
		r, err = s.Orders.Stop(ctx, req.ID, by)
	case contract.Pause:
		words = "Has the run %s of routine %s wait"
		r, err = s.Orders.Pause(ctx, req.ID, by)
	default:
		words = "Has the run %s of routine %s go on"
		r, err = s.Orders.Pause(ctx, req.ID, "")
	}
	if err != nil {
		return nil, noRun(req.ID, err)
	}
	s.Keeper.Note(entry(ctx, store.EntryRoutine, words, r.ID, r.Routine))
	return contract.SteerRoutineRun200JSONResponse(runView(r)), nil
}

func runView(r *routine.Run) contract.RoutineRun {
	v := contract.RoutineRun{
		ID: r.ID, Routine: r.Routine, Ladder: r.Ladder, Device: string(r.Device), Title: r.Title, Why: r.Why, By: r.By.By(), State: contract.RunState(r.State), Began: r.Began.UTC(), Note: r.Note, Now: r.Now(), Steps: []contract.RunStep{}, Lost: r.Lost,
	}
	if r.Over() {
		v.Ended = new(r.Ended.UTC())
	}
	if r.StopBy != "" {
		v.Note = "stopped by " + r.StopBy
	}
	for _, l := range r.Log {
		step := contract.RunStep{At: l.At.UTC(), Path: l.Path, Words: l.Words, Ok: l.OK, Note: l.Note}
		if l.Did != "" {
			step.Operation = &l.Did
		}
		v.Steps = append(v.Steps, step)
	}
	return v
}
