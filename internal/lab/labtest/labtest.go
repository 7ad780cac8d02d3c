// Package labtest starts a lab for a test, at addresses that no other uses.
package labtest

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/demo"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/estatefile"
	"plumbbob/internal/lab"
)

// Lab is a running lab with the estate file that leads to it.
type Lab struct {
	*lab.Lab
	Estate *estate.Estate
	File   string // the estate file, as text

	Pier     *estate.Estate // as the second service sees it; nil: there is none
	PierFile string
}

// Options change how the lab starts.
type Options struct {
	Speed float64 // 0 means 40: what takes a minute takes a second and a half
	Echo  bool    // answer ICMP, where that is permitted

	TrapPort uint16

	Pier bool // a second service is to stand at the pier

	Text string // an estate file of another time, at the demo's own addresses; empty: that of today
}

// Start starts the demo estate's gear. It ends with the test.
func Start(t testing.TB, o Options) *Lab {
	t.Helper()
	if o.Speed == 0 {
		o.Speed = 40
	}
	var err error
	for range 20 {
		// Few enough addresses that two labs meet seldom; when they do, binding fails.
		a := demo.Addresses{Loopback: 80 + rand.IntN(170), Echo: 16 * (1 + rand.IntN(14)), NoEcho: !o.Echo}
		l := &Lab{File: demo.Estate(a)}
		if o.Text != "" {
			l.File = a.Move(o.Text)
		}
		if o.Pier {
			l.File, l.PierFile = demo.WithPier(a), demo.Pier(a)
			l.Pier, err = estatefile.Parse("pier", []byte(l.PierFile))
			require.NoError(t, err)
		}
		l.Estate, err = estatefile.Parse("demo", []byte(l.File))
		require.NoError(t, err)
		l.Lab, err = lab.Start(lab.Options{Estate: l.Estate, Speed: o.Speed, Seed: 1, NoEcho: !o.Echo, TrapPort: o.TrapPort, Mail: "127.0.0.1:0", Frame: 200 * time.Millisecond})
		if err == nil && o.Pier {
			if err = l.Beside(l.Pier); err != nil {
				require.NoError(t, l.Close())
			}
		}
		if err != nil {
			continue
		}
		t.Cleanup(func() { require.NoError(t, l.Close()) })
		return l
	}
	require.NoError(t, fmt.Errorf("no free addresses for a lab: %w", err))
	return nil
}
