package path

import (
	"encoding/binary"
	"net/netip"
	"slices"

	"uakari/internal/look"
)

// Numbers of what IPv4 and IPv6 carry (the registry of protocol numbers).
const (
	hopOptions         = 0
	icmp4              = 1
	tcp                = 6
	udp                = 17
	routing            = 43
	fragment           = 44
	icmp6              = 58
	destinationOptions = 60
)

// head is the network's header of a packet, with what lies between it and what it
// carries.
type head struct {
	long, hops int
	whole      int // bytes of the packet
	protocol   byte
	from, to   netip.Addr
}

// headOf reads a header of IPv4 or IPv6 (RFC 791 section 3.1, RFC 8200 sections 3 and 4).
// A later fragment carries no header of its own.
func headOf(b []byte) (h head, ok bool) {
	switch {
	case len(b) >= 20 && b[0]>>4 == 4:
		return head{
			long: int(b[0]&15) * 4, hops: int(b[8]), whole: int(binary.BigEndian.Uint16(b[2:])), protocol: b[9],
			from: netip.AddrFrom4([4]byte(b[12:16])), to: netip.AddrFrom4([4]byte(b[16:20])),
		}, binary.BigEndian.Uint16(b[6:])&0x1fff == 0
	case len(b) >= 40 && b[0]>>4 == 6:
		h = head{
			long: 40, hops: int(b[7]), whole: 40 + int(binary.BigEndian.Uint16(b[4:])), protocol: b[6],
			from: netip.AddrFrom16([16]byte(b[8:24])), to: netip.AddrFrom16([16]byte(b[24:40])),
		}
		return h, h.skip(b)
	}
	return h, false
}

// between is the headers of IPv6 that stand before what it carries (RFC 8200 section 4).
var between = []byte{hopOptions, routing, fragment, destinationOptions}

// skip goes past them, and reports whether what is carried begins in this packet.
func (h *head) skip(b []byte) bool {
	for range 8 {
		if !slices.Contains(between, h.protocol) {
			return true
		}
		if len(b) < h.long+8 {
			return false
		}
		long := int(b[h.long+1])*8 + 8
		if h.protocol == fragment {
			if long = 8; binary.BigEndian.Uint16(b[h.long+2:])>>3 != 0 {
				return false
			}
		}
		h.protocol = b[h.long]
		h.long += long
	}
	return false
}

// About reports whether a packet goes to or comes from an endpoint, or is an error that
// quotes one which does.
func About(c look.Captured, at netip.AddrPort) bool {
	h, ok := headOf(c.Data)
	switch {
	case !ok:
		return false
	case h.protocol == icmp4 || h.protocol == icmp6:
		quoted := c.Data[min(h.long+8, len(c.Data)):]
		q, ok := headOf(quoted)
		return ok && q.has(quoted, at)
	}
	return h.has(c.Data, at)
}

// has reports whether an endpoint is one of a packet's ends.
func (h head) has(b []byte, at netip.AddrPort) bool {
	if len(b) < h.long+4 || h.protocol != tcp && h.protocol != udp {
		return false
	}
	from, to := binary.BigEndian.Uint16(b[h.long:]), binary.BigEndian.Uint16(b[h.long+2:])
	addr := at.Addr().Unmap().WithZone("")
	return h.from == addr && from == at.Port() || h.to == addr && to == at.Port()
}
