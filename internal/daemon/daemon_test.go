package daemon

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestUsage(t *testing.T) {
	for _, args := range [][]string{{"explode"}, {"serve", "--colour"}, {"serve", "--log", "loud"}, {"password"}, {"lab"}} {
		require.Equal(t, exitUsage, Main(args), "%v", args)
	}
	require.Equal(t, exitDone, Main([]string{"--help"}))
}
