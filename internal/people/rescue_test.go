package people

import (
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestARescueCodeCountsOnce, also when its file cannot be removed, and only the newest does.
func TestARescueCodeCountsOnce(t *testing.T) {
	dir := t.TempDir()
	d := New(Parts{DataDir: dir, Log: slog.New(slog.DiscardHandler)})
	require.False(t, d.useCode(""), "there is none")
	first, err := MakeRescueCode(dir)
	require.NoError(t, err)
	second, err := MakeRescueCode(dir)
	require.NoError(t, err)
	file := filepath.Join(dir, rescueFile)
	kept, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NotContains(t, string(kept), strings.ReplaceAll(second, "-", ""))
	require.False(t, d.useCode(first))
	require.False(t, d.useCode(""))
	require.True(t, d.useCode(" "+strings.ToLower(second)))
	require.NoFileExists(t, file)
	require.NoError(t, os.WriteFile(file, kept, 0o600))
	require.False(t, d.useCode(second), "used, whatever the disk says")
}
