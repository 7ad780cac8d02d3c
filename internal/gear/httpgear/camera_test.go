package httpgear

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"mime/multipart"
	"net/http"
	"net/http/httptest"
	"net/textproto"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/picture"
	"plumbbob/internal/gear"
	"plumbbob/internal/gear/geartest"
	"plumbbob/internal/lab"
	"plumbbob/internal/lab/labtest"
	"plumbbob/internal/profile"
	"plumbbob/internal/secret"
)

func camera(t *testing.T, address, path string, v secret.Value) *Camera {
	c, err := OpenCamera(Options{Name: "camera", Addresses: []string{address}, Secret: v, Timeout: 20 * time.Second}, path)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, c.Close()) })
	return c
}

func cupboard(t *testing.T, l *labtest.Lab) string {
	ep, ok := l.Estate.Device("skarvoe-camera-cupboard").Endpoint("picture")
	require.True(t, ok)
	return ep.Addresses[0]
}

func TestACameraConforms(t *testing.T) {
	l := labtest.Start(t, labtest.Options{})
	as := func(password string) func(*testing.T, string) gear.Driver {
		return func(t *testing.T, address string) gear.Driver {
			v := lab.BoardSecret
			v.Password = password
			return camera(t, address, "/now.jpg", v)
		}
	}
	geartest.Conforms(t, geartest.Subject{
		Address: cupboard(t, l), Network: "tcp", Open: as(lab.BoardSecret.Password), Stranger: as("guessed"), Password: "guessed", Refusals: []gear.Kind{gear.BadSecret},
	})
}

// TestTheCupboard is dark, and then lit, in pictures one by one and in a stream.
func TestTheCupboard(t *testing.T) {
	l := labtest.Start(t, labtest.Options{})
	light := estate.End{Device: "skarvoe-switch", Port: "poe-4"}
	for _, path := range []string{"/now.jpg", "/film.mjpeg"} {
		require.NoError(t, l.Flip(light, false))
		a, err := camera(t, cupboard(t, l), path, lab.BoardSecret).Attach(t.Context())
		require.NoError(t, err)
		require.Equal(t, gear.Takes{}, a.Takes())
		require.ErrorContains(t, a.Key(true, 'a', 30), "a camera takes neither keys")
		require.NoError(t, a.Look(true))
		bright := func() bool {
			p := a.Canvas().Picture()
			return p.W == 640 && p.Pix[470*640+600]&255 > 20
		}
		require.Eventually(t, func() bool { return a.Canvas().Picture().W == 640 && !bright() }, time.Minute, time.Millisecond)
		require.NoError(t, l.Flip(light, true))
		require.Eventually(t, bright, time.Minute, time.Millisecond, path)
		require.NoError(t, a.Close())
		require.ErrorContains(t, a.Err(), "given up")
	}
}

// TestWhatCamerasServe: logging in as each wants it, without telling the password where that can
// be; and what is no picture is said.
func TestWhatCamerasServe(t *testing.T) {
	of := func(w, h int) image.Image {
		m := image.NewGray(image.Rect(0, 0, w, h))
		for i := range m.Pix {
			m.Pix[i] = 200
		}
		return m
	}
	var small, large bytes.Buffer
	require.NoError(t, png.Encode(&small, of(8, 8)))
	require.NoError(t, jpeg.Encode(&large, of(16, 8), nil))
	huge := bytes.Clone(large.Bytes())
	copy(huge[bytes.Index(huge, []byte{0xff, 0xc0})+5:], []byte{0xff, 0xff, 0xff, 0xff}) // so large, it says
	var asked []string
	serve := func(kind string, body []byte) http.HandlerFunc {
		return func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", kind)
			_, _ = w.Write(body)
		}
	}
	mux := http.NewServeMux()
	mux.HandleFunc("/png", serve("image/png", small.Bytes()))
	mux.HandleFunc("/page", serve("text/html", []byte("<p>log in</p>")))
	mux.HandleFunc("/huge", serve("image/jpeg", huge))
	mux.HandleFunc("/short", serve("image/jpeg", large.Bytes()[:large.Len()-6]))
	mux.HandleFunc("/much", serve("image/jpeg", bytes.Repeat([]byte{0xff}, maxFilmed+2)))
	mux.HandleFunc("/digest", func(w http.ResponseWriter, r *http.Request) {
		asked = append(asked, r.Header.Get("Authorization"))
		if !strings.HasPrefix(asked[len(asked)-1], `Digest username="plumb"`) {
			w.Header().Set("WWW-Authenticate", `Digest realm="camera", nonce="a1", qop="auth", algorithm=SHA-256`)
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		serve("image/png", small.Bytes())(w, r)
	})
	mux.HandleFunc("/parts", func(w http.ResponseWriter, _ *http.Request) {
		parts := multipart.NewWriter(w)
		w.Header().Set("Content-Type", `multipart/x-mixed-replace; boundary="--`+parts.Boundary()+`"`) // as some write it
		for _, body := range [][]byte{small.Bytes(), large.Bytes()} {
			p, err := parts.CreatePart(textproto.MIMEHeader{"Content-Type": {"image/png"}})
			require.NoError(t, err)
			_, _ = p.Write(body)
		}
		_ = parts.Close()
	})
	waiting := make(chan struct{})
	mux.HandleFunc("/live", func(w http.ResponseWriter, r *http.Request) { // the next comes when something moves
		w.Header().Set("Content-Type", "multipart/x-mixed-replace;boundary=--frame")
		_, _ = fmt.Fprintf(w, "\r\n--frame\r\nContent-Type: image/png\r\nContent-Length: %d\r\n\r\n%s", small.Len(), small.Bytes())
		_ = http.NewResponseController(w).Flush()
		select {
		case <-r.Context().Done():
		case <-waiting:
		}
	})
	s := httptest.NewServer(mux)
	t.Cleanup(s.Close)
	at := s.Listener.Addr().String()
	plumb := secret.Value{Kind: secret.Login, User: "plumb", Password: "made up"}
	for path, want := range map[string]int{"/png": 8, "/parts": 16, "/digest": 8, "/live": 8} {
		a, err := camera(t, at, path, plumb).Attach(t.Context())
		require.NoError(t, err, path)
		require.NoError(t, a.Look(true))
		require.Eventually(t, func() bool { p := a.Canvas().Picture(); return p.W == want && near(p, 200) }, time.Minute, time.Millisecond, path)
		require.NoError(t, a.Close())
	}
	close(waiting)
	require.NotContains(t, fmt.Sprint(asked), "Basic")
	for path, want := range map[string]string{
		"/page": "neither JPEG nor PNG", "/huge": "65535 × 65535 pixels are too many", "/short": "its JPEG cannot be read", "/much": "more than 8 MiB",
	} {
		a, err := camera(t, at, path, secret.Value{}).Attach(t.Context())
		require.NoError(t, err, path)
		require.NoError(t, a.Look(true))
		select {
		case <-a.Ended():
			require.ErrorContains(t, a.Err(), want)
			require.Equal(t, gear.Malformed, gear.KindOf(a.Err()))
		case <-time.After(time.Minute):
			require.Fail(t, "it goes on", path)
		}
		require.NoError(t, a.Close())
	}
	_, err := camera(t, at, "/digest", secret.Value{}).Attach(t.Context())
	require.Equal(t, gear.BadSecret, gear.KindOf(err))
	_, err = camera(t, at, "/none", plumb).Attach(t.Context())
	require.ErrorContains(t, err, "has nothing at /none")
}

