package screen

import (
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/glyph"
	"plumbbob/internal/lab/video"
)

// TestFontsOfTheConsole: those of Debian are read, all of them.
func TestFontsOfTheConsole(t *testing.T) {
	known := 0
	for _, pattern := range consoleFonts {
		if all, err := filepath.Glob(pattern); err != nil || len(all) == 0 {
			pattern = "../../.peers" + pattern
		}
		all, err := filepath.Glob(pattern)
		require.NoError(t, err)
		require.Greater(t, len(all), 10)
		require.Len(t, fontsAt(pattern), len(all))
		known += len(all)
	}
	require.Greater(t, known, 40)
}

// TestWhatALabScreenSays is read with the font that comes along, but for its cursor.
func TestWhatALabScreenSays(t *testing.T) {
	var term video.Terminal
	_, err := term.Write([]byte("Kernel panic - not syncing: Fatal exception\r\n\x1b[7m Set-up \x1b[0m\r\nloader> "))
	require.NoError(t, err)
	got, is := glyph.Read(term.Draw(true), []*glyph.Font{built()})
	require.True(t, is)
	require.Equal(t, []string{"Kernel panic - not syncing: Fatal exception", " Set-up", "loader>"}, got.Rows)
	require.Zero(t, got.Unknown)
	desk := video.Desktop{Title: "ticket kiosk"}
	_, is = glyph.Read(desk.Draw(time.Unix(0, 0)), []*glyph.Font{built()})
	require.False(t, is)
}
