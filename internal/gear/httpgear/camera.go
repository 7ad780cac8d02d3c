package httpgear

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"image"
	_ "image/jpeg"
	_ "image/png"
	"io"
	"mime/multipart"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/icholy/digest"

	"plumbbob/internal/canvas"
	"plumbbob/internal/core/picture"
	"plumbbob/internal/core/sending"
	"plumbbob/internal/gear"
	"plumbbob/internal/profile"
	"plumbbob/internal/secret"
)

// A Camera serves pictures over HTTP, JPEG or PNG: one for each request, or one after the other
// in an answer that does not end (multipart/x-mixed-replace). It may be shared between goroutines.
type Camera struct {
	web    *web
	path   string
	stream *http.Client // without a time within which an answer ends
}

var (
	_ gear.Screen   = (*Camera)(nil)
	_ gear.Answerer = (*Camera)(nil)
)

// aCamera stands for a profile, of which a camera has none.
var aCamera = &profile.Profile{Name: "of a camera"}

// OpenCamera prepares a driver; nothing is sent before somebody looks. It logs in as the camera
// wants it: digest, or basic (RFC 7616, 7617); with a token as bearer (RFC 6750).
func OpenCamera(o Options, path string) (*Camera, error) {
	o.Profile = aCamera
	w, err := newWeb(o)
	if err != nil {
		return nil, err
	}
	endless := *w.client
	endless.Timeout = 0
	return &Camera{w, path, &endless}, nil
}

// Close drops idle connections.
func (c *Camera) Close() error {
	c.web.client.CloseIdleConnections()
	return nil
}

// Answer asks for a picture, and takes its beginning for a sign of life.
func (c *Camera) Answer(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, c.web.o.Timeout)
	defer cancel()
	res, err := c.ask(ctx)
	if err != nil {
		return err
	}
	return res.Body.Close()
}

// ask asks for what the camera shows, and logs in where it wants that.
func (c *Camera) ask(ctx context.Context) (*http.Response, error) {
	res, err := c.request(ctx, "")
	if err == nil && res.StatusCode == http.StatusUnauthorized && c.web.o.Secret.Kind != "" {
		_ = res.Body.Close()
		var as string
		if as, err = c.login(res.Header); err == nil {
			res, err = c.request(ctx, as)
		}
	}
	if err != nil {
		c.web.address.Add(1) // try the next address another time
		return nil, c.web.err(err, sending.NotSent)
	}
	if err := c.web.status(res.StatusCode, c.path); err != nil {
		_ = res.Body.Close()
		return nil, err
	}
	return res, nil
}

func (c *Camera) request(ctx context.Context, authorization string) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, c.web.url(c.path), nil)
	if err != nil {
		return nil, err
	}
	if authorization != "" {
		req.Header.Set("Authorization", authorization)
	}
	return c.stream.Do(req)
}

// login answers a camera that asks who is there: in a way that does not tell the password, where
// it knows one.
func (c *Camera) login(h http.Header) (string, error) {
	s := c.web.o.Secret
	if s.Kind == secret.Token {
		return "Bearer " + s.Password, nil
	}
	if chal, err := digest.FindChallenge(h); err == nil {
		as, err := digest.Digest(chal, digest.Options{Method: http.MethodGet, URI: c.path, Username: s.User, Password: s.Password})
		if err != nil {
			return "", err
		}
		return as.String(), nil
	}
	r := http.Request{Header: http.Header{}}
	r.SetBasicAuth(s.User, s.Password)
	return r.Header.Get("Authorization"), nil
}

// Attach has its pictures drawn for as long as they are looked at.
func (c *Camera) Attach(ctx context.Context) (gear.Attached, error) {
	within, cancel := context.WithTimeout(ctx, c.web.o.Timeout)
	defer cancel()
	res, err := c.ask(within) // what is wrong is said before anybody waits
	if err != nil {
		return nil, err
	}
	_ = res.Body.Close()
	ctx, stop := context.WithCancel(context.WithoutCancel(ctx))
	a := &filmed{c: c, canvas: canvas.New(1, 1), stop: stop, wish: make(chan struct{}, 1), ended: make(chan struct{})}
	go func() {
		defer close(a.ended)
		a.err = gear.Safely(func() error { return a.run(ctx) })
	}()
	return a, nil
}

// How often a camera is asked that serves one picture for each request, and how often that may
// fail until it counts as lost.
const (
	filmEvery = 500 * time.Millisecond
	filmFails = 3
)

// filmed is somebody who looks at a camera.
type filmed struct {
	c      *Camera
	canvas *canvas.Canvas
	stop   context.CancelFunc
	ended  chan struct{}
	err    error // once it has ended

	mu    sync.Mutex
	looks bool
	wish  chan struct{}
}

