package rfb

import "encoding/binary"

// Pictures that are sent unasked: registered as continuous updates. On a way that is long, a
// picture needs no question that goes there first.

// pushing is what a viewer knows of that.
type pushing struct {
	can  bool // the server does so for who asks
	on   bool // and has been asked
	ends int  // how often it was told to end that, and has not said that it has
}

// pushes has pictures of the size that there is be sent unasked, or not any more. v.mu is held.
func (v *Viewer) pushes(on bool) error {
	if !on {
		v.push.ends++
	}
	v.push.on = on
	p := []byte{pushMessage, flag(on), 0, 0, 0, 0}
	p = binary.BigEndian.AppendUint16(p, uint16(v.pic.W))
	return v.send(binary.BigEndian.AppendUint16(p, uint16(v.pic.H)))
}

// pushedEnd takes that the server sends nothing unasked any more; the first time, that it can.
func (v *Viewer) pushedEnd() error {
	v.mu.Lock()
	defer v.mu.Unlock()
	was := v.push.on
	v.push.can = true
	switch {
	case v.push.ends > 0: // as it was told
		v.push.ends--
		return nil
	case v.push.on: // by itself
		v.push.on = false
		v.push.can = false
	}
	switch {
	case !v.looks:
		return nil
	case was:
		v.asked = true
		return v.request(true)
	}
	return v.pushes(true)
}

// What a fence asks for: that all before it has been done when it comes back, that nothing behind
// it has, and that it comes back at the very moment at which the next message takes effect.
const (
	fenceBefore  uint32 = 1
	fenceAfter   uint32 = 2
	fenceSync    uint32 = 4
	fenceRequest uint32 = 1 << 31

	longestFence = 64
)

// appendFence writes a fence.
func appendFence(out []byte, flags uint32, body []byte) []byte {
	out = binary.BigEndian.AppendUint32(append(out, fenceMessage, 0, 0, 0), flags)
	return append(append(out, byte(len(body))), body...)
}

// readFence reads one, behind its first byte.
func readFence(take func(n int) ([]byte, error)) (flags uint32, body []byte, err error) {
	p, err := take(8)
	if err != nil {
		return 0, nil, err
	}
	flags = binary.BigEndian.Uint32(p[3:])
	n := int(p[7])
	if n > longestFence {
		return 0, nil, wrong("a fence of %d bytes is none: %d are the most", n, longestFence)
	}
	body, err = take(n)
	return flags, body, err
}

// fence sends a fence back: what came before it has been drawn by then.
func (v *Viewer) fence() error {
	flags, body, err := readFence(v.take)
	if err != nil || flags&fenceRequest == 0 {
		return err
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	return v.send(appendFence(nil, flags&(fenceBefore|fenceAfter), body))
}

// mostAhead is how many pictures are sent unasked of which the viewer has not said that it has
// drawn them, and mostFences how many fences of a viewer wait for their answer.
const (
	mostAhead  = 2
	mostFences = 64
)

// setPush takes that a viewer wants pictures unasked, or not any more.
func (s *served) setPush() error {
	p, err := s.take(9)
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.fences { // without fences it could not be told how many pictures are on their way
		return wrong("the viewer wants pictures unasked, and has not said that it sends fences back")
	}
	if s.push && p[0] == 0 {
		s.owed = append(s.owed, pushEnded)
	}
	s.push = p[0] != 0
	s.wish()
	return nil
}

// fence takes a fence of a viewer: its own, which comes back, or one that is to go back.
func (s *served) fence() error {
	flags, body, err := readFence(s.take)
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if flags&fenceRequest == 0 {
		s.ahead = max(0, s.ahead-1)
		s.wish()
		return nil
	}
	if len(s.owed) > mostFences*(longestFence+9) {
		return wrong("the viewer sends fences faster than it takes them back")
	}
	back := appendFence(nil, flags&(fenceBefore|fenceAfter|fenceSync), body)
	s.synced() // nothing came in between
	if flags&fenceSync != 0 {
		s.sync = back
		return nil
	}
	s.owed = append(s.owed, back...)
	s.wish()
	return nil
}

// synced sends a fence back now that what followed it takes effect. mu is held.
func (s *served) synced() {
	if s.sync != nil {
		s.owed = append(s.owed, s.sync...)
		s.sync = nil
		s.wish()
	}
}
