package api

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
)

func previewView(p *operation.Preview) contract.Preview {
	out := contract.Preview{
		Kind: contract.OperationKind(p.Kind), Means: contract.Means(p.Means), Title: p.Title(), Device: string(p.Device), ByGear: p.ByGear, HoldSeconds: float64(p.Hold.Seconds()),
		Ways: []contract.Way{}, Outlets: []contract.OutletNow{}, Loses: []string{}, CutOff: keys(p.CutOff), Lines: []contract.PreviewLine{},
		Interlocks: interlockViews(p.Interlocks), Digest: p.Digest,
	}
	for _, w := range p.Ways {
		v := contract.Way{Means: contract.Means(w.Means), Can: w.Can}
		if w.Why != "" {
			v.Why = &w.Why
		}
		out.Ways = append(out.Ways, v)
	}
	if p.Command != "" {
		out.Command = &p.Command
	}
	for _, o := range p.Outlets {
		if o.Untold {
			continue
		}
		v := contract.OutletNow{Outlet: o.End.String(), Place: o.End.Place(), Name: o.Name, Known: o.Known, Fresh: o.Fresh}
		if o.Known {
			v.At, v.On = ptr(o.Reading.At.UTC()), &o.Reading.On
		}
		if o.Reading.Metered {
			v.W = ptr(tenth(o.Reading.W))
		}
		out.Outlets = append(out.Outlets, v)
	}
	for _, l := range p.Loses {
		if l.Dark {
			out.Loses = append(out.Loses, string(l.Device))
		}
	}
	if p.OurPath != nil {
		out.OurPath = ptr(string(p.OurPath.Via))
	}
	if p.Usual.N > 0 {
		out.Usually = ptr(p.Usual.String())
	}
	for _, l := range p.Lines {
		out.Lines = append(out.Lines, contract.PreviewLine{Kind: contract.PreviewLineKind(l.Kind), Text: l.Text})
	}
	return out
}

func interlockViews(ls []operation.Interlock) []contract.Interlock {
	out := []contract.Interlock{}
	for _, l := range ls {
		v := contract.Interlock{Name: l.Name, Reason: l.Reason, Lift: contract.InterlockLift(l.LiftBy)}
		if l.Role != "" {
			v.Role = ptr(string(l.Role))
		}
		if len(l.Devices) > 0 {
			v.Devices = ptr(keys(l.Devices))
		}
		out = append(out, v)
	}
	return out
}

func operationView(o *operation.Operation, zone *time.Location) contract.Operation {
	out := contract.Operation{
		ID: o.ID, Kind: contract.OperationKind(o.Kind), Means: contract.Means(cmp.Or(o.Means, operation.ByOutlet)), Device: string(o.Device), Site: string(o.Site), Outlets: []string{},
		ByGear: o.ByGear, By: o.By, Why: o.Why, Asked: o.Asked.UTC(), State: contract.OperationState(o.State),
		Outcome: o.Outcome(zone), Doing: o.Doing(), Steps: []contract.Step{}, Trouble: append([]string{}, o.Trouble...),
	}
	for _, end := range o.Outlets {
		out.Outlets = append(out.Outlets, end.String())
	}
	out.Ended = timeOf(o.Ended)
	if o.Usual.N > 0 {
		out.Usually = ptr(o.Usual.String())
	}
	before, after := o.Draws()
	out.BeforeW, out.AfterW = tenthOf(before), tenthOf(after)
	for i := range o.Steps {
		out.Steps = append(out.Steps, stepView(o, &o.Steps[i]))
	}
	return out
}

// notForViewers stands for what a serial line has said, for who may not see that.
const notForViewers = "said something, which viewers are not shown"

// proofView puts what was seen before beside what was seen after. lines says whether
// what serial lines have said is shown.
func proofView(p operation.Proof, lines bool) *[]contract.Proof {
	out := []contract.Proof{}
	if !lines {
		p.Before, p.After = withoutLines(p.Before), withoutLines(p.After)
	}
	for _, f := range p.Before {
		out = append(out, contract.Proof{Name: f.Name, Before: &f.Text, BeforeFile: fileView(f.File)})
	}
	for _, f := range p.After {
		i := slices.IndexFunc(out, func(x contract.Proof) bool { return x.Name == f.Name && x.After == nil })
		if i < 0 {
			out = append(out, contract.Proof{Name: f.Name, After: &f.Text, AfterFile: fileView(f.File)})
		} else {
			out[i].After, out[i].AfterFile = &f.Text, fileView(f.File)
		}
	}
	return &out
}

func withoutLines(all []operation.Fact) []operation.Fact {
	all = slices.Clone(all)
	for i, f := range all {
		if f.Line || strings.HasPrefix(f.Name, "last lines of ") { // as older records have it
			all[i] = operation.Fact{Name: f.Name, Text: notForViewers}
		}
	}
	return all
}

