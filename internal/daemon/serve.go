package daemon

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/netip"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"plumbbob/internal/core/group"
	"plumbbob/internal/localports"
	"plumbbob/internal/password"
	"plumbbob/internal/people"
	"plumbbob/internal/service"
	"plumbbob/internal/store"
	"plumbbob/internal/wire/names"
	"plumbbob/web"
)

// DefaultListen is where the service listens unless told otherwise.
const DefaultListen = "127.0.0.1:8025"

// ServiceFlags adds what is said of a service on the command line.
func ServiceFlags(c *cobra.Command, o *service.Options, level *string) {
	f := c.Flags()
	f.StringVar(&o.DataDir, "data-dir", o.DataDir, "where the records and keys are")
	f.StringVar(&o.Database, "database", "", "another MariaDB server, user:password@tcp(host:3306)/database; by default a private one runs in the data directory")
	f.StringVar(&o.DatabasePassword, "database-password-file", "", "the file with the password for --database, which then names none; or it stands in PLUMB_DATABASE_PASSWORD")
	f.BoolVar(&o.Alone, "alone", false, "no other service acts on that --database, so that this one need not wait for it to act")
	f.StringVar(&o.Listen, "listen", DefaultListen, "where to serve the API and the console; anything but loopback is served over TLS")
	f.StringVar(&o.MetricsToken, "metrics-token-file", "", "a file with the token that opens /metrics, which is closed without it")
	f.StringSliceVar(&o.MetricsReadings, "metrics-readings", nil, "the sensors that /metrics shows, by series as plumb history lists them without sensor:, such as 'inlet*'")
	f.StringVar(&o.PublicURL, "public-url", "", "where people find the console, which messages lead to, as https://plumb.example; where it listens when not said")
	f.StringVar(&o.TLSCert, "tls-cert", "", "certificate in PEM; by default one is made")
	f.StringVar(&o.TLSKey, "tls-key", "", "its key in PEM")
	f.StringVar(&o.Traps, "traps", o.Traps, "where to listen for SNMP traps, which have gear asked at once; empty for nowhere")
	f.StringVar(&o.Gate, "gate", o.Gate, "where people come in by SSH with nothing but a terminal, such as :2222; empty for nowhere")
	f.Var(&portFlag{&o.Ports, false}, "tty", "a serial port of this machine, with gear or a terminal at it: NAME=/dev/ttyS0, or \"NAME=/dev/ttyS0 115200 8N1\"; can be repeated")
	f.Var(&portFlag{&o.Ports, true}, "modem", "likewise, with a modem at it")
	f.StringVar(&o.ScreenGate, "screen-gate", o.ScreenGate, "where viewers of RFB come in to the screen of a device, as ACCOUNT@DEVICE and under TLS, such as :5950; empty for nowhere")
	f.StringSliceVar(&o.GateAt, "gate-at", nil, "a --tty or --modem at which people come in with a terminal, or by calling; can be repeated")
	f.IntVar(&o.Rings, "rings", service.Rings, "after how many rings a modem answers for --gate-at")
	f.DurationVar(&o.GateIdle, "gate-idle", service.GateIdle, "how long somebody may type nothing there before they are let go, and hung up on")
	f.StringVar(&o.GearSyslog, "gear-syslog", o.GearSyslog, "where gear may send messages over syslog, UDP and TCP, such as :514; empty for nowhere")
	f.StringVar(&o.GearSyslogTLS, "gear-syslog-tls", "", "likewise, over TLS, such as :6514")
	f.StringVar(&o.Syslog, "syslog", "", "where to send a copy of the journal: udp://HOST:PORT, tcp://HOST:PORT or tls://HOST:PORT")
	o.Retention = store.DefaultRetention
	f.DurationVar(&o.Retention.Readings, "keep-readings", o.Retention.Readings, "how long to keep every reading")
	f.DurationVar(&o.Retention.Each5Min, "keep-5min", o.Retention.Each5Min, "how long to keep stretches of five minutes")
	f.DurationVar(&o.Retention.EachHour, "keep-hours", o.Retention.EachHour, "how long to keep stretches of an hour")
	f.DurationVar(&o.Retention.Lines, "keep-lines", o.Retention.Lines, "how long to keep what serial lines say; of each the newest 50 MB at the most, and 0 keeps it for as long as that lasts")
	f.DurationVar(&o.KeepJournal, "keep-journal", 0, "how long entries stay in the journal; older ones go to files in the data directory. 0 for ever, otherwise at least 720h")
	f.DurationVar(&o.MissedAfter, "missed-after", group.MissedAfter, "how late something may begin that was asked for at a time; later it is missed, and not done")
	f.BoolVar(&o.Safe, "safe", false, "watch nothing and switch nothing: to mend what brings the service down")
	f.StringSliceVar(&o.Hosts, "host", nil, "a name that the service answers to, beside localhost and that of this host; can be repeated")
	f.Var((*prefixes)(&o.Proxies), "trusted-proxy", "an address or network of proxies, which serve TLS, and whose X-Forwarded-For counts; can be repeated")
	if o.Connect == nil {
		o.Connect = &names.Policy{}
	}
	f.BoolVar(&o.Connect.Loopback, "loopback", o.Connect.Loopback, "gear, and what is probed, may be on this host itself")
	f.DurationVar(&o.StopWithin, "stop-within", service.StopWithin, "how long a stop waits for power that was switched off and has to come back")
	f.StringVar(level, "log", "info", "what to log: debug, info, warn or error")
}

