package truth

import (
	"fmt"
	"slices"
	"strings"
)

// The plot: which share of hangs has been told after so many times the least possible.
const (
	plotWide, plotHigh = 640.0, 300.0
	plotLeft, plotTop  = 50.0, 20.0
	plotMost           = 8.0 // times the least possible
)

var plotInk = []string{"#1f2933", "#3b6ea5", "#2f8f6b", "#b3701b", "#a8433a"}

// plot draws the delays as one SVG, a line for each kind of way.
func (y *tally) plot() string {
	var b strings.Builder
	x := func(v float64) float64 { return plotLeft + min(v, plotMost)/plotMost*plotWide }
	at := func(share float64) float64 { return plotTop + (1-share)*plotHigh }
	text := func(x, y float64, anchor, ink, words string) {
		fmt.Fprintf(&b, `<text x="%.1f" y="%.1f" text-anchor="%s" fill="%s">%s</text>`+"\n", x, y, anchor, ink, words)
	}
	fmt.Fprintf(&b, `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 %.0f %.0f" font-family="sans-serif" font-size="12">`+"\n", plotWide+plotLeft+130, plotHigh+plotTop+50)
	b.WriteString(`<rect width="100%" height="100%" fill="#fff"/>` + "\n")
	for _, share := range []float64{0, 0.25, 0.5, 0.75, 0.9, 1} {
		fmt.Fprintf(&b, `<path d="M%.1f %.1fh%.1f" stroke="#dde1e6"/>`+"\n", plotLeft, at(share), plotWide)
		text(plotLeft-6, at(share)+4, "end", "#52606d", fmt.Sprintf("%.0f %%", 100*share))
	}
	for v := 1.0; v <= plotMost; v++ {
		text(x(v), plotTop+plotHigh+18, "middle", "#52606d", fmt.Sprintf("%.0f×", v))
	}
	text(plotLeft+plotWide/2, plotTop+plotHigh+38, "middle", "#52606d", "times the least possible until a hang is told")
	for i, ways := range waysLost {
		list := slices.Sorted(slices.Values(y.delays[ways]))
		line := fmt.Sprintf("M%.1f %.1f", x(0), at(0))
		for n, v := range list {
			line += fmt.Sprintf("H%.1fV%.1f", x(v), at(float64(n+1)/float64(len(list))))
		}
		fmt.Fprintf(&b, `<path d="%s" fill="none" stroke="%s" stroke-width="1.6"/>`+"\n", line, plotInk[i])
		key := plotTop + 12 + 20*float64(i)
		fmt.Fprintf(&b, `<path d="M%.1f %.1fh18" stroke="%s" stroke-width="3"/>`+"\n", plotLeft+plotWide+12, key, plotInk[i])
		text(plotLeft+plotWide+36, key+4, "start", "#1f2933", ways)
	}
	b.WriteString("</svg>\n")
	return b.String()
}
