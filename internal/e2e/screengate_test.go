package e2e

import (
	"image"
	"net"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/browser"
	"plumbbob/internal/core/keyboard"
	"plumbbob/internal/core/picture"
	"plumbbob/internal/wire/rfb"
)

// eyes see what a viewer is told.
type eyes struct {
	mu  sync.Mutex
	pic *picture.Picture
}

func (e *eyes) Resized(p *picture.Picture) { e.Updated(p, nil) }
func (e *eyes) Updated(p *picture.Picture, _ []picture.Rect) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.pic = p.Clone()
}
func (e *eyes) Cursor(rfb.Cursor) {}
func (e *eyes) Bell()             {}

func (e *eyes) part(r image.Rectangle) (out []byte) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.pic == nil || e.pic.W < r.Max.X || e.pic.H < r.Max.Y {
		return nil
	}
	for y := r.Min.Y; y < r.Max.Y; y++ {
		for _, c := range e.pic.Row(r.Min.X, y, r.Dx()) {
			out = append(out, byte(c>>16), byte(c>>8), byte(c))
		}
	}
	return out
}

// views comes in by the gate of screens.
func (w *world) views(name, password string) (*rfb.Viewer, error) {
	conn, err := net.Dial("tcp", w.service.ScreenGate())
	require.NoError(w, err)
	return rfb.Connect(w.Context(), conn, rfb.Options{Login: rfb.Login{User: name, Password: password}, Within: time.Minute})
}

// TestAViewerOfOnesOwn: any viewer of RFB shows a screen, with the person's own account, rights
// and journal, and with the same keyboard as in the browser.
func TestAViewerOfOnesOwn(t *testing.T) {
	w := begin(t)
	b := w.open()
	w.looks(b, "admin")
	_, err := w.views("admin", w.password)
	require.ErrorContains(t, err, "ACCOUNT@DEVICE")
	_, err = w.views("admin@"+kiosk, "wrong")
	require.ErrorIs(t, err, rfb.ErrRefused)
	_, err = w.views("admin@skarvoe-router", w.password)
	require.ErrorContains(t, err, "no screen of skarvoe-router")
	desk := w.joins("desk", "viewer")
	_, err = w.views("desk@"+kiosk, desk.password)
	require.ErrorContains(t, err, "a viewer may see neither")

	pass := w.hires("i.marsh", "operator")
	v, err := w.views("i.marsh@"+kiosk, pass)
	require.NoError(t, err)
	e := &eyes{}
	ended := make(chan error, 1)
	go func() { ended <- v.Run(e) }()
	require.NoError(t, v.Look(true))
	still := image.Rect(0, 80, 700, 420)
	w.eventually(func() bool {
		got := e.part(still)
		return got != nil && string(got) == string(part(w.picture(kiosk), still))
	}, "to the pixel")
	w.sees(b, "i.marsh")
	press := func(text string) {
		strokes, err := keyboard.Strokes(text, "us")
		require.NoError(t, err)
		for _, k := range strokes {
			require.NoError(t, v.Key(true, k[len(k)-1].Sym, k[len(k)-1].Code))
			require.NoError(t, v.Key(false, k[len(k)-1].Sym, k[len(k)-1].Code))
		}
	}
	press("x") // which asks for the keyboard
	w.sees(b, "i.marsh asks for the keyboard")
	require.NoError(t, b.Do(browser.Click("Give it")))
	w.sees(b, "i.marsh has the keyboard")
	press("tide")
	require.NoError(t, v.Point(420, 270, 1))
	require.NoError(t, v.Point(420, 270, 0))
	w.onScreen(kiosk, "button 4, name tide")
	require.Contains(t, w.flat(0, "", "journal", "--limit", "30"), "Sat down at the screen of skarvoe-kiosk")

	w.says(0, "", "account", "remove", "i.marsh")
	select {
	case <-ended:
	case <-time.After(soon):
		require.Fail(t, "whose account is gone still looks")
	}
}
