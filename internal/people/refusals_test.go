package people

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestHowManyWrongPasswords(t *testing.T) {
	r := &refusal{written: time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC), more: 17, from: map[string]bool{"192.0.2.7": true}, last: "192.0.2.7"}
	require.Equal(t, "17 more wrong passwords since 12:00:00 UTC, from 192.0.2.7", r.words())
	r.from["192.0.2.8"] = true
	require.Equal(t, "17 more wrong passwords since 12:00:00 UTC, from 2 addresses, the last 192.0.2.7", r.words())
}
