package reading

import (
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestSound(t *testing.T) {
	absurd, none, fine := 1e300, math.NaN(), 21.5
	long := strings.Repeat("slot-", 12) + "inlet"
	list := Sound([]Sensor{
		{Name: "fan", Series: "fan", Value: &fine}, {Name: "fan", Series: "fan", Value: &fine}, {Name: "fan 2", Series: "fan-2"},
		{Name: "温度", Series: ""}, {Name: "湿度", Series: ""},
		{Name: long + " 1", Series: long + "-1"}, {Name: long + " 2", Series: long + "-2"},
		{Name: "absurd", Series: "absurd", Value: &absurd, Level: Fine}, {Name: "none", Series: "none", Value: &none}, {Name: "u", Series: "u", Unit: strings.Repeat("µ", 30)},
	})
	require.Equal(t, []string{"fan", "fan-2", "fan-2-2"}, []string{list[0].Series, list[1].Series, list[2].Series})
	require.NotEqual(t, list[3].Series, list[4].Series, "names without a letter of ours stay apart")
	require.NotEqual(t, list[5].Series, list[6].Series, "and so do those that are cut")
	require.Nil(t, list[7].Value)
	require.Equal(t, Absent, list[7].Level)
	require.Equal(t, "says 1e+300, which cannot be", list[7].Words)
	require.Nil(t, list[8].Value)
	require.LessOrEqual(t, len(list[9].Unit), maxUnit)
}

// TestSeriesStayApart: whatever the names, series are unique, short, not empty, and
// the same at the next reading.
func TestSeriesStayApart(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		names := rapid.SliceOfN(rapid.StringMatching(`[a-c-]{0,3}|[ab]{50,70}|fan-[1-3]`), 0, 12).Draw(t, "names")
		read := func() []Sensor {
			list := make([]Sensor, len(names))
			for i, n := range names {
				list[i] = Sensor{Name: n, Series: n}
			}
			return Sound(list)
		}
		seen := map[string]bool{}
		for i, s := range read() {
			require.NotEmpty(t, s.Series)
			require.LessOrEqual(t, len(s.Series), maxSeries)
			require.False(t, seen[s.Series], "%s twice", s.Series)
			require.Equal(t, s.Series, read()[i].Series)
			seen[s.Series] = true
		}
	})
}
