package client

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/keyboard"
	"plumbbob/internal/core/plain"
)

func (a *app) screenCommand() *cobra.Command {
	var save string
	var text, watch, inPixels bool
	var past time.Duration
	var export string
	c := &cobra.Command{
		Use: "screen DEVICE", Short: "What the screen of a device shows, as a picture or as text", Args: args(1, 1, "plumb screen DEVICE --save FILE.png | --text | --watch | --past TIME"),
		Long: `Save what the screen of a device shows, as a PNG, or print what text stands there: --text reads
screens of fixed cells, as those of firmware and consoles, with the fonts that the service's
machine has (Debian's console-setup-linux); what it does not recognise it prints as ▯. The
screen is seen through a KVM that it is wired to, or by an endpoint of its own (protocol rfb);
whoever sits there is not disturbed. A KVM that shows one port at a time is told to show this
one, unless somebody sits at another one that it shows. What a screen showed before its device
fell silent is kept where the estate has watch: true at its endpoint: --past lists it, and
--export writes it into a directory. To see it move, and to type, open the device's page in the console. plumb keys and plumb type
press keys from here.`,
		Example: "  plumb screen skarvoe-kiosk --save kiosk.png",
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			switch {
			case watch && (text || save != "" || past > 0 || export != ""):
				return fail(ExitUsage, "--watch shows it until it is left: leave the others out")
			case inPixels && !watch:
				return fail(ExitUsage, "--sixel is for --watch")
			case watch:
				return a.watchScreen(c.Context(), s, given[0], inPixels)
			case text && save != "":
				return fail(ExitUsage, "--save and --text: only one of them")
			case (past > 0 || export != "") && (text || save != ""):
				return fail(ExitUsage, "--past and --export are for what was kept, --save and --text for what it shows now: only one of them")
			case past > 0 || export != "":
				return a.film(c.Context(), s, given[0], cmp.Or(past, 14*24*time.Hour), export)
			case text:
				return a.screenText(c, s, given[0])
			case save == "":
				return fail(ExitUsage, "say what for: plumb screen %s --save FILE.png (- is standard output), --text, --watch, or --past 2h", given[0])
			}
			res, err := s.GetPicture(c.Context(), given[0], &contract.GetPictureParams{Bring: new(true)})
			if err != nil {
				return s.unreachable(err)
			}
			defer func() { _ = res.Body.Close() }()
			if res.StatusCode != http.StatusOK {
				return s.refused(res)
			}
			if save == "-" {
				_, err := io.Copy(a.out, res.Body)
				return err
			}
			return a.saveNew(res.Body, "--save", save)
		}),
	}
	c.Flags().StringVar(&save, "save", "", "the file, which must not be there yet")
	spanVar(c.Flags(), &past, "past", 0, time.Second, "list what is kept of what it showed for so long, such as 2h or 3d")
	c.Flags().StringVar(&export, "export", "", "write that into this directory, a file for each picture")
	c.Flags().BoolVar(&watch, "watch", false, "show it in this terminal, as it changes: its text, or its picture in half characters")
	c.Flags().BoolVar(&inPixels, "sixel", false, "with --watch, in a terminal that shows sixels: as a picture")
	c.Flags().BoolVar(&text, "text", false, "print what text stands there")
	return c
}

// screenText prints what was read off a screen.
func (a *app) screenText(c *cobra.Command, s *service, device string) error {
	t, err := ask[contract.ScreenText](s)(s.GetScreenText(c.Context(), device, &contract.GetScreenTextParams{Bring: new(true)}))
	if err != nil {
		return err
	}
	if a.output != "table" {
		return a.show(t, func() table {
			out := table{columns: []string{"row"}}
			for _, r := range t.Rows {
				out.rows = append(out.rows, row(r))
			}
			return out
		})
	}
	if !t.IsText {
		return fail(ExitFailed, "the screen of %s shows a picture of %d × %d pixels, or text in a font that is not known: --save FILE.png saves it, and plumb glyph teach says what a row of it reads", device, t.Width, t.Height)
	}
	for _, r := range t.Rows {
		fmt.Fprintln(a.out, plain.Line(r))
	}
	if t.Unknown > 0 {
		fmt.Fprintln(a.err, counted(t.Unknown, "cell")+" not recognised: ▯ (plumb glyph teach "+device+" ROW TEXT says what they are)")
	}
	return nil
}

