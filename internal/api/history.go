package api

import (
	"context"
	"errors"
	"math"
	"strings"
	"time"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/keep"
	"plumbbob/internal/store"
)

const (
	drawSeries  = keep.DrawSeries
	historySpan = 24 * time.Hour
	historyMost = 5 * 365 * 24 * time.Hour
	points      = 300
	maxMarks    = 200
)

// ListSeries implements the contract.
func (s *Server) ListSeries(ctx context.Context, req contract.ListSeriesRequestObject) (contract.ListSeriesResponseObject, error) {
	d, err := device(s, req.Key)
	if err != nil {
		return nil, err
	}
	list, err := s.Store.ListSeries(ctx, d.Key)
	if err != nil {
		return nil, err
	}
	out := contract.ListSeries200JSONResponse{}
	for _, x := range list {
		out = append(out, contract.Series{Name: x.Name, Unit: x.Unit, Words: s.seriesWords(d, x.Name)})
	}
	return out, nil
}

// seriesWords says what a series is of.
func (s *Server) seriesWords(d *estate.Device, name string) string {
	kind, rest, _ := strings.Cut(name, ":")
	switch kind {
	case "draw":
		if d.Supply != nil {
			return "given out"
		}
		return "draw"
	case "chassis":
		return "draw, by its controller"
	case "outlet":
		return estate.End{Device: d.Key, Port: rest}.Words()
	case "ups":
		return map[string]string{"charge": "battery charge", "minutes": "minutes left", "load": "load", "input": "input", "battery": "battery voltage"}[rest]
	case "way":
		return map[string]string{"loss": "questions lost on the way", "rtt": "round trip", "jitter": "jitter of the round trip"}[rest]
	case "meter":
		return strings.ReplaceAll(rest, ":", ", ")
	case "sensor":
		for _, x := range s.Keeper.Inside(d.Key).Sensors {
			if x.Series == rest {
				return x.Name
			}
		}
		return strings.ReplaceAll(rest, "-", " ")
	}
	return name
}

func (s *Server) span(from, to *time.Time, usually, most time.Duration) (time.Time, time.Time, error) {
	end := time.Now().UTC()
	if to != nil {
		end = to.UTC()
	}
	begin := end.Add(-usually)
	if from != nil {
		begin = from.UTC()
	}
	if !begin.Before(end) || end.Sub(begin) > most {
		return begin, end, usage("from must lie before to, by %d days at the most", int(most.Hours()/24))
	}
	return begin, end, nil
}

// GetHistory implements the contract.
func (s *Server) GetHistory(ctx context.Context, req contract.GetHistoryRequestObject) (contract.GetHistoryResponseObject, error) {
	d, err := device(s, req.Key)
	if err != nil {
		return nil, err
	}
	from, to, err := s.span(req.Params.From, req.Params.To, historySpan, historyMost)
	if err != nil {
		return nil, err
	}
	all, err := s.Store.ListSeries(ctx, d.Key)
	if err != nil {
		return nil, err
	}
	byName := map[string]store.Series{}
	for _, x := range all {
		byName[x.Name] = x
	}
	var list []store.Series
	for _, name := range req.Params.Series {
		x, ok := byName[name]
		if !ok {
			return nil, usage("%s has no series %q: plumb history %s lists them", d.Key, name, d.Key)
		}
		list = append(list, x)
	}
	n := points
	if req.Params.Points != nil {
		n = *req.Params.Points
	}
	found, res, long, err := s.Store.History(ctx, list, from, to, n, time.Now(), s.Retention)
	if err != nil {
		return nil, err
	}
	out := contract.GetHistory200JSONResponse{From: from, To: to, StretchSeconds: long.Seconds(), Resolution: contract.HistoryResolution(res.Name), Series: []contract.HistorySeries{}}
	for _, x := range list {
		out.Series = append(out.Series, s.historySeries(d, x, found[x.ID], to.Sub(from)))
	}
	out.Marks, err = s.marks(ctx, d.Key, from, to)
	return out, err
}

func (s *Server) historySeries(d *estate.Device, x store.Series, list []reading.Stretch, span time.Duration) contract.HistorySeries {
	v := contract.HistorySeries{Name: x.Name, Unit: x.Unit, Words: s.seriesWords(d, x.Name), At: []int64{}, Min: []float64{}, Mean: []float64{}, Max: []float64{}}
	for _, p := range list {
		v.At = append(v.At, p.At.UnixMilli())
		v.Min, v.Mean, v.Max = append(v.Min, rounded(p.Min)), append(v.Mean, rounded(p.Mean)), append(v.Max, rounded(p.Max))
	}
	if len(list) > 0 {
		sum := reading.Summarize(list)
		v.Average, v.Peak, v.PeakAt = ptr(rounded(sum.Mean)), ptr(rounded(sum.Peak)), ptr(sum.PeakAt.UTC())
		v.Measured = ptr(min(1, sum.Known.Seconds()/span.Seconds()))
		if x.Unit == "W" {
			v.Wh = ptr(rounded(sum.Integral))
		}
	}
	if name, ok := strings.CutPrefix(x.Name, "sensor:"); ok {
		for _, sensor := range s.Keeper.Inside(d.Key).Sensors {
			if sensor.Series == name && sensor.Limits != (reading.Limits{}) {
				v.Limits = limitsView(sensor.Limits)
			}
		}
	}
	return v
}

