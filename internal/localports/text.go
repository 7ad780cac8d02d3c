package localports

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"time"

	"plumbbob/internal/wire/modem"
	"plumbbob/internal/wire/sms"
)

// textWithin is how long it is waited for a modem that is in a call.
const textWithin = 45 * time.Second

// withTexts opens the modem at a port for text messages, and has f use it.
func (r *Room) withTexts(ctx context.Context, name string, f func(m *modem.Modem) error) error {
	p, _, err := r.parts(name)
	if err != nil {
		return err
	}
	done := p.want()
	defer done()
	free, cancel := context.WithTimeoutCause(ctx, textWithin, errors.New("the modem is in a call"))
	defer cancel()
	if err := p.take(free); err != nil {
		return errors.New("the modem is in a call")
	}
	defer p.turn.Give()
	t, err := p.open()
	if err != nil {
		return err
	}
	m := modem.New(t)
	defer func() { _ = m.Close() }()
	err = m.SetUp(ctx)
	r.tells(p, err)
	if err == nil {
		err = m.Texts(ctx)
	}
	if err == nil {
		err = f(m)
	}
	return err
}

// Text sends a text message by the modem at a port, in as many parts as it needs. Its error says
// that not all of it was taken by the network.
func (r *Room) Text(ctx context.Context, name, number, text string) (says string, err error) {
	var ref [1]byte
	_, _ = rand.Read(ref[:]) // it never fails
	parts, err := sms.Submit(number, sms.Plain(text), ref[0])
	if err != nil {
		return "", err
	}
	err = r.withTexts(ctx, name, func(m *modem.Modem) error {
		for i, p := range parts {
			n, err := m.SendText(ctx, p.Hex, p.Octets)
			if err != nil {
				return fmt.Errorf("part %d of %d: %w", i+1, len(parts), err)
			}
			says = fmt.Sprintf("the network took %d of %d, as number %d", i+1, len(parts), n)
		}
		return nil
	})
	return says, err
}

// TakeTexts has f take each text message that has come to the modem at a port, and forgets those
// that it took.
func (r *Room) TakeTexts(ctx context.Context, name string, f func(sms.Message) error) error {
	return r.withTexts(ctx, name, func(m *modem.Modem) error {
		all, err := m.StoredTexts(ctx)
		if err != nil {
			return err
		}
		for _, x := range all {
			msg, err := sms.Parse(x.PDU)
			if err == nil {
				err = f(msg)
			} else {
				err = nil // what cannot be read is of no use later
			}
			if err != nil {
				return err
			}
			if err := m.DropText(ctx, x.Place); err != nil {
				return err
			}
		}
		return nil
	})
}
