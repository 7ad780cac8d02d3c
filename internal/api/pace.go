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
	tellingTime      = 300 * time.Millisecond  // unless it takes so much longer than others
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
	if alone && !first && (bytes >= tellingBytes || longer > tellingTime) {
		rate := float64(bytes) / max(longer, 20*time.Millisecond).Seconds()
		switch { // what has become slow is felt sooner than what has become quick
		case p.rate == 0:
			p.rate = rate
		case rate < p.rate:
			p.rate += (rate - p.rate) / 2
		default:
			p.rate += (rate - p.rate) / 4
		}
	}
	switch {
	case p.rate > quickRate:
		p.room = 0
	case p.rate > 0 && p.rate < slowRate && p.room == 0:
		p.room = roomFirst
	}
	switch {
	case first && !p.chosen && took > firstTime:
		p.form = picture.InFew
	case p.chosen || p.rate == 0:
	case p.rate < slowRate:
		p.form = picture.InFew
	case p.rate > quickRate:
		p.form = picture.InFull
	}
}

// choose has a form stay, or follow the link.
func (p *pace) choose(form picture.Form, chosen bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.form, p.chosen = form, chosen
}
