package api

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"plumbbob/internal/act"
	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/group"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/store"
)

func seconds(s *float64) time.Duration {
	if s == nil {
		return 0
	}
	return time.Duration(*s * float64(time.Second))
}

func groupIntent(b contract.GroupIntent) (out act.GroupIntent, err error) {
	one := contract.Intent{Kind: b.Kind, Outlets: b.Outlets, Means: b.Means, HoldSeconds: b.HoldSeconds, WithinSeconds: b.WithinSeconds, Force: b.Force, Endpoint: b.Endpoint}
	if b.Button != nil {
		one.Button = ptr(contract.IntentButton(*b.Button))
	}
	if out.Intent, err = intent(one); err != nil {
		return out, err
	}
	for _, k := range deref(b.Who.Devices) {
		out.Who.Devices = append(out.Who.Devices, estate.Key(k))
	}
	out.Who.Site, out.Who.PDU, out.Who.UPS, out.Who.Tag = estate.Key(text(b.Who.Site)), estate.Key(text(b.Who.Pdu)), estate.Key(text(b.Who.Ups)), text(b.Who.Tag)
	out.Order.Gap = group.DefaultGap
	if o := b.Order; o != nil {
		if o.AtOnce != nil {
			out.Order.AtOnce = *o.AtOnce
		}
		if o.GapSeconds != nil {
			out.Order.Gap = seconds(o.GapSeconds)
		}
		if o.Until != nil {
			out.Order.Until = group.Ready(*o.Until)
		}
		out.Order.GoOn, out.Order.Wait = o.GoOn != nil && *o.GoOn, seconds(o.WaitSeconds)
	}
	if b.At != nil {
		out.At = b.At.UTC()
	}
	return out, nil
}

// PreviewGroup implements the contract.
func (s *Server) PreviewGroup(ctx context.Context, req contract.PreviewGroupRequestObject) (contract.PreviewGroupResponseObject, error) {
	in, err := groupIntent(*req.Body)
	if err != nil {
		return nil, err
	}
	p, err := s.Actor.PreviewGroup(ctx, in, s.asker(ctx))
	if err != nil {
		return nil, err
	}
	return contract.PreviewGroup200JSONResponse(groupPreviewView(p)), nil
}

func groupPreviewView(p *act.GroupPreview) contract.GroupPreview {
	out := contract.GroupPreview{
		Title: p.Title, At: timeOf(p.Group.At), Slots: []contract.GroupSlot{}, LeftOut: []contract.NamedText{}, Curve: []contract.CurvePoint{},
		Interlocks: interlockViews(p.Interlocks), Digest: p.Digest,
	}
	for i, slot := range p.Slots {
		out.Slots = append(out.Slots, contract.GroupSlot{
			Device: string(slot.Device), Title: p.Previews[i].Title(), After: keys(p.Group.Members[i].After),
			BeginsSeconds: slot.Begins.Seconds(), UpSeconds: slot.Up.Seconds(), Preview: previewView(p.Previews[i]),
		})
	}
	slices.SortStableFunc(out.Slots, func(a, b contract.GroupSlot) int { return cmp.Compare(a.BeginsSeconds, b.BeginsSeconds) })
	for _, l := range p.LeftOut {
		out.LeftOut = append(out.LeftOut, contract.NamedText{Name: string(l.Device), Text: l.Why})
	}
	for _, c := range p.Curve {
		out.Curve = append(out.Curve, contract.CurvePoint{Seconds: c.At.Seconds(), W: tenth(c.W)})
	}
	return out
}

// RequestGroup implements the contract.
func (s *Server) RequestGroup(ctx context.Context, req contract.RequestGroupRequestObject) (contract.RequestGroupResponseObject, error) {
	b := req.Body
	in, err := groupIntent(b.Intent)
	if err != nil {
		return nil, err
	}
	c, err := consent(b.Why, b.Names, b.Override)
	if err != nil {
		return nil, err
	}
	g, err := s.Actor.RequestGroup(ctx, in, b.Digest, c, s.asker(ctx), onceID(ctx, req.Params.IdempotencyKey))
	if err != nil {
		return nil, err
	}
	return contract.RequestGroup202JSONResponse(groupView(g)), nil
}

// consent reads what somebody has said to the interlocks.
func consent(why *string, names, override *[]string) (c operation.Consent, err error) {
	if c.Why = text(why); len(c.Why) > maxWhy {
		return c, usage("the reason is longer than %d bytes", maxWhy)
	}
	for _, n := range deref(names) {
		c.Names = append(c.Names, estate.Key(n))
	}
	c.Override = deref(override)
	if len(c.Override) > 0 && c.Why == "" {
		return c, usage("going ahead against an interlock needs a reason: say why")
	}
	return c, nil
}

func groupView(g *group.Group) contract.Group {
	out := contract.Group{
		ID: g.ID, Title: g.Title, Kind: contract.OperationKind(g.Intent.Kind), By: g.By.By(), Why: g.Consent.Why, Asked: g.Asked.UTC(),
		At: timeOf(g.At), State: contract.GroupState(g.State), Ended: timeOf(g.Ended), Members: []contract.GroupMember{},
	}
	for _, m := range g.Members {
		v := contract.GroupMember{Device: string(m.Device), State: contract.GroupMemberState(m.State), After: keys(m.After), Operation: m.Operation, Began: timeOf(m.Began), Ended: timeOf(m.Ended)}
		if m.Note != "" {
			v.Note = &m.Note
		}
		if m.State == group.MemberDone {
			out.Done++
		}
		out.Members = append(out.Members, v)
	}
	return out
}

// ListGroups implements the contract.
func (s *Server) ListGroups(ctx context.Context, req contract.ListGroupsRequestObject) (contract.ListGroupsResponseObject, error) {
	f := store.GroupFilter{Unended: req.Params.Unended != nil && *req.Params.Unended, Before: text(req.Params.Before), Limit: limitOf(req.Params.Limit)}
	gs, err := s.Actor.Groups(ctx, f)
	if err != nil {
		return nil, err
	}
	out := contract.ListGroups200JSONResponse{Body: []contract.Group{}}
	for _, g := range gs {
		out.Body = append(out.Body, groupView(g))
	}
	out.Headers.Link = nextPage(ctx, gs, f.Limit, func(g *group.Group) string { return g.ID })
	if len(gs) == 0 && f.Before != "" {
		_, err = s.Actor.FindGroup(ctx, f.Before)
	}
	return out, noGroup(f.Before, err)
}

func noGroup(id string, err error) error {
	if errors.Is(err, store.ErrNotFound) {
		return &missing{fmt.Sprintf("there is no group %q: plumb group list shows them", id)}
	}
	return err
}

// GetGroup implements the contract.
func (s *Server) GetGroup(ctx context.Context, req contract.GetGroupRequestObject) (contract.GetGroupResponseObject, error) {
	g, err := s.Actor.FindGroup(ctx, req.ID)
	if err != nil {
		return nil, noGroup(req.ID, err)
	}
	return contract.GetGroup200JSONResponse(groupView(g)), nil
}

// CancelGroup implements the contract.
func (s *Server) CancelGroup(ctx context.Context, req contract.CancelGroupRequestObject) (contract.CancelGroupResponseObject, error) {
	g, err := s.Actor.CancelGroup(ctx, req.ID, whoIs(ctx).Account)
	if err != nil {
		return nil, noGroup(req.ID, err)
	}
	return contract.CancelGroup202JSONResponse(groupView(g)), nil
}
