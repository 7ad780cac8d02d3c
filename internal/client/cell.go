package client

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"plumbbob/internal/core/verdict"
)

// A table is rows of cells. The last column takes what room is left.
type table struct {
	columns []string
	also    []string // further columns, which only programs get
	rows    [][]cell
	styles  []string // of rows, or none
}

// A cell is one value, as people read it and as programs do: those get bare numbers,
// whose unit stands in the heading, and times as in RFC 3339.
type cell struct {
	people, programs, unit string
}

// row makes cells of texts, of numbers that have no unit, and of cells.
func row(values ...any) []cell {
	cells := make([]cell, len(values))
	for i, v := range values {
		switch v := v.(type) {
		case cell:
			cells[i] = v
		case string:
			cells[i] = cell{people: v, programs: noFormula(strings.TrimSpace(v))}
		default:
			cells[i] = cell{people: fmt.Sprint(v), programs: fmt.Sprint(v)}
		}
	}
	return cells
}

// noFormula keeps a text from being one for a spreadsheet: it may be anybody's.
func noFormula(s string) string {
	if s == "" || !strings.ContainsRune("=+-@\t\r", rune(s[0])) {
		return s
	}
	if _, err := strconv.ParseFloat(s, 64); err == nil {
		return s
	}
	return "'" + s
}

// amount is a number in a unit; what is not known has no text.
func amount(v *float64, decimals int, unit, heading string) cell {
	if v == nil {
		return cell{unit: heading}
	}
	n := strconv.FormatFloat(*v, 'f', decimals, 64)
	return cell{people: strings.TrimSpace(n + " " + unit), programs: n, unit: heading}
}

func inWatts(v *float64) cell   { return amount(v, 1, "W", "w") }
func inPercent(v *float64) cell { return dashed(amount(v, 0, "%", "percent")) }

// dashed shows people that something is not known.
func dashed(c cell) cell {
	c.people = orDash(c.people)
	return c
}

// stamp is a time in a list, whose heading has the zone.
func stamp(t *time.Time) cell {
	if t == nil {
		return cell{}
	}
	return cell{people: dated(*t), programs: t.UTC().Format(time.RFC3339)}
}

// logged is a time in a log of a device, in which seconds matter.
func logged(t *time.Time) cell {
	c := stamp(t)
	if t != nil {
		c.people = t.Local().Format(time.DateTime)
	}
	return c
}

// lasting is how long something took, or takes by now.
func lasting(d time.Duration) cell {
	return cell{people: verdict.Age(d), programs: strconv.FormatFloat(d.Seconds(), 'f', 0, 64), unit: "seconds"}
}

var zoneInHeading = regexp.MustCompile(` \(.*\)$`)

// headings are those for programs: small letters, and the unit of the column.
func (t table) headings() []string {
	names := make([]string, 0, len(t.columns)+len(t.also))
	for i, c := range t.columns {
		name := strings.ToLower(zoneInHeading.ReplaceAllString(strings.TrimSpace(c), ""))
		name = strings.NewReplacer(" ", "_", "-", "_").Replace(name)
		for _, r := range t.rows {
			if u := r[i].unit; u != "" && u != name {
				name += "_" + u
				break
			}
		}
		names = append(names, name)
	}
	return append(names, t.also...)
}

func (a *app) table(t table) {
	widths := make([]int, len(t.columns))
	for i, c := range t.columns {
		widths[i] = utf8.RuneCountInString(c)
		for _, r := range t.rows {
			widths[i] = max(widths[i], utf8.RuneCountInString(r[i].people))
		}
	}
	last := widths[len(widths)-1]
	if a.width > 0 {
		room := a.width
		for _, w := range widths[:len(widths)-1] {
			room -= w + 2
		}
		last = max(12, min(last, room))
	}
	head := make([]cell, len(t.columns))
	for i, c := range t.columns {
		head[i].people = c
	}
	a.row(head, widths, last, "head")
	for i, r := range t.rows {
		style := ""
		if i < len(t.styles) {
			style = t.styles[i]
		}
		a.row(r[:len(widths)], widths, last, style)
	}
}

func (a *app) row(cells []cell, widths []int, last int, style string) {
	var b strings.Builder
	for i, c := range cells {
		if i == len(cells)-1 {
			b.WriteString(cut(c.people, last))
			break
		}
		left, right := c.people, strings.Repeat(" ", widths[i]-utf8.RuneCountInString(c.people))
		if c.unit != "" {
			left, right = right, left // numbers stand to the right
		}
		b.WriteString(left + right + "  ")
	}
	fmt.Fprintln(a.out, a.paint(style, strings.TrimRight(b.String(), " ")))
}

// cut shortens text to a width.
func cut(s string, width int) string {
	if utf8.RuneCountInString(s) <= width {
		return s
	}
	return string([]rune(s)[:max(0, width-1)]) + "…"
}
