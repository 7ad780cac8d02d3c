package snmpgear

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strconv"
	"syscall"

	"github.com/gosnmp/gosnmp"

	"plumbbob/internal/core/sending"
	"plumbbob/internal/gear"
	"plumbbob/internal/secret"
	"plumbbob/internal/snmpauth"
	"plumbbob/internal/wire/names"
)

const (
	notSent = sending.NotSent
	refused = sending.Refused
	unclear = sending.Unclear
)

const (
	getRetries = 2  // a lost packet is not an outage
	setRetries = 2  // for commands that may be said twice
	firstSize  = 48 // varbinds in one request, before the agent has said what it can take
	bulkSize   = 24 // repetitions in one GETBULK
	sizeV1     = 8  // varbinds with SNMPv1, where one that is missing has the rest asked again
)

// A session is one SNMP association. Its lock is a channel, so that waiting
// for it ends with the context.
type session struct {
	o    Options
	lock chan struct{}
	snmp *gosnmp.GoSNMP // nil until connected
	at   int            // which address
	size int
	bulk uint32 // repetitions in one GETBULK
}

func newSession(o Options) (*session, error) {
	if err := o.Secret.Check(); err != nil {
		return nil, &gear.Error{Kind: gear.BadSecret, Outcome: notSent, Text: fmt.Sprintf("%s: %s", o.Name, err), Err: err}
	}
	if len(o.Addresses) == 0 {
		return nil, &gear.Error{Kind: gear.Unreachable, Outcome: notSent, Text: o.Name + " has no address"}
	}
	s := &session{o: o, lock: make(chan struct{}, 1), size: firstSize, bulk: bulkSize}
	if o.Secret.Kind == secret.SNMPv1 {
		s.size = sizeV1
	}
	return s, nil
}

// use runs f with the session connected and to itself.
func (s *session) use(ctx context.Context, f func() error) error {
	select {
	case s.lock <- struct{}{}:
	case <-ctx.Done():
		return s.err(context.Cause(ctx), notSent)
	}
	defer func() { <-s.lock }()
	if err := ctx.Err(); err != nil {
		return s.err(err, notSent)
	}
	if err := s.connect(ctx); err != nil {
		return err
	}
	s.snmp.Context = ctx
	err := f()
	if err != nil && gear.KindOf(err) == gear.Unreachable {
		s.drop() // and try the next address another time
		s.at = (s.at + 1) % len(s.o.Addresses)
	}
	return err
}

func (s *session) close() {
	s.lock <- struct{}{}
	s.drop()
	<-s.lock
}

func (s *session) drop() {
	if s.snmp != nil {
		_ = s.snmp.Close() // a UDP socket: nothing can be lost
		s.snmp = nil
	}
}

func (s *session) connect(ctx context.Context) error {
	if s.snmp != nil {
		return nil
	}
	host, port, err := net.SplitHostPort(s.o.Addresses[s.at])
	if err != nil {
		return s.err(err, notSent)
	}
	addr, err := names.Default.Addr(ctx, host)
	if err != nil {
		return s.err(err, notSent)
	}
	n, err := strconv.ParseUint(port, 10, 16)
	if err != nil {
		return s.err(fmt.Errorf("port %q: %w", port, err), notSent)
	}
	g := &gosnmp.GoSNMP{
		Target: addr.String(), Port: uint16(n), Transport: "udp", Timeout: s.o.Timeout / (getRetries + 1), Retries: getRetries,
		MaxOids: firstSize, MaxRepetitions: bulkSize,
	}
	snmpauth.Set(g, s.o.Secret)
	if err := snmpauth.Connect(g); err != nil {
		return s.err(err, notSent)
	}
	s.snmp = g
	return nil
}

func (s *session) set(retries int, vs ...gosnmp.SnmpPDU) error {
	s.snmp.Retries = retries
	defer func() { s.snmp.Retries = getRetries }()
	res, err := s.snmp.Set(vs)
	if err != nil {
		return s.err(err, unclear)
	}
	if res.Error != gosnmp.NoError {
		return s.status(res.Error)
	}
	return nil
}

// err sorts what gosnmp reports. oc is what became of a command, when the
// error itself does not tell.
func (s *session) err(err error, oc sending.Outcome) error {
	e := &gear.Error{Kind: gear.Unreachable, Outcome: oc, Err: err}
	where := fmt.Sprintf("%s at %s", s.o.Name, s.o.Addresses[s.at])
	switch {
	case errors.Is(err, gosnmp.ErrUnknownUsername), errors.Is(err, gosnmp.ErrWrongDigest),
		errors.Is(err, gosnmp.ErrDecryption), errors.Is(err, gosnmp.ErrUnknownSecurityLevel):
		e.Kind, e.Outcome = gear.BadSecret, refused
		e.Text = fmt.Sprintf("%s refuses the credential (%s): set it again with plumb secret set", where, err)
	case errors.Is(err, syscall.ECONNREFUSED):
		e.Text = fmt.Sprintf("%s: nothing listens there", where)
	case errors.Is(err, context.Canceled):
		e.Text = fmt.Sprintf("%s: given up before it answered", where)
	case s.o.Secret.Kind == secret.SNMPv3 && !timedOut(err):
		// Something came back that is not authentic under this credential:
		// the report of a wrong digest is such a thing itself.
		e.Kind, e.Outcome = gear.BadSecret, refused
		e.Text = fmt.Sprintf("%s answers, but not to this credential: set it again with plumb secret set", where)
	default:
		e.Text = fmt.Sprintf("%s does not answer SNMP", where)
		e.Text += map[bool]string{true: " (a wrong privacy pass phrase looks the same)", false: " (a wrong community looks the same)"}[s.o.Secret.Kind == secret.SNMPv3]
	}
	return e
}

func timedOut(err error) bool {
	var n net.Error
	return errors.Is(err, gosnmp.ErrMaxRetriesExceeded) || errors.Is(err, context.DeadlineExceeded) || errors.As(err, &n)
}

// status sorts an error status that the agent answered with.
func (s *session) status(st gosnmp.SNMPError) error {
	e := &gear.Error{Kind: gear.Malformed, Outcome: refused, Err: fmt.Errorf("snmp: error status %s", st)}
	switch st {
	case gosnmp.NoAccess, gosnmp.ReadOnly, gosnmp.NotWritable, gosnmp.AuthorizationError, gosnmp.NoSuchName:
		e.Kind = gear.NotPermitted
		e.Text = fmt.Sprintf("%s refuses: the credential may only read (%s). Set one that may write with plumb secret set", s.o.Name, st)
	case gosnmp.ResourceUnavailable:
		e.Kind = gear.Busy
		e.Text = fmt.Sprintf("%s is busy (%s)", s.o.Name, st)
	default:
		e.Text = fmt.Sprintf("%s declined (%s)", s.o.Name, st)
	}
	return e
}
