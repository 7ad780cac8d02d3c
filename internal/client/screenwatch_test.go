package client

import (
	"bytes"
	"image"
	"image/color"
	"strings"
	"testing"

	"github.com/mattn/go-sixel"
	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/picture"
)

// TestAPictureInCharacters fits into the terminal as it is, and shows what is where.
func TestAPictureInCharacters(t *testing.T) {
	p := picture.New(640, 480)
	p.Fill(picture.Rect{W: 320, H: 240}, 0xffffff)
	p.Fill(picture.Rect{X: 320, Y: 240, W: 320, H: 240}, 0xff0000)
	shown := halves(p, 40, 20, false)
	require.Len(t, shown, 15)
	require.Equal(t, strings.Repeat("█", 20)+strings.Repeat(" ", 20), shown[0])
	require.Equal(t, strings.Repeat(" ", 20)+strings.Repeat("░", 20), shown[14])
	require.Len(t, halves(p, 200, 10, false), 10, "no higher than the terminal")
	coloured := halves(p, 40, 20, true)
	first := "\x1b[38;2;255;255;255m\x1b[48;2;255;255;255m▀"
	require.Equal(t, first, coloured[0][:len(first)])
	require.True(t, strings.HasSuffix(coloured[0], "\x1b[0m"))
	require.Empty(t, halves(picture.New(0, 0), 80, 24, true))
	require.NotEmpty(t, halves(picture.New(3, 1), 80, 24, true), "smaller than the terminal")
	var out bytes.Buffer
	require.NoError(t, sixels(sixel.NewEncoder(&out), p, 160, 160))
	var drawn image.Image
	require.NoError(t, sixel.NewDecoder(&out).Decode(&drawn))
	require.Equal(t, image.Rect(0, 0, 160, 120), drawn.Bounds(), "as it fits")
	require.Equal(t, color.NRGBA{255, 0, 0, 255}, color.NRGBAModel.Convert(drawn.At(150, 110)))
	require.Equal(t, "añ", trimmed("año", 2))
}