func fileView(f *operation.File) *contract.ProofFile {
	if f == nil {
		return nil
	}
	return &contract.ProofFile{ID: f.ID, Type: f.Type, Size: f.Size}
}

func stepView(o *operation.Operation, s *operation.Step) contract.Step {
	v := contract.Step{
		Kind: contract.StepKind(s.Kind), State: contract.StepState(s.State), Text: stepText(o, s),
		Began: timeOf(s.Began), Ended: timeOf(s.Ended), Deadline: timeOf(s.Deadline), Before: measured(s.Before), After: measured(s.After),
	}
	if s.Outlet.Device != "" {
		v.Outlet = ptr(s.Outlet.String())
	}
	if s.Note != "" {
		v.Note = &s.Note
	}
	return v
}

// stepText says what a step does.
func stepText(o *operation.Operation, s *operation.Step) string {
	at := placeOf(o, s)
	switch s.Kind {
	case operation.SwitchOff, operation.SwitchOn:
		onOff := map[operation.StepKind]string{operation.SwitchOff: "off", operation.SwitchOn: "on"}[s.Kind]
		switch {
		case s.Outlet.Kind() == estate.Panel:
			return fmt.Sprintf("Press its power button, and see its light go %s", onOff)
		case s.Outlet.Kind() == estate.Chassis:
			return fmt.Sprintf("Switch %s %s, and read back that it is", s.Outlet.Place(), onOff)
		case s.Kind == operation.SwitchOff:
			return fmt.Sprintf("Switch %s off, and measure that nothing flows", at)
		}
		return fmt.Sprintf("Switch %s on, and measure that it draws", at)
	case operation.SoftOff:
		return fmt.Sprintf("%s, and wait up to %d s", asks(o, s), int(o.Within.Seconds()))
	case operation.StepReset:
		if o.Means == operation.ByCommand {
			return fmt.Sprintf("Tell it %q, and see %s fall silent", o.Command, o.Device)
		}
		return fmt.Sprintf("Press reset, and see %s fall silent", o.Device)
	case operation.StepInto:
		return fmt.Sprintf("Tell its controller that the next start goes%s, and read that back", o.Into.Words())
	case operation.StepTaken:
		return "See its firmware take that"
	case operation.StepTakeBack:
		return "Where no start has come: take that back"
	case operation.StepNMI:
		return "Send the diagnostic interrupt"
	case operation.StepWake:
		return fmt.Sprintf("Send a magic packet to %s", s.Outlet.Device)
	case operation.StepSleep:
		return fmt.Sprintf("Tell it %q, and see it fall silent", o.Command)
	case operation.StepPress:
		return fmt.Sprintf("Press %s for %g s, and look at its light", o.Button, o.Hold.Seconds())
	case operation.StepRestart:
		return fmt.Sprintf("Start %s anew, and see it go and come back", s.Outlet.Place())
	case operation.GearCycle:
		return fmt.Sprintf("%s cycles %s by itself", s.Outlet.Device, s.Outlet.Words())
	case operation.Answer:
		return fmt.Sprintf("Wait for the first answer of %s", o.Device)
	}
	if o.Kind != operation.Cycle {
		return "See who falls silent"
	}
	return fmt.Sprintf("Wait %d s, and see who falls silent", int(o.Hold.Seconds()))
}

// asks says how the operating system is asked to shut down.
func asks(o *operation.Operation, s *operation.Step) string {
	switch {
	case s.Outlet.Kind() == estate.CommandLine:
		return fmt.Sprintf("Tell it %q", o.Command)
	case s.Outlet.Kind() == estate.Panel:
		return "Press its power button shortly, which asks the operating system to shut down"
	}
	return "Ask the operating system to shut down"
}

// placeOf names what a step switches, with its gear where there are several.
func placeOf(o *operation.Operation, s *operation.Step) string {
	for _, end := range o.Outlets {
		if end.Device != s.Outlet.Device {
			return s.Outlet.Place()
		}
	}
	return s.Outlet.Words()
}

func measured(r *operation.Reading) *contract.MeasuredOutlet {
	if r == nil {
		return nil
	}
	v := &contract.MeasuredOutlet{At: r.At.UTC(), On: r.On}
	if r.Metered {
		v.W = ptr(tenth(r.W))
	}
	return v
}

func timeOf(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return ptr(t.UTC())
}

func tenthOf(w *float64) *float64 {
	if w == nil {
		return nil
	}
	return ptr(tenth(*w))
}

func outletEnds(names *[]string) ([]estate.End, error) {
	if names == nil {
		return nil, nil
	}
	var out []estate.End
	for _, n := range *names {
		end, err := estate.ParseEnd(n)
		if err != nil || end.Outlet() == 0 {
			return nil, &operation.UsageError{Text: fmt.Sprintf("%q is not an outlet: name it PDU/NUMBER", n)}
		}
		out = append(out, end)
	}
	return out, nil
}
