package ipmi

import (
	"context"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
	"time"
	"unicode"
	"unicode/utf16"

	"plumbbob/internal/wire/cursor"
)

// The encodings of a text (FRU 13, section 43.15).
const (
	encBinary  = 0
	encBCDPlus = 1
	encSixBit  = 2
	encLatin   = 3
)

// Text decodes a text: bytes as hexadecimal digits, BCD plus, packed 6-bit
// ASCII, or 8-bit ASCII with Latin 1. What cannot be printed is left out.
func Text(encoding uint8, b []byte) string {
	return strings.TrimSpace(rawText(encoding, b))
}

// english is the language of an area that has none (and so is 25): texts of all
// other languages are in two bytes a character (platform management FRU, section 13).
const (
	english    = 0
	englishToo = 25
)

// fieldText decodes a text of an area in that language.
func fieldText(encoding, language uint8, b []byte) string {
	if encoding&3 != encLatin || language == english || language == englishToo {
		return Text(encoding, b)
	}
	var units []uint16
	for ; len(b) >= 2; b = b[2:] {
		units = append(units, binary.LittleEndian.Uint16(b))
	}
	return strings.TrimSpace(strings.Map(func(r rune) rune {
		if !unicode.IsPrint(r) {
			return -1
		}
		return r
	}, string(utf16.Decode(units))))
}

// rawText is Text with the spaces at its ends.
func rawText(encoding uint8, b []byte) string {
	switch encoding & 3 {
	case encBinary:
		return hex.EncodeToString(b)
	case encBCDPlus:
		return bcdPlus(b)
	case encSixBit:
		return sixBit(b)
	}
	var s strings.Builder
	for _, x := range b {
		if r := rune(x); unicode.IsPrint(r) {
			s.WriteRune(r)
		}
	}
	return s.String()
}

const bcdDigits = "0123456789 -.:,_"

func bcdPlus(b []byte) string {
	var s strings.Builder
	for _, x := range b {
		s.WriteByte(bcdDigits[x>>4])
		s.WriteByte(bcdDigits[x&0x0f])
	}
	return s.String()
}

// sixBit unpacks four characters from every three bytes, the low bits first.
func sixBit(b []byte) string {
	var s strings.Builder
	acc, n := uint(0), 0
	for _, x := range b {
		acc |= uint(x) << n
		for n += 8; n >= 6; n -= 6 {
			s.WriteByte(byte(acc&0x3f) + ' ')
			acc >>= 6
		}
	}
	return s.String()
}

// printable reads Latin 1 and leaves out what would move a cursor.
func printable(b []byte) string { return Text(encLatin, b) }

// FRU is an inventory: who made what, and which one it is (FRU 8 to 12).
type FRU struct {
	Chassis *ChassisInfo
	Board   *BoardInfo
	Product *ProductInfo
	Multi   []MultiRecord
	Faults  []string // areas that could not be read; the others could
}

// ChassisInfo is the chassis area (FRU 10).
type ChassisInfo struct {
	Type         uint8
	Part, Serial string
	Custom       []string
}

// BoardInfo is the board area (FRU 11).
type BoardInfo struct {
	Made                         time.Time // zero when not given
	Maker, Product, Serial, Part string
	File                         string
	Custom                       []string
}

// ProductInfo is the product area (FRU 12).
type ProductInfo struct {
	Maker, Product, Part, Version, Serial, Asset, File string
	Custom                                             []string
}

// MultiRecord is one record of the multi-record area (FRU 16), kept raw; its
// type says what it is: 0 a power supply, 1 and 2 its outputs, 3 an address.
type MultiRecord struct {
	Type uint8
	Data []byte
}

const (
	fruVersion   = 1
	areaUnit     = 8 // lengths and offsets are in these
	maxAreas     = 5
	multiEnd     = 0x80
	maxMulti     = 64
	endOfFields  = 0xc1
	maxFields    = 64
	fieldLength  = 0x3f
	boardMinutes = 3
)

// boardEpoch is when the minutes of board areas begin (FRU 11).
var boardEpoch = time.Date(1996, 1, 1, 0, 0, 0, 0, time.UTC)

// DecodeFRU reads an inventory. A checksum that is wrong, or an area that
// makes no sense, is noted, and the rest is still read.
func DecodeFRU(b []byte) (*FRU, error) {
	r := cursor.New(b)
	head := r.Bytes(areaUnit)
	if head == nil {
		return nil, fmt.Errorf("ipmi: FRU: %w", r.Err())
	}
	if head[0]&0x0f != fruVersion {
		return nil, fmt.Errorf("ipmi: FRU: version %d of the format is not known", head[0]&0x0f)
	}
	f := &FRU{}
	if sum(head) != 0 {
		f.fault("the checksum of the header is wrong")
	}
	f.area(b, head[2], "chassis", func(r *cursor.Reader) {
		c := &ChassisInfo{Type: r.U8()}
		fields(r, english, []*string{&c.Part, &c.Serial}, &c.Custom)
		f.Chassis = c
	})
	f.area(b, head[3], "board", func(r *cursor.Reader) {
		language := r.U8()
		c := &BoardInfo{}
		if minutes := r.U24(); minutes != 0 && minutes != 0xffffff {
			c.Made = boardEpoch.Add(time.Duration(minutes) * time.Minute)
		}
		fields(r, language, []*string{&c.Maker, &c.Product, &c.Serial, &c.Part, &c.File}, &c.Custom)
		f.Board = c
	})
	f.area(b, head[4], "product", func(r *cursor.Reader) {
		language := r.U8()
		p := &ProductInfo{}
		fields(r, language, []*string{&p.Maker, &p.Product, &p.Part, &p.Version, &p.Serial, &p.Asset, &p.File}, &p.Custom)
		f.Product = p
	})
	f.multi(b, head[5])
	return f, nil
}

