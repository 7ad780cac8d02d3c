package api

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/coder/websocket"
	"github.com/labstack/echo/v5"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/broker"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/keyboard"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/picture"
	"plumbbob/internal/core/seat"
	"plumbbob/internal/core/sending"
	"plumbbob/internal/gear"
	"plumbbob/internal/screen"
	"plumbbob/internal/store"
)

// The screen of a device over a WebSocket. Binary messages from here are frames: four bytes of a
// number (big-endian), and then what picture.Framer writes. From there: 1 and the number of a
// frame that was drawn; 2, whether it is down, a keysym (4 bytes) and a code (2), which is a key;
// 3, x and y (2 bytes each) and buttons, which is the pointer. All else is JSON in text messages.

const (
	drawnMessage = 1
	keyMessage   = 2
	pointMessage = 3

	drawnBytes, keyBytes, pointBytes = 5, 8, 6
)

// screenMessage is what is told of a screen.
type screenMessage struct {
	placeMessage
	Screen string `json:"screen,omitempty"` // the connection to it, in words
	Waits  bool   `json:"waits,omitempty"`  // its KVM shows another one, at which somebody is
	Moved  bool   `json:"moved,omitempty"`  // somebody at its KVM has chosen another one

	LookOnly bool      `json:"lookOnly,omitempty"` // it takes neither keys nor a pointer
	Trouble  gear.Kind `json:"trouble,omitempty"`  // why there is no connection to it

	Displays []displayView `json:"displays,omitempty"` // where the picture has several
	Replugs  bool          `json:"replugs,omitempty"`  // its keyboard can be plugged out and in
	Edid     *edidView     `json:"edid,omitempty"`     // the display that the gear pretends to be
	Bare     bool          `json:"bare,omitempty"`     // next to nothing is on it
	Awake    *time.Time    `json:"awake,omitempty"`    // until then its device is kept awake

	Playing *playing `json:"playing,omitempty"` // what becomes of a sequence

	Text *contract.ScreenText `json:"text,omitempty"` // what stands on it, as was wished for
	Link *linkView            `json:"link,omitempty"` // the connection to you
}

// displayView is a part of the picture that is a display.
type displayView struct {
	X      int `json:"x"`
	Y      int `json:"y"`
	Width  int `json:"width"`
	Height int `json:"height"`
}

// edidView is the display that gear pretends to be to its host, and those that it could.
type edidView struct {
	Is     string     `json:"is"`
	Offers []string   `json:"offers"`
	Tries  string     `json:"tries,omitempty"` // another one, until somebody keeps it or it goes back
	Until  *time.Time `json:"until,omitempty"`
}

func edidOf(at *broker.At) *edidView {
	if len(at.Pretence.Offers) == 0 {
		return nil
	}
	v := &edidView{Is: at.Pretence.Is, Offers: at.Pretence.Offers, Tries: at.Trial.Is}
	if v.Tries != "" {
		v.Until = new(at.Trial.Until.UTC())
	}
	return v
}

// linkView is how the connection of somebody who looks is.
type linkView struct {
	Ms   int    `json:"ms"`             // from sending a frame to its being drawn, lately the least
	Rate int    `json:"rate,omitempty"` // bytes in a second; 0: not known, or more than is needed
	Form string `json:"form"`
}

const screenWishes = "ask, give, refuse, take, form, again, text, press, play, stop, awake, replug, pretend, keep, release and leave"

// screenWish is what somebody at a screen wants.
type screenWish struct {
	Do      string `json:"do"`   // one of screenWishes
	Form    string `json:"form"` // auto, full, few
	Name    string `json:"name"` // of a sequence, or of a display
	Minutes int    `json:"minutes"`
	contract.Keystrokes
}

// screen seats somebody at the screen of a device, for as long as the connection lasts.
func (s *Server) screen(c *echo.Context) error {
	ctx := c.Request().Context()
	key := estate.Key(c.Param("key"))
	if err := s.knows(key); err != nil {
		return err
	}
	if c.Request().Header.Get("Upgrade") == "" {
		return usage("the screen is a WebSocket: open it as one, or write plumb screen %s --save FILE.png", key)
	}
	who := whoIs(ctx)
	view, err := s.Broker.View(key, seat.Seat{ID: c.QueryParam("seat"), Who: who.Account, Role: operation.Role(who.Role), Watch: c.QueryParam("watch") == "true"})
	if err != nil {
		return err
	}
	_ = http.NewResponseController(c.Response()).SetReadDeadline(time.Time{})
	_ = http.NewResponseController(c.Response()).SetWriteDeadline(time.Time{})
	ws, err := websocket.Accept(c.Response(), c.Request(), nil)
	if err != nil {
		view.Lost()
		return nil // it has been answered
	}
	ws.SetReadLimit(longestTyped)
	l := &looker{ws: ws, device: key, view: view, changed: make(chan struct{}, 1), sequences: s.Store.Sequences}
	s.atPlace(ctx, ws, view, l.told, l.typed)
	return nil
}

