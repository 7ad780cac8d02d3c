package ipmi

import (
	"encoding/binary"
	"fmt"
	"time"

	"plumbbob/internal/wire/cursor"
)

// TrapOID is the enterprise of platform event traps, SNMPv1 traps whose one
// variable is TrapOID + ".1" (IPMI Platform Event Trap Format 1.0).
const TrapOID = "1.3.6.1.4.1.3183.1.1"

// A Trap is a platform event trap: an event that a controller sends by itself.
// It is a hint to look, and proves nothing: SNMPv1 is not authenticated.
type Trap struct {
	GUID     GUID
	Sequence uint16 // the same for repeats of one trap
	Seconds  uint32 // since 1 January 1998, in the controller's local time; 0 when not known
	Offset   int16  // minutes from UTC to that, or -1 for not known
	Severity uint8
	Event    Event
	Entity   uint8
}

var petEpoch = time.Date(1998, 1, 1, 0, 0, 0, 0, time.UTC)

// At is when the event was; zero when the trap does not say.
func (t Trap) At() time.Time {
	if t.Seconds == 0 {
		return time.Time{}
	}
	at := petEpoch.Add(time.Duration(t.Seconds) * time.Second)
	if t.Offset != -1 {
		at = at.Add(-time.Duration(t.Offset) * time.Minute)
	}
	return at
}

// Specific is the number that the trap bears beside its variable: the type of
// the sensor, the type of the event, and its state.
func (t Trap) Specific() uint32 {
	return uint32(t.Event.Type)<<16 | uint32(t.Event.Event)<<8 | uint32(bit(t.Event.Gone, 0x80)) | uint32(t.Event.Offset())
}

const (
	petSource    = 0x20 // trap source type: platform firmware's own event
	petDataBytes = 8
)

// Decode reads the variable of a trap. Because the variable is in network byte
// order, unlike all else in IPMI, the numbers are too. specific is the number
// beside it.
func (t *Trap) Decode(specific uint32, b []byte) error {
	r := cursor.New(b)
	var got Trap
	r.Copy(got.GUID[:])
	got.Sequence = be16(r)
	got.Seconds, got.Offset = r.BE32(), int16(be16(r))
	r.Bytes(2) // sources of the trap and of the event
	got.Severity = r.U8()
	device, number := r.U8(), r.U8()
	got.Entity = r.U8()
	r.U8() // instance
	data := r.Bytes(petDataBytes)
	r.Rest() // language, maker, system, and the maker's own
	if err := ended(r, "platform event trap"); err != nil {
		return err
	}
	got.Event = Event{
		Kind: SystemEventRecord, Type: SensorType(specific >> 16), Event: EventType(specific >> 8 & 0x7f), Gone: specific&0x80 != 0,
		Sensor: SensorKey{Owner: device, Number: number}, Generator: uint16(device), Data: [3]byte(data),
	}
	if offset := uint8(specific & 0x0f); got.Event.Data[0] == 0 || got.Event.Data[0] == unspecifiedByte {
		got.Event.Data[0] = offset // the number beside it says so, and the data nothing
	}
	*t = got
	return nil
}

// Append is the inverse of Decode.
func (t Trap) Append(b []byte) []byte {
	b = append(b, t.GUID[:]...)
	b = binary.BigEndian.AppendUint16(b, t.Sequence)
	b = binary.BigEndian.AppendUint32(b, t.Seconds)
	b = binary.BigEndian.AppendUint16(b, uint16(t.Offset))
	b = append(b, petSource, petSource, t.Severity, t.Event.Sensor.Owner, t.Event.Sensor.Number, t.Entity, 0)
	b = append(b, t.Event.Data[:]...)
	b = append(b, 0, 0, 0, 0, 0) // five more data bytes
	b = append(b, 0xff)          // language: not given
	b = binary.BigEndian.AppendUint32(b, 0)
	b = binary.BigEndian.AppendUint16(b, 0)
	return append(b, endOfFields) // no records of the maker's own
}

func be16(r *cursor.Reader) uint16 {
	hi := r.U8()
	return uint16(hi)<<8 | uint16(r.U8())
}

// Words put the trap into a sentence.
func (t Trap) Words() string {
	return fmt.Sprintf("%s: %s", t.Event.Type, t.Event.Words(nil))
}