func (f *FRU) fault(format string, args ...any) {
	f.Faults = append(f.Faults, fmt.Sprintf(format, args...))
}

// area finds an area by its offset and hands what stands in it to read.
func (f *FRU) area(b []byte, offset uint8, name string, read func(*cursor.Reader)) {
	at := int(offset) * areaUnit
	if at == 0 {
		return
	}
	if at+2 > len(b) {
		f.fault("the %s area is cut off", name)
		return
	}
	end := at + int(b[at+1])*areaUnit
	if end > len(b) || end < at+3 {
		f.fault("the %s area is cut off", name)
		end = len(b)
	} else if sum(b[at:end]) != 0 {
		f.fault("the checksum of the %s area is wrong", name)
	}
	r := cursor.New(b[at+2 : end])
	read(r)
	if r.Err() != nil {
		f.fault("the %s area makes no sense: %v", name, r.Err())
	}
}

// fields reads the fixed fields of an area, and then custom ones, until the
// end mark.
func fields(r *cursor.Reader, language uint8, fixed []*string, custom *[]string) {
	for n := range maxFields {
		tl := r.U8()
		if tl == endOfFields || r.Err() != nil {
			return
		}
		text := fieldText(tl>>6, language, r.Bytes(int(tl&fieldLength)))
		if n < len(fixed) {
			*fixed[n] = text
		} else if text != "" {
			*custom = append(*custom, text)
		}
	}
}

func (f *FRU) multi(b []byte, offset uint8) {
	at := int(offset) * areaUnit
	if at == 0 {
		return
	}
	if at > len(b) {
		f.fault("the multi-record area is cut off")
		return
	}
	r := cursor.New(b[at:])
	for n := range maxMulti {
		head := r.Bytes(5)
		if head == nil {
			f.fault("multi-record %d is cut off", n)
			return
		}
		data := r.Bytes(int(head[2]))
		switch {
		case r.Err() != nil:
			f.fault("multi-record %d is cut off", n)
			return
		case sum(head) != 0:
			f.fault("the checksum of the header of multi-record %d is wrong", n)
			return // its length cannot be trusted
		case sum(data)+head[3] != 0:
			f.fault("the checksum of multi-record %d is wrong", n)
		}
		f.Multi = append(f.Multi, MultiRecord{head[0], append([]byte(nil), data...)})
		if head[1]&multiEnd != 0 {
			return
		}
	}
}

func sum(b []byte) (s uint8) {
	for _, x := range b {
		s += x
	}
	return s
}

// fruInfo is the reply to Get FRU Inventory Area Info (section 34.1).
type fruInfo struct {
	size  uint16
	words bool
}

// Decode leaves m untouched unless the whole message is sound.
func (m *fruInfo) Decode(r *cursor.Reader) error {
	got := fruInfo{r.U16(), r.U8()&1 != 0}
	if err := ended(r, "FRU inventory area info"); err != nil {
		return err
	}
	*m = got
	return nil
}

const (
	maxFRU   = 8 << 10 // bytes that are read of an inventory
	fruPiece = 32
)

// Inventory reads the inventory with that id; 0 is the host's own.
func (c *Client) Inventory(ctx context.Context, id uint8) (*FRU, error) {
	var info fruInfo
	if err := c.Do(ctx, GetFRUInfo, []byte{id}, &info); err != nil {
		return nil, err
	}
	size := min(int(info.size), maxFRU)
	unit := 1
	if info.words {
		unit = 2
	}
	b := make([]byte, 0, size)
	w := walker{piece: fruPiece}
	var part tail
	for len(b) < size {
		n := min(size-len(b), w.piece)
		n = max(n-n%unit, unit)
		at := len(b) / unit
		err := c.Do(ctx, ReadFRU, []byte{id, byte(at), byte(at >> 8), byte(n / unit)}, &part)
		if err != nil {
			if !w.adapts(err) {
				return nil, err
			}
			continue
		}
		if len(part) < 2 || len(part)-1 > n {
			return nil, errors.New("ipmi: FRU: the controller returned another length than it says")
		}
		b = append(b, part[1:]...)
	}
	return DecodeFRU(b)
}
