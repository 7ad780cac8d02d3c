package service

import (
	"context"
	"slices"
	"strings"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/picture"
	"plumbbob/internal/screen"
)

// lineScreen is what a terminal at the serial line of a device shows, without the empty rows
// at its end; nil where nothing is heard there now.
func (s *Service) lineScreen(k estate.Key) []string {
	said := s.broker.LastSaid(k)
	if len(said) == 0 {
		return nil
	}
	shown, err := screen.Of(said)
	if err != nil {
		s.o.Log.Warn("a screen could not be kept as proof", "device", k, "because", err)
		return nil
	}
	last := 0
	for i, row := range shown.Rows {
		if strings.TrimSpace(row) != "" {
			last = i + 1
		}
	}
	return slices.Clone(shown.Rows[:last])
}

// pictureSettles is how long a picture is waited for to be whole.
const pictureSettles = 200 * time.Millisecond

// picture is a PNG of what the screen of a device shows.
func (s *Service) picture(ctx context.Context, k estate.Key) ([]byte, error) {
	p, err := s.broker.Glimpse(ctx, k, pictureSettles, false)
	if err != nil {
		return nil, err
	}
	return screen.PNG(p)
}

// screenText is the text of a screen that shows some, row by row.
func screenText(p *picture.Picture) (rows []string, is bool) {
	t, is := screen.Read(p)
	return t.Rows, is
}