// looker is one connection to a screen.
type looker struct {
	ws      *websocket.Conn
	device  estate.Key
	view    *broker.View
	pace    pace
	changed chan struct{} // the pace has; wakes told

	points atomic.Uint32 // where the pointer is: x, and y in the lower half

	pressing  atomic.Bool // a row of keys is being pressed
	stop      atomic.Pointer[context.CancelCauseFunc]
	sequences func(context.Context) ([]store.SequenceText, error)
}

// told sends what is new until there is nobody to send it to.
func (l *looker) told(ctx context.Context) error {
	var form picture.Form
	var said linkView
	wakes := time.AfterFunc(time.Hour, func() {
		l.pace.again(time.Now())
		l.poke()
	})
	defer wakes.Stop()
	for n := uint32(1); ; {
		ready, wants, link := l.pace.now()
		if wants != form {
			form = wants
			l.view.Anew()
		}
		if link != said {
			said = link
			if err := l.send(ctx, screenMessage{Link: &link}); err != nil {
				return err
			}
		}
		if in := l.pace.retries(time.Now()); in > 0 {
			wakes.Reset(in)
		}
		news, err := l.view.Next(ctx, broker.Wants{Picture: ready, Form: form, Room: l.pace.roomFor(), Around: l.around(), Changed: l.changed})
		if err != nil {
			return err
		}
		if news.At != nil || len(news.Notice) > 0 {
			m := screenMessage{placeMessage: placeMessage{Notice: news.Notice}}
			if news.At != nil {
				m.of(*news.At)
				m.Screen, m.Waits, m.Moved = news.At.Words, news.At.Waits, news.At.Moved
				m.LookOnly, m.Trouble, m.Bare, m.Replugs = news.At.LookOnly, news.At.Trouble, news.At.Bare, news.At.Replugs
				m.Edid = edidOf(news.At)
				for _, r := range news.At.Displays {
					m.Displays = append(m.Displays, displayView{r.X, r.Y, r.W, r.H})
				}
				if !news.At.Awake.IsZero() {
					m.Awake = new(news.At.Awake.UTC())
				}
			}
			if err := l.send(ctx, m); err != nil {
				return err
			}
		}
		if news.Frame != nil {
			if err := l.frame(ctx, n, news); err != nil {
				return err
			}
			n++
		}
	}
}

func (l *looker) send(ctx context.Context, m screenMessage) error {
	ctx, cancel := context.WithTimeout(ctx, sendWithin)
	defer cancel()
	return sendJSON(ctx, l.ws, m)
}

func (l *looker) frame(ctx context.Context, n uint32, news broker.Seen) error {
	ctx, cancel := context.WithTimeout(ctx, sendWithin)
	defer cancel()
	l.pace.sent(n, len(news.Frame), news.Left, time.Now())
	return l.ws.Write(ctx, websocket.MessageBinary, append(binary.BigEndian.AppendUint32(make([]byte, 0, 4+len(news.Frame)), n), news.Frame...))
}

// How far around the pointer what is new goes first, in pixels.
const aroundX, aroundY = 128, 96

func (l *looker) around() picture.Rect {
	at := l.points.Load()
	return picture.Rect{X: int(at>>16) - aroundX, Y: int(at&0xffff) - aroundY, W: 2 * aroundX, H: 2 * aroundY}
}

// typed takes what comes from somebody at a screen, and says whether they have left.
func (l *looker) typed(ctx context.Context) (leaves bool) {
	for {
		kind, p, err := l.ws.Read(ctx)
		if err != nil {
			return false
		}
		if kind == websocket.MessageBinary {
			err = l.input(p)
		} else if leaves, err = l.wish(ctx, p); leaves {
			return true
		}
		if err != nil && l.send(ctx, screenMessage{placeMessage: placeMessage{Error: err.Error()}}) != nil {
			return false
		}
	}
}

