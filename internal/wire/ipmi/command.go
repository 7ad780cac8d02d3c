package ipmi

import (
	"fmt"

	"plumbbob/internal/wire/ipmi/rmcp"
)

// Once marks commands that must not be carried out twice: a reply that is lost
// is settled by looking, never by sending again.
const Once = true

// DCMI is the group of the commands of DCMI, their first data byte.
const DCMI = 0xdc

// A Command is a network function with a number, the privilege that it needs,
// and whether it may be repeated (appendix G).
type Command struct {
	Name  string
	NetFn rmcp.NetFn
	Code  uint8
	Needs Privilege
	Once  bool
	Group uint8 // the body that defines it, when NetFn is rmcp.Group
}

func (c Command) String() string { return c.Name }

// The commands, in the words of the specification.
var (
	GetChassisStatus   = Command{"Get Chassis Status", rmcp.Chassis, 0x01, User, false, 0}
	ChassisControlCmd  = Command{"Chassis Control", rmcp.Chassis, 0x02, Operator, Once, 0}
	ChassisIdentify    = Command{"Chassis Identify", rmcp.Chassis, 0x04, Operator, false, 0}
	SetRestorePolicy   = Command{"Set Power Restore Policy", rmcp.Chassis, 0x06, Operator, false, 0}
	GetRestartCause    = Command{"Get System Restart Cause", rmcp.Chassis, 0x07, User, false, 0}
	SetBootOptions     = Command{"Set System Boot Options", rmcp.Chassis, 0x08, Operator, false, 0}
	GetBootOptions     = Command{"Get System Boot Options", rmcp.Chassis, 0x09, Operator, false, 0}
	GetPOHCounter      = Command{"Get POH Counter", rmcp.Chassis, 0x0f, User, false, 0}
	SetPEFConfig       = Command{"Set PEF Configuration Parameters", rmcp.SensorEvt, 0x12, Administrator, false, 0}
	GetPEFConfig       = Command{"Get PEF Configuration Parameters", rmcp.SensorEvt, 0x13, Operator, false, 0}
	AlertImmediate     = Command{"Alert Immediate", rmcp.SensorEvt, 0x16, Administrator, Once, 0}
	GetReadingFactors  = Command{"Get Sensor Reading Factors", rmcp.SensorEvt, 0x23, User, false, 0}
	GetHysteresis      = Command{"Get Sensor Hysteresis", rmcp.SensorEvt, 0x25, User, false, 0}
	SetThresholds      = Command{"Set Sensor Thresholds", rmcp.SensorEvt, 0x26, Operator, false, 0}
	GetThresholds      = Command{"Get Sensor Thresholds", rmcp.SensorEvt, 0x27, User, false, 0}
	GetSensorReading   = Command{"Get Sensor Reading", rmcp.SensorEvt, 0x2d, User, false, 0}
	GetDeviceID        = Command{"Get Device ID", rmcp.App, 0x01, User, false, 0}
	ColdReset          = Command{"Cold Reset", rmcp.App, 0x02, Administrator, Once, 0}
	WarmReset          = Command{"Warm Reset", rmcp.App, 0x03, Administrator, Once, 0}
	GetACPIPowerState  = Command{"Get ACPI Power State", rmcp.App, 0x07, User, false, 0}
	GetDeviceGUID      = Command{"Get Device GUID", rmcp.App, 0x08, User, false, 0}
	SetWatchdog        = Command{"Set Watchdog Timer", rmcp.App, 0x24, Operator, false, 0}
	GetWatchdog        = Command{"Get Watchdog Timer", rmcp.App, 0x25, User, false, 0}
	GetSystemGUID      = Command{"Get System GUID", rmcp.App, 0x37, User, false, 0}
	GetAuthCaps        = Command{"Get Channel Authentication Capabilities", rmcp.App, 0x38, 0, false, 0}
	GetChallenge       = Command{"Get Session Challenge", rmcp.App, 0x39, 0, false, 0}
	ActivateSession    = Command{"Activate Session", rmcp.App, 0x3a, 0, false, 0}
	SetPrivilege       = Command{"Set Session Privilege Level", rmcp.App, 0x3b, Callback, false, 0}
	CloseSession       = Command{"Close Session", rmcp.App, 0x3c, Callback, Once, 0}
	GetSessionInfo     = Command{"Get Session Info", rmcp.App, 0x3d, User, false, 0}
	GetChannelAccess   = Command{"Get Channel Access", rmcp.App, 0x41, User, false, 0}
	GetChannelInfo     = Command{"Get Channel Info", rmcp.App, 0x42, User, false, 0}
	SetUserAccess      = Command{"Set User Access", rmcp.App, 0x43, Administrator, false, 0}
	GetUserAccess      = Command{"Get User Access", rmcp.App, 0x44, Operator, false, 0}
	SetUserName        = Command{"Set User Name", rmcp.App, 0x45, Administrator, false, 0}
	GetUserName        = Command{"Get User Name", rmcp.App, 0x46, Operator, false, 0}
	SetUserPassword    = Command{"Set User Password", rmcp.App, 0x47, Administrator, false, 0}
	GetCipherSuites    = Command{"Get Channel Cipher Suites", rmcp.App, 0x54, 0, false, 0}
	GetFRUInfo         = Command{"Get FRU Inventory Area Info", rmcp.Storage, 0x10, User, false, 0}
	ReadFRU            = Command{"Read FRU Data", rmcp.Storage, 0x11, User, false, 0}
	GetSDRInfo         = Command{"Get SDR Repository Info", rmcp.Storage, 0x20, User, false, 0}
	ReserveSDR         = Command{"Reserve SDR Repository", rmcp.Storage, 0x22, User, false, 0}
	GetSDR             = Command{"Get SDR", rmcp.Storage, 0x23, User, false, 0}
	GetSELInfo         = Command{"Get SEL Info", rmcp.Storage, 0x40, User, false, 0}
	ReserveSEL         = Command{"Reserve SEL", rmcp.Storage, 0x42, User, false, 0}
	GetSELEntry        = Command{"Get SEL Entry", rmcp.Storage, 0x43, User, false, 0}
	ClearSEL           = Command{"Clear SEL", rmcp.Storage, 0x47, Operator, Once, 0}
	GetSELTime         = Command{"Get SEL Time", rmcp.Storage, 0x48, User, false, 0}
	SetSELTime         = Command{"Set SEL Time", rmcp.Storage, 0x49, Operator, false, 0}
	SetLANConfig       = Command{"Set LAN Configuration Parameters", rmcp.Transport, 0x01, Administrator, false, 0}
	GetLANConfig       = Command{"Get LAN Configuration Parameters", rmcp.Transport, 0x02, Operator, false, 0}
	GetPowerReading    = Command{"Get Power Reading", rmcp.Group, 0x02, User, false, DCMI}
	GetPowerLimit      = Command{"Get Power Limit", rmcp.Group, 0x03, User, false, DCMI}
	SetPowerLimit      = Command{"Set Power Limit", rmcp.Group, 0x04, Operator, false, DCMI}
	ActivatePowerLimit = Command{"Activate/Deactivate Power Limit", rmcp.Group, 0x05, Operator, false, DCMI}
	GetControllerName  = Command{"Get Management Controller Identifier String", rmcp.Group, 0x09, User, false, DCMI}
	SetControllerName  = Command{"Set Management Controller Identifier String", rmcp.Group, 0x0a, Administrator, false, DCMI}
)

