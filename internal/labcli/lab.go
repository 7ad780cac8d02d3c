// Package labcli is the command line of plumb-lab.
//
//	lab.go      plumb-lab, its faults and its state
//	demo.go     plumb-lab demo
//	history.go  what the demo has been through before it starts
package labcli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"plumbbob/demo"
	"plumbbob/internal/daemon"
	"plumbbob/internal/estatefile"
	"plumbbob/internal/lab"
	"plumbbob/internal/wire/icmp"
)

// trapPort is where the lab sends its traps: 162 is for root alone.
const trapPort = 1162

// syslogPort is where it sends messages: 514 is for root alone.
const syslogPort = 1514

// mailAddress is where its mail server is, if nothing else is there.
const mailAddress = "127.0.0.1:2525"

func mailAt() string {
	if taken(mailAddress) {
		return "127.0.0.1:0"
	}
	return mailAddress
}

type labFlags struct {
	file    string
	speed   float64
	seed    uint64
	noEcho  bool
	control string

	pier     bool   // a second service stands at the pier
	pierText string // its estate file, once the lab has started
}

func (f *labFlags) add(c *cobra.Command) {
	c.Flags().Float64Var(&f.speed, "speed", 1, "how many times faster gear starts up")
	c.Flags().Uint64Var(&f.seed, "seed", 1, "fixes every random choice")
	c.Flags().BoolVar(&f.noEcho, "no-icmp", false, "do not answer ICMP")
	c.Flags().StringVar(&f.control, "control", controlPath(), "socket for plumb-lab fault and plumb-lab state")
}

func controlPath() string {
	if p := os.Getenv("PLUMB_LAB"); p != "" {
		return p
	}
	return lab.DefaultControl()
}

// start starts the demo estate's gear, or that of a file. The estate comes
// back as text: without the ICMP probes where they cannot be answered.
func (f *labFlags) start(log *slog.Logger) (*lab.Lab, string, error) {
	a := demo.Default
	a.NoEcho = f.noEcho || !mayPing()
	for {
		text := demo.Estate(a)
		if f.pier {
			text = demo.WithPier(a)
		}
		if f.file != "" {
			b, err := os.ReadFile(f.file)
			if err != nil {
				return nil, "", err
			}
			text = string(b)
		}
		e, err := estatefile.Parse("estate", []byte(text))
		if err != nil {
			return nil, "", err
		}
		l, err := lab.Start(lab.Options{Estate: e, Speed: f.speed, Seed: f.seed, NoEcho: a.NoEcho, Control: f.control, TrapPort: trapPort, SyslogPort: syslogPort, Mail: mailAt(), Sea: true, Log: log})
		if err == nil && f.pier {
			f.pierText = demo.Pier(a)
			err = besides(l, f.pierText)
		}
		if err != nil || l.Echo || a.NoEcho || f.file != "" {
			return l, text, err
		}
		if err := l.Close(); err != nil {
			return nil, "", err
		}
		a.NoEcho = true // no TUN interface here: TCP has to do
	}
}

func mayPing() bool {
	p, err := icmp.Listen()
	if err != nil {
		return false
	}
	_ = p.Close()
	return true
}

// Main runs plumb-lab and returns its exit status.
func Main(args []string) int { return daemon.Run(command(), args) }

func command() *cobra.Command {
	var f labFlags
	var printEstate bool
	c := &cobra.Command{
		Use: "plumb-lab", Short: "Run simulated gear that speaks the real protocols",
		Long: `Run the gear of the demo estate, simulated, on loopback addresses. Point any
client at it. It runs until it is stopped; plumb-lab fault makes things go wrong,
and plumb-lab demo runs the service with it.`,
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			log, err := daemon.NewLog(os.Stderr, "info")
			if err != nil {
				return err
			}
			out := c.OutOrStdout()
			if printEstate { // whether one runs or not
				a := demo.Default
				a.NoEcho = f.noEcho || !mayPing()
				_, err := fmt.Fprint(out, demo.Estate(a))
				return err
			}
			l, text, err := f.start(log)
			if err != nil {
				return err
			}
			describe(out, l, text)
			<-c.Context().Done()
			return l.Close()
		},
	}
	f.add(c)
	c.Flags().StringVar(&f.file, "estate", "", "an estate file to simulate; the demo estate by default")
	c.Flags().BoolVar(&printEstate, "print-estate", false, "only print the estate file that leads to this gear")
	c.AddCommand(faultCommand(), stateCommand(), callCommand(), mailCommand(), textCommand(), demoCommand())
	return c
}

func describe(out io.Writer, l *lab.Lab, text string) {
	e, err := estatefile.Parse("estate", []byte(text))
	if err != nil {
		return // it was read before
	}
	fmt.Fprintln(out, "The lab runs. What answers:")
	for i := range e.Devices {
		d := &e.Devices[i]
		for _, p := range d.Probes {
			fmt.Fprintf(out, "  %-18s %-5s %s\n", d.Key, p.Kind, p.Target)
		}
		for _, ep := range d.Endpoints {
			fmt.Fprintf(out, "  %-18s %-5s %s\n", d.Key, ep.Protocol, ep.Addresses[0])
		}
	}
	if !l.Echo {
		fmt.Fprintln(out, "ICMP is not answered: that needs the right to make a TUN interface.")
	}
	fmt.Fprintf(out, `SNMP v2c: community %s may read, %s may switch as well.
SNMP v3:  user %s, SHA-256 %q, AES-128 %q.
`, lab.ReadSecret.Community, lab.WriteSecret.Community, lab.V3Secret.User, lab.V3Secret.AuthPass, lab.V3Secret.PrivPass)
}

