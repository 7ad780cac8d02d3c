package ipmigear

import (
	"context"
	"encoding/hex"
	"fmt"

	"plumbbob/internal/core/reading"
	"plumbbob/internal/wire/ipmi"
)

// ReadEvents reads what is new in the event log, and returns all of it.
func (d *Driver) ReadEvents(ctx context.Context) (reading.EventLog, error) {
	var out reading.EventLog
	err := d.use("read the event log", func(c *ipmi.Client) error {
		repo, err := d.records(ctx, c)
		if err != nil {
			return err
		}
		log, err := d.newest(ctx, c)
		if err != nil {
			return err
		}
		room := int(log.Info.Room) / ipmi.EventSize
		out = reading.EventLog{Full: log.Info.Overflow || room == 0, Free: room, Version: version(log)}
		for _, e := range log.Events {
			out.Events = append(out.Events, eventOf(e, repo))
		}
		return nil
	})
	return out, err
}

func (d *Driver) newest(ctx context.Context, c *ipmi.Client) (*ipmi.EventLog, error) {
	d.mu.Lock()
	known := d.log
	d.mu.Unlock()
	log, err := c.EventLog(ctx, known)
	if err != nil {
		return nil, err
	}
	d.mu.Lock()
	d.log = log
	d.mu.Unlock()
	return log, nil
}

// version changes whenever the log does.
func version(log *ipmi.EventLog) string {
	last := uint16(0)
	if n := len(log.Events); n > 0 {
		last = log.Events[n-1].ID
	}
	return fmt.Sprintf("%x-%x-%x-%x", log.Info.Erased, log.Info.Added, log.Info.Entries, last)
}

func eventOf(e ipmi.Event, repo *ipmi.Repository) reading.Event {
	out := reading.Event{ID: int(e.ID), Gone: e.Gone, Level: levelOf(e.Gravity()), Raw: hex.EncodeToString(e.Append(nil))}
	if at, after, ok := e.Time(); ok {
		out.At = &at
	} else if after >= 0 {
		out.After = &after
	}
	if e.Kind != ipmi.SystemEventRecord {
		out.Text, out.Kind = e.Words(nil), "maker's own"
		return out
	}
	s := repo.Sensor(e.Sensor)
	out.Kind, out.Text, out.Starts = e.Type.String(), e.Words(s), e.Starts()
	out.Sensor = fmt.Sprintf("sensor %02Xh", e.Sensor.Number)
	if s != nil {
		out.Sensor = s.Name
	}
	return out
}

// ClearEvents erases the log, if it still is the version that was read.
func (d *Driver) ClearEvents(ctx context.Context, v string) error {
	return d.use("clear the event log", func(c *ipmi.Client) error {
		log, err := d.newest(ctx, c)
		if err != nil {
			return err
		}
		if version(log) != v {
			return ipmi.ErrLogMoved
		}
		return c.ClearEventLog(ctx, log)
	})
}
