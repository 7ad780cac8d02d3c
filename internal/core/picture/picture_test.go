package picture

import (
	"bytes"
	"image/jpeg"
	"maps"
	"math"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// TestWhatHasChanged: who looks now and then, and copies what is said to be new, has the
// picture, whatever was drawn in between; and what is not new is not said to be.
func TestWhatHasChanged(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		w, h := rapid.IntRange(1, 90).Draw(t, "w"), rapid.IntRange(1, 70).Draw(t, "h")
		drawn := New(w, h)
		c := NewChanging(drawn.Clone())
		seen, at := New(w, h), uint64(0)
		for range rapid.IntRange(1, 20).Draw(t, "steps") {
			r := Rect{rapid.IntRange(0, w-1).Draw(t, "x"), rapid.IntRange(0, h-1).Draw(t, "y"), rapid.IntRange(1, w).Draw(t, "width"), rapid.IntRange(1, h).Draw(t, "height")}
			colour := rapid.Uint32Range(0, 3).Draw(t, "colour")
			was := drawn.Clone()
			drawn.Fill(r.Clip(w, h), colour)
			changed := c.Take(drawn, []Rect{r})
			require.Equal(t, !equal(was, drawn), changed)
			if rapid.Bool().Draw(t, "look") {
				parts := c.Since(at)
				var once Picture = *New(w, h)
				for _, p := range parts {
					require.True(t, p.Within(w, h))
					for y := p.Y; y < p.Y+p.H; y++ {
						copy(seen.Row(p.X, y, p.W), c.Row(p.X, y, p.W))
						for _, n := range once.Row(p.X, y, p.W) {
							require.Zero(t, n, "twice")
						}
					}
					once.Fill(p, 1)
				}
				at = c.Now
				require.True(t, equal(seen, drawn))
				require.Empty(t, c.Since(at))
			}
		}
	})
}

func equal(a, b *Picture) bool {
	for i := range a.Pix {
		if a.Pix[i] != b.Pix[i] {
			return false
		}
	}
	return true
}

func TestMove(t *testing.T) {
	p := New(4, 4)
	for i := range p.Pix {
		p.Pix[i] = uint32(i)
	}
	p.Move(Rect{0, 1, 4, 3}, 0, 0)
	require.Equal(t, []uint32{0, 1, 2, 3, 0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11}, p.Pix, "down, over itself")
	p.Move(Rect{1, 0, 3, 3}, 0, 1)
	require.Equal(t, []uint32{0, 0, 1, 2, 0, 4, 5, 6, 4, 8, 9, 10, 8, 9, 10, 11}, p.Pix, "up and aside")
	require.Equal(t, Rect{0, 2, 3, 2}, Rect{-1, 2, 4, 9}.Clip(4, 4))
	require.False(t, Fits(60000, 60000))
	require.False(t, Rect{0, 0, 1 << 62, 1 << 62}.Within(4, 4))
}

// TestAStrip keeps the newest, and of what was before them what brought most; a cursor that
// blinks fills none.
func TestAStrip(t *testing.T) {
	var s Strip
	at := time.Unix(1000, 0)
	add := func(changed int) {
		at = at.Add(time.Second)
		if s.Wants(changed, at) {
			s.Add(Shot{At: at, Changed: changed})
		}
	}
	for range 50 {
		add(1)
	}
	require.Len(t, s.Shots, 1)
	for i := range 120 {
		add(60 + i%7)
		if i == 30 {
			add(900) // the crash
		}
	}
	require.Len(t, s.Shots, StripMost)
	fresh := s.Shots[StripMost-stripFresh:]
	require.Equal(t, time.Duration(stripFresh-1)*time.Second, fresh[stripFresh-1].At.Sub(fresh[0].At))
	most := 0
	for i, x := range s.Shots {
		most = max(most, x.Changed)
		require.True(t, i == 0 || x.At.After(s.Shots[i-1].At))
	}
	require.Equal(t, 900, most)
	at = at.Add(StripSpan + time.Minute)
	add(60)
	require.Len(t, s.Shots, 2, "what was seen when the span began stays")
}

// TestAPhotograph: what no few colours can say in little is sent as one, on a slow link alone;
// text never is.
func TestAPhotograph(t *testing.T) {
	p := New(640, 400)
	for i := range p.Pix {
		x, y := i%640, i/640
		p.Pix[i] = uint32(128+100*math.Sin(float64(x)/17)+float64(i*2654435761>>7&15))<<16 | uint32(120+90*math.Cos(float64(y)/11))<<8 | uint32(x/2)
	}
	parts := []Rect{{16, 16, 320, 192}, {400, 64, 128, 240}}
	var f Framer
	full := f.Frame(p, parts, InFull)
	require.Equal(t, byte(InFull), full[4])
	few := f.Frame(p, parts, InFew)
	require.Equal(t, byte(asPhoto), few[4])
	require.Less(t, len(few), len(full)/8)
	require.Equal(t, []byte{2, 128, 1, 144, 2, 0, 1, 0, 16, 0, 16, 2, 0, 1, 32}, few[:15])
	m, err := jpeg.Decode(bytes.NewReader(few[15:]))
	require.NoError(t, err)
	got := Of(m)
	require.Equal(t, [2]int{512, 288}, [2]int{got.W, got.H})
	off := 0.0
	for y := range got.H {
		for x, c := range got.Row(0, y, got.W) {
			off += math.Abs(float64(c>>8&255) - float64(p.Pix[(16+y)*640+16+x]>>8&255))
		}
	}
	require.Less(t, off/float64(got.W*got.H), 12.0)
	text := New(1280, 800)
	for i := range text.Pix {
		text.Pix[i] = uint32(i*2654435761>>9&1) * 0xaaaaaa
	}
	require.Equal(t, byte(InFew), f.Frame(text, []Rect{{0, 0, 1280, 800}}, InFew)[4])
}

