package api

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/incident"
	"plumbbob/internal/core/sending"
	"plumbbob/internal/core/telling"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/gear"
	"plumbbob/internal/secret"
	"plumbbob/internal/store"
	"plumbbob/internal/tell"
	"plumbbob/internal/yamltext"
)

// ListChannels implements the contract.
func (s *Server) ListChannels(ctx context.Context, _ contract.ListChannelsRequestObject) (contract.ListChannelsResponseObject, error) {
	rows, err := s.Store.Channels(ctx)
	if err != nil {
		return nil, err
	}
	plan, _ := s.Outbox.Plan()
	out := contract.ListChannels200JSONResponse{}
	for _, r := range rows {
		c := contract.Channel{Name: r.Name, SetAt: r.SetAt.UTC(), SetBy: r.SetBy, People: []string{}}
		if err := json.Unmarshal([]byte(r.Doc), &c.Settings); err != nil {
			c.Settings = contract.ChannelSettings{Kind: contract.ChannelSettingsKind(r.Kind)} // it is on the board, too
		}
		for who, p := range plan.People {
			if slices.ContainsFunc(p.Ways, func(w telling.Way) bool { return w.Channel == r.Name }) {
				c.People = append(c.People, who)
			}
		}
		slices.Sort(c.People)
		out = append(out, c)
	}
	return out, nil
}

// SetChannel implements the contract.
func (s *Server) SetChannel(ctx context.Context, req contract.SetChannelRequestObject) (contract.SetChannelResponseObject, error) {
	if !estate.ValidKey(req.Name) {
		return nil, usage("%q cannot be a name: use lower-case letters, digits and hyphens", req.Name)
	}
	set, err := settingsOf(req.Body)
	if err == nil {
		err = set.Check()
	}
	if err != nil {
		return nil, usage("channel %s: %s", req.Name, err)
	}
	if err := s.mayUse(ctx, set); err != nil {
		return nil, err
	}
	doc, err := json.Marshal(set)
	if err != nil {
		return nil, err
	}
	row := store.ChannelRow{Name: req.Name, Kind: set.Kind, Doc: string(doc), SetAt: nowUTC(), SetBy: whoIs(ctx).Account}
	if err := s.Store.SetChannel(ctx, row, entry(ctx, store.EntryTelling, "Channel %s set: %s to %s", req.Name, set.Kind, set.Target())); err != nil {
		return nil, err
	}
	s.written()
	return contract.SetChannel204Response{}, s.Outbox.Refresh(ctx)
}

// settingsOf are the settings of a request: the same members, by the same names.
func settingsOf(b *contract.ChannelSettings) (out tell.Settings, err error) {
	text, err := json.Marshal(b)
	if err == nil {
		err = json.Unmarshal(text, &out)
	}
	return out, err
}

// mayUse says why a channel may not have its secret, or may not connect to where it is.
func (s *Server) mayUse(ctx context.Context, set tell.Settings) error {
	protocol, address, _ := strings.Cut(set.Target(), "://")
	if host, _, err := net.SplitHostPort(address); err == nil { // a modem has none
		if err := s.MayConnect(host); err != nil {
			return usage("%s: %s", set.Target(), err)
		}
	}
	if set.Kind == tell.Phone {
		if err := s.HasModem(set.Port); err != nil {
			return usage("%s", err)
		}
	}
	if set.Secret != "" {
		v, err := s.secret(ctx, set.Secret)
		if err != nil {
			return err
		}
		if !v.MayGoTo(protocol, address) {
			return usage("the secret %[1]s may not be sent to %[2]s: a keeper allows it with plumb secret bind %[1]s %[2]s", set.Secret, set.Target())
		}
	}
	if set.Answers != "" {
		v, err := s.secret(ctx, set.Answers)
		if err != nil {
			return err
		}
		if v.Kind != secret.Token || len(v.Password) < LeastToken {
			return usage("answers: the secret %s is no token of %d characters or more: plumb secret set %s --token", set.Answers, LeastToken, set.Answers)
		}
	}
	return nil
}

// LeastToken is how long what lets somebody in without a log-in has to be.
const LeastToken = 16

// RemoveChannel implements the contract.
func (s *Server) RemoveChannel(ctx context.Context, req contract.RemoveChannelRequestObject) (contract.RemoveChannelResponseObject, error) {
	err := s.Store.RemoveChannel(ctx, req.Name, entry(ctx, store.EntryTelling, "Channel %s removed", req.Name))
	if errors.Is(err, store.ErrConflict) {
		return nil, noChannel(req.Name)
	}
	if err != nil {
		return nil, err
	}
	s.written()
	return contract.RemoveChannel204Response{}, s.Outbox.Refresh(ctx)
}

func noChannel(name string) error {
	return &missing{fmt.Sprintf("there is no channel %q: plumb channel list shows them", name)}
}

