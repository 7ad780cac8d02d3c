package client

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/coder/websocket"
	"github.com/mattn/go-sixel"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/picture"
	"plumbbob/internal/core/plain"
)

// onlooker shows a screen in a terminal: its text, where it is one of text, and else its picture
// in half characters.
type onlooker struct {
	a       *app
	conn    *websocket.Conn
	device  string
	picture *picture.Picture
	text    *contract.ScreenText
	state   string
	asked   bool // for the text; it has not come
	stale   bool // another picture has come since

	lines  []string // that stand on the terminal
	at     time.Time
	sixels *sixel.Encoder // nil: characters are drawn, and no pixels
	fresh  bool           // the picture has changed since it was drawn
	w, h   int            // of the one that stands on the terminal
}

// drawsAtMost is how often it is drawn: a terminal may be at a thin link.
const drawsAtMost = 300 * time.Millisecond

// screenNews is what is told of a screen, as far as it is shown here.
type screenNews struct {
	Screen string               `json:"screen"`
	Text   *contract.ScreenText `json:"text"`
	Error  string               `json:"error"`
}

// longestFrame is a whole screen, as it is at the worst.
const longestFrame = 96 << 20

// watchScreen shows a screen until ctx ends.
func (a *app) watchScreen(ctx context.Context, s *service, device string, inPixels bool) error {
	if !a.toTerminal || !a.terminal() {
		return fail(ExitUsage, "--watch needs a terminal: --text prints what stands there once, and --save FILE.png saves a picture")
	}
	conn, err := s.atScreen(ctx, device, "?watch=true")
	if err != nil {
		return err
	}
	o := &onlooker{a: a, conn: conn, device: device, state: "calling"}
	if inPixels {
		o.sixels = sixel.NewEncoder(a.out)
	}
	fmt.Fprint(a.out, "\x1b[?1049h\x1b[?25l") // a page of its own, without a cursor
	defer fmt.Fprint(a.out, "\x1b[?25h\x1b[?1049l")
	err = o.look(ctx, s)
	leaveScreen(ctx, conn)
	if ctx.Err() != nil {
		return nil // that is how it ends
	}
	return err
}

func (o *onlooker) look(ctx context.Context, s *service) error {
	for {
		kind, p, err := o.conn.Read(ctx)
		var closed websocket.CloseError
		switch {
		case errors.As(err, &closed) && closed.Reason != "":
			return fail(ExitFailed, "the screen of %s: %s", o.device, plain.Line(closed.Reason))
		case err != nil:
			return s.unreachable(err)
		case kind == websocket.MessageBinary:
			err = o.frame(ctx, p)
		default:
			err = o.told(ctx, s.harmless(p))
		}
		if err != nil {
			return err
		}
		o.draw()
	}
}

// frame takes what has changed, says that it has, and asks for its text.
func (o *onlooker) frame(ctx context.Context, p []byte) error {
	if len(p) < 4 {
		return fail(ExitFailed, "%s", picture.ErrFrame)
	}
	next, err := picture.Apply(o.picture, p[4:])
	if err != nil {
		return fail(ExitFailed, "%s", err)
	}
	o.picture, o.stale, o.fresh = next, true, true
	select { // what has not been drawn is not sent
	case <-ctx.Done():
	case <-time.After(drawsAtMost - time.Since(o.at)):
	}
	if err := o.conn.Write(ctx, websocket.MessageBinary, append([]byte{1}, p[:4]...)); err != nil {
		return err
	}
	return o.ask(ctx)
}

func (o *onlooker) ask(ctx context.Context) error {
	if o.asked || !o.stale || o.sixels != nil {
		return nil
	}
	o.asked, o.stale = true, false
	return o.conn.Write(ctx, websocket.MessageText, []byte(`{"do":"text"}`))
}

func (o *onlooker) told(ctx context.Context, p []byte) error {
	var m screenNews
	if err := json.Unmarshal(p, &m); err != nil {
		return fail(ExitFailed, "the screen of %s said something that is not understood", o.device)
	}
	if m.Screen != "" {
		o.state = plain.Line(m.Screen)
	}
	if m.Error != "" {
		o.state = plain.Line(m.Error)
	}
	if m.Text != nil {
		o.text, o.asked = m.Text, false
		return o.ask(ctx)
	}
	return nil
}

