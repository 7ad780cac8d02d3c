package service

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"

	"plumbbob/internal/password"
	"plumbbob/internal/secret"
	"plumbbob/internal/store"
	"plumbbob/internal/store/mariadb"
)

// openKey opens the key of the secrets. That there had to be a new one is no news at the
// first start, and grave at every other.
func (s *Service) openKey(ctx context.Context) error {
	file := filepath.Join(s.o.DataDir, "secrets.key")
	sealer, made, err := secret.OpenKey(file)
	if err != nil {
		return err
	}
	s.Sealer = sealer
	if sealed, err := s.records().Secrets(ctx); made && err == nil && len(sealed) > 0 {
		s.health.Grave("secrets.key", fmt.Sprintf("%s was not there, so a new key was made: what was sealed with the old one cannot be opened. Stop the service and bring the file back, or set the secrets again", file))
	}
	return nil
}

// private700 says when others may read the data directory.
func (s *Service) private700() {
	if info, err := os.Stat(s.o.DataDir); err == nil && info.Mode().Perm()&0o077 != 0 {
		s.health.Ails("data directory", fmt.Sprintf("%s may be read by others on this machine (mode %04o): chmod 700 %s", s.o.DataDir, info.Mode().Perm(), s.o.DataDir))
	}
}

// readyWithin is how long our own database may take to start before the service starts
// without it, when it has known enough.
const readyWithin = 20 * time.Second

// openStore opens the records. When their database is away, the service starts with what
// it knew last.
func (s *Service) openStore(ctx context.Context) error {
	c, err := s.database(ctx)
	if err != nil {
		return err
	}
	if s.late == nil {
		if s.Store, err = store.Open(ctx, c); s.last == nil || !errors.Is(err, store.ErrAway) {
			return err
		}
		s.late = c
	}
	s.Store, err = store.Late(c)
	return err
}

// database says how to connect to the database, and starts our own. One that takes no
// connections for a while is late, when the service can start without it.
func (s *Service) database(ctx context.Context) (*mysql.Config, error) {
	dir := filepath.Join(s.o.DataDir, "database")
	var err error
	switch {
	case s.o.Database == "" && s.last == nil:
		if s.private, err = mariadb.Start(ctx, dir, s.o.Log); err != nil {
			return nil, err
		}
		return s.private.Config(), nil
	case s.o.Database == "":
		if s.private, err = mariadb.Launch(ctx, dir, s.o.Log); err != nil {
			return nil, err
		}
		c := s.private.Config()
		if err := s.private.Ready(ctx, readyWithin); err != nil {
			s.late = c
		}
		return c, ctx.Err()
	}
	c, err := store.ParseDSN(s.o.Database)
	if err != nil {
		return nil, err
	}
	return c, s.databasePassword(c)
}

// records are what is known of what is on record: in the database, or beside it.
func (s *Service) records() known {
	if s.late != nil {
		return s.last
	}
	return s.Store
}

func (s *Service) firstAccount(ctx context.Context) error {
	if s.late != nil {
		return nil // it is not the first start
	}
	any, err := s.Store.AnyAccount(ctx)
	if err != nil || any {
		return err
	}
	s.FirstPassword = password.Generate()
	return s.Store.CreateAccount(ctx, FirstAccount, "keeper", password.Hash(s.FirstPassword))
}

// databasePassword takes the password from where no list of processes shows it.
func (s *Service) databasePassword(c *mysql.Config) error {
	if file := s.o.DatabasePassword; file != "" {
		text, err := os.ReadFile(file)
		if err != nil {
			return fmt.Errorf("--database-password-file: %w", err)
		}
		c.Passwd = strings.TrimRight(string(text), "\r\n")
	} else if p, ok := os.LookupEnv("PLUMB_DATABASE_PASSWORD"); ok && c.Passwd == "" {
		c.Passwd = p
	}
	return nil
}
