package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"database/sql/driver"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"
)

// Account is somebody who may log in.
type Account struct {
	ID           int       `db:"id"`
	Name         string    `db:"name"`
	Role         string    `db:"role"`
	PasswordHash string    `db:"password_hash"`
	CreatedAt    time.Time `db:"created_at"`
}

// Session is one log-in: of a browser, or of a client.
type Session struct {
	AccountID int       `db:"account_id"`
	Account   string    `db:"account"`
	Role      string    `db:"role"`
	Kind      string    `db:"kind"`
	Name      string    `db:"name"`
	ExpiresAt time.Time `db:"expires_at"`
}

// The kinds of session.
const (
	ConsoleSession = "console"
	ClientSession  = "client"
)

// CreateAccount adds an account; ErrConflict when the name is taken.
func (s *Store) CreateAccount(ctx context.Context, name, role, passwordHash string, entries ...Entry) error {
	return s.changeBy(ctx, entries, `
		INSERT INTO account (name, role, password_hash, created_at)
		VALUES (?, ?, ?, UTC_TIMESTAMP(3))`, name, role, passwordHash)
}

// ListedAccount is an account, and where it is logged in.
type ListedAccount struct {
	Name      string       `db:"name"`
	Role      string       `db:"role"`
	CreatedAt time.Time    `db:"created_at"`
	LogIns    int          `db:"log_ins"` // that have not ended
	LastLogIn sql.NullTime `db:"last_log_in"`
}

// Accounts lists who may log in, by name.
func (s *Store) Accounts(ctx context.Context) ([]ListedAccount, error) {
	var out []ListedAccount
	err := s.db.SelectContext(ctx, &out, `
		SELECT account.name, account.role, account.created_at, COUNT(session.account_id) AS log_ins, MAX(session.created_at) AS last_log_in
		FROM account LEFT JOIN session ON session.account_id = account.id AND session.expires_at > UTC_TIMESTAMP(3)
		GROUP BY account.id ORDER BY account.name`)
	return out, sorted(err)
}

// SetRole gives an account another role. ErrConflict when nobody with the
// greatest role would be left.
func (s *Store) SetRole(ctx context.Context, name, role, greatest string, entries ...Entry) error {
	return s.keepOne(ctx, entries, name, greatest, role == greatest, `UPDATE account SET role = ? WHERE name = ?`, role, name)
}

// RemoveAccount removes an account with all its log-ins. ErrConflict when nobody
// with the greatest role would be left.
func (s *Store) RemoveAccount(ctx context.Context, name, greatest string, entries ...Entry) error {
	return s.keepOne(ctx, entries, name, greatest, false, `DELETE FROM account WHERE name = ?`, name)
}

// keepOne changes an account unless that would leave nobody with the greatest role.
func (s *Store) keepOne(ctx context.Context, entries []Entry, name, greatest string, stays bool, query string, args ...any) error {
	return s.change(ctx, entries, func(tx *sqlx.Tx) error {
		var all []Account // locked, so that the last two cannot go at once
		if err := tx.SelectContext(ctx, &all, `SELECT id, name, role, password_hash, created_at FROM account FOR UPDATE`); err != nil {
			return err
		}
		i := slices.IndexFunc(all, func(a Account) bool { return a.Name == name })
		if i < 0 {
			return ErrNotFound
		}
		others := slices.ContainsFunc(all, func(a Account) bool { return a.Name != name && a.Role == greatest })
		if all[i].Role == greatest && !stays && !others {
			return fmt.Errorf("%w: %s is the last %s", ErrConflict, name, greatest)
		}
		_, err := tx.ExecContext(ctx, query, args...)
		return err
	})
}

// SetPassword replaces a password and ends all log-ins with the old one, but that
// with the token of whoever asks.
func (s *Store) SetPassword(ctx context.Context, name, passwordHash, token string, entries ...Entry) error {
	return s.change(ctx, entries, func(tx *sqlx.Tx) error {
		var id int
		if err := tx.GetContext(ctx, &id, `SELECT id FROM account WHERE name = ? FOR UPDATE`, name); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `UPDATE account SET password_hash = ? WHERE id = ?`, passwordHash, id); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `DELETE FROM session WHERE account_id = ? AND token_hash <> ?`, id, HashToken(token))
		return err
	})
}

