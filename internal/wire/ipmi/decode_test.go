package ipmi

import (
	"encoding/hex"
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"plumbbob/internal/wire/cursor"
)

func unhex(t require.TestingT, s string) []byte {
	b, err := hex.DecodeString(s)
	require.NoError(t, err)
	return b
}

// TestConvert: y = L[(M·x + B·10^BExp)·10^RExp], by hand, for each format,
// sign, exponent and linearization.
func TestConvert(t *testing.T) {
	for _, c := range []struct {
		name   string
		format Format
		linear Linearization
		f      Factors
		raw    uint8
		want   float64
	}{
		{"unsigned", Unsigned, Linear, Factors{M: 1}, 200, 200},
		{"one's complement, positive", OnesComplement, Linear, Factors{M: 1}, 0x7f, 127},
		{"one's complement, negative", OnesComplement, Linear, Factors{M: 1}, 0xfe, -1},
		{"one's complement, minus zero", OnesComplement, Linear, Factors{M: 1}, 0xff, 0},
		{"two's complement, negative", TwosComplement, Linear, Factors{M: 1}, 0xf6, -10},
		{"two's complement, least", TwosComplement, Linear, Factors{M: 1}, 0x80, -128},
		{"a negative factor", Unsigned, Linear, Factors{M: -2}, 10, -20},
		{"an offset", Unsigned, Linear, Factors{M: 1, B: -40}, 25, -15},
		{"an offset with an exponent", Unsigned, Linear, Factors{M: 1, B: 5, BExp: 2}, 10, 510},
		{"a result with an exponent", Unsigned, Linear, Factors{M: 63, RExp: -3}, 192, 12.096},
		{"both exponents", Unsigned, Linear, Factors{M: 5, B: 12, BExp: 1, RExp: -2}, 100, 6.2},
		{"ln", Unsigned, Ln, Factors{M: 1}, 20, 2.995732273553991},
		{"log10", Unsigned, Log10, Factors{M: 1}, 100, 2},
		{"log2", Unsigned, Log2, Factors{M: 1}, 64, 6},
		{"e", Unsigned, Exp, Factors{M: 1}, 2, 7.38905609893065},
		{"exp10", Unsigned, Exp10, Factors{M: 1}, 3, 1000},
		{"exp2", Unsigned, Exp2, Factors{M: 1}, 10, 1024},
		{"1/x", Unsigned, Inverse, Factors{M: 4}, 50, 0.005},
		{"sqr", Unsigned, Square, Factors{M: 1}, 12, 144},
		{"cube", Unsigned, Cube, Factors{M: 1}, 3, 27},
		{"sqrt", Unsigned, SquareRoot, Factors{M: 1}, 81, 9},
		{"cube root", Unsigned, CubeRoot, Factors{M: 1}, 125, 5},
	} {
		s := SensorRecord{Format: c.format, Linear: c.linear, Factors: c.f}
		got, ok := s.Value(c.raw)
		require.True(t, ok, c.name)
		require.InDelta(t, c.want, got, 1e-9, c.name)
	}
	for _, s := range []SensorRecord{{Format: NotAnalog}, {Linear: Inverse, Factors: Factors{M: 1}}, {Linear: Ln, Factors: Factors{M: 1}}} {
		_, ok := s.Value(0)
		require.False(t, ok, "no number at all, a pole, and the logarithm of nothing")
	}
}

// TestFactors: M and B are of 10 bits with a sign, the exponents of 4.
func TestFactors(t *testing.T) {
	for _, c := range []struct {
		wire string
		want Factors
	}{
		{"010000000000", Factors{M: 1}},
		{"ff0000000000", Factors{M: 255}},
		{"ffc000000000", Factors{M: -1}},
		{"008000000000", Factors{M: -512}},
		{"ff4000000000", Factors{M: 511}},
		{"01003ec00000", Factors{M: 1, B: -194}},
		{"3f00000000d0", Factors{M: 63, RExp: -3}},
		{"01000000007f", Factors{M: 1, RExp: 7, BExp: -1}},
		{"010500051080", Factors{M: 1, Tolerance: 5, Accuracy: 69, RExp: -8}},
	} {
		require.Equal(t, c.want, readFactors(cursor.New(unhex(t, c.wire))), c.wire)
	}
	rapid.Check(t, func(t *rapid.T) {
		f := Factors{
			M: rapid.Int16Range(-512, 511).Draw(t, "M"), B: rapid.Int16Range(-512, 511).Draw(t, "B"),
			BExp: rapid.Int8Range(-8, 7).Draw(t, "BExp"), RExp: rapid.Int8Range(-8, 7).Draw(t, "RExp"), Tolerance: rapid.Uint8Range(0, 63).Draw(t, "tolerance"),
		}
		require.Equal(t, f, readFactors(cursor.New(appendFactors(nil, f))))
	})
}

