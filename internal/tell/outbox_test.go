package tell

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/bus"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/incident"
	"plumbbob/internal/core/telling"
	"plumbbob/internal/health"
	"plumbbob/internal/lab/post"
	"plumbbob/internal/secret"
	"plumbbob/internal/store"
	"plumbbob/internal/store/storetest"
	"plumbbob/internal/wire/sms"
)

const told = `
plumb-telling: 1
people:
  ann: {ways: [{channel: broken, to: ann@pier.example}, {channel: office, to: ann@pier.example}]}
  tom: {ways: [{channel: office, to: tom@pier.example}], quiet: [{from: "00:00", until: "00:00"}]}
rules:
  - {name: all, tell: [{who: [ann, tom]}]}
`

// office is an outbox with a mail server and one incident.
type office struct {
	*testing.T
	*Outbox
	mail *post.Server
	one  *incident.Incident

	texts, seen []string
	replies     []sms.Message
}

func opened(t *testing.T) *office {
	server, err := post.Start(post.Options{Address: "127.0.0.1:0"})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, server.Close()) })
	o := &office{T: t, mail: server, one: &incident.Incident{ID: "abc", Device: "router", Site: "pier", Kind: "hung", Opened: time.Now().UTC().Add(-time.Hour)}}
	o.Outbox = NewOutbox(Parts{
		Store: storetest.Open(t), Bus: &bus.Bus{}, Health: health.New(slog.New(slog.DiscardHandler)), Log: slog.New(slog.DiscardHandler),
		Secret: func(name string) (secret.Value, error) { return secret.Value{Password: name}, nil },
		About:  func(*incident.Incident) About { return About{Site: "Skarvoe", Zone: time.UTC} },
		Open:   func() []*incident.Incident { return []*incident.Incident{o.one} },
		Find:   func(context.Context, string) (*incident.Incident, error) { return o.one.Clone(), nil },
		Acts:   func() bool { return true },
		Text: func(_ context.Context, port, number, text string) (string, error) {
			o.texts = append(o.texts, port+" "+number+" "+text)
			return "taken", nil
		},
		TakeTexts: func(_ context.Context, _ string, take func(sms.Message) error) error {
			for _, m := range o.replies {
				if err := take(m); err != nil {
					return err
				}
			}
			o.replies = nil
			return nil
		},
		Ack: func(_ context.Context, id, who, _ string) error { o.seen = append(o.seen, id+" "+who); return nil },
	})
	for name, s := range map[string]Settings{"phone": {Kind: Phone, Port: "modem-1"}, "chat": {Kind: Webhook, URL: "http://127.0.0.1:1", Method: "POST", Answers: "chat-answers"}, "office": {Kind: Mail, Server: server.Address, TLS: NoTLS, From: "plumb@pier.example"}, "broken": {Kind: Mail, Server: "127.0.0.1:1", TLS: NoTLS, From: "plumb@pier.example"}} {
		doc, err := json.Marshal(s)
		require.NoError(t, err)
		require.NoError(t, o.Store.SetChannel(t.Context(), store.ChannelRow{Name: name, Kind: s.Kind, Doc: string(doc), SetAt: noon, SetBy: "ann"}))
	}
	require.NoError(t, o.Store.SetTelling(t.Context(), store.TellingVersion{At: noon, Who: "ann", Text: told}))
	require.NoError(t, o.Refresh(t.Context()))
	return o
}

// saved records how the incident is now.
func (o *office) saved() { require.NoError(o, o.Store.SaveIncident(o.Context(), o.one, o.Next)) }

// came is what has come, to whom and what, the oldest first.
func (o *office) came() (out []string) {
	for _, l := range o.mail.Letters() {
		out = append(out, l.To[0]+" "+l.Subject)
	}
	return out
}

func (o *office) notes(state telling.State) (out []string) {
	rows, err := o.Store.Notes(o.Context(), store.NoteFilter{State: state})
	require.NoError(o, err)
	for _, r := range rows {
		out = append(out, r.ID)
	}
	return out
}

// TestToldOnceAndInFull: noted with the incident, sent by the first way that works, once; what is
// held comes when that is over; the end is told to who was told.
func TestToldOnceAndInFull(t *testing.T) {
	o := opened(t)
	o.saved()
	o.saved()
	now := time.Now().UTC()
	require.NoError(t, o.send(t.Context(), now))
	require.NoError(t, o.send(t.Context(), now))
	require.Equal(t, []string{"ann@pier.example router is hung"}, o.came(), "by her second way, since the first is broken")
	entries, err := o.Store.Journal(t.Context(), store.JournalFilter{Limit: 10})
	require.NoError(t, err)
	require.Equal(t, "Told ann by office: router is hung", entries[0].Text)
	require.Equal(t, []string{"abc.tom.opened.1"}, o.notes(telling.Queued), "he has quiet hours all day")

	o.one.Explains = []estate.Key{"camera"}
	require.NoError(t, o.due(t.Context(), now))
	require.NoError(t, o.send(t.Context(), now.Add(telling.Between+time.Second)))
	require.Equal(t, "ann@pier.example router takes 1 more along: is hung, 1 behind it cut off", o.came()[1])

	o.one.Ended, o.one.Ending = now, "it is steady again"
	o.saved()
	require.NoError(t, o.send(t.Context(), now.Add(time.Second)))
	require.Len(t, o.came(), 2, "it may come back")
	require.NoError(t, o.send(t.Context(), now.Add(telling.Settles+time.Second)))
	require.Equal(t, "ann@pier.example Over after 1 h: router, which was hung", o.came()[2])
	require.Len(t, o.came(), 3)
}

