package ipmi

import (
	"time"
)

// The inverses of the decoders of records and inventories. The lab's
// controllers write with them what they keep.

// Append writes a record with its header. Sharing is not written: a shared
// record decodes into several.
func (r Record) Append(b []byte) []byte {
	body := r.Raw
	switch {
	case r.Type == FullSensor:
		body = r.Sensor.appendFull(nil)
	case r.Type == CompactSensor:
		body = r.Sensor.appendCompact(nil)
	case r.Type == EventOnly:
		s := r.Sensor
		body = appendName([]byte{s.Owner, s.LUN, s.Number, s.Entity, s.Instance, byte(s.Type), byte(s.Event), 1, 0, 0, 0}, s.Name)
	case r.Type == FRULocator:
		l := r.Locator
		body = appendName([]byte{l.Address, l.FRU, bit(l.Logical, 0x80), 0, 0, 0x10, 0, l.Entity, 1, 0}, l.Name)
	case r.Type == ControllerLocator:
		l := r.Locator
		body = appendName([]byte{l.Address, 0, 0, 0xbf, 0, 0, 0, l.Entity, 1, 0}, l.Name)
	}
	b = append(append(b, le16(r.ID)...), sdrVersion, byte(r.Type), byte(len(body)))
	return append(b, body...)
}

func (s *SensorRecord) appendHead(b []byte) []byte {
	b = append(b, s.Owner, s.LUN, s.Number, s.Entity, s.Instance, 0x3f|bit(s.Scanning, initScanning), byte(s.Threshold)<<accessShift|0x40, byte(s.Type), byte(s.Event))
	b = append(append(append(b, le16(s.Assertion)...), le16(s.Deassertion)...), le16(s.Readable)...)
	return s.Units.append(b, s.Format)
}

func (s *SensorRecord) appendFull(b []byte) []byte {
	b = appendFactors(append(s.appendHead(b), byte(s.Linear)), s.Factors)
	given := byte(0)
	value := func(v *uint8, mask byte) byte {
		if v == nil {
			return 0
		}
		given |= mask
		return *v
	}
	nominal, high, low := value(s.Nominal, analogNominal), value(s.NormalMax, analogNormalMax), value(s.NormalMin, analogNormalMin)
	b = append(b, given, nominal, high, low, s.Max, s.Min)
	for _, n := range []int{UpperNonRecoverable, UpperCritical, UpperNonCritical, LowerNonRecoverable, LowerCritical, LowerNonCritical} {
		b = append(b, s.Thresholds.Value[n])
	}
	return appendName(append(b, s.Positive, s.Negative, 0, 0, 0), s.Name)
}

func (s *SensorRecord) appendCompact(b []byte) []byte {
	return appendName(append(s.appendHead(b), 1, 0, s.Positive, s.Negative, 0, 0, 0, 0), s.Name)
}

func appendName(b []byte, name string) []byte {
	name = name[:min(len(name), 16)]
	return append(append(b, encLatin<<6|byte(len(name))), name...)
}

// AppendFactors writes the reply to Get Sensor Reading Factors.
func AppendFactors(b []byte, f Factors) []byte { return appendFactors(append(b, 0xff), f) }

// packSixBit is the inverse of the 6-bit decoder, for upper-case texts.
func packSixBit(s string) []byte {
	var b []byte
	acc, n := uint(0), 0
	for i := range len(s) {
		acc |= uint(s[i]-' ') & 0x3f << n
		for n += 6; n >= 8; n -= 8 {
			b = append(b, byte(acc))
			acc >>= 8
		}
	}
	if n > 0 {
		b = append(b, byte(acc))
	}
	return b
}

// sixBitText says whether a text can be packed without loss: upper case, and
// long enough for packing to matter.
func sixBitText(s string) bool {
	for i := range len(s) {
		if s[i] < ' ' || s[i] > '_' {
			return false
		}
	}
	return len(s) >= 12 && len(s)%4 == 0 && s[len(s)-1] != ' '
}

// Append writes the inventory with its checksums. Serial-like texts of upper
// case go packed, as makers do.
func (f *FRU) Append(b []byte) []byte {
	const language = 25 // English
	head := []byte{fruVersion, 0, 0, 0, 0, 0, 0}
	var areas []byte
	place := func(n int, area []byte) {
		head[n] = byte((areaUnit + len(areas)) / areaUnit)
		areas = append(areas, area...)
	}
	if c := f.Chassis; c != nil {
		place(2, area([]byte{c.Type}, append([]string{c.Part, c.Serial}, c.Custom...)))
	}
	if c := f.Board; c != nil {
		m := uint32(0)
		if !c.Made.IsZero() {
			m = uint32(c.Made.Sub(boardEpoch) / time.Minute)
		}
		place(3, area([]byte{language, byte(m), byte(m >> 8), byte(m >> 16)}, append([]string{c.Maker, c.Product, c.Serial, c.Part, c.File}, c.Custom...)))
	}
	if p := f.Product; p != nil {
		place(4, area([]byte{language}, append([]string{p.Maker, p.Product, p.Part, p.Version, p.Serial, p.Asset, p.File}, p.Custom...)))
	}
	if len(f.Multi) > 0 {
		var multi []byte
		for i, m := range f.Multi {
			h := []byte{m.Type, 2 | bit(i == len(f.Multi)-1, multiEnd), byte(len(m.Data)), -sum(m.Data)}
			multi = append(append(append(multi, h...), -sum(h)), m.Data...)
		}
		place(5, multi)
	}
	head = append(head, -sum(head))
	return append(append(b, head...), areas...)
}

// area writes what an area holds, padded and with its checksum.
func area(lead []byte, texts []string) []byte {
	b := append([]byte{fruVersion, 0}, lead...)
	for _, s := range texts {
		if sixBitText(s) {
			p := packSixBit(s)
			b = append(append(b, encSixBit<<6|byte(len(p))), p...)
			continue
		}
		if len(s) == 1 {
			s += " " // a length of 1 is the end mark
		}
		b = append(append(b, encLatin<<6|byte(len(s))), s...)
	}
	b = append(b, endOfFields)
	for len(b)%areaUnit != areaUnit-1 {
		b = append(b, 0)
	}
	b[1] = byte((len(b) + 1) / areaUnit)
	return append(b, -sum(b))
}