// portFlag is serial ports on the command line.
type portFlag struct {
	to    *[]localports.Config
	modem bool
}

func (p *portFlag) String() string { return "" }
func (p *portFlag) Type() string   { return "port" }

func (p *portFlag) Set(s string) error {
	c, err := localports.Parse(s, p.modem)
	if err == nil {
		*p.to = append(*p.to, c)
	}
	return err
}

// prefixes are networks, or single addresses, on the command line.
type prefixes []netip.Prefix

func (p *prefixes) String() string { return "" }
func (p *prefixes) Type() string   { return "network" }

func (p *prefixes) Set(s string) error {
	n, err := netip.ParsePrefix(s)
	if err != nil {
		a, err := netip.ParseAddr(s)
		if err != nil {
			return fmt.Errorf("%q is neither an address nor a network such as 192.0.2.0/24", s)
		}
		n = netip.PrefixFrom(a, a.BitLen())
	}
	*p = append(*p, n)
	return nil
}

// open opens the service with a log of this level.
func open(ctx context.Context, o service.Options, level string) (s *service.Service, err error) {
	if o.Log, err = NewLog(os.Stderr, level); err != nil {
		return nil, err
	}
	o.Hurry, o.Notice = Hurry(ctx), os.Stderr
	return service.Open(ctx, o)
}

func serveCommand() *cobra.Command {
	var level string
	o := service.Options{DataDir: "data", Traps: ":162", Console: web.Console()}
	c := &cobra.Command{
		Use: "serve", Short: "Run the service", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			s, err := open(c.Context(), o, level)
			if err != nil {
				return err
			}
			fmt.Fprint(c.OutOrStdout(), greeting(s))
			return s.Run(c.Context())
		},
	}
	ServiceFlags(c, &o, &level)
	return c
}

// greeting says where the service is, and what only its first start can say.
func greeting(s *service.Service) string {
	var b strings.Builder
	fmt.Fprintf(&b, "Plumb Bob is at %s\n", s.URL)
	if s.FirstPassword != "" {
		fmt.Fprintf(&b, "Log in as %s with the password %s\nIt is shown this once; plumbd password changes it.\n", service.FirstAccount, s.FirstPassword)
	}
	if at, print := s.Gate(); at != "" {
		fmt.Fprintf(&b, "By SSH it is at %s, with the host key\n%s\n", at, print)
	}
	if at := s.ScreenGate(); at != "" {
		fmt.Fprintf(&b, "Viewers of screens come in at %s, as ACCOUNT@DEVICE\n", at)
	}
	if s.Fingerprint != "" {
		fmt.Fprintf(&b, "The certificate is self-signed; its SHA-256 fingerprint is\n%s\n", s.Fingerprint)
	}
	return b.String()
}

