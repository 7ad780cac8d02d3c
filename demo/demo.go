// Package demo holds the demo estate: Tern Sound Ferries, all of it invented.
package demo

import (
	_ "embed" // for the estate
	"fmt"
	"regexp"
	"strings"
)

//go:embed estate.yaml
var estate string

// Modem is the name of the modem at the service's machine in the estate.
const Modem = "modem-1"

// Light is the one in the cupboard, which nobody has left on; LightPort of LightAt feeds it.
const (
	Light     = "skarvoe-light"
	LightAt   = "skarvoe-switch"
	LightPort = "poe-4"
)

// WorkshopHours is the calendar by which the workshop PC is in use, in
// iCalendar form.
//
//go:embed workshop-hours.ics
var WorkshopHours string

// Telling says who is told of what, by the channel MailChannel.
//
//go:embed telling.yaml
var Telling string

// Routines are what is done there without anybody at hand.
//
//go:embed routines.yaml
var Routines string

// Ladders are how its devices are helped that hang.
//
//go:embed ladders.yaml
var Ladders string

// Post is the host at the pier on which a second service may run, and Office the one of the first.
const (
	Post   = "skarvoe-post"
	Office = "ostrel-ops"
)

//go:embed pier.yaml
var pier string

//go:embed pier-office.yaml
var pierOffice string

// PierLadders are those of the service at the pier.
//
//go:embed pier-ladders.yaml
var PierLadders string

// Pier returns the estate file of the service that stands at the pier.
func Pier(a Addresses) string { return a.Move(pier) }

// WithPier returns the estate file of the office when a second service stands at the pier, and acts there.
func WithPier(a Addresses) string {
	const site = "  skarvoe: {name: Skarvoe, kind: pier, zone: Atlantic/Faroe"
	return a.Move(strings.Replace(estate, site, site+", acts: "+Post, 1) + "\n" + pierOffice)
}

// MailChannel is by what people are told.
const MailChannel = "office-mail"

// Addresses says where the lab's stand-ins are to be found.
type Addresses struct {
	Loopback int  // the second octet of their 127.0.0.0/8 addresses; the file has 77
	Echo     int  // added to the third octet of their 198.18.0.0/15 addresses
	NoEcho   bool // the lab may not answer ICMP here: leave those probes out
}

// Default is the demo's own choice of addresses.
var Default = Addresses{Loopback: 77}

// sites is how many sites the estate has; each has its own third octet.
const sites = 6

var echoProbe = regexp.MustCompile(`(?m)^\s*- (\{icmp:.*\}|icmp:.*)\n`)

// Estate returns the estate file with the stand-ins at these addresses.
func Estate(a Addresses) string { return a.Move(estate) }

// Move has an estate file of the demo, as it was at the Default addresses, lead to
// these.
func (a Addresses) Move(text string) string {
	if a.NoEcho {
		text = echoProbe.ReplaceAllString(text, "")
	}
	text = strings.ReplaceAll(text, "127.77.", fmt.Sprintf("127.%d.", a.Loopback))
	for site := 1; site <= sites && a.Echo > 0; site++ {
		text = strings.ReplaceAll(text, fmt.Sprintf("198.18.%d.", site), fmt.Sprintf("198.18.%d.", site+a.Echo))
	}
	return text
}
