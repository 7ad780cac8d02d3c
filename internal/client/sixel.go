package client

import (
	"image"

	"github.com/mattn/go-sixel"
	"golang.org/x/image/draw"

	"plumbbob/internal/core/picture"
)

// The pixels of a character, where a terminal does not say: hardly one has smaller ones.
const usualCellW, usualCellH = 8, 16

// pixels is how large a terminal is, without its last line.
func (a *app) pixels(columns, rows int) (w, h int) {
	if t, says := a.term.(interface{ Pixels() (w, h int) }); says {
		if w, h = t.Pixels(); w > 0 && h > 0 {
			return w, h * (rows - 1) / rows
		}
	}
	return columns * usualCellW, (rows - 1) * usualCellH
}

// sixels writes a picture in pixels, made smaller where it does not fit into w by h of them, for
// terminals that show sixels (VT330/VT340 Programmer Reference Manual, volume 2, chapter 14).
func sixels(to *sixel.Encoder, p *picture.Picture, w, h int) error {
	from := p.Image(p.All())
	fit := from.Bounds()
	if fit.Dx() > w || fit.Dy() > h {
		if fit.Dx()*h > fit.Dy()*w {
			fit.Max.X, fit.Max.Y = w, max(1, fit.Dy()*w/fit.Dx())
		} else {
			fit.Max.X, fit.Max.Y = max(1, fit.Dx()*h/fit.Dy()), h
		}
	}
	small := from
	if fit != from.Bounds() {
		small = image.NewRGBA(fit)
		draw.ApproxBiLinear.Scale(small, fit, from, from.Bounds(), draw.Src, nil)
	}
	return to.Encode(small)
}
