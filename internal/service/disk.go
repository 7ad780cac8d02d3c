package service

import (
	"context"
	"fmt"
	"syscall"
	"time"
)

// Room on the disk of the data directory: below the first the board says so, in time for
// somebody to do something, below the second the database is about to stop taking records.
const (
	roomLow   = 1 << 30
	roomGrave = 200 << 20
	roomEvery = 15 * time.Second
)

// watchRoom says when the disk runs full, before what needs it dies of that.
func (s *Service) watchRoom(ctx context.Context) error {
	for {
		s.lookAtRoom()
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(roomEvery):
		}
	}
}

func (s *Service) lookAtRoom() {
	var fs syscall.Statfs_t
	if err := syscall.Statfs(s.o.DataDir, &fs); err != nil {
		return
	}
	free := fs.Bavail * uint64(fs.Bsize) //nolint:gosec // a block has a positive size
	text := roomWords(s.o.DataDir, free)
	switch {
	case free < roomGrave:
		s.health.Grave("disk", text)
	case free < roomLow:
		s.health.Ails("disk", text)
	default:
		s.health.Well("disk")
	}
}

func roomWords(dir string, free uint64) string {
	text := fmt.Sprintf("%d MB are free on the disk of %s", free>>20, dir)
	if free < roomGrave {
		return text + ": the database takes no records when it is full. Make room, or keep readings for a shorter time (--keep-readings, --keep-5min)"
	}
	return text + ": below " + fmt.Sprint(roomGrave>>20) + " MB the database is in danger"
}
