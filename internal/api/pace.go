package api

import (
	"sync"
	"time"

	"plumbbob/internal/core/picture"
)

const formAuto = "auto"

// How much is on its way to somebody who looks: so little that what is drawn is what is shown
// now, and so much that a link with a long way is used.
const (
	mostUndrawn      = 3                       // frames
	mostUndrawnBytes = 24 << 10                // and no more behind so much
	slowRate         = 60 << 10                // bytes in a second: from here on fewer colours
	quickRate        = 150 << 10               // from here on all of them again
	tellingBytes     = 8 << 10                 // a frame of less says nothing of a rate
	tellingTime      = 300 * time.Millisecond  // unless it takes so much longer than others,
	hintBytes        = 2 << 10                 // and is no smaller than that
	triesFirst       = 8 * time.Second         // after so long with fewer colours all are tried again,
	triesMost        = 2 * time.Minute         // and after ever longer, where that is in vain
	firstTime        = 1500 * time.Millisecond // the first frame takes no longer on a link that takes all colours
	roomFirst        = 400                     // cells of the picture, on a slow link
	roomLeast        = 64                      //
	roomMost         = 1 << 16                 //
	roomTime         = 400 * time.Millisecond  // how long what there is room for takes
	msStep           = 20                      // a delay that differs by less is the same
)

// pace is how fast somebody is sent pictures, by when they say that they have drawn them. It may
// be shared between goroutines.
type pace struct {
	mu     sync.Mutex
	way    []underway
	delay  time.Duration // the least lately; 0: not known
	rate   float64       // bytes in a second; 0: not known
	form   picture.Form
	chosen bool
	room   int // of what is new, in cells; 0: as much as there is

	slow  time.Time     // since when there have been fewer colours; zero: there are all
	tries time.Duration // for how long, until all are tried again
}

// underway is a frame that has not been drawn.
type underway struct {
	n     uint32
	bytes int
	at    time.Time
}

// now says whether another frame may be sent, in which form, and how the link is.
func (p *pace) now() (ready bool, form picture.Form, link linkView) {
	p.mu.Lock()
	defer p.mu.Unlock()
	bytes := 0
	for _, f := range p.way {
		bytes += f.bytes
	}
	link = linkView{Ms: int(p.delay.Milliseconds()) / msStep * msStep, Form: "full"}
	if p.rate > 0 && p.rate < quickRate {
		link.Rate = int(p.rate) / 5000 * 5000
	}
	if p.form == picture.InFew {
		link.Form = "few"
	}
	form = p.form
	if p.delay == 0 && !p.chosen {
		form = picture.InFew // something is seen soon, however slow the link is
	}
	return len(p.way) == 0 || len(p.way) < mostUndrawn && bytes < mostUndrawnBytes, form, link
}

// roomFor is how much of what is new goes at once, as that of picture.Turn.
func (p *pace) roomFor() int {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.room
}

// sent takes in that a frame is on its way, and whether there was no room in it for all that is new.
func (p *pace) sent(n uint32, bytes int, left bool, at time.Time) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if want := int(p.rate * roomTime.Seconds()); p.room > 0 && bytes > want {
		p.room = max(roomLeast, p.room*want/bytes)
	} else if p.room > 0 && left && bytes < want/2 {
		p.room = min(2*p.room, roomMost)
	}
	p.way = append(p.way, underway{n, bytes, at})
}

// drawn takes in that a frame, and all before it, have been drawn.
func (p *pace) drawn(n uint32, at time.Time) {
	p.mu.Lock()
	defer p.mu.Unlock()
	alone := len(p.way) == 1
	for len(p.way) > 0 && p.way[0].n <= n {
		f := p.way[0]
		p.way = p.way[1:]
		if took := at.Sub(f.at); f.n == n {
			p.learn(took, f.bytes, alone)
		}
	}
	p.paint(at)
}

// paint takes in when there are fewer colours, and tries all of them again after a while: where
// little changes, no frame tells that the link has become quick.
func (p *pace) paint(at time.Time) {
	switch {
	case p.chosen || p.form != picture.InFew:
		p.slow = time.Time{}
	case p.slow.IsZero():
		p.slow, p.tries = at, min(max(triesFirst, 2*p.tries), triesMost)
	case at.Sub(p.slow) >= p.tries:
		p.form, p.slow = picture.InFull, time.Time{}
	}
}

// retries says how long it is until all colours are tried again; 0: that is not to come.
func (p *pace) retries(now time.Time) time.Duration {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.slow.IsZero() {
		return 0
	}
	return max(time.Millisecond, p.tries-now.Sub(p.slow))
}

// again has that be seen to.
func (p *pace) again(at time.Time) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.paint(at)
}

// learn takes in how long a frame took. The least delay creeps up, so that one of another way
// is forgotten. The first frame tells of the page that is being loaded, and not of the link.
func (p *pace) learn(took time.Duration, bytes int, alone bool) {
	took = max(took, time.Millisecond)
	first, longer := p.delay == 0, took-p.delay
	if first || took < p.delay {
		p.delay = took
	} else {
		p.delay += longer / 50
	}
	tells := alone && !first && (bytes >= tellingBytes || bytes >= hintBytes && longer > tellingTime)
	if tells {
		rate := float64(bytes) / max(longer, 20*time.Millisecond).Seconds()
		switch { // what has become slow is felt sooner than what has become quick
		case p.rate == 0:
			p.rate = rate
		case rate < p.rate:
			p.rate += (rate - p.rate) / 2
		default:
			p.rate += (rate - p.rate) / 4
		}
	} else if hint := float64(bytes) / max(longer, 10*time.Millisecond).Seconds(); alone && !first && bytes >= hintBytes && p.rate > 0 && hint > p.rate {
		p.rate += (hint - p.rate) / 2 // it is no less than that
		tells = true
	}
	switch {
	case first && !p.chosen && took > firstTime:
		p.form = picture.InFew
	case !tells:
	case p.rate > quickRate:
		p.room, p.tries = 0, 0
		if !p.chosen {
			p.form = picture.InFull
		}
	case p.rate < slowRate:
		if p.room == 0 {
			p.room = roomFirst
		}
		if !p.chosen {
			p.form = picture.InFew
		}
	}
}

// choose has a form stay, or follow the link.
func (p *pace) choose(form picture.Form, chosen bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.form, p.chosen = form, chosen
}
