package client

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"plumbbob/internal/api/contract"
)

func (a *app) loginCommand() *cobra.Command {
	var account, fingerprint string
	c := &cobra.Command{
		Use: "login URL", Short: "Log in to a service, and stay so",
		Long: `Log in to a service. The password is read from the terminal, or from standard
input. The log-in is kept in the file that PLUMB_CONFIG names, by default
plumb/client.json in the user's configuration directory.`,
		Args: args(1, 1, "plumb login URL"),
		RunE: func(c *cobra.Command, given []string) error {
			address := strings.TrimRight(given[0], "/")
			if !strings.Contains(address, "://") {
				address = "https://" + address
			}
			u, err := url.Parse(address)
			if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
				return fail(ExitUsage, "%q is not an address such as https://plumb.example:8025", given[0])
			}
			if u.Scheme == "http" && !isLoopback(u.Hostname()) {
				return fail(ExitUsage, "%s would send the password in clear: use https://", address)
			}
			cfg := Config{URL: address, Account: account, Fingerprint: fingerprint}
			if u.Scheme == "https" && fingerprint == "" {
				if cfg.Fingerprint, err = a.trust(c.Context(), u); err != nil {
					return err
				}
			}
			return a.login(c.Context(), cfg)
		},
	}
	c.Flags().StringVar(&account, "account", "admin", "whose log-in")
	c.Flags().StringVar(&fingerprint, "fingerprint", "", "SHA-256 fingerprint of the certificate to trust")
	return c
}

func isLoopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// trust returns the fingerprint of a certificate that the system does not
// trust but the user does; nothing when the system trusts it.
func (a *app) trust(ctx context.Context, u *url.URL) (string, error) {
	dial := func(check bool) (*tls.Conn, error) {
		d := tls.Dialer{Config: &tls.Config{MinVersion: tls.VersionTLS12, InsecureSkipVerify: !check}} //nolint:gosec // only to look at it
		c, err := d.DialContext(ctx, "tcp", net.JoinHostPort(u.Hostname(), cmp.Or(u.Port(), "443")))
		if err != nil {
			return nil, err
		}
		return c.(*tls.Conn), nil
	}
	c, err := dial(true)
	if err == nil {
		return "", c.Close()
	}
	if record := (tls.RecordHeaderError{}); errors.As(err, &record) {
		return "", fail(ExitUnreachable, "%s does not speak TLS: a service on this machine may be at http://%s", u.Host, u.Host)
	}
	var untrusted *tls.CertificateVerificationError
	if !errors.As(err, &untrusted) {
		return "", fail(ExitUnreachable, "%s does not answer (%s)", u.Host, err)
	}
	if c, err = dial(false); err != nil {
		return "", fail(ExitUnreachable, "%s does not answer (%s)", u.Host, err)
	}
	defer func() { _ = c.Close() }()
	print := certFingerprint(c.ConnectionState().PeerCertificates[0])
	if !a.terminal() {
		return "", fail(ExitUsage, "the certificate of %s is not trusted here. If this is its fingerprint, name it with --fingerprint: %s", u.Host, print)
	}
	fmt.Fprintf(a.err, "The certificate of %s is not trusted here. Its SHA-256 fingerprint is\n  %s\n", u.Host, print)
	yes, err := a.line(ctx, "Is that what the service printed when it started? Type yes: ")
	if errors.Is(err, errGivenUp) {
		return "", err
	}
	if err != nil || yes != "yes" {
		return "", fail(ExitRefused, "not logged in: the certificate was not agreed to")
	}
	return print, nil
}

func (a *app) login(ctx context.Context, cfg Config) error {
	path, err := a.configPath()
	if err != nil {
		return err
	}
	s, err := connect(cfg)
	if err != nil {
		return err
	}
	// Whether a service is there is found out before anybody types a password.
	var e *exitError
	if _, err := ask[contract.Version](s)(s.GetVersion(ctx)); errors.As(err, &e) && e.status == ExitUnreachable {
		return err
	}
	pass, err := a.hidden(ctx, fmt.Sprintf("Password of %s: ", cfg.Account))
	if err != nil {
		return err
	}
	name, _ := os.Hostname()
	token, err := ask[contract.Token](s)(s.CreateToken(ctx, contract.LogIn{Account: cfg.Account, Password: pass, Name: &name}))
	if err != nil {
		return err
	}
	cfg.Token = token.Token
	if err := cfg.Write(path); err != nil {
		return err
	}
	fmt.Fprintf(a.out, "Logged in to %s as %s until %s.\n", cfg.URL, token.Account, token.Expires.Local().Format(time.DateOnly))
	return nil
}

func (a *app) logoutCommand() *cobra.Command {
	return &cobra.Command{
		Use: "logout", Short: "End the log-in", Args: args(0, 0, "plumb logout"),
		RunE: a.loggedIn(func(c *cobra.Command, _ []string, s *service) error {
			path, err := a.configPath()
			if err != nil {
				return err
			}
			// Whoever logs out wants nothing left here, whatever the service says to it.
			_, ended := ask[nothing](s)(s.LogOut(c.Context()))
			if err := os.Remove(path); err != nil || ended == nil {
				return err
			}
			var e *exitError
			if errors.As(ended, &e) && e.status == ExitNotPermitted {
				return nil // it had ended already
			}
			return fail(ExitUnreachable, "forgotten here, but the service could not be told, and holds the log-in for valid until it ends: %s", ended)
		}),
	}
}
