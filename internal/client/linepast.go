package client

import (
	"bufio"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"time"

	"github.com/spf13/pflag"

	"plumbbob/internal/api/contract"
)

// linePast is what is asked of what a line has said.
type linePast struct {
	span   time.Duration
	find   string
	limit  int
	export string
	play   bool
	screen bool
	speed  float64
}

func (p *linePast) flags(f *pflag.FlagSet) {
	spanVar(f, &p.span, "past", 0, time.Second, "show what it has said for so long, such as 2h or 3d, and sit at nothing")
	f.StringVar(&p.find, "find", "", "of that only lines with this text, in capitals or not; a day when --past is left out")
	f.IntVar(&p.limit, "limit", 500, "how many lines at the most, the newest; up to 5000")
	f.BoolVar(&p.screen, "screen", false, "show what a terminal there would show now; with --past what it did so long ago")
	f.StringVar(&p.export, "export", "", "write that to a file, as a recording that can be played (asciicast); - for the output")
	f.BoolVar(&p.play, "play", false, "play it as it was said; pauses are cut short")
	f.Float64Var(&p.speed, "speed", 1, "how fast it is played")
}

// wanted says whether the past is asked for at all.
func (p *linePast) wanted() bool {
	return p.span > 0 || p.find != "" || p.export != "" || p.play || p.screen
}

func (p *linePast) check() error {
	switch {
	case p.screen && (p.find != "" || p.export != "" || p.play):
		return fail(ExitUsage, "--screen is one picture: leave --find, --export and --play out")
	case p.find != "" && (p.export != "" || p.play):
		return fail(ExitUsage, "--find is for lines of text: leave it out with --export and --play")
	case p.export != "" && p.play:
		return fail(ExitUsage, "--export writes and --play plays: choose one")
	case p.speed <= 0 || p.speed > 1000:
		return fail(ExitUsage, "--speed is a number above 0, up to 1000")
	case p.limit < 1 || p.limit > 5000:
		return fail(ExitUsage, "--limit is 1 to 5000")
	}
	return nil
}

// back is how far it is looked back.
func (p *linePast) back() time.Duration {
	usually := time.Hour
	if p.find != "" {
		usually = 24 * time.Hour
	}
	return cmp.Or(p.span, usually)
}

// show shows it, in whichever way is wanted.
func (a *app) showPast(ctx context.Context, s *service, device string, p *linePast) error {
	if err := p.check(); err != nil {
		return err
	}
	if p.screen {
		return a.showScreen(ctx, s, device, p.span)
	}
	since := time.Now().Add(-p.back())
	if p.export == "" && !p.play {
		return a.pastLines(ctx, s, device, since, p)
	}
	res, err := s.GetLineRecording(ctx, device, &contract.GetLineRecordingParams{Since: &since})
	if err != nil {
		return s.unreachable(err)
	}
	defer func() { _ = res.Body.Close() }()
	if res.StatusCode != http.StatusOK {
		return s.refused(res)
	}
	if p.play {
		return a.playCast(ctx, res.Body, p.speed)
	}
	return a.exportCast(res.Body, p.export)
}

func (a *app) pastLines(ctx context.Context, s *service, device string, since time.Time, p *linePast) error {
	q := contract.GetLinePastParams{Since: &since, Limit: &p.limit}
	if p.find != "" {
		q.Find = &p.find
	}
	past, err := ask[contract.LinePast](s)(s.GetLinePast(ctx, device, &q))
	if err != nil {
		return err
	}
	if a.output == "table" && len(past.Lines) == 0 {
		fmt.Fprintf(a.err, "The line of %s has said nothing like that since %s, or it was not kept: it is while somebody sits there, and always with listen: true in the estate.\n", device, since.Local().Format(time.DateTime))
		return nil
	}
	if past.More {
		fmt.Fprintf(a.err, "These are the newest %d lines: see more with --limit, or a shorter --past.\n", len(past.Lines))
	}
	return a.show(past, func() table {
		t := table{columns: []string{inZone("WHEN"), "LINE"}}
		for _, l := range past.Lines {
			t.rows = append(t.rows, row(logged(&l.At), l.Text))
		}
		return t
	})
}

func (a *app) exportCast(from io.Reader, file string) error {
	if file == "-" {
		_, err := io.Copy(a.out, from)
		return err
	}
	return a.saveNew(from, "--export", file)
}

// longestPause is how long a pause lasts when it is played.
const longestPause = 2 * time.Second

// playCast plays a recording as it comes.
func (a *app) playCast(ctx context.Context, from io.Reader, speed float64) error {
	lines := bufio.NewScanner(from)
	lines.Buffer(nil, longestSaid)
	last := 0.0
	for first := true; lines.Scan(); first = false {
		if first {
			continue // the header
		}
		var at float64
		var kind, text string
		if err := json.Unmarshal(lines.Bytes(), &[]any{&at, &kind, &text}); err != nil {
			return fail(ExitFailed, "the recording cannot be read on: %s", err)
		}
		wait := min(time.Duration((at-last)*float64(time.Second)), longestPause)
		last = at
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(time.Duration(float64(wait) / speed)):
		}
		if _, err := io.WriteString(a.out, text); err != nil {
			return err
		}
	}
	fmt.Fprintln(a.out, "\x1b[0m")
	return lines.Err()
}

// showScreen shows what a terminal at the line showed some time ago.
func (a *app) showScreen(ctx context.Context, s *service, device string, ago time.Duration) error {
	at := time.Now().Add(-ago)
	x, err := ask[contract.LineScreen](s)(s.GetLineScreen(ctx, device, &contract.GetLineScreenParams{At: &at}))
	if err != nil {
		return err
	}
	if a.output == "json" || a.output == "yaml" {
		return a.show(x, nil)
	}
	if x.At == nil {
		fmt.Fprintf(a.err, "Nothing is kept of what the line of %s said before %s.\n", device, at.Local().Format(time.DateTime))
		return nil
	}
	fmt.Fprintln(a.err, a.paint("head", fmt.Sprintf("%s, as its line left it at %s:", device, x.At.Local().Format(time.DateTime))))
	a.screenRows(x, "")
	return nil
}

// mostColumns is how wide a screen is at the most.
const mostColumns = 500

// screenRows prints a screen without what is blank below, what is marked inverse.
func (a *app) screenRows(x contract.LineScreen, indent string) {
	last := len(x.Rows)
	for last > 0 && x.Rows[last-1] == "" {
		last--
	}
	for y, text := range x.Rows[:last] {
		row := []rune(text)
		for i := len(x.Marked) - 1; i >= 0; i-- {
			if m := x.Marked[i]; m.Row == y && a.colour && m.From >= 0 && m.From < m.To && m.To <= mostColumns {
				for len(row) < m.To {
					row = append(row, ' ')
				}
				row = []rune(string(row[:m.From]) + a.paint("inverse", string(row[m.From:m.To])) + string(row[m.To:]))
			}
		}
		fmt.Fprintln(a.out, indent+string(row))
	}
}