// TestRaw: the raw reading that is nearest to a value is not further away than
// half a step.
func TestRaw(t *testing.T) {
	s := SensorRecord{Factors: Factors{M: 6, RExp: -2}}
	rapid.Check(t, func(t *rapid.T) {
		want := rapid.Float64Range(0, 15.3).Draw(t, "V")
		raw, err := s.Raw(want)
		require.NoError(t, err)
		got, _ := s.Value(raw)
		require.LessOrEqual(t, math.Abs(got-want), s.Step(raw)/2+1e-9)
	})
	require.Equal(t, 2, Digits(&s))
	require.Equal(t, "12.12 V", Quantity(12.12, &SensorRecord{Factors: s.Factors, Units: Units{Base: UnitVolts}}))
}

// fullRecord is a full sensor record by hand (table 43-1): "Temp 1" of the
// processor, °C, two's complement, M = 1, upper thresholds 90, 95, 100.
const fullRecord = "0100510136" + "200001" + "0301" + "7f68" + "0101" + "8002" + "8002" + "3838" + "800100" + "00" + "010000000000" +
	"03" + "285a05" + "7f80" + "645f5a" + "000000" + "0202" + "000000" + "c6" + "54656d702031"

func TestRecords(t *testing.T) {
	b := unhex(t, fullRecord)
	b[4] = byte(len(b) - recordHeader)
	got, err := DecodeRecord(b)
	require.NoError(t, err)
	s := got[0].Sensor
	require.Equal(t, "Temp 1", s.Name)
	require.Equal(t, SensorKey{0x20, 0, 1}, s.SensorKey)
	require.Equal(t, Temperature, s.Type)
	require.Equal(t, TwosComplement, s.Format)
	require.Equal(t, "°C", s.Units.String())
	require.Equal(t, [6]bool{false, false, false, true, true, true}, s.Thresholds.Has, "what the mask does not name is absent, not zero")
	require.EqualValues(t, 95, s.Thresholds.Value[UpperCritical])
	require.EqualValues(t, 40, *s.Nominal)
	require.Nil(t, s.NormalMin)
	for n := range b {
		_, err := DecodeRecord(b[:n])
		require.Error(t, err, "cut to %d", n)
	}

	// Four drive bays in one compact record, numbered from 1 (table 43-2).
	shared := unhex(t, "0200510220"+"200070"+"1a01"+"6740"+"0d6f"+"ff00"+"ff00"+"ff00"+"c00000"+"0481"+"0000"+"00000000"+"c4"+"44727620")
	shared[4] = byte(len(shared) - recordHeader)
	got, err = DecodeRecord(shared)
	require.NoError(t, err)
	require.Len(t, got, 4)
	require.Equal(t, "Drv 4", got[3].Sensor.Name)
	require.EqualValues(t, 0x73, got[3].Sensor.Number)
	require.EqualValues(t, 4, got[3].Sensor.Instance)
	got, err = DecodeRecord(unhex(t, "03005142020102"))
	require.NoError(t, err, "a kind that nobody knows is kept")
	require.Equal(t, []byte{1, 2}, got[0].Raw)
}

// TestTextsOfOtherLanguages: two bytes a character, where the area is not in English.
func TestTextsOfOtherLanguages(t *testing.T) {
	for language, want := range map[uint8]string{0: "©S", 25: "©S", 22: "ΩS"} {
		require.Equal(t, want, fieldText(encLatin, language, []byte{0xa9, 0x03, 0x53, 0x00}), "language %d", language)
	}
	require.Equal(t, "a903", fieldText(encBinary, 22, []byte{0xa9, 0x03}))
	require.Empty(t, fieldText(encLatin, 22, []byte{0x1b, 0, 0x07}), "and nothing that would move a cursor")
}

