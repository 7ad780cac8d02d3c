package ipmi

import (
	"context"
	"errors"
	"fmt"
	"time"

	"plumbbob/internal/wire/cursor"
)

// RestorePolicy is what happens when mains power comes back (section 28.2).
type RestorePolicy uint8

// The policies.
const (
	StayOff        RestorePolicy = 0
	AsBefore       RestorePolicy = 1
	AlwaysOn       RestorePolicy = 2
	RestoreUnknown RestorePolicy = 3
)

func (p RestorePolicy) String() string {
	switch p {
	case StayOff:
		return "stays off"
	case AsBefore:
		return "as it was before"
	case AlwaysOn:
		return "comes on"
	}
	return "unknown"
}

// ChassisStatus is the reply to Get Chassis Status (section 28.2).
type ChassisStatus struct {
	PowerOn      bool
	Overload     bool
	Interlock    bool
	PowerFault   bool
	ControlFault bool
	Restore      RestorePolicy

	LastMainsLost bool // why power went last
	LastByCommand bool // power came on last by a command like ours

	Intrusion  bool
	Lockout    bool // of the front panel
	DriveFault bool
	FanFault   bool
	Identify   bool // its light is on
}

const (
	powerOn       = 0x01
	powerOverload = 0x02
	powerLock     = 0x04
	powerFault    = 0x08
	controlFault  = 0x10
	restoreShift  = 5
	restoreMask   = 0x03
	lastMains     = 0x01
	lastCommand   = 0x10
	miscIntrusion = 0x01
	miscLockout   = 0x02
	miscDrive     = 0x04
	miscFan       = 0x08
	identifyMask  = 0x30
	identifyKnown = 0x40
	identifyTimed = 0x10
)

// Decode leaves s untouched unless the whole message is sound.
func (s *ChassisStatus) Decode(r *cursor.Reader) error {
	power, last, misc := r.U8(), r.U8(), r.U8()
	r.Rest() // some controllers add a byte about the front panel's buttons
	if err := ended(r, "chassis status"); err != nil {
		return err
	}
	*s = ChassisStatus{
		PowerOn: power&powerOn != 0, Overload: power&powerOverload != 0, Interlock: power&powerLock != 0, PowerFault: power&powerFault != 0,
		ControlFault: power&controlFault != 0, Restore: RestorePolicy(power >> restoreShift & restoreMask),
		LastMainsLost: last&lastMains != 0, LastByCommand: last&lastCommand != 0,
		Intrusion: misc&miscIntrusion != 0, Lockout: misc&miscLockout != 0, DriveFault: misc&miscDrive != 0, FanFault: misc&miscFan != 0,
		Identify: misc&identifyKnown != 0 && misc&identifyMask != 0,
	}
	return nil
}

// Append is Decode's inverse; the lab's controller answers with it.
func (s ChassisStatus) Append(b []byte) []byte {
	return append(b,
		bit(s.PowerOn, powerOn)|bit(s.Overload, powerOverload)|bit(s.Interlock, powerLock)|bit(s.PowerFault, powerFault)|bit(s.ControlFault, controlFault)|byte(s.Restore)<<restoreShift,
		bit(s.LastMainsLost, lastMains)|bit(s.LastByCommand, lastCommand),
		bit(s.Intrusion, miscIntrusion)|bit(s.Lockout, miscLockout)|bit(s.DriveFault, miscDrive)|bit(s.FanFault, miscFan)|bit(s.Identify, identifyTimed)|identifyKnown)
}

// ChassisStatus asks whether the host is on, and how it is.
func (c *Client) ChassisStatus(ctx context.Context) (s ChassisStatus, err error) {
	return s, c.Do(ctx, GetChassisStatus, nil, &s)
}

// ChassisControl is one thing to do to the host's power (section 28.3).
type ChassisControl uint8

// What can be done.
const (
	PowerDown  ChassisControl = 0 // at once
	PowerUp    ChassisControl = 1
	PowerCycle ChassisControl = 2 // for at least a second
	HardReset  ChassisControl = 3
	Diagnostic ChassisControl = 4 // a diagnostic interrupt, usually an NMI
	SoftOff    ChassisControl = 5 // asks the operating system
)

