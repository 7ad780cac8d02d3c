package client

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"github.com/coder/websocket"
	"github.com/spf13/cobra"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/keyboard"
	"plumbbob/internal/core/plain"
)

const keySequenceHelp = `A sequence is what is pressed and waited for at a screen, in a row, kept by its name: a file of
lines such as

  key ctrl-alt-delete    one key, or several together; several after one another
  wait Press F2 1m       until this stands on the screen, a regular expression; 30 s by default
  type root              these characters, and Enter
  pause 2s
  # a remark

Whoever may sit at a screen can read it: no password belongs into one. It is played with plumb keys
DEVICE --sequence NAME, and on the page of a screen, where one is also recorded.`

func (a *app) sequenceCommand() *cobra.Command {
	c := &cobra.Command{Use: "sequence", Short: "Rows of keys for screens: set, list, show, remove", Long: keySequenceHelp, RunE: needsSubcommand}
	var layout string
	set := &cobra.Command{
		Use: "set NAME FILE", Short: "Add or replace a sequence", Args: args(2, 2, "plumb sequence set NAME FILE"), Long: keySequenceHelp,
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			text, err := a.read(given[1], longestFile)
			if err != nil {
				return err
			}
			if _, err := ask[nothing](s)(s.SetSequence(c.Context(), given[0], contract.SequenceText{Text: string(text), Layout: &layout})); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Sequence %s is set: plumb keys DEVICE --sequence %s plays it.\n", given[0], given[0])
			return nil
		}),
	}
	set.Flags().StringVar(&layout, "layout", "us", "of the keyboard that it is typed on: "+strings.Join(keyboard.Layouts(), ", "))
	list := &cobra.Command{
		Use: "list", Short: "All of them", Args: args(0, 0, "plumb sequence list"),
		RunE: a.loggedIn(func(c *cobra.Command, _ []string, s *service) error {
			all, err := ask[[]contract.Sequence](s)(s.ListSequences(c.Context()))
			if err != nil {
				return err
			}
			if len(all) == 0 && a.output == "table" {
				fmt.Fprintln(a.out, "There is none: plumb sequence set NAME FILE adds one.")
				return nil
			}
			return a.show(all, func() table {
				t := table{columns: []string{"NAME", "LINES", "KEYBOARD", "SET BY", "WHEN"}}
				for _, q := range all {
					t.rows = append(t.rows, row(q.Name, len(strings.Split(strings.TrimSpace(q.Text), "\n")), q.Layout, q.SetBy, stamp(&q.SetAt)))
				}
				return t
			})
		}),
	}
	show := &cobra.Command{
		Use: "show NAME", Short: "The text of one", Args: args(1, 1, "plumb sequence show NAME"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			all, err := ask[[]contract.Sequence](s)(s.ListSequences(c.Context()))
			if err != nil {
				return err
			}
			for _, q := range all {
				if q.Name == given[0] {
					for _, l := range strings.Split(strings.TrimRight(q.Text, "\n"), "\n") {
						fmt.Fprintln(a.out, plain.Line(l))
					}
					return nil
				}
			}
			return fail(ExitUsage, "there is no sequence %q: plumb sequence list shows them", given[0])
		}),
	}
	remove := &cobra.Command{
		Use: "remove NAME", Short: "Forget a sequence", Args: args(1, 1, "plumb sequence remove NAME"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			if _, err := ask[nothing](s)(s.RemoveSequence(c.Context(), given[0])); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Sequence %s is removed.\n", given[0])
			return nil
		}),
	}
	c.AddCommand(set, list, show, remove)
	return c
}

// atScreen takes a seat at the screen of a device.
func (s *service) atScreen(ctx context.Context, device, query string) (*websocket.Conn, error) {
	at := s.config.URL + "/api/v1/devices/" + url.PathEscape(device) + "/screen" + query
	dialling, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	conn, res, err := websocket.Dial(dialling, at, &websocket.DialOptions{HTTPClient: s.http, HTTPHeader: http.Header{"Authorization": {"Bearer " + s.config.Token}}})
	if err != nil {
		if res != nil && res.StatusCode >= http.StatusBadRequest {
			return nil, s.refused(res)
		}
		return nil, s.unreachable(err)
	}
	conn.SetReadLimit(longestFrame)
	return conn, nil
}

// leaveScreen gives the seat back.
func leaveScreen(ctx context.Context, conn *websocket.Conn) {
	_ = conn.Write(context.WithoutCancel(ctx), websocket.MessageText, []byte(`{"do":"leave"}`))
	_ = conn.Close(websocket.StatusNormalClosure, "")
}

// play plays a sequence at the screen of a device, and tells how it goes.
func (a *app) play(ctx context.Context, s *service, device, name string) error {
	conn, err := s.atScreen(ctx, device, "")
	if err != nil {
		return err
	}
	defer leaveScreen(ctx, conn)
	wish, err := json.Marshal(map[string]string{"do": "play", "name": name})
	if err != nil {
		return err
	}
	begun := false
	for {
		kind, p, err := conn.Read(ctx)
		if err != nil {
			return s.unreachable(err)
		}
		if kind == websocket.MessageBinary {
			if len(p) > 4 { // it has been drawn, as far as that goes
				_ = conn.Write(ctx, websocket.MessageBinary, append([]byte{1}, p[:4]...))
			}
			continue
		}
		var m struct {
			Up      *bool  `json:"up"`
			Screen  string `json:"screen"`
			Error   string `json:"error"`
			Playing *struct {
				Text          string `json:"text"`
				Ended, Failed bool
			} `json:"playing"`
		}
		if err := json.Unmarshal(s.harmless(p), &m); err != nil {
			return fail(ExitFailed, "the screen of %s said something that is not understood", device)
		}
		switch {
		case m.Error != "":
			return fail(ExitFailed, "%s", plain.Line(m.Error))
		case m.Playing != nil && m.Playing.Failed:
			return fail(ExitFailed, "%s", plain.Line(m.Playing.Text))
		case m.Playing != nil && m.Playing.Ended:
			fmt.Fprintf(a.out, "The sequence %s was played at %s.\n", name, device)
			return nil
		case m.Playing != nil:
			fmt.Fprintln(a.err, plain.Line(m.Playing.Text))
		case !begun && m.Up != nil && *m.Up:
			begun = true
			if err := conn.Write(ctx, websocket.MessageText, wish); err != nil {
				return s.unreachable(err)
			}
		case !begun && m.Screen != "":
			fmt.Fprintf(a.err, "the screen of %s: %s\n", device, plain.Line(m.Screen))
		}
	}
}
