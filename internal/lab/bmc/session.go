package bmc

import (
	"bytes"
	"crypto/hmac"
	"encoding/binary"
	"time"

	"plumbbob/internal/wire/cursor"
	"plumbbob/internal/wire/ipmi"
	"plumbbob/internal/wire/ipmi/rmcp"
)

// slot is one open RMCP+ session.
type slot struct {
	*rmcp.Session
	user    *user
	level   ipmi.Privilege
	highest ipmi.Privilege
	used    time.Time
	send    func([]byte) // to its console; nil: nothing but replies
	proof   []byte       // RAKP 4, for a console that did not get it
}

// pending is a session between Open Session and RAKP 3.
type pending struct {
	rmcp.Exchange
	key     openKey
	user    *user
	highest ipmi.Privilege
	began   time.Time
}

// openKey is what makes two Open Session requests the same: the second is a repeat
// whose answer was lost, and gets it again.
type openKey struct {
	tag     uint8
	console uint32
	suite   rmcp.Suite
}

// oldSession is one of IPMI 1.5, challenged or active.
type oldSession struct {
	rmcp.Legacy
	user      *user
	level     ipmi.Privilege
	highest   ipmi.Privilege
	challenge [16]byte
	active    bool
	used      time.Time
}

// caller is who sent a message.
type caller struct {
	level  ipmi.Privilege // 0: nobody, outside of any session
	slot   *slot
	old    *oldSession
	userID uint8
}

const pendingFor = 10 * time.Second

// expire frees what nobody has used for long.
func (c *Controller) expire(now time.Time) {
	kept := c.slots[:0]
	for _, s := range c.slots {
		if now.Sub(s.used) < sessionIdle {
			kept = append(kept, s)
		} else {
			c.TimedOut++
		}
	}
	c.slots = kept
	for id, p := range c.pending {
		if now.Sub(p.began) > pendingFor {
			delete(c.pending, id)
			delete(c.opened, p.key)
		}
	}
	for id, s := range c.old {
		if now.Sub(s.used) > sessionIdle {
			delete(c.old, id)
		}
	}
}

func (c *Controller) full() bool {
	return c.Faults.Full || len(c.slots)+len(c.pending)+len(c.old) >= Slots
}

// ipmi answers one packet of the IPMI class.
func (c *Controller) ipmi(packet []byte, now time.Time, send func([]byte)) []byte {
	c.expire(now)
	id, plus, ok := rmcp.SessionID(packet)
	switch {
	case !ok || plus && c.m.Legacy:
		return nil
	case !plus:
		return c.legacy(packet, id, now)
	case id == 0:
		if kind, payload, err := rmcp.ParseOutside(packet); err == nil && kind == rmcp.PayloadIPMI {
			return rmcp.AppendOutside(nil, kind, c.answer(payload, &caller{}, now))
		}
		return c.handshake(packet, now)
	}
	for _, s := range c.slots {
		if s.ID != id {
			continue
		}
		kind, payload, err := s.Open(packet)
		if err == nil {
			s.used, s.send = now, send
		}
		if err == nil && kind == rmcp.PayloadSOL {
			c.takeSOL(s, payload)
		}
		if err != nil || kind != rmcp.PayloadIPMI {
			return nil // the standard has it dropped
		}
		reply := c.answer(payload, &caller{level: s.level, slot: s, userID: s.user.id}, now)
		if reply == nil {
			return nil
		}
		return s.Seal(make([]byte, 0, usualPacket), rmcp.PayloadIPMI, reply)
	}
	return nil
}

func (c *Controller) handshake(packet []byte, now time.Time) []byte {
	kind, payload, err := rmcp.ParseHandshake(packet)
	if err != nil {
		return nil
	}
	r := cursor.New(payload)
	switch kind {
	case rmcp.AsksOpen:
		var m rmcp.OpenRequest
		if m.Decode(r) == nil {
			return rmcp.AppendHandshake(nil, kind, c.open(m, now).Append(nil))
		}
	case rmcp.AsksRAKP1:
		var m rmcp.RAKP1
		if m.Decode(r) == nil {
			return rmcp.AppendHandshake(nil, kind, c.rakp1(m).Append(nil))
		}
	case rmcp.AsksRAKP3:
		var m rmcp.RAKP3
		if m.Decode(r) == nil {
			if reply, ok := c.rakp3(m, now); ok {
				return rmcp.AppendHandshake(nil, kind, reply.Append(nil))
			}
		}
	}
	return nil
}