// TestTrapsWithoutEventData: the number beside says which state it is.
func TestTrapsWithoutEventData(t *testing.T) {
	var got Trap
	trap := Trap{Event: Event{Data: [3]byte{0xff, 0xff, 0xff}}}
	require.NoError(t, got.Decode(0x086f03, trap.Append(nil)))
	require.Contains(t, got.Words(), "input lost")
	trap.Event.Data[0] = 0x01
	require.NoError(t, got.Decode(0x086f01, trap.Append(nil)))
	require.Contains(t, got.Words(), "failed")
}

func TestTexts(t *testing.T) {
	for _, c := range []struct {
		encoding uint8
		wire     string
		want     string
	}{
		{encBinary, "00ff10", "00ff10"},
		{encBCDPlus, "1234a56b7c8d9e0f", "1234 56-7.8:9,0_"},
		{encSixBit, "29dca6", "IPMI"}, // the example of FRU 13.3
		{encSixBit, "305bb722", "PLUMB"},
		{encLatin, "4d61737420b0e9", "Mast °é"},
		{encLatin, "411b5b324a0042", "A[2JB"}, // what would move a cursor is left out
	} {
		require.Equal(t, c.want, Text(c.encoding, unhex(t, c.wire)), "%d %s", c.encoding, c.wire)
	}
	require.Equal(t, "29dca6", hex.EncodeToString(packSixBit("IPMI")))
}

func TestFRU(t *testing.T) {
	made := time.Date(2024, 3, 5, 7, 30, 0, 0, time.UTC)
	f := &FRU{
		Chassis: &ChassisInfo{Type: 0x17, Part: "CH-2U", Serial: "A SERIAL 012"},
		Board:   &BoardInfo{Made: made, Maker: "Gannet Works", Product: "Board", Serial: "S", Part: "P"},
		Product: &ProductInfo{Maker: "Gannet Works", Product: "Gannet 2U", Serial: "GW-208", Custom: []string{"one", "two"}},
		Multi:   []MultiRecord{{Type: 0, Data: []byte{1, 2, 3}}, {Type: 3, Data: []byte{4}}},
	}
	b := f.Append(nil)
	got, err := DecodeFRU(b)
	require.NoError(t, err)
	require.Empty(t, got.Faults)
	require.Equal(t, made, got.Board.Made, "minutes since 1996")
	require.Equal(t, f.Chassis.Serial, got.Chassis.Serial, "packed, and unpacked")
	require.Equal(t, []string{"one", "two"}, got.Product.Custom)
	require.Equal(t, f.Multi, got.Multi)

	b[len(b)-1] ^= 1
	got, err = DecodeFRU(b)
	require.NoError(t, err)
	require.Equal(t, []string{"the checksum of multi-record 1 is wrong"}, got.Faults, "the rest is still read")
	require.Equal(t, "GW-208", got.Product.Serial)
	for n := range b {
		_, _ = DecodeFRU(b[:n]) // what is cut off is noted, or refused
	}
	_, err = DecodeFRU([]byte{2, 0, 0, 0, 0, 0, 0, 0})
	require.ErrorContains(t, err, "version 2")
}

// TestReasonsOfACommandsOwn are said in words.
func TestReasonsOfACommandsOwn(t *testing.T) {
	require.Contains(t, (&CompletionError{Command: SetLANConfig, Code: 0x82}).Error(), "it can only be read (82h)")
	require.Contains(t, (&CompletionError{Command: GetPowerReading, Code: 0x80}).Error(), "it measures no power now")
	require.Contains(t, (&CompletionError{Command: GetSystemGUID, Code: 0x80}).Error(), "a reason of this command's own (80h)")
	require.Contains(t, (&CompletionError{Command: SetLANConfig, Code: Initializing}).Error(), "it is starting up")
}

