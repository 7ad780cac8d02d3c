package wiring

import (
	"testing"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
)

func TestALight(t *testing.T) {
	always := func(v float64, n int) (out []float64) {
		for range n {
			out = append(out, v)
		}
		return out
	}
	half := append(always(1, 5), always(0, 5)...)
	other := append(always(0, 5), always(1, 5)...)
	draw := append(always(40, 5), always(0.1, 5)...)
	for what, c := range map[string]struct {
		light   Lights
		others  map[estate.Key]Lights
		verdict Verdict
		text    string
	}{
		"it follows":      {LightsOf(half, draw, 0.5), nil, Right, "lit while it drew power, and dark while it did not"},
		"always on":       {LightsOf(always(1, 9), always(40, 9), 0.5), nil, Unknown, "neither was seen otherwise"},
		"always off":      {LightsOf(always(0, 9), always(0, 9), 0.5), nil, Unknown, "neither was seen otherwise"},
		"never lit":       {LightsOf(always(0, 9), always(40, 9), 0.5), nil, Wrong, "never seen lit"},
		"it does not":     {LightsOf(always(1, 10), draw, 0.5), nil, Wrong, "does not follow"},
		"somebody else's": {LightsOf(other, draw, 0.5), map[estate.Key]Lights{"kiosk": LightsOf(half, draw, 0.5)}, Wrong, "stated for kiosk follows this device"},
		"too little":      {LightsOf(always(1, 2), always(40, 2), 0.5), nil, Unknown, "not known for long enough"},
		"what changes":    {LightsOf(always(0.5, 9), always(40, 9), 0.5), nil, Unknown, "not known for long enough"},
	} {
		f := Light("board/1", c.light, c.others)
		require.Equal(t, c.verdict, f.Verdict, what)
		require.Contains(t, f.Text, c.text, what)
		require.True(t, f.Verdict == Right || f.Try != "", "what is not proved says what to try")
	}
}

func TestAButton(t *testing.T) {
	require.Equal(t, Unknown, Button("board/1", nil).Verdict)
	require.Equal(t, Right, Button("board/1", &Press{Worked: true}).Verdict)
	require.Equal(t, Unknown, Button("board/1", &Press{}).Verdict, "it may start faster than anybody looks")
	require.Equal(t, Wrong, Button("board/1", &Press{Sure: true}).Verdict)
	require.Contains(t, Button("board/1", &Press{}).Try, "wrong way round")
	require.Contains(t, Button("board/1", &Press{Others: []estate.Key{"kiosk"}}).Text, "moved kiosk instead")
}

func TestASerialLead(t *testing.T) {
	all := []estate.Key{"pier", "pier-router", "pier-core"}
	for what, c := range map[string]struct {
		line    Line
		verdict Verdict
		text    string
	}{
		"its name":                      {Line{Up: true, Said: "\r\npier-router login: "}, Right, "pier-router login:"},
		"in capitals":                   {Line{Up: true, Said: "PIER-ROUTER#"}, Right, "PIER-ROUTER#"},
		"another":                       {Line{Up: true, Said: "old\r\npier-core login: "}, Wrong, "at the line is pier-core"},
		"a name that has another in it": {Line{Up: true, Said: "pier-router2>"}, Unknown, "says no name"},
		"its own after another":         {Line{Up: true, Said: "pier-core up\r\npier-router login:"}, Right, "pier-router login:"},
		"wrong speed":                   {Line{Up: true, Said: "\x80\xf3\x98\xfe\x9c"}, Unknown, "cannot be read"},
		"silent":                        {Line{Up: true, Asked: true, Expected: true}, Unknown, "not answered"},
		"off":                           {Line{Up: true, Asked: true}, Unknown, "not up to say anything"},
		"no way":                        {Line{Why: "lost"}, Unknown, "cannot be reached: lost"},
		"not asked":                     {Line{Up: true, Expected: true}, Unknown, "nothing was heard"},
	} {
		f := Serial("pier-router", all, c.line)
		require.Equal(t, c.verdict, f.Verdict, what)
		require.Contains(t, f.Text, c.text, what)
	}
	l := Leads{All: []Lead{{Kind: SerialLead, Verdict: Right}}}
	require.True(t, l.Proved(SerialLead))
	require.False(t, l.Proved(ButtonLead))
}

func TestTheLeadsOfAScreen(t *testing.T) {
	all := []estate.Key{"pier", "pier-router", "pier-core"}
	for what, c := range map[string]struct {
		seen    Picture
		verdict Verdict
		text    string
	}{
		"its name":   {Picture{Up: true, Text: "Lab 1.0\npier-router login:"}, Right, "its name stands on it"},
		"another":    {Picture{Up: true, Text: "pier-core login:"}, Wrong, "on it stands pier-core"},
		"no name":    {Picture{Up: true, Text: "Press F2"}, Unknown, "but no name"},
		"a desktop":  {Picture{Up: true, Expected: true}, Unknown, "no name is read"},
		"off":        {Picture{Up: true}, Unknown, "not up to show some"},
		"not looked": {Picture{Why: "somebody is there"}, Unknown, "somebody is there"},
	} {
		f := Screen("pier-router", all, c.seen)
		require.Equal(t, c.verdict, f.Verdict, what)
		require.Contains(t, f.Text, c.text, what)
	}
	for what, c := range map[string]struct {
		was     Tapped
		verdict Verdict
		text    string
	}{
		"came back":      {Tapped{Lights: true, Answered: true}, Right, "came back"},
		"did not":        {Tapped{Lights: true, Expected: true}, Unknown, "although the device was up"},
		"off":            {Tapped{Lights: true}, Unknown, "not up to send it"},
		"no lights":      {Tapped{Expected: true}, Unknown, "tells nothing of the lights"},
		"somebody types": {Tapped{Why: "marsh has the keyboard"}, Unknown, "no key was pressed: marsh"},
	} {
		f := Keyboard(c.was)
		require.Equal(t, c.verdict, f.Verdict, what)
		require.Contains(t, f.Text, c.text, what)
	}
}