// newID makes up the id of a session: one that nobody can guess from another.
func (c *Controller) newID() uint32 {
	for {
		if id := c.rng.Uint32(); id != 0 && c.pending[id] == nil && c.old[id] == nil {
			return id
		}
	}
}

func (c *Controller) open(m rmcp.OpenRequest, now time.Time) rmcp.OpenReply {
	reply := rmcp.OpenReply{Tag: m.Tag, ConsoleID: m.ConsoleID}
	suite, known := rmcp.SuiteOf(m.Algorithms)
	offered := false
	for _, s := range c.m.Suites {
		offered = offered || s == suite
	}
	key := openKey{m.Tag, m.ConsoleID, suite}
	if p := c.pending[c.opened[key]]; p != nil {
		reply.Privilege, reply.ControllerID, reply.Algorithms = m.Privilege, p.ControllerID, m.Algorithms
		return reply
	}
	switch {
	case !known || !offered:
		reply.Status = rmcp.StatusNoSuite
		return reply
	case m.ConsoleID == 0:
		reply.Status = rmcp.StatusInvalidID
		return reply
	case m.Privilege > uint8(ipmi.Administrator):
		reply.Status = rmcp.StatusBadRole
		return reply
	case c.full():
		reply.Status = rmcp.StatusNoResources
		return reply
	}
	p := &pending{began: now, highest: ipmi.Privilege(m.Privilege), key: key}
	p.Suite, p.ConsoleID, p.ControllerID, p.GUID = suite, m.ConsoleID, c.newID(), c.guid
	if p.highest == 0 {
		p.highest = ipmi.Administrator
	}
	c.pending[p.ControllerID], c.opened[key] = p, p.ControllerID
	reply.Privilege, reply.ControllerID, reply.Algorithms = m.Privilege, p.ControllerID, m.Algorithms
	return reply
}

func (c *Controller) rakp1(m rmcp.RAKP1) rmcp.RAKP2 {
	p := c.pending[m.ControllerID]
	if p == nil {
		return rmcp.RAKP2{Tag: m.Tag, Status: rmcp.StatusInactive}
	}
	reply := rmcp.RAKP2{Tag: m.Tag, ConsoleID: p.ConsoleID}
	role := ipmi.Privilege(m.Role & 0x0f)
	u := c.find(m.User)
	switch {
	case u == nil || !u.enabled || !u.messaging:
		reply.Status = rmcp.StatusNameRefused
	case role > u.limit || role > p.highest || role == 0:
		reply.Status = rmcp.StatusRoleRefused
	}
	if reply.Status != rmcp.StatusOK {
		delete(c.pending, m.ControllerID)
		return reply
	}
	p.user, p.highest = u, role
	p.ConsoleRand, p.Role, p.User, p.Password, p.ControllerKey = m.ConsoleRand, m.Role, m.User, rmcp.Secret(u.password), rmcp.Secret(c.m.Key)
	if p.ControlRand == [16]byte{} { // a repeated RAKP 1 gets the same answer
		for i := range p.ControlRand {
			p.ControlRand[i] = byte(c.rng.Uint32())
		}
	}
	reply.ControlRand, reply.GUID, reply.Proof = p.ControlRand, p.GUID, p.ControllerProof()
	return reply
}

func (c *Controller) rakp3(m rmcp.RAKP3, now time.Time) (rmcp.RAKP4, bool) {
	p := c.pending[m.ControllerID]
	if p == nil {
		for _, s := range c.slots { // it did not get the answer
			if s.ID == m.ControllerID && s.proof != nil && m.Status == rmcp.StatusOK && !c.Faults.Once {
				return rmcp.RAKP4{Tag: m.Tag, ConsoleID: s.PeerID, Proof: s.proof}, true
			}
		}
		return rmcp.RAKP4{Tag: m.Tag, Status: rmcp.StatusInactive}, m.Status == rmcp.StatusOK
	}
	delete(c.pending, m.ControllerID)
	delete(c.opened, p.key)
	if m.Status != rmcp.StatusOK {
		return rmcp.RAKP4{}, false // it gave up
	}
	if p.user == nil || !hmac.Equal(m.Proof, p.ConsoleProof()) {
		return rmcp.RAKP4{Tag: m.Tag, Status: rmcp.StatusBadCheckValue, ConsoleID: p.ConsoleID}, true
	}
	s := &slot{Session: rmcp.NewSession(&p.Exchange, rmcp.ControllerEnd), user: p.user, level: min(ipmi.User, p.highest), highest: p.highest, used: now, proof: p.FinalProof()}
	c.slots = append(c.slots, s)
	c.Opened++
	return rmcp.RAKP4{Tag: m.Tag, ConsoleID: p.ConsoleID, Proof: s.proof}, true
}