// TestNothingIsLost: neither by a mail server that takes nothing for a while, nor by an end of this
// process between sending and recording, after which the same message comes again.
func TestNothingIsLost(t *testing.T) {
	o := opened(t)
	o.mail.Shut(true)
	o.saved()
	now := time.Now().UTC()
	require.NoError(t, o.send(t.Context(), now))
	ails := o.Health.List()
	require.Len(t, ails, 1)
	require.True(t, ails[0].Grave)
	require.Contains(t, ails[0].Text, "messages to ann wait, no way to them works")
	require.Contains(t, ails[0].Text, "come back later")
	require.NoError(t, o.send(t.Context(), now.Add(time.Second)))
	rows, err := o.Store.Notes(t.Context(), store.NoteFilter{Person: "ann"})
	require.NoError(t, err)
	require.Equal(t, 1, rows[0].Tries, "not at once again")
	o.mail.Shut(false)
	require.NoError(t, o.send(t.Context(), now.Add(firstRetry+time.Second)))
	require.Len(t, o.came(), 1)
	require.Empty(t, o.Health.List())

	second := *o.one
	second.ID = "def"
	o.one = &second
	o.saved()
	now = time.Now().UTC()
	claimed, err := o.Store.ClaimNotes(t.Context(), now, now.Add(-lostAfter), claimMost)
	require.NoError(t, err)
	require.Len(t, claimed, 1, "and then there is an end")
	require.NoError(t, o.send(t.Context(), now.Add(time.Minute)))
	require.Len(t, o.came(), 1, "it may be on its way still")
	require.NoError(t, o.send(t.Context(), now.Add(lostAfter+time.Second)))
	require.Len(t, o.came(), 2)
	require.Equal(t, "<def.ann.opened.1@pier.example>", o.mail.Letters()[1].ID)

	third := second
	third.ID = "ghi"
	o.one = &third
	o.mail.Shut(true)
	o.saved()
	require.NoError(t, o.send(t.Context(), now.Add(3*time.Minute)))
	third.Ended = now
	o.saved()
	require.NoError(t, o.send(t.Context(), now.Add(48*time.Hour)))
	require.Empty(t, o.notes(telling.Failed), "nobody needs to know any more")
	require.True(t, strings.HasPrefix(o.notes(telling.Dropped)[0], "ghi.ann"))
}

// TestSeveralAtOnce: what somebody is told of at the same time is one message.
func TestSeveralAtOnce(t *testing.T) {
	o := opened(t)
	o.saved()
	other := *o.one
	other.ID = "def"
	require.NoError(t, o.Store.SaveIncident(t.Context(), &other, o.Next))
	require.NoError(t, o.send(t.Context(), time.Now().UTC()))
	require.Equal(t, []string{"ann@pier.example 2 incidents, 2 of them open"}, o.came())
}

// TestAPlanThatCannotBeRead: the one before goes on.
func TestAPlanThatCannotBeRead(t *testing.T) {
	o := opened(t)
	require.NoError(t, o.Store.SetTelling(t.Context(), store.TellingVersion{At: noon, Who: "ann", Text: "plumb-telling: 9\n"}))
	require.NoError(t, o.Refresh(t.Context()))
	plan, _ := o.Plan()
	require.Len(t, plan.People, 2)
	require.Contains(t, o.Health.List()[0].Text, "who is told of what cannot be read any more")
	plan, err := o.Parse(t.Context(), "f", []byte(strings.ReplaceAll(told, "channel: broken", "channel: gone")))
	require.NoError(t, err)
	require.Contains(t, o.Lacks(plan)[0], "ann is told by gone, and there is no such channel")
}

// TestByTheClock: the report of a day comes once, and a heartbeat again and again.
func TestByTheClock(t *testing.T) {
	o := opened(t)
	now := time.Now().UTC().Truncate(time.Minute)
	text := told + "report: {at: " + `"` + now.Format("15:04") + `", who: [ann]}` + "\nheartbeat: {every: 1m, by: [{channel: office, to: watch@elsewhere.example}]}\n"
	require.NoError(t, o.Store.SetTelling(t.Context(), store.TellingVersion{At: noon, Who: "ann", Text: text}))
	require.NoError(t, o.Refresh(t.Context()))
	require.NoError(t, o.Store.SaveIncident(t.Context(), o.one, nil))
	for range 2 {
		require.NoError(t, o.reports(t.Context(), now))
		require.NoError(t, o.send(t.Context(), now.Add(time.Second)))
	}
	require.Equal(t, []string{"ann@pier.example The last day: 1 incident, 1 of them open"}, o.came())
	require.Contains(t, o.mail.Letters()[0].Text, "router is hung since ")
	require.NoError(t, o.reports(t.Context(), now.Add(-time.Minute)), "the day before it is too late, or too early")
	for _, after := range []time.Duration{0, 30 * time.Second, time.Minute} {
		o.beat(t.Context(), now.Add(after))
	}
	require.Equal(t, "watch@elsewhere.example Plumb Bob is at work", o.came()[2])
	require.Len(t, o.came(), 3)
	o.mail.Shut(true)
	o.beat(t.Context(), now.Add(2*time.Minute))
	require.Contains(t, o.Health.List()[0].Text, "the heartbeat did not go out: office: ")
}

