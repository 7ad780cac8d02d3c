package store

import (
	"context"
	"database/sql/driver"
	"encoding/base64"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"
)

// A KeyPrint is the SHA-256 of a public key in the form of RFC 4253, section 6.6.
type KeyPrint [32]byte

const printPrefix = "SHA256:"

// String writes it as SSH's own tools do.
func (p KeyPrint) String() string { return printPrefix + base64.RawStdEncoding.EncodeToString(p[:]) }

// ParseKeyPrint reads that.
func ParseKeyPrint(text string) (p KeyPrint, err error) {
	b, err := base64.RawStdEncoding.DecodeString(strings.TrimPrefix(text, printPrefix))
	if err != nil || len(b) != len(p) {
		return p, fmt.Errorf("%q is not the fingerprint of a key: it begins with %s", text, printPrefix)
	}
	return KeyPrint(b), nil
}

// Value is what the database keeps.
func (p KeyPrint) Value() (driver.Value, error) { return p[:], nil }

// Scan takes what the database has kept.
func (p *KeyPrint) Scan(from any) error {
	b, ok := from.([]byte)
	if !ok || len(b) != len(p) {
		return errors.New("that is not the print of a key")
	}
	copy(p[:], b)
	return nil
}

// MarshalText writes it as String does.
func (p KeyPrint) MarshalText() ([]byte, error) { return []byte(p.String()), nil }

// UnmarshalText reads that.
func (p *KeyPrint) UnmarshalText(text []byte) (err error) {
	*p, err = ParseKeyPrint(string(text))
	return err
}

// An AccountKey is a public key with which somebody comes in.
type AccountKey struct {
	Print   KeyPrint  `db:"sha256"`
	Type    string    `db:"type"` // as RFC 4253 names it
	Name    string    `db:"name"`
	AddedAt time.Time `db:"added_at"`
}

// AccountKeys lists those of an account.
func (s *Store) AccountKeys(ctx context.Context, account string) ([]AccountKey, error) {
	var out []AccountKey
	err := s.db.SelectContext(ctx, &out, `
		SELECT sha256, type, account_key.name, added_at FROM account_key JOIN account ON account.id = account_id
		WHERE account.name = ? ORDER BY added_at, sha256`, account)
	return out, sorted(err)
}

// AddAccountKey adds one, of so many at the most: ErrConflict when it is there already,
// or there are that many.
func (s *Store) AddAccountKey(ctx context.Context, account string, k AccountKey, most int, entries ...Entry) error {
	return s.change(ctx, entries, func(tx *sqlx.Tx) error {
		var id int
		if err := tx.GetContext(ctx, &id, `SELECT id FROM account WHERE name = ? FOR UPDATE`, account); err != nil {
			return err
		}
		var has []KeyPrint
		if err := tx.SelectContext(ctx, &has, `SELECT sha256 FROM account_key WHERE account_id = ?`, id); err != nil {
			return err
		}
		if slices.Contains(has, k.Print) || len(has) >= most {
			return ErrConflict
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO account_key (account_id, sha256, type, name, added_at) VALUES (?, ?, ?, ?, UTC_TIMESTAMP(3))`, id, k.Print, k.Type, k.Name)
		return err
	})
}

// RemoveAccountKey removes one: ErrNotFound when it is not there.
func (s *Store) RemoveAccountKey(ctx context.Context, account string, p KeyPrint, entries ...Entry) error {
	return s.changeBy(ctx, entries, `DELETE FROM account_key WHERE sha256 = ? AND account_id = (SELECT id FROM account WHERE name = ?)`, p, account)
}

// A KnownAccount is what lets somebody in while the database is away.
type KnownAccount struct {
	Name         string `db:"name"`
	Role         string `db:"role"`
	PasswordHash string `db:"password_hash"`
	Keys         []KeyPrint
}

// KnownAccounts lists all of them.
func (s *Store) KnownAccounts(ctx context.Context) ([]KnownAccount, error) {
	var out []KnownAccount
	if err := s.db.SelectContext(ctx, &out, `SELECT name, role, password_hash FROM account ORDER BY name`); err != nil {
		return nil, sorted(err)
	}
	var keys []struct {
		Name  string   `db:"name"`
		Print KeyPrint `db:"sha256"`
	}
	if err := s.db.SelectContext(ctx, &keys, `SELECT account.name, sha256 FROM account_key JOIN account ON account.id = account_id ORDER BY added_at, sha256`); err != nil {
		return nil, sorted(err)
	}
	for _, k := range keys {
		if i := slices.IndexFunc(out, func(a KnownAccount) bool { return a.Name == k.Name }); i >= 0 {
			out[i].Keys = append(out[i].Keys, k.Print)
		}
	}
	return out, nil
}