// rounded is enough digits for a chart, and few enough for the wire.
func rounded(v float64) float64 {
	if v == 0 || math.Abs(v) >= 1000 {
		return math.Round(v*10) / 10
	}
	return math.Round(v*1000) / 1000
}

func limitsView(l reading.Limits) *contract.Limits {
	return &contract.Limits{LowFatal: l.LowFatal, LowCritical: l.LowCritical, LowWarning: l.LowWarning, HighWarning: l.HighWarning, HighCritical: l.HighCritical, HighFatal: l.HighFatal}
}

// marks are what happened to a device in that time: operations, incidents of which
// it was the cause, and what gear did by itself.
func (s *Server) marks(ctx context.Context, k estate.Key, from, to time.Time) ([]contract.HistoryMark, error) {
	out := []contract.HistoryMark{}
	ops, err := s.Store.Operations(ctx, store.OperationFilter{Device: k, Limit: maxMarks})
	if err != nil && !errors.Is(err, store.ErrAway) {
		return nil, err
	}
	for _, o := range ops {
		if o.Asked.After(from) && o.Asked.Before(to) {
			m := contract.HistoryMark{At: o.Asked, Kind: "operation", Text: string(o.Kind) + " by " + o.By}
			if !o.Ended.IsZero() {
				m.Until = ptr(o.Ended)
			}
			out = append(out, m)
		}
	}
	incidents, err := s.Store.Incidents(ctx, store.IncidentFilter{Device: k, Limit: maxMarks})
	if err != nil && !errors.Is(err, store.ErrAway) {
		return nil, err
	}
	for _, i := range incidents {
		if i.Opened.Before(to) && (i.Open() || i.Ended.After(from)) {
			m := contract.HistoryMark{At: i.Opened.UTC(), Kind: "incident", Text: strings.ReplaceAll(i.Kind, "-", " ")}
			if !i.Open() {
				m.Until = ptr(i.Ended.UTC())
			}
			out = append(out, m)
		}
	}
	entries, err := s.Store.Journal(ctx, store.JournalFilter{Device: k, Kind: store.EntrySupply, Limit: maxMarks})
	if err != nil && !errors.Is(err, store.ErrAway) {
		return nil, err
	}
	for _, e := range entries {
		if e.At.After(from) && e.At.Before(to) {
			out = append(out, contract.HistoryMark{At: e.At.UTC(), Kind: "supply", Text: strings.TrimPrefix(e.Text, string(k)+": ")})
		}
	}
	return out, nil
}

const (
	drawSpan = 2 * time.Hour
	drawMost = 400 * 24 * time.Hour
)

// GetDraw implements the contract.
func (s *Server) GetDraw(ctx context.Context, req contract.GetDrawRequestObject) (contract.GetDrawResponseObject, error) {
	d, err := device(s, req.Key)
	if err != nil {
		return nil, err
	}
	from, to, err := s.span(req.Params.From, req.Params.To, drawSpan, drawMost)
	if err != nil {
		return nil, err
	}
	out := contract.Draw{From: from, To: to, At: []int64{}, W: []float64{}, Min: []float64{}, Max: []float64{}}
	list, err := s.Store.SeriesNamed(ctx, d.Key, drawSeries)
	if err != nil {
		return nil, err
	}
	found, _, long, err := s.Store.History(ctx, list, from, to, points, time.Now(), s.Retention)
	if err != nil {
		return nil, err
	}
	out.StretchSeconds = long.Seconds()
	for _, x := range list {
		v := s.historySeries(d, x, found[x.ID], to.Sub(from))
		out.At, out.W, out.Min, out.Max, out.Mean, out.Peak, out.PeakAt, out.Wh, out.Measured = v.At, v.Mean, v.Min, v.Max, v.Average, v.Peak, v.PeakAt, v.Wh, v.Measured
	}
	s.Keeper.See(func(e *estate.Estate, ev *verdict.Evidence, _ map[estate.Key]verdict.Verdict, now time.Time) {
		if w, known := verdict.Draw(e, ev, d.Key, now); known {
			out.Now = ptr(tenth(w))
		}
	})
	return contract.GetDraw200JSONResponse(out), nil
}