// TestApply: whoever draws frames has the picture that they are of, to the pixel, or as near as
// few colours are; what cannot be read draws nothing.
func TestApply(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		w, h := rapid.IntRange(1, 150).Draw(t, "w"), rapid.IntRange(1, 90).Draw(t, "h")
		form := rapid.SampledFrom([]Form{InFull, InFew}).Draw(t, "form")
		p := New(w, h)
		colours := rapid.SampledFrom([]uint32{1, 2, 3, 16, 40, 1 << 24}).Draw(t, "colours")
		seed := rapid.Uint32().Draw(t, "seed") | 1
		run := rapid.IntRange(1, 40).Draw(t, "run")
		for i := range p.Pix {
			if i%run == 0 {
				seed ^= seed << 13
				seed ^= seed >> 17
				seed ^= seed << 5
			}
			p.Pix[i] = seed % colours * (0xffffff / colours)
		}
		var f Framer
		frame := f.Frame(p, []Rect{{W: w, H: h}}, form)
		if frame[4] == asPhoto {
			return // it is near, and TestAPhotograph says so
		}
		got, err := Apply(nil, frame)
		require.NoError(t, err)
		for i, c := range p.Pix {
			if form == InFull {
				require.Equal(t, c&0xffffff, got.Pix[i])
				continue
			}
			for shift := 0; shift <= 16; shift += 8 {
				require.InDelta(t, float64(c>>shift&255), float64(got.Pix[i]>>shift&255), 85)
			}
		}
		q := p.Clone()
		q.Fill(Rect{W: (w + 1) / 2, H: 1}, 0x123456)
		frame = f.Frame(q, []Rect{{W: (w + 1) / 2, H: 1}}, InFull)
		got, err = Apply(p, frame)
		require.NoError(t, err)
		require.Equal(t, q.Pix, got.Pix, "only a part")
		_, err = Apply(p, frame[:rapid.IntRange(0, len(frame)-6).Draw(t, "cut")])
		require.ErrorIs(t, err, ErrFrame)
	})
}

func FuzzApply(f *testing.F) {
	p := New(80, 70)
	p.Fill(Rect{X: 3, Y: 4, W: 30, H: 50}, 0xff8800)
	var framer Framer
	for _, form := range []Form{InFull, InFew} {
		f.Add(bytes.Clone(framer.Frame(p, []Rect{{W: 80, H: 70}}, form)))
	}
	f.Add(photograph(p, []Rect{{W: 80, H: 70}}))
	f.Fuzz(func(t *testing.T, frame []byte) {
		got, err := Apply(p, frame)
		require.Equal(t, err == nil, got != nil)
	})
}

// TestWhatGoesFirst: with room for little, what is new near the pointer goes first, then the newest,
// and what moves all the time holds nothing up; all of it comes in the end.
func TestWhatGoesFirst(t *testing.T) {
	c := NewChanging(New(320, 160))
	all := Rect{W: 320, H: 160}
	draw := func(r Rect, colour uint32) {
		p := c.Clone()
		p.Fill(r, colour)
		c.Take(p, []Rect{r})
	}
	movie, typed, point := Rect{0, 0, 160, 80}, Rect{208, 32, 16, 16}, Rect{304, 144, 16, 16}
	var turn Turn
	turn.Begin(c, c.Now)
	require.Empty(t, turn.Next(c, Rect{}, 4))
	for n := range 20 { // cells of the movie go, as many as there is room for
		draw(movie, uint32(n+1))
		require.Equal(t, 20*16*16, area(turn.Next(c, Rect{}, 20)))
		require.True(t, turn.Left())
	}
	draw(typed, 7)
	draw(movie, 99)
	draw(point, 8)
	parts := turn.Next(c, point, 3)
	require.Contains(t, parts, point)
	require.Contains(t, parts, typed)
	require.Equal(t, 3*16*16, area(parts), "and one of the movie")
	parts = turn.Next(c, point, 3)
	require.NotContains(t, parts, typed)

	came := map[Rect]bool{} // of what moves all the time, all comes in turns
	for n := range 12 {
		draw(all, uint32(200+n))
		for _, r := range turn.Next(c, Rect{}, 40) {
			for x := r.X; x < r.X+r.W; x += 16 {
				for y := r.Y; y < r.Y+r.H; y += 16 {
					came[Rect{X: x, Y: y}] = n > 5 || came[Rect{X: x, Y: y}]
				}
			}
		}
	}
	require.Len(t, came, 200)
	require.NotContains(t, slices.Collect(maps.Values(came)), false)
	turn.Next(c, all, 1)

	draw(all, 5) // all of it comes, and only once
	drawn := New(320, 160)
	for turns := 0; ; turns++ {
		parts := turn.Next(c, Rect{}, 7)
		if len(parts) == 0 {
			break
		}
		for _, r := range parts {
			require.Zero(t, drawn.Row(r.X, r.Y, 1)[0])
			drawn.Fill(r, 5)
		}
		require.Less(t, turns, 40)
	}
	require.Equal(t, c.Pix, drawn.Pix)
	require.False(t, turn.Left())
	c.Replace(New(64, 64)) // another size begins anew
	require.Equal(t, []Rect{{0, 0, 64, 64}}, turn.Next(c, Rect{}, 100))
}

func area(parts []Rect) (n int) {
	for _, r := range parts {
		n += r.W * r.H
	}
	return n
}