// saveNew writes a file that is not there yet; flag is what named it.
func (a *app) saveNew(from io.Reader, flag, file string) error {
	f, err := a.create(file, os.O_EXCL) // what is in it may be a secret
	if errors.Is(err, os.ErrExist) {
		return fail(ExitUsage, "%s: %s is there already: name another file, nothing is overwritten", flag, file)
	}
	if err != nil {
		return fail(ExitUsage, "%s: %s", flag, err)
	}
	n, err := io.Copy(f, from)
	if err = errors.Join(err, f.Close()); err != nil {
		return fail(ExitFailed, "%s is not complete: %s", file, err)
	}
	fmt.Fprintf(a.out, "%d bytes written to %s.\n", n, file)
	return nil
}

func (a *app) keysCommand() *cobra.Command {
	var sequence string
	c := &cobra.Command{
		Use: "keys DEVICE KEY…", Short: "Press keys of a device", Args: args(1, 101, "plumb keys DEVICE KEY…"),
		Long: `Press keys of a device, one after the other. Those that are held while another is pressed come
first: ctrl-alt-delete. Where somebody else has the keyboard, nothing is pressed. Keys are
letters, digits, marks, and:

  ` + strings.Join(keyboard.Names(), " ") + `

What is pressed is in the journal. With --sequence, a row of keys that is kept by its name is
played, which may wait for what stands on the screen: see plumb sequence.`,
		Example: "  plumb keys skarvoe-kiosk ctrl-alt-delete\n  plumb keys skarvoe-kiosk down down enter\n  plumb keys skarvoe-kiosk --sequence into-set-up",
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			switch {
			case sequence != "" && len(given) > 1:
				return fail(ExitUsage, "--sequence and keys: only one of them")
			case sequence != "":
				return a.play(c.Context(), s, given[0], sequence)
			case len(given) == 1:
				return fail(ExitUsage, "say which keys: plumb keys %s enter, or --sequence NAME", given[0])
			}
			return a.press(c, s, given[0], contract.Keystrokes{Keys: new(given[1:])})
		}),
	}
	c.Flags().StringVar(&sequence, "sequence", "", "play this one")
	return c
}

// longestTyped is how much is typed at once, in characters.
const longestTyped = 4000

func (a *app) typeCommand() *cobra.Command {
	var layout string
	c := &cobra.Command{
		Use: "type DEVICE [TEXT]", Short: "Type a text on the keyboard of a device", Args: args(1, 2, "plumb type DEVICE [TEXT]"),
		Long: `Type a text on the keyboard of a device, at a rate that firmware takes: about thirty keys in a
second. Without a text, standard input is typed; the end of a line is the Enter key. What
cannot be typed with the device's layout is named, and then nothing is typed. The journal
says how much was typed, and not what: it may be a password.`,
		Example: "  plumb type skarvoe-kiosk \"root\"\n  plumb type skarvoe-kiosk --layout no < answers.txt",
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			text := strings.Join(given[1:], "")
			if len(given) == 1 {
				p, err := io.ReadAll(io.LimitReader(a.in, 4*longestTyped+1))
				if err != nil {
					return fail(ExitUsage, "what is to be typed cannot be read: %s", err)
				}
				text = string(p)
			}
			if n := len([]rune(text)); n > longestTyped {
				return fail(ExitUsage, "%d characters are the most that is typed at once", longestTyped)
			}
			return a.press(c, s, given[0], contract.Keystrokes{Text: &text, Layout: &layout})
		}),
	}
	c.Flags().StringVar(&layout, "layout", "us", "of the device's keyboard: "+strings.Join(keyboard.Layouts(), ", "))
	return c
}

func (a *app) press(c *cobra.Command, s *service, device string, k contract.Keystrokes) error {
	sent, err := ask[contract.KeysSent](s)(s.PressKeys(c.Context(), device, k))
	if err != nil {
		return err
	}
	fmt.Fprintf(a.out, "%s pressed at %s.\n", counted(sent.Strokes, "key"), device)
	return nil
}
