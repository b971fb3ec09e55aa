package look

import (
	"net/netip"
	"testing"
)

// TestProbes counts connections: one to each address is free, and some are
// extra, for a port over all addresses.
func TestProbes(t *testing.T) {
	var p Probes
	at := func(last byte, port uint16) netip.AddrPort {
		return netip.AddrPortFrom(netip.AddrFrom4([4]byte{10, 20, 0, last}), port)
	}
	for i := range byte(10) {
		if p.Climb(at(i, 443)) != nil {
			t.Errorf("address %d is not climbed", i)
		}
	}
	if got := p.Take(443, 4); got != 4 {
		t.Errorf("got %d", got)
	}
	for climb := range 3 { // two are left
		if spent := p.Climb(at(0, 443)) != nil; spent != (climb == 2) {
			t.Errorf("climb %d beyond the bound: spent %v", climb, spent)
		}
	}
	if p.Take(443, 4) != 0 || p.Take(8443, 9) != mostExtra {
		t.Error("the bound does not hold, or holds for other ports too")
	}
	p.Renew()
	if p.Take(443, 9) != mostExtra || p.Climb(at(0, 443)) != nil {
		t.Error("another run does not begin anew")
	}
	var none *Probes
	if none.Climb(at(0, 1)) != nil || none.Take(1, 99) != 99 {
		t.Error("without a count nothing is bound")
	}
}
