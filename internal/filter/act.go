package filter

import (
	"encoding/binary"
	"fmt"
	"net/netip"
)

// do carries one act out. The act that comes back is what was really done.
func (ev *evaluator) do(r *Rule, a *Act, s *state) (control, *Act, string) {
	switch a.Doing {
	case Accept:
		return accepted, nil, ""
	case Drop:
		return dropped, nil, ""
	case Reject:
		return rejected, a, ""
	case Return:
		return returned, nil, ""
	case Queue:
		return queued, nil, ""
	case Jump, Goto:
		if a.target == nil {
			return puzzled, nil, "the chain " + a.Chain + " does not exist"
		}
		if a.Doing == Goto {
			return gone, a, ""
		}
		return jumped, a, ""
	case VerdictMap:
		return ev.verdict(r, a, s)
	case SetMark, SetCTMark, SaveMark, RestoreMark:
		return ev.setMark(a, s)
	case NoTrack:
		if s.tracked {
			return goOn, nil, ""
		}
		s.untracked = true
		return goOn, &Act{Text: "not tracked"}, ""
	case DNAT, SNAT, Masquerade, Redirect:
		return ev.translate(a, s)
	}
	return puzzled, nil, a.Why
}

// verdict looks a verdict up in a map.
func (ev *evaluator) verdict(r *Rule, a *Act, s *state) (control, *Act, string) {
	if a.Set == nil {
		return puzzled, nil, "the map " + a.Name + " was not read"
	}
	may, certain, why := ev.m.elements(a.Set, a.Parts)
	switch {
	case why == broken || why == "" && len(may) == 0:
		return goOn, nil, ""
	case why != "":
		return puzzled, nil, why
	case len(may) == 1 && certain && may[0].State == "" && may[0].Verdict != nil:
		return ev.do(r, may[0].Verdict, s)
	}
	return puzzled, nil, "which verdict of the map " + a.Set.Name + " it gets is not known"
}

func (ev *evaluator) setMark(a *Act, s *state) (control, *Act, string) {
	var value uint32
	switch a.Doing {
	case SaveMark:
		value = s.mark
	case RestoreMark:
		value = s.ctMark
	default:
		var rd reading
		ev.m.load(&a.Parts[0], &rd)
		if rd.broken {
			return goOn, nil, ""
		}
		if !rd.exact || rd.n < 4 {
			return puzzled, nil, "which mark is set is not known"
		}
		value = binary.LittleEndian.Uint32(rd.low[:4])
	}
	target, name := &s.mark, "mark"
	if a.Doing == SetCTMark || a.Doing == SaveMark {
		if ev.m.track == nil {
			return goOn, nil, ""
		}
		target, name = &s.ctMark, "connection's mark"
	}
	*target = *target&a.Keep ^ value
	return goOn, &Act{Text: fmt.Sprintf("%s %#x", name, *target)}, ""
}

// rewrite is a translation of one end of a packet.
type rewrite struct {
	addr netip.Addr // invalid: unchanged
	port uint16     // 0: unchanged
	// vague: the port is one of several, or chosen by the kernel.
	vague bool
}

// translate carries a translation out.
func (ev *evaluator) translate(a *Act, s *state) (control, *Act, string) {
	if s.flow == nil || !s.tracked {
		return accepted, nil, ""
	}
	to := rewrite{}
	destination := a.Doing == DNAT || a.Doing == Redirect
	switch a.Doing {
	case Masquerade:
		to.addr = ev.host.sourceOn(s.out, s.packet.Six())
		if !to.addr.IsValid() {
			return puzzled, nil, "which address it is masked with is not known"
		}
	case Redirect:
		if ev.hook == Output {
			to.addr = loopback(s.packet.Six())
		} else if to.addr = ev.host.sourceOn(s.in, s.packet.Six()); !to.addr.IsValid() {
			to.addr = s.packet.To
		}
	default:
		if a.Addr != nil {
			addr, ok := ev.m.addrOf(a.Addr)
			if a.Prefixed || !ok {
				return puzzled, nil, "to which address it is translated is not known"
			}
			if a.AddrTo != nil {
				if last, ok := ev.m.addrOf(a.AddrTo); !ok || last != addr {
					return puzzled, nil, "to which of several addresses it is translated is not known"
				}
			}
			to.addr = addr.Unmap()
		}
	}
	if a.Port != nil {
		low, ok := ev.number(a.Port)
		high := low
		if a.PortTo != nil {
			high, ok = ev.number(a.PortTo)
		}
		switch {
		case !ok || low != high && destination:
			return puzzled, nil, "to which port it is translated is not known"
		case low != high:
			to.vague = true
		default:
			to.port = low
		}
	}
	// A translation to where the packet goes anyway is none to the tracker.
	if destination {
		real := to.vague || to.addr.IsValid() && to.addr != s.packet.To || to.port != 0 && to.port != s.packet.ToPort
		s.flow = s.flow.with(func(f *flow) { f.dnat, f.dnatted, f.settledTo = to, real, true })
	} else {
		real := to.vague || to.addr.IsValid() && (s.packet.AnySource || to.addr != s.packet.From) || to.port != 0 &&
			to.port != s.packet.FromPort
		s.flow = s.flow.with(func(f *flow) { f.snat, f.snatted, f.settledFrom = to, real, true })
	}
	return accepted, &Act{Text: ev.says(a, to, s.packet)}, ""
}

func (ev *evaluator) says(a *Act, to rewrite, p Packet) string {
	was, port := p.To, p.ToPort
	word := "destination"
	if a.Doing == SNAT || a.Doing == Masquerade {
		was, port, word = p.From, p.FromPort, "source"
	}
	if to.addr.IsValid() {
		was = to.addr
	}
	if to.port != 0 {
		port = to.port
	}
	return word + " becomes " + place(was, port)
}

func (ev *evaluator) number(parts []Part) (uint16, bool) {
	var r reading
	ev.m.load(&parts[0], &r)
	if r.broken || !r.exact || r.n < 2 {
		return 0, false
	}
	return binary.BigEndian.Uint16(r.low[:2]), true
}

func loopback(six bool) netip.Addr {
	if six {
		return netip.IPv6Loopback()
	}
	return netip.AddrFrom4([4]byte{127, 0, 0, 1})
}

// place is an address with a port, if there is one.
func place(addr netip.Addr, port uint16) string {
	if port == 0 {
		return addr.String()
	}
	return netip.AddrPortFrom(addr, port).String()
}
