package picture

import (
	"image"
	"image/color"
)

// Of is an image as a picture.
func Of(m image.Image) *Picture {
	p := New(m.Bounds().Dx(), m.Bounds().Dy())
	p.Draw(Rect{W: p.W, H: p.H}, m)
	return p
}

// Draw draws an image that is as large as a part of the picture.
func (p *Picture) Draw(r Rect, m image.Image) {
	at := m.Bounds().Min
	for y := range r.H {
		row := p.Row(r.X, r.Y+y, r.W)
		for x := range row {
			row[x] = rgbOf(m, at.X+x, at.Y+y)
		}
	}
}

func rgbOf(m image.Image, x, y int) uint32 {
	if yuv, ok := m.(*image.YCbCr); ok { // which most are: it takes half the time
		at, c := yuv.YOffset(x, y), yuv.COffset(x, y)
		r, g, b := color.YCbCrToRGB(yuv.Y[at], yuv.Cb[c], yuv.Cr[c])
		return uint32(r)<<16 | uint32(g)<<8 | uint32(b)
	}
	r, g, b, _ := m.At(x, y).RGBA()
	return r>>8<<16 | g>>8<<8 | b>>8
}

// Image is a copy of a part of it, which is within, as an image.
func (p *Picture) Image(r Rect) *image.RGBA {
	m := image.NewRGBA(image.Rect(0, 0, r.W, r.H))
	for y := range r.H {
		to := m.Pix[y*m.Stride:]
		for x, c := range p.Row(r.X, r.Y+y, r.W) {
			to[4*x], to[4*x+1], to[4*x+2], to[4*x+3] = byte(c>>16), byte(c>>8), byte(c), 255
		}
	}
	return m
}