func (l *looker) input(p []byte) error {
	switch {
	case len(p) == drawnBytes && p[0] == drawnMessage:
		l.pace.drawn(binary.BigEndian.Uint32(p[1:]), time.Now())
		l.poke()
		return nil
	case len(p) == keyBytes && p[0] == keyMessage:
		return l.view.Key(p[1] != 0, binary.BigEndian.Uint32(p[2:]), binary.BigEndian.Uint16(p[6:]))
	case len(p) == pointBytes && p[0] == pointMessage:
		l.points.Store(binary.BigEndian.Uint32(p[1:]))
		return l.view.Point(int(binary.BigEndian.Uint16(p[1:])), int(binary.BigEndian.Uint16(p[3:])), p[5])
	}
	return errors.New("that is neither a key, nor the pointer, nor a frame that was drawn: docs/api.md says how those are written")
}

func (l *looker) poke() {
	select {
	case l.changed <- struct{}{}:
	default:
	}
}

func (l *looker) wish(ctx context.Context, p []byte) (leaves bool, err error) {
	var w screenWish
	if err := json.Unmarshal(p, &w); err != nil {
		return false, fmt.Errorf(`that is no wish: write {"do": "ask"}; %s can be done`, screenWishes)
	}
	if did, err := wishAt(l.view, w.Do); did {
		return false, err
	}
	switch w.Do {
	case "form":
		form, ok := picture.Forms[w.Form]
		if !ok && w.Form != formAuto {
			return false, fmt.Errorf("%q is no form of a picture: auto, full and few are", w.Form)
		}
		l.pace.choose(form, ok)
		l.poke()
		return false, nil
	case "again":
		return false, l.view.Again()
	case "text":
		t := textOf(l.view.Picture())
		return false, l.send(ctx, screenMessage{Text: &t})
	case "press":
		return false, l.press(ctx, w.Keystrokes)
	case "play":
		return false, l.play(ctx, w.Name)
	case "stop":
		l.stopPlaying()
		return false, nil
	case "awake":
		return false, l.view.Awake(time.Duration(w.Minutes) * time.Minute)
	case "replug":
		return false, l.beside(ctx, l.view.Replug)
	case "pretend":
		return false, l.beside(ctx, func(ctx context.Context) error { return l.view.Pretend(ctx, w.Name) })
	case "keep":
		return false, l.view.Keep()
	case "release":
		l.view.LetGo()
		return false, nil
	case "leave":
		return true, nil
	}
	return false, fmt.Errorf("%q cannot be done at a screen: %s can", w.Do, screenWishes)
}

// press presses a row of keys beside what else is done at the screen.
func (l *looker) press(ctx context.Context, k contract.Keystrokes) error {
	chords, what, err := strokes(&k)
	if err != nil {
		return err
	}
	return l.beside(ctx, func(ctx context.Context) error {
		err := l.view.Strokes(ctx, chords, keyHeld, keyGap)
		if err == nil {
			l.view.Record("Pressed keys at the screen of %s: %s", l.device, what)
		}
		return err
	})
}

// beside does something that takes a while beside what else is done at the screen, one at a time.
func (l *looker) beside(ctx context.Context, do func(context.Context) error) error {
	if !l.pressing.CompareAndSwap(false, true) {
		return errors.New("nothing was pressed: what you had typed before is still on its way")
	}
	go func() {
		defer l.pressing.Store(false)
		if err := do(ctx); err != nil {
			_ = l.send(ctx, screenMessage{placeMessage: placeMessage{Error: err.Error()}}) // or they have gone
		}
	}()
	return nil
}

// screenWithin is how long a screen is waited for, and pictureSettle for its picture to be whole.
const (
	screenWithin  = 15 * time.Second
	pictureSettle = 300 * time.Millisecond
)

