package sms

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// TestSubmit: by octets worked out by hand, and the well-known "hellohello" of TS 23.038's packing.
func TestSubmit(t *testing.T) {
	p, err := Submit("+46708251358", "hellohello", 0)
	require.NoError(t, err)
	require.Equal(t, []PDU{{"0011000B916407281553F80000A70AE8329BFD4697D9EC37", 23}}, p)
	p, err = Submit("112", "Δ", 0)
	require.NoError(t, err)
	require.Equal(t, []PDU{{"001100038111F20000A70110", 11}}, p)
	p, err = Submit("+298 12-34 56", "ж", 0)
	require.NoError(t, err)
	require.Equal(t, "00110009919", p[0].Hex[:11])
	require.True(t, strings.HasSuffix(p[0].Hex, "0008A7020436"), p[0].Hex)
	for _, bad := range []string{"", "+", "abc", "+1234567890123456789012", "12a4"} {
		_, err := Submit(bad, "x", 0)
		require.ErrorIs(t, err, ErrNumber, bad)
	}
	_, err = Submit("1", strings.Repeat("x", 153*MostParts+1), 0)
	require.ErrorIs(t, err, ErrTooLong)
	p, err = Submit("1", strings.Repeat("x", 160), 0)
	require.NoError(t, err)
	require.Len(t, p, 1)
	p, err = Submit("1", strings.Repeat("x", 161), 0)
	require.NoError(t, err)
	require.Len(t, p, 2)
	require.Equal(t, "cutter - engine-room -> x", Plain("cutter ─ engine–room → ✗"))
}

// TestThereAndBack: whatever is written is read again, in parts that each fit.
func TestThereAndBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		of := rapid.SampledFrom([][]rune{basicText(), []rune("abc€[]{}~|^\\"), []rune("жàщ😀abc")}).Draw(t, "alphabet")
		text := string(rapid.SliceOfN(rapid.SampledFrom(of), 0, 500).Draw(t, "text"))
		parts, err := Submit("+298123456", text, 7)
		require.NoError(t, err)
		var got strings.Builder
		for i, p := range parts {
			require.LessOrEqual(t, p.Octets, 1+1+2+6+3+1+140)
			require.Equal(t, len(p.Hex)/2-1, p.Octets)
			m, err := Parse(p.Hex)
			require.NoError(t, err)
			require.Equal(t, "+298123456", m.Number)
			if len(parts) > 1 {
				require.Equal(t, Message{m.Number, m.Text, 7, i + 1, len(parts)}, m)
			}
			got.WriteString(m.Text)
		}
		require.Equal(t, text, got.String())
	})
}

func basicText() (out []rune) {
	for _, r := range basic {
		if r != escape {
			out = append(out, r)
		}
	}
	return out
}

// TestDeliver: one that a modem has received, with its centre and its time, and one of a name.
func TestDeliver(t *testing.T) {
	m, err := Parse("07911326040000F0040B911346610089F60000208062917314080CC8F71D14969741F977FD07")
	require.NoError(t, err)
	require.Equal(t, Message{Number: "+31641600986", Text: "How are you?"}, m)
	m, err = Parse("00040BD0D0B2BC3C0700000011113221436500024F0B")
	require.NoError(t, err)
	require.NotContains(t, m.Number, "+", "a name, and no number")
	for _, bad := range []string{"", "zz", "00", "0002", "07911326040000F0040B91", "0004ff91"} {
		_, err := Parse(bad)
		require.Error(t, err, bad)
	}
}

func FuzzParse(f *testing.F) {
	f.Add("07911326040000F0040B911346610089F60000208062917314080CC8F71D14969741F977FD07")
	f.Add("0051000B916407281553F80000A7A00500030002019061")
	f.Fuzz(func(_ *testing.T, text string) { _, _ = Parse(text) })
}