// TestAnswers: by text message from the number of who was told, and by a webhook with its token; by
// nobody else.
func TestAnswers(t *testing.T) {
	o := opened(t)
	text := strings.Replace(told, "tom: {ways: [{channel: office, to: tom@pier.example}]", `tom: {ways: [{channel: phone, to: "+298 12 34 56"}]`, 1)
	text = strings.Replace(text, `from: "00:00", until: "00:00"`, `from: "00:00", until: "00:00", but: critical`, 1)
	require.NoError(t, o.Store.SetTelling(t.Context(), store.TellingVersion{At: noon, Who: "ann", Text: text}))
	require.NoError(t, o.Refresh(t.Context()))
	o.takeTexts(t.Context(), answersFor)
	require.Nil(t, o.replies)
	o.saved()
	require.NoError(t, o.send(t.Context(), time.Now().UTC()))
	require.Len(t, o.texts, 1)
	require.Contains(t, o.texts[0], "modem-1 +298 12 34 56 router is hung\nSkarvoe, since ")
	said := o.texts[0][len(o.texts[0])-store.CodeLength:]
	require.Contains(t, o.texts[0], "To see to router answer "+said)

	o.replies = []sms.Message{{Number: "+298999999", Text: said}, {Number: "+298123456", Text: "what?"}, {Number: "+298123456", Text: "ok, " + strings.ToLower(said) + "!"}}
	o.takeTexts(t.Context(), answersFor)
	require.Equal(t, []string{"abc tom"}, o.seen)
	entries, err := o.Store.Journal(t.Context(), store.JournalFilter{Limit: 10})
	require.NoError(t, err)
	require.Contains(t, entries[0].Text, "A text message of +298123456 did nothing")
	require.Contains(t, entries[1].Text, "A text message of +298999999 did nothing")

	require.ErrorIs(t, o.AnswerBy(t.Context(), "chat", "wrong", said, "Eva"), ErrNotHere)
	require.ErrorIs(t, o.AnswerBy(t.Context(), "office", "", said, "Eva"), ErrNotHere)
	require.ErrorIs(t, o.AnswerBy(t.Context(), "chat", "chat-answers", "AAAAA", "Eva"), ErrNoCode)
	require.NoError(t, o.AnswerBy(t.Context(), "chat", "chat-answers", said, "Eva"))
	require.NoError(t, o.AnswerBy(t.Context(), "chat", "chat-answers", said, ""))
	require.Equal(t, []string{"abc tom", "abc Eva (by chat)", "abc tom (by chat)"}, o.seen)
}

// TestOneBadIncident: what cannot be read of one keeps nobody from being told of another, and what is
// too long to be kept keeps nothing from being recorded.
func TestOneBadIncident(t *testing.T) {
	o := opened(t)
	o.one.Shelved = &incident.Shelf{Remark: incident.Remark{By: strings.Repeat("é", 500)}, Until: time.Now().Add(time.Hour)}
	o.saved()
	rows, err := o.Store.Notes(t.Context(), store.NoteFilter{Person: "ann"})
	require.NoError(t, err)
	require.Len(t, []rune(rows[0].Held), 200)
	o.one.Shelved = nil
	o.About = func(*incident.Incident) About {
		return About{Site: "Skarvoe", Zone: time.UTC, Broken: []string{"Fan 2 is 0 rpm"}}
	}
	o.Patient = func(k estate.Key) (telling.Patient, bool) {
		return telling.Patient{Device: string(k), Title: "Router"}, true
	}
	require.NoError(t, o.Store.SetTelling(t.Context(), store.TellingVersion{At: noon, Who: "ann", Text: told + "  - {name: warranty, tell: [{who: [ann], as: service call}]}\n"}))
	require.NoError(t, o.Refresh(t.Context()))
	o.saved()
	bad := *o.one
	bad.ID = "bad"
	require.NoError(t, o.Store.SaveIncident(t.Context(), &bad, o.Next))
	find := o.Find
	o.Find = func(ctx context.Context, id string) (*incident.Incident, error) {
		if id == "bad" {
			return nil, errors.New("its row is broken")
		}
		return find(ctx, id)
	}
	require.NoError(t, o.send(t.Context(), time.Now().UTC().Add(2*time.Hour)))
	require.ElementsMatch(t, []string{"ann@pier.example router is hung", "ann@pier.example Service call: Router"}, o.came())
	require.ElementsMatch(t, []string{"bad.ann.opened.1", "bad.ann.service.1"}, o.notes(telling.Failed))
}