// TestEventWords: records as they stand in a log, and what people read.
func TestEventWords(t *testing.T) {
	volts := &SensorRecord{Factors: Factors{M: 6, RExp: -2}, Units: Units{Base: UnitVolts}}
	for _, c := range []struct {
		wire string
		s    *SensorRecord
		want string
		is   Gravity
	}{
		{"0100025b1e5f65200004021001595abb", volts, "above its upper critical threshold, rising: 5.40 V (threshold 11.22 V)", Critical},
		{"0100025b1e5f65200004021081595abb", volts, "no longer above its upper critical threshold, rising: 5.40 V (threshold 11.22 V)", Fine},
		{"0100025b1e5f6520000401010152ffff", nil, "below its lower critical threshold, falling", Critical},
		{"0200025b1e5f652000040c656fe0ff03", nil, "correctable error (maker's own data 03)", Warning},
		{"0300025b1e5f6520000408606f03ffff", nil, "input lost", Warning},
		{"0400025b1e5f6520000409620b01ffff", nil, "redundancy lost", Warning},
		{"0500025b1e5f6520000405636f80ffff", nil, "chassis open (maker's own data FF)", Warning},
		{"0600025b1e5f652000041d6b6fc10401", nil, "started by hard reset by its watchdog", Fine},
		{"0700025b1e5f6520000412666fc580ff", nil, "clock set, after", Fine},
		{"0800025b1e5f6520000423676fc104ff", nil, "restarted the host, set for the operating system", Critical},
		{"0900025b1e5f6520000403050342f3ff", nil, "state 2, was state 3", Fine},
		{"0200025b1e5f652000040c656f30ff03", nil, "correctable error, module 3", Warning},
		{"0200025b1e5f652000040c656fc0ff03", nil, "correctable error", Warning}, // the third byte is not said to mean anything
		{"0300025b1e5f652000040860ef00ffff", nil, "no longer present", Warning},
		{"0300025b1e5f6520000408608400ffff", nil, "failure predicted", Warning}, // "no failure predicted" has gone
		{"0a00c05b1e5f65d97e00010203040506", nil, "maker's own record C0h of maker 32473: 01 02 03 04 05 06", Fine},
		{"0b00e00102030405060708090a0b0c0d", nil, "maker's own record E0h: 01 02 03 04 05 06 07 08 09 0a 0b 0c 0d", Fine},
	} {
		var e Event
		require.NoError(t, e.Decode(cursor.New(unhex(t, c.wire))), c.wire)
		require.Equal(t, c.want, e.Words(c.s))
		require.Equal(t, c.is, e.Gravity(), c.want)
		for n := range EventSize {
			require.Error(t, new(Event).Decode(cursor.New(unhex(t, c.wire)[:n])))
		}
	}
	for stamp, want := range map[uint32]time.Duration{42: 42 * time.Second, 0xffffffff: -1} {
		_, since, ok := StampTime(stamp, SystemEventRecord)
		require.False(t, ok)
		require.Equal(t, want, since)
	}
	at, _, ok := StampTime(0x655f1e5b, SystemEventRecord)
	require.True(t, ok)
	require.Equal(t, 2023, at.Year())
}