// A CompletionCode is a controller's verdict on a request (section 5.2).
type CompletionCode uint8

// The codes that somebody has to tell apart.
const (
	OK                    CompletionCode = 0x00
	NodeBusy              CompletionCode = 0xc0
	InvalidCommand        CompletionCode = 0xc1
	InvalidForLUN         CompletionCode = 0xc2
	ProcessingTimeout     CompletionCode = 0xc3
	OutOfSpace            CompletionCode = 0xc4
	ReservationLost       CompletionCode = 0xc5
	DataTruncated         CompletionCode = 0xc6
	BadLength             CompletionCode = 0xc7
	LengthExceeded        CompletionCode = 0xc8
	OutOfRange            CompletionCode = 0xc9
	CannotReturnSoMany    CompletionCode = 0xca
	NotPresent            CompletionCode = 0xcb
	InvalidField          CompletionCode = 0xcc
	IllegalForSensor      CompletionCode = 0xcd
	NoResponse            CompletionCode = 0xce
	DuplicateRequest      CompletionCode = 0xcf
	Updating              CompletionCode = 0xd0
	FirmwareUpdating      CompletionCode = 0xd1
	Initializing          CompletionCode = 0xd2
	DestinationUnreached  CompletionCode = 0xd3
	InsufficientPrivilege CompletionCode = 0xd4
	NotInPresentState     CompletionCode = 0xd5
	SubFunctionDisabled   CompletionCode = 0xd6
	Unspecified           CompletionCode = 0xff
)

