package api

import (
	"context"
	"crypto/subtle"
	"net/http"
	"path"
	"time"

	"github.com/labstack/echo/v5"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/telling"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/keep"
)

// Metrics say what /metrics shows, and to whom.
type Metrics struct {
	Token    string   // who asks shows it as a bearer; empty: nobody may ask
	Readings []string // the series of sensors that are shown, as path.Match has patterns
}

// CheckReading says what is wrong with a pattern.
func CheckReading(pattern string) error {
	_, err := path.Match(pattern, "x")
	return err
}

// mostSeries bounds how many readings are shown: what scrapes them keeps each for long.
const mostSeries = 20_000

// metrics serves what is known in OpenMetrics, to who has the token for that alone.
func (s *Server) metrics() echo.HandlerFunc {
	reg := prometheus.NewRegistry()
	reg.MustRegister(&collector{s})
	serve := promhttp.HandlerFor(reg, promhttp.HandlerOpts{EnableOpenMetrics: true})
	return func(c *echo.Context) error {
		if s.Metrics.Token == "" {
			return &missing{"there are no metrics: start the service with --metrics-token-file"}
		}
		if subtle.ConstantTimeCompare([]byte(bearer(c.Request())), []byte(s.Metrics.Token)) != 1 {
			c.Response().Header().Set("WWW-Authenticate", "Bearer")
			return c.String(http.StatusUnauthorized, "the token of --metrics-token-file opens this: Authorization: Bearer TOKEN\n")
		}
		serve.ServeHTTP(c.Response(), c.Request())
		return nil
	}
}

func desc(name, help string, labels ...string) *prometheus.Desc {
	return prometheus.NewDesc("plumb_"+name, help, labels, nil)
}

var (
	devicesDesc   = desc("devices", "Devices by what is believed of them.", "state")
	verdictDesc   = desc("verdict", "What is believed of a device: 1 for the state that it is in.", "device", "site", "state")
	drawDesc      = desc("draw_watts", "What a device draws, measured at its outlets.", "device", "site")
	readingDesc   = desc("reading", "A sensor of a device, of those that --metrics-readings names.", "device", "site", "series", "unit")
	lagDesc       = desc("poll_lag_seconds", "By how much the latest question to an endpoint is overdue, at the worst.")
	answeredDesc  = desc("endpoints", "Endpoints by whether they answer.", "answers")
	incidentsDesc = desc("incidents", "Incidents that are open.", "kind", "severity")
	runningDesc   = desc("operations_running", "Operations that run.")
	owedDesc      = desc("power_owed", "Outlets that were switched off here and are to come on again.")
	notesDesc     = desc("notes", "Messages to people that have not gone out.", "state")
	ailmentsDesc  = desc("ailments", "What ails the service itself.", "grave")
	databaseDesc  = desc("database_up", "Whether the database answers.")
)

// collector reads what is known when somebody asks.
type collector struct{ s *Server }

// Describe implements prometheus.Collector.
func (x *collector) Describe(out chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{devicesDesc, verdictDesc, drawDesc, readingDesc, lagDesc, answeredDesc, incidentsDesc, runningDesc, owedDesc, notesDesc, ailmentsDesc, databaseDesc} {
		out <- d
	}
}

const countWithin = 2 * time.Second

// Collect implements prometheus.Collector.
func (x *collector) Collect(out chan<- prometheus.Metric) {
	gauge := func(d *prometheus.Desc, v float64, labels ...string) {
		out <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, v, labels...)
	}
	x.s.deviceMetrics(gauge)
	open := map[[2]string]float64{}
	for _, i := range x.s.Incidents.Open() {
		open[[2]string{i.Kind, string(telling.SeverityOf(i.Kind))}]++
	}
	for k, n := range open {
		gauge(incidentsDesc, n, k[0], k[1])
	}
	gauge(runningDesc, float64(x.s.Actor.Running()))
	gauge(owedDesc, float64(len(x.s.Actor.Owed())))
	grave := map[bool]float64{}
	for _, a := range x.s.Health.List() {
		grave[a.Grave]++
	}
	gauge(ailmentsDesc, grave[true], "true")
	gauge(ailmentsDesc, grave[false], "false")
	ctx, cancel := context.WithTimeout(context.Background(), countWithin)
	defer cancel()
	up := 0.0
	if x.s.Store.Ping(ctx) == nil {
		up = 1
		for _, state := range []telling.State{telling.Queued, telling.Failed} {
			if n, err := x.s.Store.CountNotes(ctx, state, time.Now().Add(-24*time.Hour)); err == nil {
				gauge(notesDesc, float64(n), string(state))
			}
		}
	}
	gauge(databaseDesc, up)
}

func (s *Server) deviceMetrics(gauge func(d *prometheus.Desc, v float64, labels ...string)) {
	now := s.Keeper.Snapshot()
	moment := verdict.At(now.Estate, now.Evidence, nil, now.Now)
	states := map[verdict.State]float64{}
	shown := 0
	for i := range now.Estate.Devices {
		d := &now.Estate.Devices[i]
		state := now.Verdicts[d.Key].State
		states[state]++
		gauge(verdictDesc, 1, string(d.Key), string(d.Site), string(state))
		if w, known := moment.Draw(d.Key); known {
			gauge(drawDesc, w, string(d.Key), string(d.Site))
		}
		if in := now.Inside(d.Key); in != nil {
			shown = s.sensorMetrics(d, in, shown, gauge)
		}
	}
	for state, n := range states {
		gauge(devicesDesc, n, string(state))
	}
	lag, answers := time.Duration(0), map[bool]float64{}
	for id, p := range now.Evidence.Endpoints {
		ep, is := now.Estate.Device(id.Device).Endpoint(id.Name)
		if !is {
			continue
		}
		answers[p.Answers()]++
		if !p.Asked.IsZero() {
			lag = max(lag, now.Now.Sub(p.Asked)-ep.Every)
		}
	}
	gauge(lagDesc, max(0, lag.Seconds()))
	gauge(answeredDesc, answers[true], "true")
	gauge(answeredDesc, answers[false], "false")
}

// sensorMetrics shows those sensors of a device that are wanted, and says how many are shown by now.
func (s *Server) sensorMetrics(d *estate.Device, in *keep.Inside, shown int, gauge func(d *prometheus.Desc, v float64, labels ...string)) int {
	for _, x := range in.Sensors {
		if x.Value == nil || shown >= mostSeries || !s.wanted(x.Series) {
			continue
		}
		shown++
		gauge(readingDesc, *x.Value, string(d.Key), string(d.Site), x.Series, x.Unit)
	}
	return shown
}

func (s *Server) wanted(series string) bool {
	for _, p := range s.Metrics.Readings {
		if is, _ := path.Match(p, series); is {
			return true
		}
	}
	return false
}

// ready says whether the service watches and acts: the estate is there, the database is, and it is
// its turn to act.
func (s *Server) ready(c *echo.Context) error {
	switch {
	case len(s.Keeper.Estate().Devices) == 0:
		return c.String(http.StatusServiceUnavailable, "not ready: there is no estate yet\n")
	case s.Store.Ping(c.Request().Context()) != nil:
		return c.String(http.StatusServiceUnavailable, "not ready: the database is away\n")
	case !s.Acts():
		return c.String(http.StatusServiceUnavailable, "not ready: it does not act: another service does, or it was started with --safe\n")
	}
	return c.String(http.StatusOK, "ready\n")
}