// TestChannel implements the contract.
func (s *Server) TestChannel(ctx context.Context, req contract.TestChannelRequestObject) (contract.TestChannelResponseObject, error) {
	if !s.Outbox.Has(req.Name) {
		return nil, noChannel(req.Name)
	}
	who := whoIs(ctx).Account
	m := telling.Message{
		ID: fmt.Sprintf("test.%s.%d", req.Name, time.Now().UnixMilli()), Severity: telling.Warning, At: nowUTC(),
		Subject: "A test of Plumb Bob's channel " + req.Name, Text: fmt.Sprintf("%s has asked for this, to see whether it arrives. Nothing is wrong.\n", who),
	}
	says, err := s.Outbox.Send(ctx, req.Name, req.Body.To, m)
	e := entry(ctx, store.EntryTelling, "Tested the channel %s", req.Name)
	if err != nil {
		e.Result = "failed"
	}
	s.Keeper.Note(e)
	if err != nil {
		return nil, &gear.Error{Kind: gear.Unreachable, Outcome: sending.Unclear, Text: fmt.Sprintf("channel %s: %s", req.Name, err)}
	}
	return contract.TestChannel200JSONResponse{Says: says}, nil
}

// GetTelling implements the contract.
func (s *Server) GetTelling(ctx context.Context, _ contract.GetTellingRequestObject) (contract.GetTellingResponseObject, error) {
	v, err := s.Store.Telling(ctx)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	plan, _ := s.Outbox.Plan()
	out := contract.GetTelling200JSONResponse{Text: v.Text, Lacks: s.lacks(plan)}
	if v.Text != "" {
		out.At, out.Who = new(v.At.UTC()), &v.Who
	}
	return out, nil
}

// SetTelling implements the contract.
func (s *Server) SetTelling(ctx context.Context, req contract.SetTellingRequestObject) (contract.SetTellingResponseObject, error) {
	plan, err := s.Outbox.Parse(ctx, cmp.Or(orZero(req.Body.Name), "telling"), []byte(req.Body.Text))
	var faults *yamltext.Faults
	if errors.As(err, &faults) {
		return nil, usage("%s", faults)
	}
	if err != nil {
		return nil, err
	}
	out := contract.SetTelling200JSONResponse{Lacks: s.lacks(plan), People: len(plan.People), Rules: len(plan.Rules)}
	if orZero(req.Body.Check) {
		return out, nil
	}
	v := store.TellingVersion{At: nowUTC(), Who: whoIs(ctx).Account, Text: req.Body.Text}
	if err := s.Store.SetTelling(ctx, v, entry(ctx, store.EntryTelling, "Said anew who is told of what: %d people, %d rules", out.People, out.Rules)); err != nil {
		return nil, err
	}
	s.written()
	return out, s.Outbox.Refresh(ctx)
}

// lacks lists what keeps people from being told by a plan.
func (s *Server) lacks(p *telling.Plan) []string {
	return append([]string{}, slices.Concat(s.Outbox.Lacks(p), s.unknown(p), s.untold(p))...) // a list, also where it is empty
}

// When it is looked whether anybody would be told: over a day, and on its weekend.
var untoldAt = []time.Duration{0, 6 * time.Hour, 12 * time.Hour, 18 * time.Hour, 3 * 24 * time.Hour, 5 * 24 * time.Hour, 6 * 24 * time.Hour}

// untold says of which devices nobody would be told if they hung.
func (s *Server) untold(p *telling.Plan) []string {
	e, now := s.Keeper.Estate(), nowUTC()
	var first string
	n := 0
	for i := range e.Devices {
		d := &e.Devices[i]
		for _, after := range untoldAt {
			at := now.Add(after)
			one := telling.Subject{Incident: &incident.Incident{ID: "x", Device: d.Key, Site: d.Site, Kind: string(verdict.Hung), Opened: at}, Role: d.Role, Tags: d.Tags}
			if len(p.Turns(one)) > 0 {
				continue
			}
			if n++; n == 1 {
				first = fmt.Sprintf("nobody would be told if %s hung at %s", d.Key, at.In(e.Zone(d.Key)).Format("Mon 15:04 MST"))
			}
			break
		}
	}
	switch {
	case n == 0:
		return nil
	case n > 1:
		first += fmt.Sprintf("; likewise of %d more devices", n-1)
	}
	return []string{first}
}

// unknown lists what rules name that is not in the estate: they would never fit.
func (s *Server) unknown(p *telling.Plan) (out []string) {
	e := s.Keeper.Estate()
	for _, r := range p.Rules {
		for _, k := range r.Match.Sites {
			if e.Site(estate.Key(k)) == nil {
				out = append(out, fmt.Sprintf("rule %s is about the site %s, which is not in the estate", r.Name, k))
			}
		}
		for _, k := range r.Match.Devices {
			if e.Device(estate.Key(k)) == nil {
				out = append(out, fmt.Sprintf("rule %s is about the device %s, which is not in the estate", r.Name, k))
			}
		}
	}
	return out
}

