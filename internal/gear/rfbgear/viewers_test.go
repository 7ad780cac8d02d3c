//go:build strangers

package rfbgear

import (
	"net"
	"os"
	"os/exec"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/canvas"
	"plumbbob/internal/core/picture"
	"plumbbob/internal/wire/rfb"
)

// box is what a viewer sees.
type box struct {
	*canvas.Canvas
	keys atomic.Int32
}

func (b *box) Key(down bool, _ uint32, code uint16) {
	if down && code == 0x1e { // A, by its place
		b.keys.Add(1)
	}
}
func (b *box) Point(int, int, uint8) {}

// TestAViewerOfSomebodyElse: what is served is to the pixel what a viewer of somebody else's draws,
// in each encoding and as it changes, and keys come by their places.
func TestAViewerOfSomebodyElse(t *testing.T) {
	d := startDisplay(t, "-SecurityTypes", "None")
	sees, err := Open(Options{Name: "x", Addresses: []string{d.address}, Timeout: 20 * time.Second})
	require.NoError(t, err)
	a, err := sees.Attach(t.Context())
	require.NoError(t, err)
	defer func() { require.NoError(t, a.Close()) }()
	require.NoError(t, a.Look(true))
	for name, args := range map[string][]string{
		"as it likes": {"-QualityLevel=9"}, "tight": {"-AutoSelect=0", "-PreferredEncoding=Tight", "-NoJPEG"}, "zrle": {"-AutoSelect=0", "-PreferredEncoding=ZRLE"}, "raw": {"-AutoSelect=0", "-PreferredEncoding=Raw"},
	} {
		t.Run(name, func(t *testing.T) {
			b := &box{Canvas: canvas.New(1, 1)}
			b.Take(bands(320, 240, 1), nil)
			ln, err := net.Listen("tcp", "127.0.0.1:0")
			require.NoError(t, err)
			go func() {
				for {
					c, err := ln.Accept()
					if err != nil {
						return
					}
					go func() { t.Log(rfb.Serve(t.Context(), c, "a box", rfb.Door{}, b)) }()
				}
			}()
			host, port, _ := net.SplitHostPort(ln.Addr().String())
			v := exec.CommandContext(t.Context(), "xtigervncviewer", append(args, "-SecurityTypes=None", "-geometry=320x240+0+0", host+"::"+port)...)
			v.Env = append(os.Environ(), "DISPLAY=:"+d.address[len("127.0.0.1:"):])
			require.NoError(t, v.Start())
			defer func() { _ = v.Process.Kill(); _, _ = v.Process.Wait(); _ = ln.Close() }()
			for n := range 8 {
				p := bands(320, 240, n)
				b.Take(p, []picture.Rect{{W: p.W, H: p.H}})
				require.Eventually(t, func() bool { return within(a.Canvas().Picture(), p, len(args) == 1) }, time.Minute, 20*time.Millisecond, "picture %d", n)
			}
			require.Eventually(t, func() bool {
				for _, button := range []uint8{0, 1, 0} { // nobody else says whose the keyboard is
					_ = a.Point(100, 100, button)
				}
				_ = a.Key(true, 'a', 0x1e)
				_ = a.Key(false, 'a', 0x1e)
				return b.keys.Load() > 0
			}, time.Minute, 100*time.Millisecond)
			require.NoError(t, a.Point(700, 500, 0))
		})
	}
}

// bands are areas of few colours, and below them of many, behind a corner that nothing else has.
func bands(w, h, n int) *picture.Picture {
	colours := []uint32{0xd02020, 0x20d020, 0x2020d0, 0xf0f0f0, 0x404040}
	p := picture.New(w, h)
	for i := range p.Pix {
		x, y := i%w, i/w
		p.Pix[i] = colours[(y/20*(n+1)+x/64+n)%len(colours)]
		if y > 200 {
			p.Pix[i] = uint32(x*y*(n+3)) & 0xffffff
		}
	}
	p.Pix[0] = 0xfedc00 + uint32(n)
	return p
}

// within says whether a picture is somewhere in another; or nearly so, in the middle of its bands,
// of which a JPEG leaves enough.
func within(all, p *picture.Picture, nearly bool) bool {
	first, step := 0, 1
	if nearly {
		first, step = 10, 20
	}
	for y := range all.H - p.H {
	next:
		for x := range all.W - p.W {
			for j := first; j < p.H && !(nearly && j > 180); j += step {
				for i := first; i < p.W; i += step {
					if is, want := all.Pix[(y+j)*all.W+x+i], p.Pix[j*p.W+i]; is != want && !(nearly && (near(is, want) || i%64 < 8 || i%64 > 56)) {
						continue next
					}
				}
			}
			return true
		}
	}
	return false
}
