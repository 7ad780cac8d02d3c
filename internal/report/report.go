// Package report keeps the figures of long tests in a document.
package report

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// File writes a file beside the document; without one it does nothing.
func File(t testing.TB, name, text string) {
	t.Helper()
	if file := os.Getenv("PLUMB_REPORT"); file != "" {
		require.NoError(t, os.WriteFile(filepath.Join(filepath.Dir(file), name), []byte(text), 0o644))
	}
}

// Section puts text under a heading of the file PLUMB_REPORT, in the place of what was
// there; without one it does nothing.
func Section(t testing.TB, heading, text string) {
	t.Helper()
	file := os.Getenv("PLUMB_REPORT")
	if file == "" {
		return
	}
	was, err := os.ReadFile(file)
	require.NoError(t, err)
	before, after, _ := strings.Cut(string(was), "\n## "+heading+"\n")
	if i := strings.Index(after, "\n## "); i >= 0 {
		after = after[i:]
	} else {
		after = ""
	}
	now := strings.TrimRight(before, "\n") + "\n\n## " + heading + "\n" + strings.TrimRight(text, "\n") + "\n" + after
	require.NoError(t, os.WriteFile(file, []byte(now), 0o644))
}