func (a *filmed) run(ctx context.Context) error {
	failed := 0
	for {
		if a.isLooking() {
			err := a.film(ctx)
			switch {
			case ctx.Err() != nil:
			case err == nil:
				failed = 0
			case failed+1 < filmFails:
				failed++
			default:
				return err
			}
		}
		select {
		case <-ctx.Done():
			return a.c.web.err(context.Canceled, sending.NotSent)
		case <-a.wish:
		case <-time.After(filmEvery):
		}
	}
}

func (a *filmed) isLooking() bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.looks
}

// film draws one picture, or what comes in an answer that goes on, while it is looked at.
func (a *filmed) film(ctx context.Context) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	late := time.AfterFunc(a.c.web.o.Timeout, cancel) // for each picture
	defer late.Stop()
	res, err := a.c.ask(ctx)
	if err != nil {
		return err
	}
	defer func() { _ = res.Body.Close() }()
	if !strings.HasPrefix(strings.TrimSpace(res.Header.Get("Content-Type")), "multipart/") {
		return a.draw(res.Body)
	}
	parts, err := partsOf(res.Body)
	if err != nil {
		return a.c.web.err(err, sending.NotSent)
	}
	for a.isLooking() {
		part, err := parts.NextRawPart()
		if err != nil {
			if errors.Is(err, io.EOF) {
				return nil // and it is asked again
			}
			return a.c.web.err(err, sending.NotSent)
		}
		// One that says how long it is need not be followed by the next to be complete.
		var from io.Reader = part
		if n, err := strconv.ParseInt(part.Header.Get("Content-Length"), 10, 64); err == nil && n > 0 {
			from = io.LimitReader(part, n)
		}
		if err := a.draw(from); err != nil {
			return err
		}
		late.Reset(a.c.web.o.Timeout)
	}
	return nil
}

// longestBoundary is the longest line between parts (RFC 2046, section 5.1.1), with room to spare.
const longestBoundary = 200

// partsOf reads parts by what really stands between them, which is not always what was announced.
func partsOf(from io.Reader) (*multipart.Reader, error) {
	r := bufio.NewReader(from)
	for {
		if b, err := r.Peek(1); err != nil {
			return nil, err
		} else if b[0] != '\r' && b[0] != '\n' {
			break
		}
		_, _ = r.Discard(1)
	}
	for n := 1; n <= longestBoundary; n++ { // no more is waited for than the line
		line, err := r.Peek(n)
		if err != nil {
			return nil, err
		}
		if line[n-1] == '\n' {
			if boundary, marked := bytes.CutPrefix(bytes.TrimRight(line, "\r\n\t "), []byte("--")); marked {
				return multipart.NewReader(r, string(boundary)), nil
			}
			break
		}
	}
	return nil, errors.New("its parts are not marked")
}

// maxFilmed bounds one picture, packed.
const maxFilmed = 8 << 20

func (a *filmed) draw(from io.Reader) error {
	packed, err := io.ReadAll(io.LimitReader(from, maxFilmed+1))
	if err != nil {
		return a.c.web.err(err, sending.NotSent)
	}
	wrong := func(format string, args ...any) error {
		return &gear.Error{Kind: gear.Malformed, Outcome: sending.NotSent, Text: a.c.web.o.Name + ": what its camera serves is no picture: " + fmt.Sprintf(format, args...)}
	}
	if len(packed) > maxFilmed {
		return wrong("more than %d MiB", maxFilmed>>20)
	}
	size, kind, err := image.DecodeConfig(bytes.NewReader(packed))
	if err != nil {
		return wrong("neither JPEG nor PNG")
	}
	if !picture.Fits(size.Width, size.Height) {
		return wrong("%d × %d pixels are too many", size.Width, size.Height)
	}
	img, _, err := image.Decode(bytes.NewReader(packed))
	if err != nil {
		return wrong("its %s cannot be read", strings.ToUpper(kind))
	}
	p := picture.Of(img)
	a.canvas.Take(p, []picture.Rect{{W: p.W, H: p.H}})
	return nil
}

func (a *filmed) Canvas() *canvas.Canvas { return a.canvas }
func (a *filmed) Ended() <-chan struct{} { return a.ended }
func (a *filmed) Err() error             { return a.err }
func (a *filmed) Takes() gear.Takes      { return gear.Takes{} }
func (a *filmed) Lights() (uint8, bool)  { return 0, false }

// Look has pictures asked for, or not any more.
func (a *filmed) Look(on bool) error {
	a.mu.Lock()
	a.looks = on
	a.mu.Unlock()
	return a.Again()
}

// Again has the next one asked for at once.
func (a *filmed) Again() error {
	select {
	case a.wish <- struct{}{}:
	default:
	}
	return nil
}

var errNoKeys = &gear.Error{Kind: gear.Unsupported, Outcome: sending.NotSent, Text: "a camera takes neither keys nor a pointer"}

// Key is refused: there is no keyboard.
func (a *filmed) Key(bool, uint32, uint16) error { return errNoKeys }

// Point is refused likewise.
func (a *filmed) Point(int, int, uint8) error { return errNoKeys }

// Close ends it.
func (a *filmed) Close() error {
	a.stop()
	<-a.ended
	return nil
}
