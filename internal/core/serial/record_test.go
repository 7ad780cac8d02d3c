package serial

import (
	"encoding/json"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"plumbbob/internal/core/reading"
)

// TestAPartComesBack as it was, wherever what was said was cut.
func TestAPartComesBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var p Part
		now, all := t0, ""
		for _, text := range rapid.SliceOfN(rapid.SliceOfN(rapid.Byte(), 1, 40), 1, 30).Draw(t, "said") {
			p.Add(text, now)
			all += string(text)
			now = now.Add(time.Duration(rapid.IntRange(-50, 90_000).Draw(t, "ms")) * time.Millisecond)
		}
		back, err := DecodePart(p.Encode())
		if err != nil {
			t.Fatal(err)
		}
		said := ""
		for i, s := range back.Said {
			said += string(s.Text)
			if !s.At.Equal(p.Said[i].At) {
				t.Fatalf("%s is not %s", s.At, p.Said[i].At)
			}
		}
		if said != all || back.Bytes != p.Bytes {
			t.Fatalf("%q is not %q", said, all)
		}
	})
	var p Part
	require.Nil(t, p.Encode())
	require.False(t, p.Full(t0))
	p.Add([]byte(strings.Repeat("x", PartBytes)), t0)
	require.False(t, p.Full(t0), "in the middle of a line")
	p.Add([]byte("\n"), t0)
	require.True(t, p.Full(t0))
}

func FuzzDecodePart(f *testing.F) {
	var p Part
	p.Add([]byte("login: "), t0)
	p.Add([]byte("x"), t0.Add(time.Minute))
	f.Add(p.Encode())
	f.Fuzz(func(t *testing.T, kept []byte) {
		if p, err := DecodePart(kept); err == nil {
			require.NotEmpty(t, p.Said)
			require.False(t, p.Ended().Before(p.Began()))
		} else {
			require.ErrorIs(t, err, ErrPart)
		}
	})
}

func texts(lines []TextLine) (out []string) {
	for _, l := range lines {
		out = append(out, l.Text)
	}
	return out
}

// TestWhatWasSaidAsText: colours are no text, a cursor that moves ends a line, and what was
// rubbed out is gone.
func TestWhatWasSaidAsText(t *testing.T) {
	said := "\x1b[0m\x1b[2J\x1b[HOne\r\n\x1b[1;31mtwo\x1b[0m\tthree\r\nfoux\b \b\bur\r\n\r\n\x1b]0;title\afive\x1b[3;4Hsix\x1b[5;4Hsev\xc3\xa4n\x1b(B\xff"
	want := []string{"One", "two    three", "four", "five", "six", "sevän?"}
	require.Equal(t, want, texts(Lines([]Saying{{t0, []byte(said)}})))
	rapid.Check(t, func(t *rapid.T) {
		cut := rapid.IntRange(0, len(said)).Draw(t, "cut")
		lines := Lines([]Saying{{t0, []byte(said[:cut])}, {after(time.Second), []byte(said[cut:])}})
		if got := texts(lines); strings.Join(got, "|") != strings.Join(want, "|") {
			t.Fatalf("%q", got)
		}
	})
	long := Lines([]Saying{{t0, []byte(strings.Repeat("x", 3*longestLine))}})
	require.Len(t, long, 3)
}

// TestARecordingCanBePlayed: it is what the form says, and a character that was cut is whole.
func TestARecordingCanBePlayed(t *testing.T) {
	var out strings.Builder
	c, err := NewCast(&out, "skarvoe-router", t0)
	require.NoError(t, err)
	for i, text := range []string{"a\xc3", "\xa4b\x1b]0;title\a", "\xff\x05"} {
		require.NoError(t, c.Write(Saying{after(time.Duration(i) * 1500 * time.Millisecond), []byte(text)}))
	}
	lines := strings.Split(strings.TrimSpace(out.String()), "\n")
	var head struct {
		Version, Width, Height int
		Timestamp              int64
	}
	require.NoError(t, json.Unmarshal([]byte(lines[0]), &head))
	require.Equal(t, []int{2, 80, 24}, []int{head.Version, head.Width, head.Height})
	require.Equal(t, []string{`[0,"o","a"]`, `[1.5,"o","äb"]`, "[3,\"o\",\"\\ufffd\"]"}, lines[1:])
}

// TestWhatIsRecognised of what real systems say.
func TestWhatIsRecognised(t *testing.T) {
	of := func(said string, stated ...Pattern) (names []string) {
		r := Recogniser{Stated: stated}
		found := r.Read([]byte(said), t0)
		found = append(found, r.Settle(after(3*time.Second))...)
		require.Empty(t, r.Settle(after(5*time.Minute)), "once, for as long as nothing else comes")
		for _, f := range found {
			names = append(names, f.Name)
		}
		return names
	}
	for said, want := range map[string]string{
		"[ 81.4] Kernel panic - not syncing: Fatal exception in interrupt\r\n": "kernel panic",
		"panic: page fault\r\n":                                            "kernel panic",
		"watchdog: BUG: soft lockup - CPU#1 stuck for 22s!\r\n":            "watchdog",
		"EXT4-fs error (device sda2): ext4_lookup:1785: deleted inode\r\n": "file system fault",
		"Out of memory: Killed process 2207\r\n":                           "out of memory",
		"No system was found. Press a key to start anew.\r\n":              "no system to start",
		"\x1b[1mgrub> \x1b[0m":                                             "boot loader waits",
		"loader> ":                                                         "boot loader waits",
		"=> ":                                                              "boot loader waits",
		"skarvoe-router login: ":                                           "log-in prompt",
		"Press any key to continue":                                        "waits for a key",
		"plumb logged in: welcome\r\n":                                     "",
		"Press any key to continue\r\nStarting\r\n":                        "",
		"file system on disk 1 part 2: clean, mounted\r\nbootlog: errors are kept there\n": "",
	} {
		require.Equal(t, want, strings.Join(of(said), ","), "%q", said)
	}
	own := Pattern{Name: "ring lost", Level: reading.Warning, Match: regexp.MustCompile(`ring \d+ lost`)}
	require.Equal(t, []string{"ring lost"}, of("drive: ring 7 lost\nring 8 lost\n", own), "the same is found once in a minute")

	var r Recogniser
	found := r.Read([]byte("kernel pa"), t0)
	require.Empty(t, found)
	found = r.Read([]byte("nic: x\n"), after(time.Second))
	require.Equal(t, []Found{{t0, "kernel panic", reading.Critical, "kernel panic: x"}}, found)
	require.Len(t, r.Read([]byte("kernel panic: y\n"), after(2*time.Minute)), 1)
}
