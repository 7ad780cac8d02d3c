package lab

import (
	"time"

	"plumbbob/internal/core/estate"
)

// nature is what a box is like when it works.
type nature struct {
	watts float64
	surge float64       // times watts, for a moment when power returns
	boot  time.Duration // from power to its first answer
}

// natures of the demo estate's boxes; any other box is like its role.
var natures = map[estate.Key]nature{
	"skarvoe-bridge":   {6.1, 2, 14 * time.Second},
	"skarvoe-router":   {11.2, 2.2, 38 * time.Second},
	"skarvoe-switch":   {38.4, 1.8, 24 * time.Second},
	"skarvoe-recorder": {52.7, 2.5, 65 * time.Second},
	"skarvoe-kiosk":    {41.0, 2.5, 48 * time.Second},
	"skarvoe-cell":     {4.8, 1.6, 21 * time.Second},
	"skarvoe-heater":   {820, 1.1, 0},
	"skarvoe-gate":     {3.6, 1.5, 6 * time.Second},
	"ostrel-virt-1":    {228, 1.9, 95 * time.Second},
	"ostrel-virt-2":    {214, 1.9, 95 * time.Second},
	"ostrel-store":     {304, 2.1, 110 * time.Second},
	"ostrel-booking":   {141, 1.9, 80 * time.Second},
	"ostrel-firewall":  {27, 1.8, 40 * time.Second},
	"ostrel-core":      {46, 1.8, 30 * time.Second},
	"ostrel-mgmt":      {18.5, 1.8, 20 * time.Second},
}

var natureOfRole = map[string]nature{
	"ups":       {28, 1, 2 * time.Second},
	"sensor":    {1.5, 1, 3 * time.Second},
	"camera":    {6.2, 1.3, 18 * time.Second},
	"kvm":       {8, 1.2, 12 * time.Second},
	"console":   {9, 1.3, 25 * time.Second},
	"radio":     {6.5, 2, 14 * time.Second},
	"gateway":   {5, 1.6, 21 * time.Second},
	"pc":        {38, 2.5, 45 * time.Second},
	"blade":     {92, 2, 70 * time.Second},
	"enclosure": {110, 1.6, 30 * time.Second},
	"logger":    {1.2, 1, 3 * time.Second},
	"display":   {46, 2, 35 * time.Second},
	"terminal":  {32, 1.8, 60 * time.Second},
	"router":    {12, 2, 40 * time.Second},
	"switch":    {30, 1.8, 25 * time.Second},
	"server":    {120, 2.5, 70 * time.Second},
	"pdu":       {4, 1, 2 * time.Second},
}

func natureOf(d *estate.Device) nature {
	if n, ok := natures[d.Key]; ok {
		return n
	}
	if n, ok := natureOfRole[d.Role]; ok {
		return n
	}
	return nature{20, 1.5, 20 * time.Second}
}

// Watts is what a device of this kind draws once it has started.
func Watts(d *estate.Device) float64 { return natureOf(d).watts }
