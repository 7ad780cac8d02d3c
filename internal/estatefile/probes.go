package estatefile

import (
	"net/netip"
	"net/url"
	"strings"

	"plumbbob/internal/core/estate"
)

func (p *parser) probe(path []string, pr probe) estate.Probe {
	out := estate.Probe{Must: pr.Must, Every: p.every(path, pr.Every), Timeout: orElse(pr.Timeout, DefaultProbeTimeout)}
	asked := 0
	if pr.ICMP != "" {
		asked++
		out.Kind, out.Target = estate.ICMP, pr.ICMP
		if _, err := netip.ParseAddr(pr.ICMP); err != nil {
			p.fault(path, "icmp: %q is not an IP address", pr.ICMP)
		}
	}
	if pr.TCP != "" {
		asked++
		out.Kind, out.Target = estate.TCP, pr.TCP
		p.hostPort(path, pr.TCP)
	}
	if pr.HTTP != "" {
		asked++
		out.Kind, out.Target = estate.HTTP, pr.HTTP
		if u, err := url.Parse(pr.HTTP); err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
			p.fault(path, "http: %q is not a URL such as http://192.0.2.7/", pr.HTTP)
		}
	}
	for _, x := range []struct {
		kind   estate.ProbeKind
		target string
	}{{estate.TLS, pr.TLS}, {estate.DNS, pr.DNS}, {estate.UDP, pr.UDP}} {
		if x.target != "" {
			asked++
			out.Kind, out.Target = x.kind, x.target
			p.hostPort(path, x.target)
		}
	}
	if asked != 1 {
		p.fault(path, "a probe asks exactly one of icmp, tcp, http, tls, dns and udp")
	}
	out.Expect = p.expected(path, pr, out.Kind)
	return out
}

// expected is what an answer has to be; each kind of probe can expect other things.
func (p *parser) expected(path []string, pr probe, kind estate.ProbeKind) estate.Expect {
	secure := kind == estate.TLS || kind == estate.HTTP && strings.HasPrefix(pr.HTTP, "https:")
	for _, x := range []struct {
		name     string
		is, fits bool
	}{
		{"status", pr.Status != 0, kind == estate.HTTP}, {"text", pr.Text != "", kind == estate.HTTP}, {"answer", pr.Answer != "", kind == estate.DNS},
		{"name", pr.Name != "", secure || kind == estate.DNS}, {"certificate", pr.Certificate, secure}, {"days", pr.Days != 0, secure},
	} {
		if x.is && !x.fits {
			p.fault(append(path, x.name), "%s: a probe of %s cannot expect that", x.name, kind)
		}
	}
	if kind == estate.DNS && pr.Name == "" {
		p.fault(path, "dns: say with name which name the server is asked for")
	}
	if _, err := netip.ParseAddr(pr.Answer); pr.Answer != "" && err != nil {
		p.fault(append(path, "answer"), "answer: %q is not an IP address", pr.Answer)
	}
	if pr.Status != 0 && (pr.Status < 100 || pr.Status > 599) {
		p.fault(append(path, "status"), "status: %d is none of HTTP", pr.Status)
	}
	return estate.Expect{Status: pr.Status, Text: pr.Text, Name: pr.Name, Answer: pr.Answer, Certificate: pr.Certificate || pr.Days > 0, Days: pr.Days}
}