var completionText = map[CompletionCode]string{
	OK: "done", NodeBusy: "busy", InvalidCommand: "command not known", InvalidForLUN: "command not known there",
	ProcessingTimeout: "it ran out of time", OutOfSpace: "out of space", ReservationLost: "reservation lost",
	DataTruncated: "request cut off", BadLength: "request of the wrong length", LengthExceeded: "request too long",
	OutOfRange: "parameter out of range", CannotReturnSoMany: "cannot return so many bytes", NotPresent: "no such sensor, record or unit",
	InvalidField: "field not valid", IllegalForSensor: "not possible for this sensor or record", NoResponse: "no response could be given",
	DuplicateRequest: "duplicate request", Updating: "its records are being updated", FirmwareUpdating: "its firmware is being updated",
	Initializing: "it is starting up", DestinationUnreached: "destination not available", InsufficientPrivilege: "insufficient privilege",
	NotInPresentState: "not possible in the present state", SubFunctionDisabled: "this function is switched off", Unspecified: "unspecified error",
}

func (c CompletionCode) String() string {
	if t, ok := completionText[c]; ok {
		return t
	}
	return "refused for a reason of this command's own"
}

// A CompletionError is a controller's refusal (section 5.2).
type CompletionError struct {
	Command Command        // what was sent
	Code    CompletionCode // what came back
}

func (e *CompletionError) Error() string {
	text := e.Code.String()
	if own, ok := ownCodes[e.Command.Name][e.Code]; ok {
		text = own
	}
	return fmt.Sprintf("ipmi: %s refused: %s (%02Xh)", e.Command, text, uint8(e.Code))
}

// ownCodes are the reasons that a command has for itself, where it can be met
// with them (each in the table of its command).
var ownCodes = map[string]map[CompletionCode]string{
	GetLANConfig.Name:    {0x80: "it does not have this parameter"},
	SetLANConfig.Name:    {0x80: "it does not have this parameter", 0x81: "somebody else is changing it", 0x82: "it can only be read"},
	GetPEFConfig.Name:    {0x80: "it does not have this parameter"},
	SetPEFConfig.Name:    {0x80: "it does not have this parameter", 0x81: "somebody else is changing it", 0x82: "it can only be read"},
	GetBootOptions.Name:  {0x80: "it does not have this parameter"},
	SetBootOptions.Name:  {0x80: "it does not have this parameter", 0x81: "somebody else is changing it", 0x82: "it can only be read"},
	SetUserPassword.Name: {0x80: "the password is another one", 0x81: "the password is of another length"},
	GetPowerReading.Name: {0x80: "it measures no power now"},
	GetPowerLimit.Name:   {0x80: "no limit of its power is set"},
	SetPowerLimit.Name:   {0x84: "the limit is out of its range", 0x85: "the time to keep to it is out of its range", 0x89: "the span of its statistics is out of its range"},
}

// A SilentError says that no reply came. Sent tells whether the command may
// have been carried out all the same.
type SilentError struct {
	Command Command
	Sent    bool
	Err     error // of the context, or of the socket
}

func (e *SilentError) Error() string {
	if !e.Sent {
		return fmt.Sprintf("ipmi: %s was not sent: %v", e.Command, e.Err)
	}
	return fmt.Sprintf("ipmi: no reply to %s: %v", e.Command, e.Err)
}

func (e *SilentError) Unwrap() error { return e.Err }
