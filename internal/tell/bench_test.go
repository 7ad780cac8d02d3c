package tell

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"plumbbob/internal/bus"
	"plumbbob/internal/core/incident"
	"plumbbob/internal/health"
	"plumbbob/internal/lab/post"
	"plumbbob/internal/secret"
	"plumbbob/internal/store"
	"plumbbob/internal/store/storetest"
)

// BenchmarkOutbox sends 10,000 mails, to 1000 people of ten incidents one after the other: through
// the outbox, as they are noted with the incident and recorded one by one, and as the same number of
// mails by themselves.
func BenchmarkOutbox(b *testing.B) {
	const people, incidents = 1000, 10
	server, err := post.Start(post.Options{Address: "127.0.0.1:0"})
	require.NoError(b, err)
	defer func() { require.NoError(b, server.Close()) }()
	set := Settings{Kind: Mail, Server: server.Address, TLS: NoTLS, From: "plumb@pier.example"}
	b.Run("bare", func(b *testing.B) {
		for b.Loop() {
			var work errgroup.Group
			work.SetLimit(atOnce)
			for range people * incidents {
				work.Go(func() error {
					_, err := set.send(b.Context(), secret.Value{}, "ann@pier.example", hung())
					return err
				})
			}
			require.NoError(b, work.Wait())
		}
		b.ReportMetric(float64(people*incidents*b.N)/b.Elapsed().Seconds(), "messages/s")
	})
	b.Run("outbox", func(b *testing.B) {
		var text strings.Builder
		text.WriteString("plumb-telling: 1\npeople:\n")
		var all []string
		for i := range people {
			fmt.Fprintf(&text, "  p%d: {ways: [{channel: office, to: p%d@pier.example}]}\n", i, i)
			all = append(all, fmt.Sprintf("p%d", i))
		}
		fmt.Fprintf(&text, "rules: [{name: all, tell: [{who: [%s]}]}]\n", strings.Join(all, ", "))
		var one *incident.Incident
		o := NewOutbox(Parts{
			Store: storetest.Open(b), Bus: &bus.Bus{}, Health: health.New(slog.New(slog.DiscardHandler)), Log: slog.New(slog.DiscardHandler),
			Secret: func(string) (secret.Value, error) { return secret.Value{}, nil },
			About:  func(*incident.Incident) About { return About{Zone: time.UTC} },
			Find:   func(context.Context, string) (*incident.Incident, error) { return one, nil },
		})
		doc, err := json.Marshal(set)
		require.NoError(b, err)
		require.NoError(b, o.Store.SetChannel(b.Context(), store.ChannelRow{Name: "office", Kind: Mail, Doc: string(doc), SetAt: noon, SetBy: "ann"}))
		require.NoError(b, o.Store.SetTelling(b.Context(), store.TellingVersion{At: noon, Who: "ann", Text: text.String()}))
		require.NoError(b, o.Refresh(b.Context()))
		n := 0
		b.ResetTimer()
		for b.Loop() {
			for range incidents {
				n++
				one = &incident.Incident{ID: fmt.Sprint("i", n), Device: "router", Site: "pier", Kind: "hung", Opened: time.Now().UTC().Add(-time.Hour)}
				require.NoError(b, o.Store.SaveIncident(b.Context(), one, o.Next))
				require.NoError(b, o.send(b.Context(), time.Now().UTC()))
			}
		}
		b.ReportMetric(float64(people*n)/b.Elapsed().Seconds(), "messages/s")
		waiting, err := o.Store.CountNotes(b.Context(), "queued", time.Time{})
		require.NoError(b, err)
		require.Zero(b, waiting)
	})
}
