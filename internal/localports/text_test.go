package localports_test

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/lab/phone"
	"plumbbob/internal/wire/sms"
)

// TestTexts: out in as many parts as they need, in, and what the network does not take.
func TestTexts(t *testing.T) {
	t.Parallel()
	r, far := ports(t, true)
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	m := phone.New(far, nil)
	go m.Serve(ctx, far, func(error) bool { return ctx.Err() == nil })

	says, err := r.Text(ctx, "it", "+298 123456", "router is hung ─ see to it")
	require.NoError(t, err)
	require.Equal(t, "the network took 1 of 1, as number 1", says)
	long := strings.Repeat("It is Δ and €. ", 30)
	says, err = r.Text(ctx, "it", "+298123456", long)
	require.NoError(t, err)
	require.Contains(t, says, "the network took 4 of 4")
	require.Equal(t, "router is hung - see to it", m.Texts()[0].Text)
	require.Equal(t, "+298123456", m.Texts()[0].To)
	require.Equal(t, long, m.Texts()[1].Text, "put together again")
	_, err = r.Text(ctx, "it", "nobody", "x")
	require.ErrorIs(t, err, sms.ErrNumber)
	_, err = r.Text(ctx, "other", "1", "x")
	require.ErrorContains(t, err, "no serial port")
	m.NoNetwork(true)
	_, err = r.Text(ctx, "it", "+298123456", "x")
	require.ErrorContains(t, err, "part 1 of 1: the modem, or its network, refuses: +CMS ERROR: 38")
	m.NoNetwork(false)

	for _, text := range []string{"ACK 4F7K", "ok"} {
		pdu, err := sms.Deliver("+298123456", text)
		require.NoError(t, err)
		m.Receive(pdu)
	}
	m.Receive("00FF")
	var came []string
	take := func(x sms.Message) error { came = append(came, x.Number+" "+x.Text); return nil }
	require.NoError(t, r.TakeTexts(ctx, "it", take))
	require.NoError(t, r.TakeTexts(ctx, "it", take))
	require.Equal(t, []string{"+298123456 ACK 4F7K", "+298123456 ok"}, came, "each once")
}
