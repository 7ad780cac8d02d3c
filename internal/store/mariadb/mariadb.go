// Package mariadb runs a private MariaDB server: the one that plumbd starts in
// its data directory when no other database is named. It listens on a socket in
// that directory and on nothing else, has a generated password, is started
// again when it dies, and goes when its Server is closed or this process ends.
package mariadb

import (
	"context"
	"crypto/rand"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/go-sql-driver/mysql"
)

const (
	name         = "plumbbob" // of the user and of the database
	startWithin  = 60 * time.Second
	stopWithin   = 30 * time.Second
	reapWithin   = 10 * time.Second
	restartAfter = time.Second
	maxSocket    = 100 // bytes in the path of a Unix socket, less some room
)

// Server is a running private server.
type Server struct {
	dir      string
	socket   string
	password string
	log      *slog.Logger
	cancel   context.CancelFunc
	done     chan struct{}
}

// Start launches the server, and returns when it takes connections.
func Start(ctx context.Context, dir string, log *slog.Logger) (*Server, error) {
	s, err := Launch(ctx, dir, log)
	if err != nil {
		return nil, err
	}
	if err := s.Ready(ctx, startWithin); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	return s, nil
}

// Launch sets the server up in dir when that is empty, and starts it, again and again if
// need be. It may not take connections for a while.
func Launch(ctx context.Context, dir string, log *slog.Logger) (*Server, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, fmt.Errorf("mariadb: %w", err)
	}
	s := &Server{dir: dir, log: log, done: make(chan struct{}), password: rand.Text()}
	if err := s.prepare(ctx); err != nil {
		return nil, err
	}
	running, cancel := context.WithCancel(context.WithoutCancel(ctx))
	s.cancel = cancel
	go s.supervise(running)
	return s, nil
}

// Config says how to connect to the server.
func (s *Server) Config() *mysql.Config {
	c := mysql.NewConfig()
	c.User, c.Passwd, c.Net, c.Addr, c.DBName = name, s.password, "unix", s.socket, name
	return c
}

// PID returns the process number of the server, or 0 while it is not running.
func (s *Server) PID() int {
	text, err := os.ReadFile(s.path("pid"))
	if err != nil {
		return 0
	}
	pid, _ := strconv.Atoi(strings.TrimSpace(string(text)))
	return pid
}

// Close stops the server cleanly and waits for it.
func (s *Server) Close() error {
	s.cancel()
	<-s.done
	return nil
}

func (s *Server) path(elem string) string { return filepath.Join(s.dir, elem) }

// prepare creates what the server needs before its first start.
func (s *Server) prepare(ctx context.Context) error {
	if _, err := exec.LookPath("mariadbd"); err != nil {
		if _, err := os.Stat("/usr/sbin/mariadbd"); err != nil {
			return errors.New("mariadb: mariadbd is not installed: apt-get install mariadb-server, or name another server with --database")
		}
		_ = os.Setenv("PATH", os.Getenv("PATH")+":/usr/sbin")
	}
	if err := os.MkdirAll(s.dir, 0o700); err != nil {
		return fmt.Errorf("mariadb: %w", err)
	}
	s.socket = s.path("socket")
	if len(s.socket) > maxSocket {
		short, err := os.MkdirTemp("", "plumb-db-")
		if err != nil {
			return fmt.Errorf("mariadb: %w", err)
		}
		s.socket = filepath.Join(short, "socket")
	}
	if err := s.reap(); err != nil {
		return err
	}
	if _, err := os.Stat(s.path("data/mysql")); err == nil {
		return nil
	}
	// Made aside and then moved, so that an interrupted set-up leaves nothing half done.
	// What one has left may still be written to, and is in nobody's way.
	left, _ := filepath.Glob(s.path("data.new*"))
	for _, dir := range left {
		_ = os.RemoveAll(dir)
	}
	if err := os.MkdirAll(s.path("tmp"), 0o700); err != nil {
		return fmt.Errorf("mariadb: %w", err)
	}
	fresh, err := os.MkdirTemp(s.dir, "data.new-")
	if err != nil {
		return fmt.Errorf("mariadb: %w", err)
	}
	cmd := exec.CommandContext(ctx, "mariadb-install-db", append([]string{"--no-defaults", "--datadir=" + fresh, "--tmpdir=" + s.path("tmp"),
		"--skip-test-db", "--auth-root-authentication-method=normal"}, asUser()...)...)
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("mariadb: set up %s: %w: %s", s.dir, err, complaints(string(out)))
	}
	if err := os.Rename(fresh, s.path("data")); err != nil {
		return fmt.Errorf("mariadb: %w", err)
	}
	return nil
}

// left is the process of a server that runs on our data: by the file in which it notes
// its number, or, as that is there only once it has started, by how it was called.
func (s *Server) left() int {
	if pid := s.PID(); pid != 0 && isServer(pid) {
		return pid
	}
	all, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	for _, file := range all {
		text, err := os.ReadFile(file)
		if err != nil || !slices.Contains(strings.Split(string(text), "\x00"), "--datadir="+s.path("data")) {
			continue
		}
		if pid, _ := strconv.Atoi(strings.Split(file, "/")[2]); isServer(pid) {
			return pid
		}
	}
	return 0
}

