package client

import (
	"cmp"
	"fmt"
	"math"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/verdict"
)

// lookingBack is how far a command looks back, and in what form.
type lookingBack struct {
	last     time.Duration
	from, to string
}

func (l *lookingBack) flags(c *cobra.Command, usually time.Duration) {
	spanVar(c.Flags(), &l.last, "last", usually, positive, "how far to look back")
	c.Flags().StringVar(&l.from, "from", "", "from this time on, such as 2026-03-01 or 2026-03-01T14:00")
	c.Flags().StringVar(&l.to, "to", "", "until this time; now when not said")
}

// span settles between which times, in this machine's zone.
func (l *lookingBack) span() (from, to time.Time, err error) {
	to = time.Now()
	if l.to != "" {
		if to, err = moment(l.to); err != nil {
			return from, to, fail(ExitUsage, "--to: %s", err)
		}
	}
	from = to.Add(-l.last)
	if l.from != "" {
		if from, err = moment(l.from); err != nil {
			return from, to, fail(ExitUsage, "--from: %s", err)
		}
	}
	if !from.Before(to) {
		return from, to, fail(ExitUsage, "there is no time between %s and %s: look back further with --last or --from", from.Format(time.DateTime), to.Format(time.DateTime))
	}
	return from, to, nil
}

func moment(s string) (time.Time, error) {
	for _, layout := range []string{time.RFC3339, "2006-01-02T15:04", "2006-01-02 15:04", time.DateOnly} {
		if t, err := time.ParseInLocation(layout, s, time.Local); err == nil {
			return t, nil
		}
	}
	return time.Time{}, fmt.Errorf("%q is not a time such as 2026-03-01 or 2026-03-01T14:00", s)
}

func (a *app) drawCommand() *cobra.Command {
	var l lookingBack
	c := &cobra.Command{
		Use: "draw DEVICE", Short: "The draw of a device over time", Args: args(1, 1, "plumb draw DEVICE [--last 2h]"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			from, to, err := l.span()
			if err != nil {
				return err
			}
			return a.history(c, s, given[0], []string{"draw"}, from, to)
		}),
	}
	l.flags(c, 2*time.Hour)
	return c
}

func (a *app) historyCommand() *cobra.Command {
	var l lookingBack
	c := &cobra.Command{
		Use: "history DEVICE [SERIES...]", Short: "What was measured of a device over time; without a series, which there are",
		Args: args(1, 41, "plumb history DEVICE [SERIES...] [--last 24h]"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			if len(given) == 1 {
				return a.seriesList(c, s, given[0])
			}
			from, to, err := l.span()
			if err != nil {
				return err
			}
			return a.history(c, s, given[0], given[1:], from, to)
		}),
	}
	l.flags(c, 24*time.Hour)
	return c
}

func (a *app) seriesList(c *cobra.Command, s *service, device string) error {
	list, err := ask[[]contract.Series](s)(s.ListSeries(c.Context(), device))
	if err != nil {
		return err
	}
	return a.show(list, func() table {
		t := table{columns: []string{"SERIES", "UNIT", "OF"}}
		for _, x := range list {
			t.rows = append(t.rows, row(x.Name, x.Unit, x.Words))
		}
		return t
	})
}

// plotted is how many points are asked for when the whole is wanted.
const plotted = 600

func (a *app) history(c *cobra.Command, s *service, device string, series []string, from, to time.Time) error {
	points := plotted
	if a.output == "table" {
		points = a.plotWidth()
	}
	h, err := ask[contract.History](s)(s.GetHistory(c.Context(), device, &contract.GetHistoryParams{Series: series, From: &from, To: &to, Points: &points}))
	if err != nil {
		return err
	}
	if a.output != "table" {
		return a.show(h, func() table { return historyTable(h) })
	}
	for i, x := range h.Series {
		if i > 0 {
			fmt.Fprintln(a.out)
		}
		a.plot(device, h, x)
	}
	for _, m := range h.Marks {
		fmt.Fprintf(a.out, "  %s  %s\n", clock(m.At), a.wrap(m.Text, 24, strings.Repeat(" ", 24)))
	}
	return nil
}

func historyTable(h contract.History) table {
	t := table{columns: []string{"series", "at", "min", "mean", "max", "unit"}}
	for _, x := range h.Series {
		for i, at := range x.At {
			t.rows = append(t.rows, row(x.Name, time.UnixMilli(at).UTC().Format(time.RFC3339), x.Min[i], x.Mean[i], x.Max[i], x.Unit))
		}
	}
	return t
}

const (
	plotHeight = 8
	plotLabels = 9 // columns for the axis
)

// plotWidth is what the terminal has room for; a pipe or a file has room for a usual one.
func (a *app) plotWidth() int { return max(20, min(cmp.Or(a.width, 80), 120)-plotLabels-1) }

