package service

import (
	"archive/tar"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"plumbbob/internal/core/journal"
	"plumbbob/internal/gate"
	"plumbbob/internal/store"
	"plumbbob/internal/store/mariadb"
)

// A backup is a gzipped tar archive with the database as SQL and the files beside it.
const (
	backupSQL = "database.sql"
	backupKey = "secrets.key"
)

// backupFiles are the files of a data directory that a backup has, where they are there.
var backupFiles = []string{backupKey, "operations.ledger", "operations.ledger.copies", "tls.pem", gate.HostKeyFile, "journal/*.jsonl"}

// Backup writes a backup of a data directory whose service runs, with a private database,
// as it is at one moment. Without the key, what is sealed in it opens for nobody who has
// the backup alone.
func Backup(ctx context.Context, dataDir, file string, withKey bool) (err error) {
	c, err := mariadb.Running(filepath.Join(dataDir, "database"))
	if err != nil {
		return fmt.Errorf("%w: the service has to run; another database is backed up with its own tools", err)
	}
	dump, err := os.CreateTemp(filepath.Dir(file), filepath.Base(file)+".*")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, dump.Close(), os.Remove(dump.Name())) }()
	if err := mariadb.Dump(ctx, c, dump); err != nil {
		return err
	}
	out, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			_ = os.Remove(file) // half of one is none
		}
	}()
	zipped := gzip.NewWriter(out)
	archive := tar.NewWriter(zipped)
	err = add(archive, backupSQL, dump.Name())
	for _, pattern := range backupFiles {
		found, _ := filepath.Glob(filepath.Join(dataDir, pattern))
		for _, f := range found {
			name, _ := filepath.Rel(dataDir, f)
			if name == backupKey && !withKey {
				continue
			}
			if e := add(archive, name, f); !errors.Is(e, fs.ErrNotExist) { // the ledger may have gone meanwhile
				err = errors.Join(err, e)
			}
		}
	}
	return errors.Join(err, archive.Close(), zipped.Close(), out.Sync(), out.Close())
}

func add(to *tar.Writer, name, file string) error {
	f, err := os.Open(file)
	if err != nil {
		return err
	}
	defer func() { _ = f.Close() }()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	if err := to.WriteHeader(&tar.Header{Name: name, Mode: 0o600, Size: info.Size(), ModTime: info.ModTime()}); err != nil {
		return err
	}
	_, err = io.CopyN(to, f, info.Size()) // what is added meanwhile is not in it
	return err
}

// Restored is what a backup has brought back.
type Restored struct {
	Estate  int // its version; 0: none
	Journal journal.Proof
	Key     bool // it has the key of the secrets
}

// Restore makes a data directory, which must not be there yet, out of a backup. Its
// database is brought up to date, and its journal is gone through.
func Restore(ctx context.Context, file, dataDir string, log *slog.Logger) (out Restored, err error) {
	if err := os.Mkdir(dataDir, 0o700); err != nil {
		return out, err
	}
	dump, err := unpack(file, dataDir)
	if err != nil {
		return out, err
	}
	defer func() { _ = os.Remove(dump) }()
	db, err := mariadb.Start(ctx, filepath.Join(dataDir, "database"), log)
	if err != nil {
		return out, err
	}
	defer func() { err = errors.Join(err, db.Close()) }()
	f, err := os.Open(dump)
	if err != nil {
		return out, err
	}
	defer func() { _ = f.Close() }()
	if err := mariadb.Load(ctx, db.Config(), f); err != nil {
		return out, err
	}
	s, err := store.Open(ctx, db.Config())
	if err != nil {
		return out, err
	}
	defer func() { err = errors.Join(err, s.Close()) }()
	if v, err := s.Estate(ctx); err == nil {
		out.Estate = v.ID
	}
	_, keyErr := os.Stat(filepath.Join(dataDir, backupKey))
	out.Key = keyErr == nil
	out.Journal, err = s.VerifyJournal(ctx)
	return out, err
}

// unpack takes a backup apart, and returns where its SQL is. Nothing in it leads out of
// the directory.
func unpack(file, dataDir string) (dump string, err error) {
	f, err := os.Open(file)
	if err != nil {
		return "", err
	}
	defer func() { _ = f.Close() }()
	unzipped, err := gzip.NewReader(f)
	if err != nil {
		return "", fmt.Errorf("%s is no backup: %w", file, err)
	}
	for archive := tar.NewReader(unzipped); ; {
		h, err := archive.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return "", fmt.Errorf("%s is no whole backup: %w", file, err)
		}
		known := h.Name == backupSQL || slices.ContainsFunc(backupFiles, func(p string) bool { ok, _ := filepath.Match(p, h.Name); return ok })
		if !known || strings.Contains(h.Name, "..") || h.Typeflag != tar.TypeReg {
			return "", fmt.Errorf("%s is no backup: it has %q in it", file, h.Name)
		}
		to := filepath.Join(dataDir, filepath.FromSlash(h.Name))
		if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
			return "", err
		}
		out, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
		if err != nil {
			return "", err
		}
		_, err = io.Copy(out, archive)
		if err := errors.Join(err, out.Close()); err != nil {
			return "", fmt.Errorf("%s is no whole backup: %w", file, err)
		}
		if h.Name == backupSQL {
			dump = to
		}
	}
	if dump == "" {
		return "", fmt.Errorf("%s is no backup: it has no %s in it", file, backupSQL)
	}
	return dump, nil
}

// backupStamp is in the name of a backup that is not given one.
const backupStamp = "20060102-150405"

// BackupName is the name of a backup that is made now.
func BackupName(now time.Time) string { return "plumb-" + now.UTC().Format(backupStamp) + ".tar.gz" }
