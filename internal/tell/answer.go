package tell

import (
	"context"
	"crypto/subtle"
	"errors"
	"fmt"
	"regexp"
	"strings"
	"time"

	"plumbbob/internal/core/plain"
	"plumbbob/internal/store"
	"plumbbob/internal/wire/sms"
)

// How often it is looked for answers, and for how long they count.
const (
	listenEvery = 5 * time.Second

	// Most answers come soon; later the modem is left to those who call.
	answersSoon  = 10 * time.Minute
	listenSeldom = 4 // times less often
	answersFor   = 24 * time.Hour
	longestSaid  = 100
)

// code is what stands somewhere in an answer.
var code = regexp.MustCompile(fmt.Sprintf(`\b[A-Z2-9]{%d}\b`, store.CodeLength))

// ErrNoCode is an answer that answers nothing.
var ErrNoCode = errors.New("that is the code of no message that was sent in the last day")

// Answer takes in that somebody answers a message: they see to what it told of. mayBe says whether
// it can be of who was told, and who it is then.
func (o *Outbox) Answer(ctx context.Context, said string, mayBe func(person string) (who string, may bool)) error {
	for _, c := range code.FindAllString(strings.ToUpper(said), 4) {
		notes, err := o.Store.AnsweredNotes(ctx, c, time.Now().Add(-answersFor))
		if err != nil {
			return err
		}
		for _, n := range notes {
			if who, may := mayBe(n.Person); may {
				return o.Ack(ctx, n.Incident, who, "answered what was told by "+n.Channel)
			}
		}
	}
	return ErrNoCode
}

// AnswerBy is Answer by a channel, of who shows its token for that.
func (o *Outbox) AnswerBy(ctx context.Context, channel, token, said, by string) error {
	o.mu.Lock()
	s, is := o.channels[channel]
	o.mu.Unlock()
	if !is || s.Answers == "" {
		return ErrNotHere
	}
	v, err := o.Secret(s.Answers)
	if err != nil || v.Password == "" || subtle.ConstantTimeCompare([]byte(v.Password), []byte(token)) != 1 {
		return ErrNotHere
	}
	plan, _ := o.Plan()
	return o.Answer(ctx, said, func(person string) (string, bool) {
		who := plan.People[person].Title
		if by = plain.Line(by); by != "" && len(by) <= longestSaid {
			who = by
		}
		return fmt.Sprintf("%s (by %s)", who, channel), true
	})
}

// ErrNotHere: no answer is taken there, or not with that token.
var ErrNotHere = errors.New("no answer is taken here with that token")

// listens looks for text messages, while an answer may come.
func (o *Outbox) listens(ctx context.Context) {
	tick := time.NewTicker(listenEvery)
	defer tick.Stop()
	for n := 0; ; n++ {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		since := answersSoon
		if n%listenSeldom == 0 {
			since = answersFor
		}
		if o.Acts() {
			o.takeTexts(ctx, since)
		}
	}
}

// takeTexts takes those of channels by which somebody was told since a while.
func (o *Outbox) takeTexts(ctx context.Context, since time.Duration) {
	o.mu.Lock()
	phones := map[string]string{} // by channel
	for name, s := range o.channels {
		if s.Kind == Phone {
			phones[name] = s.Port
		}
	}
	o.mu.Unlock()
	for name, port := range phones {
		awaited, err := o.Store.Awaited(ctx, name, time.Now().Add(-since))
		if err == nil && awaited {
			err = o.TakeTexts(ctx, port, func(m sms.Message) error { return o.answered(ctx, m) })
		}
		if err != nil && ctx.Err() == nil && !errors.Is(err, store.ErrAway) {
			o.Log.Info("answers by text message cannot be looked for now", "channel", name, "because", err)
		}
	}
}

// answered takes one text message: it has to come from the number of who was told.
func (o *Outbox) answered(ctx context.Context, m sms.Message) error {
	plan, _ := o.Plan()
	err := o.Answer(ctx, m.Text, func(person string) (string, bool) {
		p := plan.People[person]
		for _, w := range p.Ways {
			if digits(w.To) == digits(m.Number) && digits(m.Number) != "" {
				return p.Title, true
			}
		}
		return "", false
	})
	if err == nil || errors.Is(err, store.ErrAway) { // which is tried again
		return err
	}
	text := fmt.Sprintf("A text message of %s did nothing (%s): %.*s", plain.Line(m.Number), err, longestSaid, plain.Line(m.Text))
	return o.Store.Write(ctx, store.Entry{At: time.Now().UTC(), Who: "plumbd", Kind: store.EntryTelling, Result: "refused", Text: text})
}

// digits are those of a number, without what people write between them.
func digits(number string) string {
	return strings.Map(func(r rune) rune {
		if r >= '0' && r <= '9' {
			return r
		}
		return -1
	}, number)
}