// plot draws a series: its mean as blocks, shaded where it was lower at times,
// with dots where it was higher, and nothing where nothing is known.
func (a *app) plot(device string, h contract.History, x contract.HistorySeries) {
	unit := func(v *float64) string {
		if v == nil {
			return "–"
		}
		return strings.TrimSpace(verdict.Figure(*v) + " " + x.Unit)
	}
	head := fmt.Sprintf("%s, %s: mean %s, peak %s", device, x.Words, unit(x.Average), unit(x.Peak))
	if x.PeakAt != nil {
		head += " at " + clock(*x.PeakAt)
	}
	if x.Wh != nil {
		head += fmt.Sprintf(", %.2f kWh", *x.Wh/1000)
	}
	if x.Measured != nil && *x.Measured < 0.97 {
		head += fmt.Sprintf(", known for %.0f %% of the time", 100**x.Measured)
	}
	fmt.Fprintln(a.out, a.wrap(head, 0, "  "))
	if len(x.At) == 0 {
		fmt.Fprintln(a.out, "  nothing is on record for this time")
		return
	}
	width := a.plotWidth()
	columns := spread(h, x, width)
	low, high := scale(x)
	for row := plotHeight - 1; row >= 0; row-- {
		label := ""
		if row == plotHeight-1 || row == 0 || row == plotHeight/2 {
			label = verdict.Figure(low + (high-low)*float64(row)/(plotHeight-1))
		}
		fmt.Fprintf(a.out, "%*s ┤%s\n", plotLabels-1, label, line(columns, row, low, high))
	}
	from, to := clock(h.From), clock(h.To)
	fmt.Fprintf(a.out, "%*s%s%*s\n", plotLabels+1, "", from, max(1, width-len(from)), to)
}

// column is one column of a plot; known is false in a gap.
type column struct {
	min, mean, max float64
	known          bool
}

func spread(h contract.History, x contract.HistorySeries, width int) []column {
	out := make([]column, width)
	span := h.To.Sub(h.From)
	for i, at := range x.At {
		t := time.UnixMilli(at)
		first := int(float64(t.Sub(h.From)) / float64(span) * float64(width))
		last := int(float64(t.Add(time.Duration(h.StretchSeconds*float64(time.Second))).Sub(h.From))/float64(span)*float64(width) - 0.001)
		for n := max(0, first); n <= min(width-1, last); n++ {
			c := &out[n]
			if !c.known {
				*c = column{x.Min[i], x.Mean[i], x.Max[i], true}
				continue
			}
			c.min, c.max, c.mean = min(c.min, x.Min[i]), max(c.max, x.Max[i]), (c.mean+x.Mean[i])/2
		}
	}
	return out
}

// scale begins at zero where that is near enough to be worth showing.
func scale(x contract.HistorySeries) (low, high float64) {
	low, high = math.Inf(1), math.Inf(-1)
	for i := range x.At {
		low, high = min(low, x.Min[i]), max(high, x.Max[i])
	}
	if low > 0 && low < 0.6*high || x.Unit == "W" || low == high && low >= 0 {
		low = 0
	}
	if high == low {
		high = low + 1
	}
	return low, high
}

var eighths = []rune(" ▁▂▃▄▅▆▇█")

func line(columns []column, row int, low, high float64) string {
	var b strings.Builder
	step := (high - low) / plotHeight
	bottom := low + float64(row)*step
	for _, c := range columns {
		switch above := func(v float64) float64 { return (v - bottom) / step }; {
		case !c.known:
			b.WriteRune(' ')
		case above(c.min) >= 1, above(c.mean) >= 1 && c.mean-c.min < step:
			b.WriteRune(eighths[8])
		case above(c.mean) >= 1:
			b.WriteRune('▒') // it was lower at times
		case above(c.mean) > 0:
			b.WriteRune(eighths[max(1, int(above(c.mean)*8))])
		case row == 0:
			b.WriteRune(eighths[1]) // known, and nothing
		case above(c.max) > 0.5 && c.max-c.mean > step/2:
			b.WriteRune('·') // it was higher at times
		default:
			b.WriteRune(' ')
		}
	}
	return strings.TrimRight(b.String(), " ")
}

func (a *app) energyCommand() *cobra.Command {
	var month string
	var devices bool
	c := &cobra.Command{
		Use: "energy", Short: "Energy, mean and peak of each site, or device, over a month", Args: args(0, 0, "plumb energy [--month 2026-03] [--devices]"),
		RunE: a.loggedIn(func(c *cobra.Command, _ []string, s *service) error {
			var p contract.GetEnergyParams
			if month != "" {
				from, err := time.ParseInLocation("2006-01", month, time.UTC)
				if err != nil {
					return fail(ExitUsage, "--month: %q is not a month such as 2026-03", month)
				}
				if from.After(time.Now()) {
					return fail(ExitUsage, "--month: %s has not begun yet", month)
				}
				to := from.AddDate(0, 1, 0)
				if now := time.Now(); to.After(now) {
					to = now
				}
				p.From, p.To = &from, &to
			}
			e, err := ask[contract.Energy](s)(s.GetEnergy(c.Context(), &p))
			if err != nil {
				return err
			}
			return a.show(e, func() table {
				t := table{columns: []string{"SITE", "ENERGY", "MEAN", "PEAK", "KNOWN FOR"}}
				list := e.Sites
				if devices {
					t.columns[0], list = "DEVICE", e.Devices
				}
				for _, u := range list {
					known := 100 * u.Measured
					t.rows = append(t.rows, row(u.Key, amount(&u.Kwh, 1, "kWh", "kwh"), inWatts(&u.MeanW), inWatts(&u.PeakW), inPercent(&known)))
				}
				return t
			})
		}),
	}
	c.Flags().StringVar(&month, "month", "", "which month; this one when not said")
	c.Flags().BoolVar(&devices, "devices", false, "device by device")
	return c
}
