package password

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestWhichPasswordsAreRefused(t *testing.T) {
	for _, bad := range []string{
		"short", "aaaaaaaaaa", "1234567890", "qwertyuiop", "poiuytrewq", "Password123", "P@ssw0rd!!!!", "Welcome2026!", "administrator", "changeme1234",
		"runa123456", "runaruna2026", "plumbbob2026", "Plumb-Bob-1!", "abcdefghijkl", "1q2w3e4r5t", "Summer2026!!",
	} {
		require.Error(t, Choose(bad, "runa"), bad)
	}
	for _, good := range []string{"heron-lamp-19-tide", "four unrelated words here", "x7#kQp0z!mm", Generate(), "Über den Wolken 7"} {
		require.NoError(t, Choose(good, "runa"), good)
	}
}
