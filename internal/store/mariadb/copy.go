package mariadb

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"github.com/go-sql-driver/mysql"
)

// Running says how to connect to the private server of another process, by what stands
// in its directory.
func Running(dir string) (*mysql.Config, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, fmt.Errorf("mariadb: %w", err)
	}
	s := &Server{dir: dir, socket: filepath.Join(dir, "socket")}
	if pid := s.PID(); pid == 0 || !isServer(pid) {
		return nil, errors.New("mariadb: no server runs in " + dir)
	}
	text, err := os.ReadFile(s.path("init.sql"))
	if err != nil {
		return nil, fmt.Errorf("mariadb: %w", err)
	}
	_, after, _ := strings.Cut(string(text), "IDENTIFIED BY '")
	s.password, _, _ = strings.Cut(after, "'")
	if _, err := os.Stat(s.socket); err != nil {
		return nil, fmt.Errorf("mariadb: its socket is elsewhere, because the path of the directory is too long: %w", err)
	}
	return s.Config(), nil
}

// Dump writes all tables as SQL, as they were at one moment, while the server is used.
func Dump(ctx context.Context, c *mysql.Config, to io.Writer) error {
	return tool(ctx, c, nil, to, "mariadb-dump", "--single-transaction", "--quick", "--hex-blob", "--skip-comments", c.DBName)
}

// Load runs what Dump has written.
func Load(ctx context.Context, c *mysql.Config, from io.Reader) error {
	return tool(ctx, c, from, io.Discard, "mariadb", "--batch", c.DBName)
}

// tool runs one of MariaDB's own, with the password in a file that only we may read.
func tool(ctx context.Context, c *mysql.Config, in io.Reader, out io.Writer, name string, args ...string) error {
	f, err := os.CreateTemp("", "plumb-*.cnf")
	if err != nil {
		return fmt.Errorf("mariadb: %w", err)
	}
	defer func() { _ = os.Remove(f.Name()) }()
	_, err = fmt.Fprintf(f, "[client]\nuser=%s\npassword=%s\nsocket=%s\n", c.User, c.Passwd, c.Addr)
	if err := errors.Join(err, f.Close()); err != nil {
		return fmt.Errorf("mariadb: %w", err)
	}
	cmd := exec.CommandContext(ctx, name, append([]string{"--defaults-file=" + f.Name()}, args...)...)
	var said strings.Builder
	cmd.Stdin, cmd.Stdout, cmd.Stderr = in, out, &said
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("mariadb: %s: %w: %s", name, err, lastLines(said.String()))
	}
	return nil
}
