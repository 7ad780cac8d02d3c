package gear

import (
	"context"
	"time"

	"plumbbob/internal/core/reading"
)

// Everything here that is written is read back before it counts as done.

// OutletSettings is gear whose outlets can be named, and told what to do when
// power returns. What is written is read back before it counts as done.
type OutletSettings interface {
	NameOutlet(ctx context.Context, number int, name string) error
	SetAfterLoss(ctx context.Context, number int, what reading.AfterLoss) error
	SetDelays(ctx context.Context, number int, on, off *time.Duration) error
}

// Configured is a controller that says how it is set up. What of that can be
// changed shows by the setters that its driver implements.
type Configured interface {
	ReadSettings(ctx context.Context) (Settings, error)
}

// The setters, each for one part of the settings of a controller.
type (
	NetworkSetter interface {
		SetNetwork(ctx context.Context, n Network) error
	}
	UserSetter interface {
		SetUser(ctx context.Context, u UserChange) error
	}
	ClockSetter interface {
		SetClock(ctx context.Context, at time.Time) error
	}
	AlertSetter interface {
		SetAlerts(ctx context.Context, a AlertChange) error
		TestAlert(ctx context.Context, destination int) error
	}
	WatchdogSetter interface {
		SetWatchdog(ctx context.Context, w WatchdogChange) error
	}
	RestoreSetter interface {
		SetRestore(ctx context.Context, r reading.Restore) error
	}
	BootSetter interface {
		ReadBoot(ctx context.Context) (Boot, error)
		SetBoot(ctx context.Context, b Boot) error // and has read it back when it returns none
	}
	LimitSetter interface {
		SetLimit(ctx context.Context, watts int) error // 0 for none
	}
	NameSetter interface {
		SetName(ctx context.Context, name string) error
	}
	Lighter interface {
		Light(ctx context.Context, d time.Duration) error // the identify light
	}
)

// A Part is one part of the settings of a controller that can be changed by itself.
type Part string

// The parts.
const (
	PartNetwork  Part = "network"
	PartUsers    Part = "users"
	PartClock    Part = "clock"
	PartAlerts   Part = "alerts"
	PartWatchdog Part = "watchdog"
	PartRestore  Part = "restore"
	PartBoot     Part = "boot"
	PartLimit    Part = "limit"
	PartName     Part = "name"
	PartLight    Part = "light"
)

var parts = []struct {
	part Part
	has  func(Driver) bool
}{
	{PartNetwork, has[NetworkSetter]}, {PartUsers, has[UserSetter]}, {PartClock, has[ClockSetter]}, {PartAlerts, has[AlertSetter]},
	{PartWatchdog, has[WatchdogSetter]}, {PartRestore, has[RestoreSetter]}, {PartBoot, has[BootSetter]}, {PartLimit, has[LimitSetter]},
	{PartName, has[NameSetter]}, {PartLight, has[Lighter]},
}

func has[T any](d Driver) bool {
	_, ok := As[T](d)
	return ok
}

// Changeable lists the parts of a controller's settings that a driver can change.
func Changeable(d Driver) []Part {
	out := []Part{}
	for _, p := range parts {
		if p.has(d) {
			out = append(out, p.part)
		}
	}
	return out
}

// Settings is how a controller is set up.
type Settings struct {
	Network  Network
	Users    []User
	Slots    int           // for users
	Clock    time.Time     // as the controller has it
	Drift    time.Duration // how far it is ahead of ours
	Alerts   Alerts
	Watchdog Watchdog
	Restore  reading.Restore
	Boot     Boot
	Limit    int // W; 0 for none
	Name     string
	Sessions [2]int // taken, of
	Suite    string // how we are connected

	Changeable []Part
}

// Network is where a controller is to be found.
type Network struct {
	Address, Mask, Gateway string
	Source                 string // "static", "dhcp"
	MAC                    string
	VLAN                   int // 0 for none
}

// User is one account on a controller.
type User struct {
	ID        int
	Name      string
	Privilege string
	Enabled   bool
	LogsIn    bool // over the network
}

// UserChange is what is to be different about a user; nil leaves it alone.
type UserChange struct {
	ID        int
	Name      *string
	Privilege *string
	Password  *string
	Enabled   *bool
}

// Alerts is whether and where a controller sends traps.
type Alerts struct {
	Enabled      bool
	Community    string
	Destinations []AlertDestination
}

// AlertDestination is one receiver of traps.
type AlertDestination struct {
	Number  int
	Address string // empty for none
}

// AlertChange sets one destination.
type AlertChange struct {
	Number    int    `json:"number"`
	Address   string `json:"address"`
	Community string `json:"community,omitempty"` // empty leaves it alone
}

// Watchdog is the watchdog timer of the host.
type Watchdog struct {
	Running bool
	Action  string
	Use     string
	Initial time.Duration
	Left    time.Duration
}

// WatchdogChange sets the timer, stopped.
type WatchdogChange struct {
	Action  string        `json:"action"`
	Initial time.Duration `json:"initial"`
}

// Boot is what the next start does.
type Boot struct {
	Device     string `json:"device"` // "normal", "network", "disk", "cd", "setup", …
	Persistent bool   `json:"persistent"`
	UEFI       bool   `json:"uefi"`
}
