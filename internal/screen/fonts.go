package screen

import (
	"compress/gzip"
	"io"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"

	"golang.org/x/image/font/inconsolata"

	"plumbbob/internal/core/glyph"
	"plumbbob/internal/core/picture"
)

// consoleFonts is where Debian's console-setup-linux has the fonts of text modes and consoles: of
// the western languages, and of box drawing as well.
var consoleFonts = []string{"/usr/share/consolefonts/Lat15-*.psf.gz", "/usr/share/consolefonts/Uni2-*.psf.gz"}

// ownFonts are those that nobody has taught: one that comes along, and those of the console, as
// far as this machine has them.
var ownFonts = sync.OnceValue(func() []*glyph.Font { return append(fontsAt(consoleFonts...), built()) })

// taught are ownFonts with what people have taught; nil: they have taught nothing.
var taught atomic.Pointer[[]*glyph.Font]

// Taught has pictures be read with these characters too, and no others that people have taught.
func Taught(all []glyph.Cell) {
	with := glyph.With(ownFonts(), all)
	taught.Store(&with)
}

// Fonts are those that text is read off pictures with.
func Fonts() []*glyph.Font {
	if with := taught.Load(); with != nil {
		return *with
	}
	return ownFonts()
}

// Read reads the text of a picture, if it shows some.
func Read(p *picture.Picture) (glyph.Text, bool) { return glyph.Read(p, Fonts()) }

const mostFontBytes = 1 << 20

func fontsAt(patterns ...string) (all []*glyph.Font) {
	var files []string
	for _, p := range patterns {
		more, _ := filepath.Glob(p) // the patterns are some
		files = append(files, more...)
	}
	for _, name := range files {
		if f, err := readFont(name); err == nil { // one that cannot be read is as good as none
			all = append(all, f)
		}
	}
	return all
}

func readFont(name string) (*glyph.Font, error) {
	file, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer func() { _ = file.Close() }()
	z, err := gzip.NewReader(file)
	if err != nil {
		return nil, err
	}
	p, err := io.ReadAll(io.LimitReader(z, mostFontBytes))
	if err != nil {
		return nil, err
	}
	return glyph.ParsePSF(filepath.Base(name), p)
}

// built is the font that comes with the program.
func built() *glyph.Font {
	face := inconsolata.Regular8x16
	const h = 16 // of a cell of a text mode; the font has a row more, and hardly uses it
	f := glyph.NewFont("Inconsolata 8x16", face.Advance, h)
	for _, r := range face.Ranges {
		for c := r.Low; c < r.High; c++ {
			rows := make([]byte, h)
			for y := range h {
				for x := range face.Advance {
					if _, _, _, a := face.Mask.At(x, (r.Offset+int(c-r.Low))*(face.Ascent+face.Descent)+y).RGBA(); a > 0x7fff {
						rows[y] |= 0x80 >> x
					}
				}
			}
			f.Add(rows, c)
		}
	}
	return f
}
