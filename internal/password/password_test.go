package password

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestPassword(t *testing.T) {
	p := Generate()
	require.NotEqual(t, p, Generate())
	h := Hash(p)
	require.NotEqual(t, h, Hash(p), "salted")
	ok, err := Check(p, h)
	require.NoError(t, err)
	require.True(t, ok)
	ok, err = Check(p+"x", h)
	require.NoError(t, err)
	require.False(t, ok)
	for _, bad := range []string{"", "plain", "$argon2id$v=19$m=1,t=1,p=1$$", "$argon2id$v=1$m=1,t=1,p=1$AAAA$AAAA"} {
		_, err := Check(p, bad)
		require.Error(t, err, bad)
	}
}
