package glyph

import (
	"encoding/binary"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/picture"
)

// made is a font with shapes of its own for some characters, as a file of version 1.
func made(chars string) []byte {
	rng := rand.New(rand.NewPCG(7, 7))
	p := []byte{0x36, 0x04, psf1Unicode, 16}
	for i := range 256 {
		for y := range 16 {
			b := byte(0)
			if i < len(chars) && y > 1 && y < 13 {
				b = byte(rng.Uint32()) & 0x7e
			}
			p = append(p, b)
		}
	}
	for i := range 256 {
		if i < len(chars) {
			p = binary.LittleEndian.AppendUint16(p, uint16(chars[i]))
		}
		p = binary.LittleEndian.AppendUint16(p, 0xffff)
	}
	return p
}

const letters = "abcdefghijklmnopqrstuvwxyzN:.0123456789"

// write draws text in cells of a width.
func write(p *picture.Picture, font []byte, wide, row, column int, text string, fore, back uint32) {
	for n, r := range text {
		at := -1
		for i := range letters {
			if rune(letters[i]) == r {
				at = i
			}
		}
		for y := range 16 {
			for x := range 8 {
				c := back
				if at >= 0 && font[4+16*at+y]&(0x80>>x) != 0 {
					c = fore
				}
				p.Row((column+n)*wide+x, row*16+y, 1)[0] = c
			}
		}
	}
}

func TestRead(t *testing.T) {
	font := made(letters)
	f, err := ParsePSF("made", font)
	require.NoError(t, err)
	for _, wide := range []int{8, 9} { // with a pixel between characters, and without
		p := picture.New(80*wide, 25*16)
		write(p, font, wide, 0, 0, "No bootable device", 0xaaaaaa, 0)
		write(p, font, wide, 2, 4, " disk 1: inverse ", 0, 0xaaaaaa)
		write(p, font, wide, 3, 0, "cursor", 0xff0000, 0)
		p.Fill(picture.Rect{X: 6 * wide, Y: 3*16 + 13, W: 8, H: 2}, 0xff0000)
		p.Fill(picture.Rect{X: 5 * wide, Y: 3*16 + 13, W: 8, H: 2}, 0xff0000) // under the r
		p.Fill(picture.Rect{X: 40*wide + 1, Y: 5*16 + 3, W: 3, H: 5}, 0xff)   // no character
		got, is := Read(p, []*Font{NewFont("other", 8, 14), f})
		require.True(t, is)
		require.Equal(t, Text{Font: "made", Known: 35, Unknown: 1, Rows: []string{"No bootable device", "", "     disk 1: inverse", "cursor", "", "                                        ▯"}}, got)
	}
	_, is := Read(picture.New(640, 400), []*Font{f})
	require.False(t, is, "nothing is no text")
	busy := picture.New(640, 400)
	rng := rand.New(rand.NewPCG(1, 1))
	for i := range busy.Pix {
		busy.Pix[i] = rng.Uint32() & 0xffffff
	}
	_, is = Read(busy, []*Font{f})
	require.False(t, is, "nor is a picture")
}

func TestFontsOfTheConsole(t *testing.T) {
	font := made("A")
	font[2] = 0 // it does not say what its characters are
	copy(font[4+16*0xc4:], []byte{0, 0, 0, 0, 0, 0, 0, 0xff})
	f, err := ParsePSF("old", font)
	require.NoError(t, err)
	require.Equal(t, '─', f.chars[string(font[4+16*0xc4:4+16*0xc5])], "code page 437")
	two := binary.LittleEndian.AppendUint32(nil, psf2Magic)
	for _, n := range []uint32{0, 32, psf2Unicode, 2, 6, 3, 12} {
		two = binary.LittleEndian.AppendUint32(two, n)
	}
	two = append(two, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12)
	f, err = ParsePSF("two", append(two, "ø\xfee\xcc\x81\xffé\xff"...))
	require.NoError(t, err)
	require.Equal(t, map[string]rune{"\x01\x02\x03\x04\x05\x06": 'ø', "\a\b\t\n\v\f": 'é'}, f.chars)
	for _, bad := range [][]byte{nil, []byte("PSF"), two[:40], font[:900]} {
		_, err = ParsePSF("bad", bad)
		require.Error(t, err)
	}
}

