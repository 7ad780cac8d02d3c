package screen

import (
	"bytes"
	"image"
	"image/png"

	"plumbbob/internal/core/picture"
)

// PNG is a picture as a file.
func PNG(p *picture.Picture) ([]byte, error) {
	m := image.NewNRGBA(image.Rect(0, 0, p.W, p.H))
	for i, c := range p.Pix {
		copy(m.Pix[4*i:], []byte{byte(c >> 16), byte(c >> 8), byte(c), 255})
	}
	var out bytes.Buffer
	if err := png.Encode(&out, m); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}
