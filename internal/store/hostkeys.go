package store

import (
	"context"
	"time"
)

// HostKeys returns the host keys that were seen first, by address.
func (s *Store) HostKeys(ctx context.Context) (map[string]string, error) {
	var rows []struct {
		Address string `db:"address"`
		SHA256  string `db:"sha256"`
	}
	if err := s.db.SelectContext(ctx, &rows, `SELECT address, sha256 FROM host_key`); err != nil {
		return nil, sorted(err)
	}
	out := make(map[string]string, len(rows))
	for _, r := range rows {
		out[r.Address] = r.SHA256
	}
	return out, nil
}

// LearnHostKey keeps the host key of an address. ErrConflict means that there is
// one already.
func (s *Store) LearnHostKey(ctx context.Context, address, sha256 string, at time.Time) error {
	return s.exec(ctx, `INSERT INTO host_key (address, sha256, seen_at) VALUES (?, ?, ?)`, address, sha256, at)
}

// ForgetHostKey has the next host key that is seen at an address count.
func (s *Store) ForgetHostKey(ctx context.Context, address string) error {
	return changedOne(s.db.ExecContext(ctx, `DELETE FROM host_key WHERE address = ?`, address))
}
