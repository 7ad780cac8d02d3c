package operation

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
)

func TestWindows(t *testing.T) {
	oslo, err := time.LoadLocation("Europe/Oslo")
	require.NoError(t, err)
	d := &estate.Device{Key: "box", Site: "pier", Tags: []string{"net"}}
	for w, covers := range map[Window]bool{
		{Site: "pier"}: true, {Site: "office"}: false, {Site: "pier", Device: "box"}: true, {Site: "pier", Device: "other"}: false, {Tag: "net"}: true, {Tag: "x"}: false,
	} {
		require.Equal(t, covers, w.Covers(d), w)
	}
	w := Window{Every: "every sun at 02:00", Lasts: 2 * time.Hour}
	for at, from := range map[string]string{
		"2026-11-27T12:00:00Z": "2026-11-29T01:00:00Z", // next
		"2026-11-29T02:59:00Z": "2026-11-29T01:00:00Z", // it is open
		"2026-11-29T03:00:00Z": "2026-12-06T01:00:00Z", // and over
	} {
		now, err := time.Parse(time.RFC3339, at)
		require.NoError(t, err)
		got, err := w.At(now, oslo)
		require.NoError(t, err)
		require.Equal(t, from, got.From.Format(time.RFC3339), at)
		require.Equal(t, 2*time.Hour, got.Until.Sub(got.From))
	}
	_, err = Window{Every: "now and then"}.At(time.Time{}, oslo)
	require.Error(t, err)
	once := Window{Site: "pier"}
	got, err := once.At(time.Time{}, oslo)
	require.NoError(t, err)
	require.Equal(t, once, got)
	require.Equal(t, []string{"pier", "box", "what is tagged net"}, []string{once.What(), Window{Site: "pier", Device: "box"}.What(), Window{Tag: "net"}.What()})
}