// reap waits for a server that an earlier, killed plumbd left behind: two must
// never run on one data directory.
func (s *Server) reap() error {
	pid := s.left()
	if pid == 0 {
		return nil
	}
	_ = syscall.Kill(pid, syscall.SIGTERM)
	began, killed := time.Now(), false
	for ; isServer(pid); time.Sleep(50 * time.Millisecond) {
		switch waited := time.Since(began); {
		case waited > reapWithin && !killed: // one that was told while it started may never hear it; what it has committed is safe
			s.log.Warn("a database server that was left behind does not stop, and is killed", "process", pid)
			_ = syscall.Kill(pid, syscall.SIGKILL)
			killed = true
		case waited > stopWithin:
			return fmt.Errorf("mariadb: process %d still runs in %s: stop it, or another plumbd that uses this directory", pid, s.dir)
		}
	}
	return nil
}

func isServer(pid int) bool {
	comm, err := os.ReadFile(fmt.Sprintf("/proc/%d/comm", pid))
	return err == nil && strings.HasPrefix(string(comm), "mariadb")
}

// supervise runs the server, and runs it again when it dies.
func (s *Server) supervise(ctx context.Context) {
	defer close(s.done)
	for {
		err := s.run(ctx)
		if ctx.Err() != nil {
			return
		}
		s.log.Error("the database has stopped and is started again", "because", err, "says", s.complaint())
		select {
		case <-ctx.Done():
			return
		case <-time.After(restartAfter):
		}
	}
}

// complaint is what the server's own log says last of what went wrong.
func (s *Server) complaint() string { return complaints(s.lastLog()) }

// mostLog is how long the server's log grows before it begins anew; the one before is kept.
const mostLog = 10 << 20

func (s *Server) run(ctx context.Context) error {
	if info, err := os.Stat(s.path("log")); err == nil && info.Size() > mostLog {
		_ = os.Rename(s.path("log"), s.path("log.1"))
	}
	// The kernel ends the server when the thread that started it ends, so that
	// thread is kept: a killed plumbd leaves no server behind.
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	init := s.path("init.sql")
	if err := os.WriteFile(init, []byte(s.initSQL()), 0o600); err != nil {
		return err
	}
	logFile, err := os.OpenFile(s.path("log"), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return err
	}
	defer func() { _ = logFile.Close() }()
	cmd := exec.CommandContext(ctx, "mariadbd", append([]string{"--no-defaults", "--datadir=" + s.path("data"),
		"--socket=" + s.socket, "--pid-file=" + s.path("pid"), "--init-file=" + init, "--tmpdir=" + s.path("tmp"), "--skip-networking",
		"--skip-log-bin", "--character-set-server=utf8mb4", "--collation-server=utf8mb4_bin",
		"--innodb-buffer-pool-size=128M", "--innodb-log-file-size=64M", "--max-connections=64", "--performance-schema=OFF"}, asUser()...)...)
	cmd.Stdout, cmd.Stderr = logFile, logFile
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM, Setpgid: true} // Ctrl-C is ours alone
	cmd.Cancel = func() error { return cmd.Process.Signal(syscall.SIGTERM) }
	cmd.WaitDelay = stopWithin
	err = cmd.Run()
	_ = os.Remove(s.path("pid"))
	return err
}

func (s *Server) initSQL() string {
	return fmt.Sprintf(`CREATE DATABASE IF NOT EXISTS %[1]s;
CREATE OR REPLACE USER %[1]s@localhost IDENTIFIED BY '%[2]s';
GRANT ALL ON %[1]s.* TO %[1]s@localhost;
ALTER USER root@localhost IDENTIFIED BY '%[2]s';
`, name, s.password)
}

// Ready waits until the server takes connections, for a time.
func (s *Server) Ready(ctx context.Context, within time.Duration) error {
	connector, err := mysql.NewConnector(s.Config())
	if err != nil {
		return fmt.Errorf("mariadb: %w", err)
	}
	db := sql.OpenDB(connector)
	defer func() { _ = db.Close() }()
	for deadline := time.Now().Add(within); ; time.Sleep(30 * time.Millisecond) {
		err := db.PingContext(ctx)
		if err == nil || ctx.Err() != nil {
			return err
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("mariadb: did not start within %s: %s", within, lastLines(s.lastLog()))
		}
	}
}

func (s *Server) lastLog() string {
	f, err := os.Open(s.path("log"))
	if err != nil {
		return err.Error()
	}
	defer func() { _ = f.Close() }()
	const tail = 64 << 10
	if info, err := f.Stat(); err == nil && info.Size() > tail {
		_, _ = f.Seek(-tail, io.SeekEnd)
	}
	text, err := io.ReadAll(io.LimitReader(f, tail))
	if err != nil {
		return err.Error()
	}
	return string(text)
}

// complaints picks the lines that say what went wrong.
func complaints(s string) string {
	var bad []string
	for line := range strings.Lines(s) {
		if strings.Contains(line, "ERROR") || strings.Contains(line, "rror:") {
			bad = append(bad, strings.TrimSpace(line))
		}
	}
	if len(bad) == 0 {
		return lastLines(s)
	}
	return lastLines(strings.Join(bad, "\n"))
}

func lastLines(s string) string {
	lines := strings.Split(strings.TrimSpace(s), "\n")
	return strings.Join(lines[max(0, len(lines)-6):], "\n")
}

// asUser lets root run the server, which it otherwise refuses.
func asUser() []string {
	if os.Getuid() == 0 {
		return []string{"--user=root"}
	}
	return nil
}