// PreviewTelling implements the contract.
func (s *Server) PreviewTelling(_ context.Context, req contract.PreviewTellingRequestObject) (contract.PreviewTellingResponseObject, error) {
	p := req.Params
	d := s.Keeper.Estate().Device(estate.Key(p.Device))
	if d == nil {
		return nil, s.knows(estate.Key(p.Device))
	}
	kind, at := cmp.Or(orZero(p.Kind), string(verdict.Hung)), nowUTC()
	if !slices.Contains(incident.Kinds, kind) {
		return nil, usage("%q is no kind of incident: %s are", kind, strings.Join(incident.Kinds, ", "))
	}
	if p.At != nil {
		at = p.At.UTC()
	}
	plan, _ := s.Outbox.Plan()
	i := &incident.Incident{ID: "preview", Device: d.Key, Site: d.Site, Kind: kind, Opened: at}
	one := s.Outbox.Subject(i, at)
	if kind == string(verdict.Strained) {
		one.Broken = append(one.Broken, "of its hardware")
	}
	return contract.PreviewTelling200JSONResponse{Turns: turnViews(plan, plan.Turns(one)), Zone: s.zoneAt(d.Site).String()}, nil
}

func turnViews(plan *telling.Plan, all []telling.Turn) []contract.Turn {
	out := []contract.Turn{}
	for _, t := range all {
		p := plan.People[t.Person]
		v := contract.Turn{Person: t.Person, Title: p.Title, Rule: t.Rule, Step: t.Step, At: t.At.UTC(), Due: t.Due.UTC(), Held: t.Held, Service: t.What == telling.Service, Ways: []string{}}
		for _, w := range p.Ways {
			v.Ways = append(v.Ways, strings.TrimSpace(w.Channel+" "+w.To))
		}
		out = append(out, v)
	}
	return out
}

// GetTold implements the contract.
func (s *Server) GetTold(ctx context.Context, req contract.GetToldRequestObject) (contract.GetToldResponseObject, error) {
	i, err := s.Incidents.Find(ctx, req.ID)
	if err != nil {
		return nil, noIncident(req.ID, err)
	}
	rows, err := s.Store.Notes(ctx, store.NoteFilter{Incident: i.ID})
	if err != nil {
		return nil, err
	}
	slices.Reverse(rows)
	plan, _ := s.Outbox.Plan()
	out := contract.GetTold200JSONResponse{Notes: noteViews(plan, rows), Turns: []contract.Turn{}, Zone: s.zoneAt(i.Site).String()}
	if i.Open() {
		out.Turns = turnViews(plan, plan.Ahead(s.Outbox.Subject(i, time.Now()), store.Told(rows)))
	}
	return out, nil
}

func noteViews(plan *telling.Plan, rows []store.NoteRow) []contract.Note {
	out := []contract.Note{}
	for _, r := range rows {
		v := contract.Note{
			ID: r.ID, Incident: r.Incident, Person: r.Person, Title: cmp.Or(plan.People[r.Person].Title, r.Person), What: contract.NoteWhat(r.What), Rule: r.Rule, Step: r.Step,
			State: contract.NoteState(r.State), Noted: r.Noted.UTC(), Due: r.Due.UTC(), Held: r.Held, Tries: r.Tries, Channel: r.Channel, Says: r.Says, Subject: r.Subject, Text: r.Text,
		}
		if !r.At.IsZero() {
			v.At = new(r.At.UTC())
		}
		out = append(out, v)
	}
	return out
}

// ListNotes implements the contract.
func (s *Server) ListNotes(ctx context.Context, req contract.ListNotesRequestObject) (contract.ListNotesResponseObject, error) {
	p := req.Params
	rows, err := s.Store.Notes(ctx, store.NoteFilter{State: telling.State(orZero(p.State)), Person: orZero(p.Person), Limit: cmp.Or(orZero(p.Limit), 100)})
	if err != nil {
		return nil, err
	}
	plan, _ := s.Outbox.Plan()
	return contract.ListNotes200JSONResponse(noteViews(plan, rows)), nil
}

// longestAnswer bounds what is read of an answer.
const longestAnswer = 4 << 10

// answer takes what a webhook answers to a message: {"code", "by"}, with the channel's token for that
// as a bearer. It has no log-in, and can do nothing but say that somebody sees to an incident.
func (s *Server) answer(c *echo.Context) error {
	var said struct{ Code, By string }
	if err := json.NewDecoder(io.LimitReader(c.Request().Body, longestAnswer)).Decode(&said); err != nil {
		return c.JSON(http.StatusBadRequest, map[string]string{"error": `write {"code": "…", "by": "…"}`})
	}
	switch err := s.Outbox.AnswerBy(c.Request().Context(), c.Param("channel"), bearer(c.Request()), said.Code, said.By); {
	case errors.Is(err, tell.ErrNotHere):
		return c.JSON(http.StatusUnauthorized, map[string]string{"error": err.Error()})
	case errors.Is(err, tell.ErrNoCode):
		return c.JSON(http.StatusNotFound, map[string]string{"error": err.Error()})
	case err != nil:
		return c.JSON(http.StatusConflict, map[string]string{"error": err.Error()})
	}
	return c.NoContent(http.StatusNoContent)
}