func faultCommand() *cobra.Command {
	control := controlPath()
	c := &cobra.Command{
		Use: "fault WHAT …", Short: "Make something go wrong in the lab that runs",
		Long: "Make something go wrong in the lab that runs:\n\n" + lab.FaultUsage(),
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 {
				return daemon.Wrong("say what is to go wrong; there is:\n%s", lab.FaultUsage())
			}
			_, err := lab.Tell(control, args...)
			return err
		},
	}
	c.Flags().StringVar(&control, "control", control, "the lab's control socket")
	return c
}

func stateCommand() *cobra.Command {
	control := controlPath()
	var asJSON bool
	c := &cobra.Command{
		Use: "state", Short: "Show how the lab's devices really are", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			boxes, err := lab.Tell(control, "state")
			if err != nil {
				return err
			}
			if asJSON {
				return json.NewEncoder(c.OutOrStdout()).Encode(boxes)
			}
			for _, b := range boxes {
				fmt.Fprintf(c.OutOrStdout(), "%-18s %-12s %6.1f W\n", b.Device, stateWords(b), b.W)
			}
			return nil
		},
	}
	c.Flags().StringVar(&control, "control", control, "the lab's control socket")
	c.Flags().BoolVar(&asJSON, "json", false, "as JSON")
	return c
}

func mailCommand() *cobra.Command {
	control := controlPath()
	var asJSON bool
	c := &cobra.Command{
		Use: "mail [down|up]", Short: "Read the mails that came to those who are told; down has their server take none", Args: cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			letters, err := lab.Letters(control, args...)
			if err != nil || len(args) > 0 {
				return err
			}
			out := c.OutOrStdout()
			if asJSON {
				return json.NewEncoder(out).Encode(letters)
			}
			if len(letters) == 0 {
				fmt.Fprintln(out, "No mail has come.")
			}
			for _, l := range letters {
				fmt.Fprintf(out, "%s  to %s\n%s\n\n%s\n", l.At.Local().Format("02 Jan 15:04:05 MST"), strings.Join(l.To, ", "), l.Subject, l.Text)
			}
			return nil
		},
	}
	c.Flags().StringVar(&control, "control", control, "the lab's control socket")
	c.Flags().BoolVar(&asJSON, "json", false, "as JSON")
	return c
}

func textCommand() *cobra.Command {
	control := controlPath()
	c := &cobra.Command{
		Use: "text [NUMBER TEXT]", Short: "Read the text messages that went out by the service's modem, or have one come from a number",
		RunE: func(c *cobra.Command, args []string) error {
			texts, err := lab.Texts(control, args...)
			if err != nil || len(args) > 0 {
				return err
			}
			out := c.OutOrStdout()
			if len(texts) == 0 {
				fmt.Fprintln(out, "No text message went out.")
			}
			for _, x := range texts {
				fmt.Fprintf(out, "%s  to %s\n%s\n\n", x.At.Local().Format("02 Jan 15:04:05 MST"), x.To, x.Text)
			}
			return nil
		},
	}
	c.Flags().StringVar(&control, "control", control, "the lab's control socket")
	return c
}

// hangsUp is the key that ends a call: Ctrl-\\.
const hangsUp = 0x1c

func callCommand() *cobra.Command {
	control := controlPath()
	c := &cobra.Command{
		Use: "call", Short: "Call the modem of the service's machine, with this terminal", Args: cobra.NoArgs,
		Long: "Call the modem of the service's machine, as somebody elsewhere does. Ctrl-\\ hangs up.",
		RunE: func(c *cobra.Command, _ []string) error {
			conn, err := lab.Call(control)
			if err != nil {
				return err
			}
			defer func() { _ = conn.Close() }()
			if in := int(os.Stdin.Fd()); term.IsTerminal(in) {
				was, err := term.MakeRaw(in)
				if err != nil {
					return err
				}
				defer func() { _ = term.Restore(in, was) }()
			}
			go func() {
				var b [100]byte
				for {
					n, err := os.Stdin.Read(b[:])
					if bytes.IndexByte(b[:n], hangsUp) >= 0 {
						_ = conn.Close()
						return
					}
					if _, failed := conn.Write(b[:n]); err != nil || failed != nil {
						return
					}
				}
			}()
			_, _ = io.Copy(c.OutOrStdout(), conn)
			fmt.Fprint(c.OutOrStdout(), "\r\n[hung up]\r\n")
			return nil
		},
	}
	c.Flags().StringVar(&control, "control", control, "the lab's control socket")
	return c
}

func stateWords(b lab.BoxState) string {
	switch {
	case !b.Powered:
		return "no power"
	case b.Hung:
		return "hung"
	case !b.Up:
		return "starting"
	}
	return "up"
}
