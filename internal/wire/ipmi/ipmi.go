// Package ipmi speaks IPMI 2.0 to the management controllers of servers, as a
// remote console over UDP. It knows nothing of devices, sites or databases.
//
//	rmcp/         packets, cipher suites, sessions (a package of its own)
//	command.go    commands and completion codes
//	client.go     one session with one controller, shared by all who ask
//	open.go       how that session is opened
//	exchange.go   one request and its reply: tries, deadlines, matching
//	app.go        device id, GUID, power state, sessions, resets of the controller
//	user.go       users and channels          watchdog.go  the watchdog timer
//	chassis.go    power, identify, boot       dcmi.go      watts, limit, name
//	sdr.go        sensor data records         repository.go  reading all of them
//	sensor.go     readings and thresholds     convert.go   from raw bytes to values
//	units.go      units of measurement        words.go     states in words
//	sel.go        the event log               fru.go       inventory
//	lan.go        LAN settings                alert.go     filters, policies, destinations
//	pet.go        platform event traps
//
// A Client has one request in flight and may be shared between goroutines.
// Section numbers are those of the IPMI 2.0 specification, revision 1.1;
// "FRU" is the Platform Management FRU Information Storage Definition 1.2 and
// "DCMI" the Data Center Manageability Interface 1.5.
package ipmi

import (
	"fmt"

	"plumbbob/internal/wire/cursor"
	"plumbbob/internal/wire/ipmi/rmcp"
)

// A Decoder takes in the data of a reply. It stays untouched when the data
// are not sound.
type Decoder interface {
	Decode(*cursor.Reader) error
}

// Privilege is how much a session or a user may do (section 6.8).
type Privilege uint8

// The privilege levels. Higher ones include the lower ones.
const (
	Callback      Privilege = 1
	User          Privilege = 2
	Operator      Privilege = 3
	Administrator Privilege = 4
	OEM           Privilege = 5
	NoAccess      Privilege = 15
)

func (p Privilege) String() string {
	switch p {
	case Callback:
		return "callback"
	case User:
		return "user"
	case Operator:
		return "operator"
	case Administrator:
		return "administrator"
	case OEM:
		return "OEM"
	case NoAccess:
		return "no access"
	}
	return fmt.Sprintf("privilege %d", uint8(p))
}

// Secret hides itself when printed or logged.
type Secret = rmcp.Secret

// ended reads to the end of a reply and names the message that was unsound.
func ended(r *cursor.Reader, what string) error {
	if err := r.Done(); err != nil {
		return fmt.Errorf("ipmi: %s: %w", what, err)
	}
	return nil
}

func bit(on bool, mask byte) byte {
	if on {
		return mask
	}
	return 0
}
