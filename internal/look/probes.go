package look

import (
	"errors"
	"net/netip"
	"sync"
)

// mostExtra is how many connections a port gets from one vantage in one run
// beyond the first climb to each address: probes count against rate limits and
// ban lists.
const mostExtra = 6

// ErrSpent says that a port has had all the connections that it gets.
var ErrSpent = errors.New("this port has had all the connections that one run makes to it")

// Probes counts connections. Nil counts none, and lets every one through.
type Probes struct {
	mu      sync.Mutex // guards the maps
	climbed map[netip.AddrPort]bool
	extra   map[uint16]int
}

// Climb takes a connection that goes as far as it can: the first to an address
// is free, as every client makes it.
func (p *Probes) Climb(at netip.AddrPort) error {
	if p == nil {
		return nil
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if !p.climbed[at] {
		if p.climbed == nil {
			p.climbed = map[netip.AddrPort]bool{}
		}
		p.climbed[at] = true
		return nil
	}
	if p.take(at.Port(), 1) == 0 {
		return ErrSpent
	}
	return nil
}

// Renew counts anew, for another run.
func (p *Probes) Renew() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.climbed, p.extra = nil, nil
}

// Take takes up to so many extra connections to a port, and says how many.
func (p *Probes) Take(port uint16, want int) int {
	if p == nil {
		return want
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.take(port, want)
}

// take does so for a caller that holds the lock.
func (p *Probes) take(port uint16, want int) int {
	if p.extra == nil {
		p.extra = map[uint16]int{}
	}
	got := max(0, min(want, mostExtra-p.extra[port]))
	p.extra[port] += got
	return got
}