// FuzzParsePSF: whatever a file says, reading it ends.
func FuzzParsePSF(f *testing.F) {
	f.Add(made(letters))
	f.Fuzz(func(_ *testing.T, p []byte) { _, _ = ParsePSF("f", p) })
}

// TestCellsOfNinePixels: firmware draws some characters wider there than the fonts of consoles do.
func TestCellsOfNinePixels(t *testing.T) {
	f := NewFont("console", 8, nineRows)
	for i, r := range "abcdefghijklnopqrstu" {
		f.Add(append(make([]byte, nineRows-1), byte(0x10+i)), r)
	}
	draw := func(wide int, text string) *picture.Picture {
		p := picture.New(80*wide, 25*nineRows)
		bits := map[rune]string{}
		for _, known := range []map[string]rune{f.chars, nine} {
			for b, r := range known {
				bits[r] = b
			}
		}
		for i, r := range []rune(text) {
			for y := range len(bits[r]) {
				for x := range 8 {
					if bits[r][y]&(0x80>>x) != 0 {
						p.Row(i*wide+x, y, 1)[0] = 0xaaaaaa
					}
				}
			}
		}
		return p
	}
	got, is := Read(draw(9, "no bootable device or media"), []*Font{f})
	require.True(t, is)
	require.Equal(t, []string{"no bootable device or media"}, got.Rows)
	got, _ = Read(draw(8, "no bootable device or media"), []*Font{f})
	require.Equal(t, []string{"no bootable de▯ice or ▯edia"}, got.Rows, "there they are none")
}

// TestLearn: what somebody says of a row is known from then on; what cannot be so is refused, with
// its column.
func TestLearn(t *testing.T) {
	font := made(letters)
	p := picture.New(80*8, 25*16)
	write(p, font, 8, 2, 0, "press f2 now", 0xffffff, 0)
	grid := Grid{80, 25}
	for want, wrong := range map[string]struct {
		g    Grid
		row  int
		says string
	}{
		"no 81 columns and 25 lines":      {Grid{81, 25}, 2, "x"},
		"there is no row 26":              {grid, 25, "x"},
		"column 3 is not blank":           {grid, 2, "pr ss"},
		`column 6 is known as ' '`:        {grid, 2, "press_f2"},
		`looks like the 's' before it`:    {grid, 2, "presS f2"},
		`is no character that can be`:     {grid, 2, "p\x1b"},
		"cells of 32 × 80 pixels cannot":  {Grid{20, 5}, 2, "x"},
		"the text has 81 characters, and": {grid, 2, strings.Repeat("x", 81)},
	} {
		_, err := Learn(p, nil, wrong.g, wrong.row, wrong.says)
		require.ErrorContains(t, err, want)
	}
	learnt, err := Learn(p, nil, grid, 2, "press f2 now")
	require.NoError(t, err)
	require.Len(t, learnt, 9, "each of its characters once")
	again := picture.New(80*8, 25*16)
	again.Fill(again.All(), 0x2040ff)
	write(again, font, 8, 9, 30, "snow is worse", 0x000000, 0x2040ff)
	got, is := Read(again, With(nil, learnt))
	require.True(t, is)
	require.Equal(t, "snow ▯s worse", strings.TrimSpace(got.Rows[9]))

	known := With(nil, learnt[:4])[0] // p, r, e and s
	_, err = Learn(p, []*Font{known}, grid, 2, "prass")
	require.ErrorContains(t, err, `column 3 is known as 'e', and not 'a'`)
	learnt, err = Learn(p, []*Font{known}, grid, 2, "press f2")
	require.NoError(t, err)
	require.Len(t, learnt, 2, "f and 2")
	got, _ = Read(p, With([]*Font{known}, learnt))
	require.Equal(t, "press f2 ▯▯▯", got.Rows[2])
}