// draw shows it on the terminal, from its upper left corner, with a line below it.
func (o *onlooker) draw() {
	columns, rows := o.a.term.Size()
	if columns <= 0 || rows <= 1 {
		columns, rows = 80, 24
	}
	var lines []string
	switch {
	case o.sixels != nil:
		o.drawPixels(columns, rows)
		lines = make([]string, rows-1)
	case o.text != nil && o.text.IsText:
		for _, r := range o.text.Rows {
			lines = append(lines, trimmed(plain.Line(r), columns))
		}
	case o.picture != nil:
		lines = halves(o.picture, columns, rows-1, o.a.colour)
	}
	lines = lines[max(0, len(lines)-(rows-1)):]
	for len(lines) < rows-1 {
		lines = append(lines, "")
	}
	lines = append(lines, o.a.paint("head", trimmed(o.device+": "+o.state+"; Ctrl-C leaves it", columns)))
	var out strings.Builder
	for i, l := range lines { // only what has changed
		if o.sixels != nil && i < rows-1 {
			continue
		}
		if i >= len(o.lines) || len(o.lines) != len(lines) || o.lines[i] != l {
			fmt.Fprintf(&out, "\x1b[%d;1H%s\x1b[K", i+1, l)
		}
	}
	o.lines, o.at = lines, time.Now()
	fmt.Fprint(o.a.out, out.String())
}

// drawPixels draws the picture itself, if it is another one.
func (o *onlooker) drawPixels(columns, rows int) {
	if o.picture == nil || !o.fresh {
		return
	}
	if o.w != o.picture.W || o.h != o.picture.H {
		fmt.Fprint(o.a.out, "\x1b[2J")
		o.lines = nil
	}
	o.fresh, o.w, o.h = false, o.picture.W, o.picture.H
	fmt.Fprint(o.a.out, "\x1b[H")
	w, h := o.a.pixels(columns, rows)
	_ = sixels(o.sixels, o.picture, w, h) // a terminal that is gone is noticed elsewhere
}

func trimmed(text string, columns int) string {
	all := []rune(text)
	return string(all[:min(len(all), columns)])
}

// shades are characters by how much of them is lit.
var shades = []rune(" ░▒▓█")

// halves draws a picture in characters: in two colours for each, the upper and the lower half, or
// in shades where there are no colours.
func halves(p *picture.Picture, columns, rows int, colour bool) []string {
	if p.W == 0 || p.H == 0 {
		return nil
	}
	w, h := columns, max(1, columns*p.H/p.W/2)
	if h > rows {
		w, h = max(1, rows*2*p.W/p.H), rows
	}
	lines := make([]string, h)
	for y := range lines {
		var line strings.Builder
		for x := range w {
			upper, lower := mean(p, x, 2*y, w, 2*h), mean(p, x, 2*y+1, w, 2*h)
			if colour {
				fmt.Fprintf(&line, "\x1b[38;2;%d;%d;%dm\x1b[48;2;%d;%d;%dm▀", upper>>16, upper>>8&255, upper&255, lower>>16, lower>>8&255, lower&255)
				continue
			}
			line.WriteRune(shades[min(len(shades)-1, (light(upper)+light(lower))*len(shades)/512)])
		}
		if colour {
			line.WriteString("\x1b[0m")
		}
		lines[y] = line.String()
	}
	return lines
}

// mean is the colour of one of w by h fields of a picture.
func mean(p *picture.Picture, x, y, w, h int) uint32 {
	x0, x1 := x*p.W/w, max(x*p.W/w+1, (x+1)*p.W/w)
	y0, y1 := y*p.H/h, max(y*p.H/h+1, (y+1)*p.H/h)
	var r, g, b, n uint32
	for j := y0; j < min(y1, p.H); j++ {
		for _, c := range p.Row(x0, j, min(x1, p.W)-x0) {
			r, g, b, n = r+c>>16&255, g+c>>8&255, b+c&255, n+1
		}
	}
	if n == 0 {
		return 0
	}
	return r/n<<16 | g/n<<8 | b/n
}

// light is how bright a colour is, of 255 (ITU-R BT.601).
func light(c uint32) int { return int(299*(c>>16)+587*(c>>8&255)+114*(c&255)) / 1000 }
