package ipmi

import (
	"context"
	"fmt"
	"math"

	"plumbbob/internal/wire/cursor"
)

// Format is how a raw reading is to be understood (table 43-1, byte 21).
type Format uint8

// The formats.
const (
	Unsigned       Format = 0
	OnesComplement Format = 1
	TwosComplement Format = 2
	NotAnalog      Format = 3
)

// Raw returns the number that a raw byte stands for.
func (f Format) Raw(b uint8) float64 {
	switch f {
	case OnesComplement:
		if b&0x80 != 0 {
			return -float64(^b)
		}
		return float64(b)
	case TwosComplement:
		return float64(int8(b))
	}
	return float64(b)
}

// Linearization is the last step of the conversion (table 43-1, byte 24).
type Linearization uint8

// The linearizations.
const (
	Linear     Linearization = 0
	Ln         Linearization = 1
	Log10      Linearization = 2
	Log2       Linearization = 3
	Exp        Linearization = 4
	Exp10      Linearization = 5
	Exp2       Linearization = 6
	Inverse    Linearization = 7
	Square     Linearization = 8
	Cube       Linearization = 9
	SquareRoot Linearization = 10
	CubeRoot   Linearization = 11
	NonLinear  Linearization = 0x70 // and above: factors are asked for with each reading
)

func (l Linearization) apply(x float64) float64 {
	switch l {
	case Ln:
		return math.Log(x)
	case Log10:
		return math.Log10(x)
	case Log2:
		return math.Log2(x)
	case Exp:
		return math.Exp(x)
	case Exp10:
		return math.Pow(10, x)
	case Exp2:
		return math.Exp2(x)
	case Inverse:
		return 1 / x
	case Square:
		return x * x
	case Cube:
		return x * x * x
	case SquareRoot:
		return math.Sqrt(x)
	case CubeRoot:
		return math.Cbrt(x)
	}
	return x
}

// Factors turn raw readings into values: y = (M·x + B·10^BExp)·10^RExp
// (section 36.3). M and B are signed numbers of 10 bits, the exponents of 4.
type Factors struct {
	M, B       int16
	BExp, RExp int8
	Tolerance  uint8  // ± half raw counts
	Accuracy   uint16 // in 1/100 %, before its exponent
}

// readFactors reads the six bytes in which factors stand, in records (table
// 43-1, bytes 25 to 30) and in the reply to Get Sensor Reading Factors.
func readFactors(r *cursor.Reader) Factors {
	m, mTol, b, bAcc, acc, exp := r.U8(), r.U8(), r.U8(), r.U8(), r.U8(), r.U8()
	return Factors{
		M: signed10(m, mTol), B: signed10(b, bAcc), Tolerance: mTol & 0x3f,
		Accuracy: uint16(bAcc&0x3f) | uint16(acc&0xf0)<<2,
		RExp:     signed4(exp >> 4), BExp: signed4(exp & 0x0f),
	}
}

// appendFactors is the inverse of readFactors.
func appendFactors(b []byte, f Factors) []byte {
	return append(b, byte(f.M), byte(uint16(f.M)>>8&3)<<6|f.Tolerance&0x3f, byte(f.B), byte(uint16(f.B)>>8&3)<<6|byte(f.Accuracy&0x3f),
		byte(f.Accuracy>>6)<<4, byte(f.RExp)<<4|byte(f.BExp)&0x0f)
}

// signed10 puts together a number of 10 bits: the low eight, and the top two
// in the high bits of the next byte.
func signed10(low, high uint8) int16 {
	return int16(uint16(low)<<6|uint16(high>>6)<<14) >> 6
}

func signed4(nibble uint8) int8 { return int8(nibble<<4) >> 4 }

var powersOf10 = [...]float64{1e-8, 1e-7, 1e-6, 1e-5, 1e-4, 1e-3, 1e-2, 1e-1, 1, 10, 100, 1e3, 1e4, 1e5, 1e6, 1e7}

func power10(e int8) float64 { return powersOf10[e+8] }

func (f Factors) scale(x float64) float64 {
	return (float64(f.M)*x + float64(f.B)*power10(f.BExp)) * power10(f.RExp)
}

// Value converts a raw reading. ok is false when there is no such number, or
// when the sensor is not an analogue one.
func (s *SensorRecord) Value(raw uint8) (v float64, ok bool) {
	return s.value(raw, s.Factors)
}

func (s *SensorRecord) value(raw uint8, f Factors) (float64, bool) {
	if s.Format == NotAnalog {
		return 0, false
	}
	v := s.Linear.apply(f.scale(s.Format.Raw(raw)))
	return v, !math.IsNaN(v) && !math.IsInf(v, 0)
}

// Step is how much a value changes with one raw count, near a raw reading:
// less is no change, and hysteresis is counted in it.
func (s *SensorRecord) Step(raw uint8) float64 {
	other := raw + 1
	if raw == math.MaxUint8 || s.Format == TwosComplement && raw == math.MaxInt8 {
		other = raw - 1
	}
	a, _ := s.Value(raw)
	b, _ := s.Value(other)
	return math.Abs(a - b)
}

// Raw finds the raw reading that comes nearest to a value.
func (s *SensorRecord) Raw(v float64) (uint8, error) {
	best, off := uint8(0), math.Inf(1)
	for raw := range 256 {
		got, ok := s.Value(uint8(raw))
		if ok && math.Abs(got-v) < off {
			best, off = uint8(raw), math.Abs(got-v)
		}
	}
	if math.IsInf(off, 1) {
		return 0, fmt.Errorf("ipmi: sensor %q has no values", s.Name)
	}
	return best, nil
}

// factorsReply is the reply to Get Sensor Reading Factors (section 35.5).
type factorsReply struct{ Factors }

// Decode leaves m untouched unless the whole message is sound.
func (m *factorsReply) Decode(r *cursor.Reader) error {
	r.U8() // the next raw reading with other factors
	f := readFactors(r)
	if err := ended(r, "reading factors"); err != nil {
		return err
	}
	m.Factors = f
	return nil
}

// factors asks for the factors of a non-linear sensor at one raw reading.
func (c *Client) factors(ctx context.Context, s *SensorRecord, raw uint8) (Factors, error) {
	var m factorsReply
	err := c.doLUN(ctx, s.LUN, GetReadingFactors, []byte{s.Number, raw}, &m)
	return m.Factors, err
}