// Control does one thing to the host's power. It is sent once: a *SilentError
// with Sent means that it may have happened, and only looking tells.
func (c *Client) Control(ctx context.Context, do ChassisControl) error {
	return c.Do(ctx, ChassisControlCmd, []byte{byte(do)}, nil)
}

// Identify lights the host's identify light for a while; zero puts it out
// (section 28.5).
func (c *Client) Identify(ctx context.Context, d time.Duration) error {
	if d < 0 || d > 255*time.Second {
		return fmt.Errorf("ipmi: the light cannot be lit for %s: at most 255 s", d)
	}
	return c.Do(ctx, ChassisIdentify, []byte{byte(d / time.Second)}, nil)
}

// SetRestore sets what happens when mains power comes back (section 28.8).
func (c *Client) SetRestore(ctx context.Context, p RestorePolicy) error {
	var supported tail
	if err := c.Do(ctx, SetRestorePolicy, []byte{byte(p)}, &supported); err != nil {
		return err
	}
	if len(supported) > 0 && supported[0]&(1<<p) == 0 {
		return fmt.Errorf("ipmi: the controller cannot have power restored so that it %s", p)
	}
	return nil
}

// RestartCause is why the host last started (section 28.11).
type RestartCause uint8

func (c RestartCause) String() string {
	words := [...]string{
		"unknown", "a command to its controller", "its reset button", "its power button", "its watchdog", "its maker's own reason",
		"mains power came back, and it is set to come on", "mains power came back, and it was on before", "an alert filter, by reset",
		"an alert filter, by power cycle", "a soft reset", "its clock woke it",
	}
	if int(c) < len(words) {
		return words[c]
	}
	return words[0]
}

// RestartCause asks why the host last started.
func (c *Client) RestartCause(ctx context.Context) (RestartCause, error) {
	var b tail
	if err := c.Do(ctx, GetRestartCause, nil, &b); err != nil {
		return 0, err
	}
	if len(b) == 0 {
		return 0, errors.New("ipmi: the restart cause is missing")
	}
	return RestartCause(b[0] & 0x0f), nil
}

// BootDevice is what the host starts from (section 28.13, table 28-14).
type BootDevice uint8

// The devices.
const (
	BootNormal      BootDevice = 0x0
	BootNetwork     BootDevice = 0x1
	BootDisk        BootDevice = 0x2
	BootSafeDisk    BootDevice = 0x3
	BootDiagnostics BootDevice = 0x4
	BootCD          BootDevice = 0x5
	BootSetup       BootDevice = 0x6
	BootRemoteCD    BootDevice = 0x8
	BootRemoteMedia BootDevice = 0x9
	BootRemoteDisk  BootDevice = 0xb
	BootRemovable   BootDevice = 0xf
)

var bootNames = map[BootDevice]string{
	BootNormal: "normal", BootNetwork: "network", BootDisk: "disk", BootSafeDisk: "disk-safe", BootDiagnostics: "diagnostics", BootCD: "cd",
	BootSetup: "setup", BootRemoteCD: "remote-cd", BootRemoteMedia: "remote-media", BootRemoteDisk: "remote-disk", BootRemovable: "removable",
}

func (d BootDevice) String() string {
	if s, ok := bootNames[d]; ok {
		return s
	}
	return fmt.Sprintf("device %d", uint8(d))
}

// ParseBootDevice is the inverse of String.
func ParseBootDevice(s string) (BootDevice, bool) {
	for d, name := range bootNames {
		if name == s {
			return d, true
		}
	}
	return 0, false
}

// BootFlags are what the next start does (section 28.13, parameter 5).
type BootFlags struct {
	Valid      bool // they will be used
	Persistent bool // for all starts, and not only the next
	UEFI       bool
	Device     BootDevice
}

const (
	bootInProgress = 0
	bootValidClear = 3
	bootAck        = 4
	bootFlags      = 5
	flagValid      = 0x80
	flagPersistent = 0x40
	flagUEFI       = 0x20
	deviceShift    = 2
	deviceMask     = 0x0f
	parameterMask  = 0x7f
	setComplete    = 0
	setInProgress  = 1
	setCommit      = 2
	alreadySetting = CompletionCode(0x81) // somebody else is at it
	noSuchParam    = CompletionCode(0x80)
)