func near(p *picture.Picture, grey uint8) bool {
	want := color.Gray{Y: grey}
	return int(p.Pix[0]&255)-int(want.Y) < 4 && int(p.Pix[0]>>16)-int(want.Y) > -4
}

// TestThePortOfAKVM is chosen, and read back; what somebody at it chooses is seen.
func TestThePortOfAKVM(t *testing.T) {
	l := labtest.Start(t, labtest.Options{})
	p, err := profile.Find("lab-kvm")
	require.NoError(t, err)
	ep, _ := l.Estate.Device("ostrel-kvm").Endpoint("card")
	c := part[gear.Channel](t, open(t, Options{Addresses: ep.Addresses, Profile: p, Secret: lab.BoardSecret}))
	require.NoError(t, c.ShowPort(t.Context(), 3))
	require.NoError(t, l.Choose("ostrel-kvm", 2))
	n, err := c.ShownPort(t.Context())
	require.NoError(t, err)
	require.Equal(t, 2, n)
	require.ErrorContains(t, c.ShowPort(t.Context(), 5), "has no port 5: it has 4")

	// Its keyboard is plugged out and in, and a host that was deaf takes it.
	require.NoError(t, l.Deafen("ostrel-virt-2"))
	k := part[gear.Keyboard](t, open(t, Options{Addresses: ep.Addresses, Profile: p, Secret: lab.BoardSecret}))
	ctx, gone := context.WithCancel(t.Context())
	time.AfterFunc(300*time.Millisecond, gone) // who asks goes while it is out
	require.NoError(t, k.Replug(ctx))
	require.True(t, l.Plugged("ostrel-kvm"))

	p, err = profile.Find("lab-board")
	require.NoError(t, err)
	board, _ := l.Estate.Device("skarvoe-kvm").Endpoint("board")
	e := part[gear.Pretending](t, open(t, Options{Addresses: board.Addresses, Profile: p, Secret: lab.BoardSecret}))
	require.NoError(t, e.Pretend(t.Context(), "800x600"))
	require.Equal(t, "800x600", l.Edid("skarvoe-kvm"))
	require.ErrorContains(t, e.Pretend(t.Context(), "1x1"), `does not offer "1x1": it can be [1024x768 800x600`)
	p, err = profile.Find("lab-kvm")
	require.NoError(t, err)

	// One that says yes, and does nothing; one that says what cannot be.
	port := "1"
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = fmt.Fprintf(w, `{"port": %s}`, port) }))
	t.Cleanup(s.Close)
	c = part[gear.Channel](t, open(t, Options{Addresses: []string{s.Listener.Addr().String()}, Profile: p, Secret: lab.BoardSecret}))
	require.ErrorContains(t, c.ShowPort(t.Context(), 2), "accepted to show port 2, and shows port 1")
	for _, port = range []string{"9", "1.5", "1e300", "null"} {
		_, err := c.ShownPort(t.Context())
		require.ErrorContains(t, err, "does not say which port is seen", port)
	}
}