// Account finds an account by name.
func (s *Store) Account(ctx context.Context, name string) (Account, error) {
	var a Account
	err := s.db.GetContext(ctx, &a, `SELECT id, name, role, password_hash, created_at FROM account WHERE name = ?`, name)
	return a, sorted(err)
}

// AnyAccount says whether there is any account yet.
func (s *Store) AnyAccount(ctx context.Context) (bool, error) {
	var any bool
	err := s.db.GetContext(ctx, &any, `SELECT EXISTS (SELECT 1 FROM account)`)
	return any, sorted(err)
}

// A TokenHash stands for the token of a log-in, which is kept nowhere.
type TokenHash [sha256.Size]byte

// HashToken returns that of a token.
func HashToken(token string) TokenHash { return sha256.Sum256([]byte(token)) }

// Value is what the database keeps.
func (h TokenHash) Value() (driver.Value, error) { return h[:], nil }

// Scan takes what the database has kept.
func (h *TokenHash) Scan(from any) error {
	b, ok := from.([]byte)
	if !ok || len(b) != len(h) {
		return errors.New("that is not the hash of a token")
	}
	copy(h[:], b)
	return nil
}

// MarshalText writes it in hexadecimal.
func (h TokenHash) MarshalText() ([]byte, error) { return hex.AppendEncode(nil, h[:]), nil }

// UnmarshalText reads that.
func (h *TokenHash) UnmarshalText(text []byte) error {
	b, err := hex.DecodeString(string(text))
	if err != nil {
		return fmt.Errorf("the hash of a token: %w", err)
	}
	return h.Scan(b)
}

// CreateSession records a log-in under the hash of its token.
func (s *Store) CreateSession(ctx context.Context, token string, accountID int, kind, name string, expires time.Time, entries ...Entry) error {
	err := s.changeBy(ctx, entries, `
		INSERT INTO session (token_hash, account_id, kind, name, created_at, used_at, expires_at)
		VALUES (?, ?, ?, ?, UTC_TIMESTAMP(3), UTC_TIMESTAMP(3), ?)`, HashToken(token), accountID, kind, name, expires)
	if err != nil {
		return fmt.Errorf("create session: %w", err)
	}
	if err := s.exec(ctx, `DELETE FROM session WHERE NOT (`+alive+`)`); err != nil {
		return err
	}
	// The one that has not been used for the longest time makes room.
	return s.exec(ctx, `DELETE FROM session WHERE account_id = ? AND token_hash NOT IN (
		SELECT token_hash FROM (SELECT token_hash FROM session WHERE account_id = ? ORDER BY used_at DESC, created_at DESC LIMIT ?) AS newest)`,
		accountID, accountID, mostSessions)
}

// mostSessions is how many log-ins an account has.
const mostSessions = 50

// alive says of a log-in that it has neither run out nor been forgotten by whoever it is
// of: a console that nobody has used for a day, a client for a month.
const alive = `session.expires_at > UTC_TIMESTAMP(3) AND session.used_at > UTC_TIMESTAMP(3) - INTERVAL IF(session.kind = 'console', 1, 30) DAY`

// Session finds the log-in of a token, and notes that it is used; ErrNotFound when it
// has expired.
func (s *Store) Session(ctx context.Context, token string) (Session, error) {
	var x Session
	err := s.db.GetContext(ctx, &x, `
		SELECT session.account_id, account.name AS account, account.role, session.kind, session.name, session.expires_at
		FROM session JOIN account ON account.id = session.account_id
		WHERE token_hash = ? AND `+alive, HashToken(token))
	if err != nil {
		return x, sorted(err)
	}
	// Not at each look: that would be a write for each.
	err = s.exec(ctx, `UPDATE session SET used_at = UTC_TIMESTAMP(3) WHERE token_hash = ? AND used_at < UTC_TIMESTAMP(3) - INTERVAL 10 MINUTE`, HashToken(token))
	if errors.Is(err, ErrAway) { // a server that takes nothing now can still be read
		err = nil
	}
	return x, err
}

// EndSession forgets a log-in.
func (s *Store) EndSession(ctx context.Context, token string, entries ...Entry) error {
	return s.changeBy(ctx, entries, `DELETE FROM session WHERE token_hash = ?`, HashToken(token))
}