// shown is what the screen of a device shows, which disturbs nobody who sits there.
func (s *Server) shown(ctx context.Context, key estate.Key, brings bool) (*picture.Picture, error) {
	if err := s.knows(key); err != nil {
		return nil, err
	}
	within, cancel := context.WithTimeout(ctx, screenWithin)
	defer cancel()
	p, err := s.Broker.Glimpse(within, key, pictureSettle, brings)
	var sorted *gear.Error
	var no *seat.NoError
	switch {
	case errors.As(err, &sorted), errors.As(err, &no):
		return nil, err
	case err != nil:
		return nil, &gear.Error{Kind: gear.Unreachable, Outcome: sending.NotSent, Text: fmt.Sprintf("the screen of %s: %s", key, err)}
	}
	e := entry(ctx, store.EntryScreen, "Took a picture of the screen of %s", key)
	e.Device = key
	if d := s.Keeper.Estate().Device(key); d != nil { // it may just have gone
		e.Site = d.Site
	}
	s.Keeper.Note(e)
	return p, nil
}

// GetPicture is what a screen shows, as a PNG.
func (s *Server) GetPicture(ctx context.Context, req contract.GetPictureRequestObject) (contract.GetPictureResponseObject, error) {
	p, err := s.shown(ctx, estate.Key(req.Key), orZero(req.Params.Bring))
	if err != nil {
		return nil, err
	}
	text, err := screen.PNG(p)
	if err != nil {
		return nil, err
	}
	return contract.GetPicture200ImagePngResponse{Body: bytes.NewReader(text), ContentLength: int64(len(text))}, nil
}

// GetScreenText reads what stands on a screen.
func (s *Server) GetScreenText(ctx context.Context, req contract.GetScreenTextRequestObject) (contract.GetScreenTextResponseObject, error) {
	p, err := s.shown(ctx, estate.Key(req.Key), orZero(req.Params.Bring))
	if err != nil {
		return nil, err
	}
	return contract.GetScreenText200JSONResponse(textOf(p)), nil
}

// textOf is what text a picture shows, where it is one of fixed cells.
func textOf(p *picture.Picture) contract.ScreenText {
	out := contract.ScreenText{Width: p.W, Height: p.H, Rows: []string{}}
	if t, is := screen.Read(p); is {
		out.IsText, out.Rows, out.Unknown, out.Font = true, t.Rows, t.Unknown, &t.Font
	}
	return out
}

// How keys are pressed: no faster than firmware takes them.
const (
	keyHeld     = 15 * time.Millisecond
	keyGap      = 15 * time.Millisecond
	mostStrokes = 4100 // two minutes
	usualLayout = "us"
)

// PressKeys presses keys, or types a text, for who has nobody else at the keyboard.
func (s *Server) PressKeys(ctx context.Context, req contract.PressKeysRequestObject) (contract.PressKeysResponseObject, error) {
	key := estate.Key(req.Key)
	if err := s.knows(key); err != nil {
		return nil, err
	}
	chords, what, err := strokes(req.Body)
	if err != nil {
		return nil, usage("%s", err)
	}
	who := whoIs(ctx)
	v, err := s.Broker.View(key, seat.Seat{Who: who.Account, Role: operation.Role(who.Role), Brief: true})
	if err != nil {
		return nil, err
	}
	defer v.Leave()
	if err := v.Up(ctx, screenWithin); err != nil {
		return nil, &gear.Error{Kind: gear.Unreachable, Outcome: sending.NotSent, Text: err.Error()}
	}
	if err := v.Strokes(ctx, chords, keyHeld, keyGap); err != nil {
		return nil, err
	}
	v.Record("Pressed keys at the screen of %s: %s", key, what)
	return contract.PressKeys200JSONResponse{Strokes: len(chords)}, nil
}

// strokes are the keys that are asked for, and what the journal says of them: a text may be a
// password, and is not said.
func strokes(k *contract.Keystrokes) (all []keyboard.Chord, what string, err error) {
	var said []string
	for _, name := range deref(k.Keys) {
		c, err := keyboard.Parse(name)
		if err != nil {
			return nil, "", err
		}
		all, said = append(all, c), append(said, strings.ToLower(name))
	}
	if text := orZero(k.Text); text != "" {
		layout := orZero(k.Layout)
		if layout == "" {
			layout = usualLayout
		}
		typed, err := keyboard.Strokes(text, layout)
		if err != nil {
			return nil, "", err
		}
		all = slices.Concat(all, typed)
		said = append(said, fmt.Sprintf("a text of %d characters", len(typed)))
	}
	if len(all) > mostStrokes {
		return nil, "", fmt.Errorf("%d keys are the most that are pressed at once, and these are %d", mostStrokes, len(all))
	}
	if len(all) == 0 {
		return nil, "", errors.New("there is nothing to press: name keys, or give a text")
	}
	return all, strings.Join(said, ", "), nil
}
