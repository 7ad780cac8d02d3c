package estatefile

import (
	"fmt"
	"net"
	"net/netip"
	"regexp"
	"strconv"
	"strings"
	"time"
	"unicode"

	"go.yaml.in/yaml/v3"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/plain"
)

// What can be written down and cannot be meant: numbers below nothing, ports that there
// are not, texts that would not stay texts.

// whole is a number without a fraction: half an outlet is a mistake.
type whole int

// UnmarshalYAML reads one.
func (w *whole) UnmarshalYAML(n *yaml.Node) error {
	v, err := strconv.Atoi(n.Value)
	if err != nil {
		return &yaml.TypeError{Errors: []string{fmt.Sprintf("line %d: %q is not a whole number", n.Line, n.Value)}}
	}
	*w = whole(v)
	return nil
}

const (
	mostTitle = 200
	mostNotes = 8000
	longBoot  = 24 * time.Hour
)

// sound complains about what cannot be meant of a device.
func (p *parser) sound(path []string, k string, d device) {
	for name, v := range map[string]float64{"idle": d.Idle, "asleep": d.Asleep, "inrush": d.Inrush, "needs-feeds": float64(d.NeedsFeeds)} {
		p.atLeast(append(path, name), k+" "+name, v, 0)
	}
	if d.Inlet != nil {
		p.atLeast(append(path, "inlet", "rating"), k+" inlet rating", d.Inlet.Rating, 0)
		p.atLeast(append(path, "inlet", "volts"), k+" inlet volts", d.Inlet.Volts, 0)
	}
	if u := d.UPS; u != nil {
		for name, v := range map[string]float64{"rating": u.Rating, "low-minutes": u.Low, "shutdown-minutes": u.Shutdown} {
			p.atLeast(append(path, "ups", name), k+" ups "+name, v, 0)
		}
	}
	for _, b := range d.Outlets.Banks {
		p.atLeast(append(path, "outlets", "banks"), k+" bank "+b.Name+" rating", b.Rating, 0)
	}
	if d.Use != nil {
		p.atLeast(append(path, "use", "watts"), k+" use watts", d.Use.Watts, 0)
	}
	if boot := time.Duration(d.Boot); boot > longBoot {
		p.fault(append(path, "boot"), "%s boot: %s is longer than a day: nothing takes that long to start", k, boot)
	}
	for name, text := range map[string]string{"title": d.Title, "place": d.Place, "role": d.Role} {
		p.plain(append(path, name), k+" "+name, text)
	}
	for _, tag := range d.Tags {
		p.plain(append(path, "tags"), k+" tags", tag)
	}
	p.plain(append(path, "notes"), k+" notes", strings.NewReplacer("\n", " ", "\t", " ").Replace(d.Notes))
}

func (p *parser) atLeast(path []string, what string, v, least float64) {
	if v < least {
		p.fault(path, "%s: %g is less than %g", what, v, least)
	}
}

// plain complains about a text that is too long, or would do something to a terminal.
func (p *parser) plain(path []string, what, s string) {
	most := mostTitle
	if strings.HasSuffix(what, " notes") {
		most = mostNotes
	}
	switch n := len([]rune(s)); {
	case n > most:
		p.fault(path, "%s: has %d characters, and %d are the most", what, n, most)
	case strings.ContainsFunc(s, func(r rune) bool { return unicode.IsControl(r) || plain.Hurts(r) }):
		p.fault(path, "%s: %q has characters that are no text: take them out", what, s)
	}
}

var hostName = regexp.MustCompile(`^[A-Za-z0-9_]([A-Za-z0-9_.-]{0,251}[A-Za-z0-9_])?\.?$`)

// localPort is a serial port of the service's machine, as its command line names it, and
// a telephone number behind that of a modem.
var localPort = regexp.MustCompile(`^[a-z][a-z0-9-]{0,30}$`)
var phoneNumber = regexp.MustCompile(`^[0-9*#+,() -]{2,40}$`)

// address complains about one that an endpoint of this protocol cannot have.
func (p *parser) address(path []string, protocol estate.Protocol, s string) {
	name, number, _ := strings.Cut(s, " ")
	switch {
	case protocol == estate.TTY:
		if !localPort.MatchString(s) {
			p.fault(path, "%q is not the name of a serial port of the service's machine, as plumbd serve --tty NAME=/dev/… has it", s)
		}
	case protocol == estate.Modem:
		if !localPort.MatchString(name) || !phoneNumber.MatchString(number) {
			p.fault(path, "%q is not the name of a modem, as plumbd serve --modem NAME=/dev/… has it, and a telephone number: write modem-1 555 0191", s)
		}
	default:
		p.hostPort(path, s)
	}
}

// hostPort complains about an address that nothing can be at.
func (p *parser) hostPort(path []string, s string) {
	host, port, err := net.SplitHostPort(s)
	if err != nil || host == "" || port == "" {
		p.fault(path, "%q is not HOST:PORT", s)
		return
	}
	if n, err := strconv.Atoi(port); err != nil || n < 1 || n > 65535 {
		p.fault(path, "%q: a port is a number from 1 to 65535, not %s", s, port)
	}
	if _, err := netip.ParseAddr(host); err != nil && !hostName.MatchString(host) {
		p.fault(path, "%q: %q is neither an address nor the name of a host", s, host)
	}
}
