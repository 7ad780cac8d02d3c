package client

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/api/contract"
)

var readings = contract.Sensors{At: &since, Fresh: true, Sensors: []contract.Sensor{
	{Name: "CPU 1 temp", Kind: "temperature", Text: "97 °C", Value: new(97.0), Level: contract.LevelCritical, Limits: &contract.Limits{HighWarning: new(85.0), HighCritical: new(95.0), HighFatal: new(100.0)}},
	{Name: "Inlet temp", Kind: "temperature", Text: "21 °C", Value: new(21.0), Level: contract.LevelFine, Limits: &contract.Limits{LowCritical: new(0.0), LowWarning: new(4.0), HighWarning: new(38.0)}},
	{Name: "12 V", Kind: "voltage", Text: "12.12 V", Value: new(12.12), Digits: 2, Level: contract.LevelFine, Limits: &contract.Limits{LowWarning: new(11.4)}},
	{Name: "Fan 1", Kind: "fan", Text: "not measured now", Level: contract.LevelAbsent},
}}

func TestSensors(t *testing.T) {
	f := serve(t, map[string]any{"GET /board": board, "GET /devices/host/sensors": readings})
	status, out := f.run("", "sensors", "host")
	require.Zero(t, status)
	require.Regexp(t, `(?s)^\nout of bounds\n  CPU 1 temp\s+97 °C\s+critical\s+… 85 < 95 < 100\n\ntemperature\n  Inlet temp\s+21 °C\s+0 < 4 … 38\n\nvoltage\n  12 V\s+12.12 V\s+11.40 …\n\nabsent\n  not measured now     Fan 1\n$`, out)
	for _, l := range strings.Split(out, "\n") {
		require.LessOrEqual(t, len([]rune(l)), 80)
	}
	_, out = f.run("", "sensors", "host", "-o", "csv")
	require.Contains(t, out, "temperature,CPU 1 temp,97 °C,critical,… 85 < 95 < 100,97,")
	_, out = f.run("", "sensors", "host", "-o", "json")
	require.Contains(t, out, `"fresh": true`)

	stale := readings
	stale.Fresh = false
	f = serve(t, map[string]any{"GET /board": board, "GET /devices/host/sensors": stale, "GET /devices/new/sensors": contract.Sensors{}})
	_, out = f.run("", "sensors", "host")
	require.Contains(t, out, "These readings are stale: they were taken 4 min ago.")
	_, out = f.run("", "sensors", "new")
	require.Contains(t, out, "The sensors of new have not been read yet.")
}

func TestEvents(t *testing.T) {
	at := time.Date(2026, 3, 1, 14, 0, 0, 0, time.UTC)
	log := contract.EventLog{At: &since, Version: "v1", Full: true, Events: []contract.GearEvent{
		{ID: 2, At: &at, Sensor: "Fan 2", Kind: "fan", Text: "below its lower critical threshold, falling: 0 rpm", Level: contract.LevelCritical},
		{ID: 1, AfterSeconds: new(42.0), Kind: "maker's own", Text: "reconfigured", Level: contract.LevelFine},
	}}
	f := serve(t, map[string]any{"GET /devices/host/events": log, "POST /devices/host/events/clear": nothing{}, "GET /devices/new/events": contract.EventLog{}})
	status, out := f.run("", "events", "host", "--log")
	require.Zero(t, status)
	require.Contains(t, out, "The log is full: newer events are lost.")
	require.Regexp(t, `critical\s+Fan 2\s+below its lower critical`, out)
	require.Regexp(t, `start \+ 42 s\s+maker's own\s+reconfigured`, out)
	_, out = f.run("", "events", "new", "--log")
	require.Contains(t, out, "has not been read yet")

	file := filepath.Join(t.TempDir(), "log.json")
	for want, args := range map[string][]string{
		"write a length of time such as 90s":            {"events", "host", "--log", "--since", "yesterday"},
		"--clear needs a file to save the log to first": {"events", "host", "--clear"},
		"it cannot be less than":                        {"events", "host", "--log", "--since", "-1h"},
		"--clear erases the whole log":                  {"events", "host", "--since", "1h", "--clear", "--save", file},
		"cannot be written":                             {"events", "host", "--save", "/nowhere/at/all"},
	} {
		status, out = f.run("", args...)
		require.Equal(t, ExitUsage, status, out)
		require.Contains(t, out, want)
	}
	require.NotContains(t, f.asked, "POST /devices/host/events/clear", "nothing is erased that is not saved")
	status, out = f.run("", "events", "host", "--clear", "--save", file)
	require.Zero(t, status, out)
	require.Contains(t, out, "2 entries saved to")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Contains(t, string(text), `"device": "host"`)
	status, _ = f.run("", "events", "host", "--save", file)
	require.Equal(t, ExitUsage, status, "nothing is overwritten")
}

func TestSheet(t *testing.T) {
	made := time.Date(2023, 8, 20, 8, 0, 0, 0, time.UTC)
	sheet := contract.Sheet{Device: "host", Site: "quay", Words: "storage host", Product: new("Gannet 4U"), Serial: new("G4-1"), Firmware: new("2.42"), BoardMade: &made, OnHours: new(8123), Faults: []string{"the checksum of the board area is wrong"}}
	f := serve(t, map[string]any{"GET /devices/host/sheet": sheet, "GET /sheets": []contract.Sheet{sheet, {Device: "router", Words: "router"}}})
	_, out := f.run("", "sheet", "host")
	require.Contains(t, out, "serial           G4-1\nboard made       20 August 2023\nfirmware         2.42\non for           8123 hours\nnot readable: the checksum of the board area is wrong\n")
	_, out = f.run("", "sheet", "--all")
	require.Regexp(t, `host\s+2.42\s+Gannet 4U\s+G4-1\s+storage host\nrouter\s+router\n`, out)
	_, out = f.run("", "sheet", "host", "-o", "csv")
	require.Contains(t, out, "host,2.42,Gannet 4U,G4-1,storage host")
	for _, args := range [][]string{{"sheet"}, {"sheet", "host", "--all"}} {
		status, out := f.run("", args...)
		require.Equal(t, ExitUsage, status)
		require.Contains(t, out, "write: plumb sheet DEVICE, or plumb sheet --all")
	}
}