// TestReplies: each message as it stands on the wire.
func TestReplies(t *testing.T) {
	id := DeviceID{ID: 0x20, Revision: 1, HasSDRs: true, Major: 2, Minor: 37, IPMI: 0x20, Manufacturer: 32473, Product: 0x0107}
	require.Equal(t, "2081023702bfd97e00070100000000", hex.EncodeToString(id.Append(nil)), "the minor revision is BCD, and 2.0 stands as 02h")
	status := ChassisStatus{PowerOn: true, Restore: AlwaysOn, FanFault: true, LastByCommand: true}
	require.Equal(t, "411048", hex.EncodeToString(status.Append(nil)))
	dog := Watchdog{Running: true, Use: 4, Action: WatchdogReset, Initial: time.Minute, Present: 42 * time.Second}
	require.Equal(t, "440100005802a401", hex.EncodeToString(dog.Append(nil)), "steps of 100 ms")
	require.True(t, dog.Armed())
	power := PowerReading{Now: 212, Min: 100, Max: 300, Mean: 200, At: time.Unix(1700000000, 0).UTC(), Over: time.Hour, Active: true}
	caps := AuthCapabilities{Channel: 1, MD5: true, Plus: true, Anonymous: true, OEM: 5}
	var (
		id2     DeviceID
		status2 ChassisStatus
		dog2    Watchdog
		power2  PowerReading
		caps2   AuthCapabilities
		g       GUID
	)
	for _, c := range []struct {
		wire []byte
		into Decoder
		want func() any
		is   any
	}{
		{id.Append(nil), &id2, func() any { return id2 }, id},
		{status.Append(nil), &status2, func() any { return status2 }, status},
		{dog.Append(nil), &dog2, func() any { return dog2 }, dog},
		{power.Append(nil), &power2, func() any { return power2 }, power},
		{caps.Append(nil), &caps2, func() any { return caps2 }, caps},
	} {
		require.NoError(t, c.into.Decode(cursor.New(c.wire)))
		require.Equal(t, c.is, c.want())
		require.Error(t, c.into.Decode(cursor.New(c.wire[:1])))
		require.Equal(t, c.is, c.want(), "what is not sound changes nothing")
	}
	require.NoError(t, g.Decode(cursor.New(unhex(t, "0f0e0d0c0b0a09080706050403020100"))))
	require.Equal(t, "00010203-0405-0607-0809-0a0b0c0d0e0f", g.String())
}

// TestReading: unavailable and not scanned are states, not zeros.
func TestReading(t *testing.T) {
	for wire, want := range map[string]Reading{
		"2ac0c0":   {Raw: 42, Scanning: true, Events: true, States: 0xc0},
		"00e000":   {Unavailable: true, Scanning: true, Events: true},
		"0080":     {Events: true},
		"00c00280": {Scanning: true, Events: true, States: 2},
	} {
		var m Reading
		require.NoError(t, m.Decode(cursor.New(unhex(t, wire))))
		require.Equal(t, want, m, wire)
	}
	require.Equal(t, "present, input lost", StateWords(PowerSupply, SensorSpecific, 0x09))
	require.Equal(t, "state 12", StateWord(PowerSupply, SensorSpecific, 12))
	require.Equal(t, "maker's own state 3", StateWord(0xc0, 0x70, 3))
	for s := range SensorType(0x2d) {
		require.NotEmpty(t, s.String())
		require.LessOrEqual(t, len(States(s, SensorSpecific)), 16)
	}
}

func FuzzDecoders(f *testing.F) {
	b := unhex(f, fullRecord)
	b[4] = byte(len(b) - recordHeader)
	f.Add(b)
	f.Add((&FRU{Product: &ProductInfo{Maker: "A MAKER OF 12"}, Multi: []MultiRecord{{1, []byte{1}}}}).Append(nil))
	f.Add(unhex(f, "0200025b1e5f652000040c656fe0ff03"))
	f.Fuzz(func(t *testing.T, b []byte) {
		recs, _ := DecodeRecord(b)
		for _, r := range recs {
			if r.Sensor != nil {
				v, ok := r.Sensor.Value(7)
				require.False(t, ok && (math.IsNaN(v) || math.IsInf(v, 0)))
				require.LessOrEqual(t, Digits(r.Sensor), 3)
			}
		}
		_, _ = DecodeFRU(b)
		var e, again Event
		if e.Decode(cursor.New(b)) == nil {
			require.NoError(t, again.Decode(cursor.New(e.Append(nil))))
			require.Equal(t, e.Words(nil), again.Words(nil), "from %x", b)
		}
		for _, d := range []Decoder{
			&DeviceID{}, &ChassisStatus{}, &AuthCapabilities{}, &Watchdog{}, &PowerReading{}, &PowerLimit{}, &Reading{}, &RawThresholds{}, &Hysteresis{},
			&RepositoryInfo{}, &EventLogInfo{}, &SessionCount{}, &BootFlags{}, &factorsReply{}, &pieceReply{}, &eventReply{}, &fruInfo{}, &accessReply{}, &challengeReply{}, &activeReply{},
		} {
			_ = d.Decode(cursor.New(b))
		}
		var trap Trap
		if trap.Decode(0x056f00, b) == nil {
			_ = trap.Words()
			_ = trap.At()
		}
	})
}