func passwordCommand() *cobra.Command {
	o := service.Options{DataDir: "data", Listen: "127.0.0.1:0"}
	var level string
	c := &cobra.Command{
		Use: "password ACCOUNT", Short: "Set a password, while the service is stopped",
		Long: "Set the password of an account. The new one is read from the terminal, or from\nstandard input. All log-ins with the old one end.",
		Args: exactly(1, "plumbd password ACCOUNT"),
		RunE: func(c *cobra.Command, args []string) error {
			s, err := open(c.Context(), o, level)
			if err != nil {
				return err
			}
			defer func() { _ = s.Close() }()
			if _, err := s.Store.Account(c.Context(), args[0]); err != nil {
				return fmt.Errorf("account %s: %w", args[0], err)
			}
			p, err := readPassword("New password: ")
			if err != nil {
				return err
			}
			if err := password.Choose(p, args[0]); err != nil {
				return Wrong("the password %w", err)
			}
			if err := s.Store.SetPassword(c.Context(), args[0], password.Hash(p), ""); err != nil {
				return err
			}
			fmt.Fprintf(c.OutOrStdout(), "The password of %s is set.\n", args[0])
			return nil
		},
	}
	c.Flags().StringVar(&o.DataDir, "data-dir", o.DataDir, "where the records are")
	c.Flags().StringVar(&o.Database, "database", "", "another MariaDB server")
	c.Flags().StringVar(&level, "log", "warn", "what to log")
	return c
}

func codeCommand() *cobra.Command {
	var revoke bool
	dir := "data"
	c := &cobra.Command{
		Use: "code", Short: "Make a rescue code, with which somebody comes in once",
		Long: `Make a rescue code, in place of the one before. Whoever has it logs in once, as the
account ` + people.Rescue + ` with the code for a password, and is a keeper for an hour: also while the
database is away, or when nobody has a password any more. Only its hash is kept. The
service may be running, or not.`,
		Args: exactly(0, "plumbd code"),
		RunE: func(c *cobra.Command, _ []string) error {
			if info, err := os.Stat(dir); err != nil || !info.IsDir() {
				return Wrong("--data-dir: %s is not the data directory of a service", dir)
			}
			if revoke {
				if err := people.RevokeRescueCode(dir); err != nil && !errors.Is(err, fs.ErrNotExist) {
					return err
				}
				fmt.Fprintln(c.OutOrStdout(), "No rescue code counts any more.")
				return nil
			}
			code, err := people.MakeRescueCode(dir)
			if err != nil {
				return err
			}
			fmt.Fprintf(c.OutOrStdout(), "%s\nLog in with it once, as %s: plumb login URL --account %[2]s, or in the console.\n", code, people.Rescue)
			return nil
		},
	}
	c.Flags().StringVar(&dir, "data-dir", dir, "where the records are")
	c.Flags().BoolVar(&revoke, "revoke", false, "make none, and have the one before count no more")
	return c
}

func readPassword(prompt string) (string, error) {
	if in := int(os.Stdin.Fd()); term.IsTerminal(in) {
		fmt.Fprint(os.Stderr, prompt)
		b, err := term.ReadPassword(in)
		fmt.Fprintln(os.Stderr)
		return string(b), err
	}
	line, err := bufio.NewReader(os.Stdin).ReadString('\n')
	if line == "" && err != nil {
		return "", errors.New("no password was given on standard input")
	}
	return strings.TrimRight(line, "\r\n"), nil
}