var settings = contract.ControllerSettings{
	Network: contract.ControllerNetwork{Address: new("192.0.2.7"), Source: new("static"), Mask: new("255.255.255.0"), Gateway: new(""), Vlan: new(12), Mac: new("02:00:5e:00:00:01")},
	Users:   []contract.ControllerUser{{ID: 1, Name: new(""), Privilege: new("user"), Enabled: new(true), LogsIn: new(true)}, {ID: 2, Name: new("plumb"), Privilege: new("administrator"), Enabled: new(false), LogsIn: new(true)}},
	Clock:   &since, DriftSeconds: -125, Restore: "stays off", Boot: contract.ControllerBoot{Device: "setup", Persistent: new(true)}, Name: "bmc", Sessions: 1, SessionSlots: 4, Suite: "cipher suite 17",
	Watchdog: contract.ControllerWatchdog{Running: new(true), Action: "reset", Use: new("operating system"), Seconds: 60, LeftSeconds: new(42.0)},
	Alerts:   contract.ControllerAlerts{Enabled: true, Community: "tern", Destinations: []contract.AlertDestination{{Number: 1, Address: "192.0.2.9"}, {Number: 2}}},
}

func TestControllerShown(t *testing.T) {
	f := serve(t, map[string]any{"GET /devices/host/controller": settings})
	_, out := f.run("", "controller", "show", "host")
	for _, want := range []string{
		"address            192.0.2.7 (static)", "gateway            –", "VLAN               12", "sessions           1 of 4 taken", "when power returns stays off", "next start         setup, and every one after",
		"2m5s behind ours", "watchdog           reset after 1m0s, running for the operating system, 42s left", "alerts             on, to 1: 192.0.2.9, community tern",
		"user 1             (without a name), user", "user 2             plumb, administrator, may not log in",
	} {
		require.Contains(t, out, want)
	}
	for part, want := range map[string]string{"users": "user 2", "clock": "behind ours", "alerts": "community tern", "watchdog": "42s left", "boot": "setup", "power": "stays off", "network": "192.0.2.7"} {
		_, out = f.run("", "controller", part, "host")
		require.Contains(t, out, want, part)
		require.Less(t, strings.Count(out, "\n"), 7, "only that part")
	}
	_, out = f.run("", "controller", "show", "host", "-o", "csv")
	require.Contains(t, out, "when power returns,stays off\n")
}

func TestControllerChanged(t *testing.T) {
	does := contract.ControllerChanges{Changes: []string{"VLAN: none → 7"}, Warnings: []string{"our own way in is cut"}}
	f := serve(t, map[string]any{"POST /devices/host/controller": does, "POST /devices/same/controller": contract.ControllerChanges{}})
	status, out := f.run("", "controller", "network", "host", "--vlan", "7")
	require.Equal(t, ExitUsage, status, "nobody is there to agree")
	require.Contains(t, out, "host: VLAN: none → 7\n  ! our own way in is cut\n")
	require.Len(t, f.asked, 1, "it was only shown")
	status, out = f.run("", "controller", "network", "host", "--vlan", "7", "--yes", "--why", "moved")
	require.Zero(t, status)
	require.Contains(t, out, "Done, and read back.")
	_, out = f.run("", "controller", "boot", "same", "--next", "disk", "--yes")
	require.Contains(t, out, "same is like that already.")
	for _, args := range [][]string{
		{"clock", "host", "--set"}, {"alerts", "host", "--to", "192.0.2.9"}, {"alerts", "host", "--test"}, {"watchdog", "host", "--action", "reset", "--after", "5m"}, {"power", "host", "--restore", "comes on"},
		{"power", "host", "--limit", "300"}, {"users", "host", "--user", "3", "--disable"}, {"boot", "host", "--next", "setup", "--always"},
	} {
		status, out = f.run("", append(append([]string{"controller"}, args...), "--yes")...)
		require.Zero(t, status, "%v: %s", args, out)
	}
	status, out = f.run("new one\n", "controller", "users", "host", "--user", "3", "--password", "--yes")
	require.Zero(t, status, out)
	require.NotContains(t, out, "new one")
	status, _ = f.run("", "identify", "host", "--for", "30s")
	require.Zero(t, status)
	for want, args := range map[string][]string{
		"say which user":                 {"controller", "users", "host", "--name", "x"},
		"only one of them":               {"controller", "users", "host", "--user", "3", "--enable", "--disable"},
		"needs both --action and":        {"controller", "watchdog", "host", "--after", "5m"},
		"one change at a time":           {"controller", "power", "host", "--restore", "comes on", "--limit", "3"},
		"a light can be lit for up to":   {"identify", "host", "--for", "1h"},
		"there is no plumb controller x": {"controller", "x"},
		"is not command, chassis, wake, panel, poe, output or outlet": {"cycle", "host", "--means", "hammer"},
		"only one of them ": {"secret", "set", "x", "--v3-user", "a", "--ipmi-user", "b"},
	} {
		status, out = f.run("", args...)
		require.Equal(t, ExitUsage, status, "%v: %s", args, out)
		require.Contains(t, out, strings.TrimSpace(want))
	}
}