// legacy answers packets of IPMI 1.5: those outside of sessions, by which a
// console begins, and those of sessions where the controller knows no others.
func (c *Controller) legacy(packet []byte, id uint32, now time.Time) []byte {
	if id == 0 {
		l := rmcp.Legacy{}
		payload, err := l.Open(packet)
		if err != nil {
			return nil
		}
		reply := c.answer(payload, &caller{}, now)
		if reply == nil {
			return nil
		}
		return l.Seal(nil, reply)
	}
	s := c.old[id]
	if s == nil || !c.m.Legacy {
		return nil
	}
	payload, err := s.Open(packet)
	if err != nil {
		return nil
	}
	s.used = now
	who := &caller{old: s, userID: s.user.id}
	if s.active {
		who.level = s.level
	}
	reply := c.answer(payload, who, now)
	if reply == nil {
		return nil
	}
	return s.Seal(nil, reply)
}

// challenge begins a session of IPMI 1.5 (section 22.16).
func (c *Controller) challenge(data []byte, now time.Time) (ipmi.CompletionCode, []byte) {
	const invalidName = 0x81
	if len(data) != 17 {
		return ipmi.BadLength, nil
	}
	u := c.find(string(bytes.TrimRight(data[1:], "\x00")))
	if u == nil || !u.enabled || data[0] != rmcp.AuthMD5 {
		return invalidName, nil
	}
	s := &oldSession{user: u, used: now}
	s.Auth, s.ID, s.Password = rmcp.AuthMD5, c.newID(), rmcp.Secret(u.password)
	for i := range s.challenge {
		s.challenge[i] = byte(c.rng.Uint32())
	}
	c.old[s.ID] = s
	return ipmi.OK, append(binary.LittleEndian.AppendUint32(nil, s.ID), s.challenge[:]...)
}

// activate opens it (section 22.17).
func (c *Controller) activate(data []byte, who *caller) (ipmi.CompletionCode, []byte) {
	const noSlot, aboveLimit = 0x81, 0x86
	if who.old == nil || len(data) != 22 || !bytes.Equal(data[2:18], who.old.challenge[:]) {
		return ipmi.InvalidField, nil
	}
	s := who.old
	active := 0
	for _, o := range c.old {
		if o.active {
			active++
		}
	}
	asked := ipmi.Privilege(data[1] & 0x0f)
	switch {
	case c.Faults.Full || active >= Slots:
		return noSlot, nil
	case asked > s.user.limit:
		return aboveLimit, nil
	}
	s.active, s.highest, s.level = true, asked, min(ipmi.User, asked)
	s.Sequence = max(1, binary.LittleEndian.Uint32(data[18:]))
	out := append([]byte{rmcp.AuthMD5}, binary.LittleEndian.AppendUint32(nil, s.ID)...)
	return ipmi.OK, append(binary.LittleEndian.AppendUint32(out, 1), byte(asked))
}

// privilege changes the level of a session (section 22.18).
func (c *Controller) privilege(data []byte, who *caller) (ipmi.CompletionCode, []byte) {
	const notForUser = 0x80
	level, highest := &who.level, ipmi.NoAccess
	switch {
	case who.slot != nil:
		level, highest = &who.slot.level, who.slot.highest
	case who.old != nil:
		level, highest = &who.old.level, who.old.highest
	}
	switch asked := ipmi.Privilege(data[0] & 0x0f); {
	case asked == 0:
	case asked == ipmi.Callback: // it is for sessions that are called back only
		return ipmi.InvalidField, nil
	case asked > highest:
		return notForUser, nil
	default:
		*level = asked
	}
	return ipmi.OK, []byte{byte(*level)}
}

func (c *Controller) closeSession(data []byte, who *caller) (ipmi.CompletionCode, []byte) {
	const unknownID = 0x87
	id := binary.LittleEndian.Uint32(data)
	for i, s := range c.slots {
		if s.ID == id && (who.slot == s || who.level >= ipmi.Administrator) {
			c.slots = append(c.slots[:i], c.slots[i+1:]...)
			c.Closed++
			return ipmi.OK, nil
		}
	}
	if s := c.old[id]; s != nil && who.old == s {
		delete(c.old, id)
		return ipmi.OK, nil
	}
	return unknownID, nil
}