// Decode leaves f untouched unless the whole message is sound.
func (f *BootFlags) Decode(r *cursor.Reader) error {
	r.U8() // version of the parameters
	if p := r.U8() & parameterMask; r.Err() == nil && p != bootFlags {
		r.Fail(fmt.Errorf("parameter %d instead of %d", p, bootFlags))
	}
	one, two := r.U8(), r.U8()
	r.Bytes(3)
	if err := ended(r, "boot flags"); err != nil {
		return err
	}
	*f = BootFlags{one&flagValid != 0, one&flagPersistent != 0, one&flagUEFI != 0, BootDevice(two >> deviceShift & deviceMask)}
	return nil
}

// Append writes the five data bytes of the parameter.
func (f BootFlags) Append(b []byte) []byte {
	return append(b, bit(f.Valid, flagValid)|bit(f.Persistent, flagPersistent)|bit(f.UEFI, flagUEFI), byte(f.Device)<<deviceShift, 0, 0, 0)
}

// Boot asks what the next start does.
func (c *Client) Boot(ctx context.Context) (f BootFlags, err error) {
	return f, c.Do(ctx, GetBootOptions, []byte{bootFlags, 0, 0}, &f)
}

// SetBoot sets what the next start does, within the guard that keeps two
// writers apart, and reads it back (section 28.12).
func (c *Client) SetBoot(ctx context.Context, f BootFlags) error {
	f.Valid = true
	err := c.guarded(ctx, SetBootOptions, []byte{bootInProgress}, func() error {
		// Not to be cleared after a minute, nor by a reset that we cause.
		if err := optional(c.Do(ctx, SetBootOptions, []byte{bootValidClear, 0x0f}, nil)); err != nil {
			return err
		}
		if err := optional(c.Do(ctx, SetBootOptions, []byte{bootAck, 0x01, 0x01}, nil)); err != nil {
			return err
		}
		return c.Do(ctx, SetBootOptions, f.Append([]byte{bootFlags}), nil)
	})
	if err != nil {
		return err
	}
	got, err := c.Boot(ctx)
	if err != nil {
		return err
	}
	if got != f {
		return &NotTakenError{What: "the boot device", Want: f.Device.String(), Got: got.Device.String()}
	}
	return nil
}

// A NotTakenError says that a controller accepted a setting, and that reading
// it back gave something else.
type NotTakenError struct{ What, Want, Got string }

func (e *NotTakenError) Error() string {
	return fmt.Sprintf("ipmi: %s was set to %s, but reads back as %s", e.What, e.Want, e.Got)
}

// guarded runs do between "set in progress" and "set complete", for controllers
// that have that guard (sections 23.1 and 28.12).
func (c *Client) guarded(ctx context.Context, cmd Command, guard []byte, do func() error) error {
	with := func(state byte) error {
		return optional(c.Do(ctx, cmd, append(guard[:len(guard):len(guard)], state), nil))
	}
	if err := with(setInProgress); err != nil {
		if refused, ok := errors.AsType[*CompletionError](err); ok && refused.Code == alreadySetting {
			return fmt.Errorf("somebody else is changing these settings now: %w", err)
		}
		return err
	}
	err := do()
	if err == nil {
		_ = with(setCommit) // optional in the standard; most do without
	}
	return errors.Join(err, with(setComplete))
}

// optional takes "there is no such parameter" for success.
func optional(err error) error {
	if refused, ok := errors.AsType[*CompletionError](err); ok {
		switch refused.Code {
		case noSuchParam, InvalidField, OutOfRange, 0x82: // 82h: read-only
			return nil
		}
	}
	return err
}

// OnHours asks how long the host has been on in all (section 28.14).
func (c *Client) OnHours(ctx context.Context) (time.Duration, error) {
	var b tail
	if err := c.Do(ctx, GetPOHCounter, nil, &b); err != nil {
		return 0, err
	}
	r := cursor.New(b)
	unit, n := r.U8(), r.U32()
	if err := r.Err(); err != nil {
		return 0, fmt.Errorf("ipmi: power-on hours: %w", err)
	}
	return time.Duration(unit) * time.Minute * time.Duration(n), nil
}
