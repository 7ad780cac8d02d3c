package glyph

import (
	"encoding/binary"
	"fmt"
	"unicode/utf8"
)

// Magic numbers of fonts of the Linux console.
const (
	psf1Magic = 0x0436
	psf2Magic = 0x864ab572

	psf1Many    = 1 // there are 512 characters
	psf1Unicode = 2 // and a table of what they stand for
	psf2Unicode = 1

	mostGlyphs = 4096
	mostBytes  = 128 // of a glyph
)

// ParsePSF reads a font of the Linux console, in either version of its format, decompressed.
// One that does not say what its characters stand for is taken for code page 437.
func ParsePSF(name string, p []byte) (*Font, error) {
	switch {
	case len(p) >= 4 && binary.LittleEndian.Uint16(p) == psf1Magic:
		return psf1(name, p)
	case len(p) >= 32 && binary.LittleEndian.Uint32(p) == psf2Magic:
		return psf2(name, p)
	}
	return nil, fmt.Errorf("%s is no font of the console (PSF)", name)
}

func psf1(name string, p []byte) (*Font, error) {
	mode, height := p[2], int(p[3])
	n := 256
	if mode&psf1Many != 0 {
		n = 512
	}
	if height == 0 || height > mostBytes || len(p) < 4+n*height {
		return nil, fmt.Errorf("%s is cut off", name)
	}
	f := &Font{Name: name, W: 8, H: height, chars: map[string]rune{}}
	glyphs, table := p[4:4+n*height], p[4+n*height:]
	for i := range n {
		bits := string(glyphs[i*height : (i+1)*height])
		if mode&psf1Unicode == 0 {
			f.add(bits, codePage437(i))
			continue
		}
		for sequence := false; len(table) >= 2; {
			c := binary.LittleEndian.Uint16(table)
			table = table[2:]
			if c == 0xffff {
				break
			}
			if sequence = sequence || c == 0xfffe; !sequence {
				f.add(bits, rune(c))
			}
		}
	}
	return f, nil
}

func psf2(name string, p []byte) (*Font, error) {
	field := func(i int) int { return int(binary.LittleEndian.Uint32(p[4*i:])) }
	header, flags, n, size, height, width := field(2), field(3), field(4), field(5), field(6), field(7)
	if n > mostGlyphs || size > mostBytes || height > mostBytes || width > 16 || width < 1 || size != height*((width+7)/8) || header < 32 || header > len(p) || len(p)-header < n*size {
		return nil, fmt.Errorf("%s is cut off, or has characters of a size that is not taken", name)
	}
	f := &Font{Name: name, W: width, H: height, chars: map[string]rune{}}
	glyphs, table := p[header:header+n*size], p[header+n*size:]
	for i := range n {
		bits := string(glyphs[i*size : (i+1)*size])
		if flags&psf2Unicode == 0 {
			f.add(bits, codePage437(i))
			continue
		}
		for sequence := false; len(table) > 0; {
			if table[0] == 0xff {
				table = table[1:]
				break
			}
			if sequence = sequence || table[0] == 0xfe; sequence {
				table = table[1:]
				continue
			}
			c, long := utf8.DecodeRune(table)
			f.add(bits, c)
			table = table[long:]
		}
	}
	return f, nil
}

// What stands beyond ASCII in code page 437, as firmware draws it.
const (
	low437  = " ☺☻♥♦♣♠•◘○◙♂♀♪♫☼►◄↕‼¶§▬↨↑↓→←∟↔▲▼"
	high437 = "⌂ÇüéâäàåçêëèïîìÄÅÉæÆôöòûùÿÖÜ¢£¥₧ƒáíóúñÑªº¿⌐¬½¼¡«»░▒▓│┤╡╢╖╕╣║╗╝╜╛┐└┴┬├─┼╞╟╚╔╩╦╠═╬╧╨╤╥╙╘╒╓╫╪┘┌█▄▌▐▀αßΓπΣσµτΦΘΩδ∞φε∩≡±≥≤⌠⌡÷≈°∙·√ⁿ²■ "
)

var page437 = func() (all [256]rune) {
	for i := range all {
		all[i] = rune(i)
	}
	copy(all[:], []rune(low437))
	copy(all[127:], []rune(high437))
	return all
}()

func codePage437(i int) rune { return page437[i&255] }
