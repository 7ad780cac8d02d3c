package screen

import (
	"bytes"
	"image/png"

	"plumbbob/internal/core/picture"
)

// PNG is a picture as a file.
func PNG(p *picture.Picture) ([]byte, error) {
	var out bytes.Buffer
	if err := png.Encode(&out, p.Image(p.All())); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}
