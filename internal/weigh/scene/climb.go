package scene

import (
	"net/netip"
	"slices"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/program"
	"uakari/internal/protocol"
	"uakari/internal/weigh/gate"
)

// Climb is one try to reach one address: a fact per step, nil for steps that
// were not reached.
type Climb struct {
	Target    fact.Target
	Connect   *fact.Fact
	Greeting  *fact.Fact
	Upgrade   *fact.Fact
	Handshake *fact.Fact
	Trust     *fact.Fact
	Beside    *fact.Fact // another store, that the client does not go by
	HostKey   *fact.Fact
	Reply     *fact.Fact
}

// ICMP destination-unreachable codes that say "cannot deliver" rather than
// "must not" (RFC 792, RFC 1812 section 5.2.7.1, RFC 4443 section 3.1).
var undeliverable = map[int][]uint8{4: {0, 1, 5, 6, 7, 8, 11, 12}, 6: {0, 2, 3}}

// IDs is the evidence of the climb, the last step first.
func (c Climb) IDs() []string {
	var ids []string
	for _, f := range []*fact.Fact{c.Reply, c.Handshake, c.Upgrade, c.Greeting, c.Connect} {
		if f != nil {
			ids = append(ids, f.ID)
		}
	}
	return ids[:min(len(ids), 1)]
}

// Symptom reads the climb from its last step to its first.
func (c Climb) Symptom(own []netip.Addr) gate.Symptom {
	scheme, _ := protocol.Lookup(c.Target.Scheme)
	switch {
	case c.Handshake != nil && c.Handshake.Handshake.Alert != 0:
		return gate.SessionFailed // it may come after the handshake, in place of an answer
	case c.Reply != nil:
		return replySymptom(*c.Reply.Reply, c.Target, scheme)
	case c.Handshake != nil && c.Handshake.Handshake.Ending != fact.Done:
		return handshakeSymptom(*c.Handshake.Handshake)
	case c.Upgrade != nil && c.Upgrade.Upgrade.Ending != fact.Done:
		return endingSymptom(c.Upgrade.Upgrade.Ending, scheme.First)
	case c.Greeting != nil && c.Greeting.Greeting.Refusal != "":
		return gate.ServerFirstRefused
	case c.Greeting != nil && c.Greeting.Greeting.Ending != fact.Done && scheme.First == protocol.ServerFirst:
		return endingSymptom(c.Greeting.Greeting.Ending, scheme.First)
	case c.Greeting != nil && (c.Greeting.Greeting.Ending == fact.Closed ||
		c.Greeting.Greeting.Ending == fact.ResetMid):
		return gate.ClientFirstClosed
	case c.Connect != nil && c.Connect.Connect.Outcome != fact.Connected:
		return connectSymptom(*c.Connect.Connect, scheme, c.Target.Addr, own)
	case c.ended(scheme) && c.Handshake != nil: // a session is more than a connection that the kernel took
		return gate.Fine
	case c.ended(scheme):
		return gate.Connects
	}
	return gate.NotTried
}

// ended reports whether a climb without a reply went as far as its scheme
// goes: there is nothing to ask in it.
func (c Climb) ended(scheme protocol.Scheme) bool {
	switch {
	case scheme.Wire != "":
		return false
	case c.Target.Security == fact.TLS:
		return c.Handshake != nil
	}
	return c.Greeting != nil
}

// endingSymptom is the symptom of bytes that did not come as they should.
func endingSymptom(e fact.Ending, first protocol.First) gate.Symptom {
	server := first == protocol.ServerFirst
	switch e {
	case fact.Malformed, fact.Bytes:
		return gate.OtherProtocol
	case fact.Stalled:
		if server {
			return gate.ServerFirstSilent
		}
		return gate.ClientFirstSilent
	}
	if server {
		return gate.ServerFirstClosed
	}
	return gate.ClientFirstClosed
}

func handshakeSymptom(h fact.Handshake) gate.Symptom {
	if h.Alert != 0 {
		return gate.SessionFailed
	}
	switch h.Ending {
	case fact.Malformed:
		if h.Spoke != "" || h.Error == "" {
			return gate.OtherProtocol
		}
		return gate.SessionFailed
	case fact.Stalled:
		return gate.ClientFirstSilent
	case fact.Closed, fact.ResetMid:
		return gate.ClientFirstClosed
	}
	return gate.SessionFailed
}

func replySymptom(r fact.Reply, target fact.Target, scheme protocol.Scheme) gate.Symptom {
	if r.Ending != fact.Done {
		return endingSymptom(r.Ending, protocol.ClientFirst)
	}
	if AnswerProblem(r, scheme) != "" && !OnlyMissing(r, target) && !r.LeftOut {
		return gate.ErrorAnswer
	}
	return gate.Fine
}

// OnlyMissing reports whether an application lacks a page that nobody asked
// for: no path was given, and it answers well that there is none; or it is a
// proxy, which has no pages of its own and says so.
func OnlyMissing(r fact.Reply, target fact.Target) bool {
	if target.Path != "" {
		return false
	}
	name, _, _ := strings.Cut(r.Program, "/")
	by, known := program.Known().Of(strings.ToLower(name))
	return r.Status == 404 || r.Status == 405 || r.Status == 400 && known && by.Proxy
}

// noPort reports whether a message says that nobody takes datagrams on a port
// (RFC 1122 section 3.2.2.1, RFC 4443 section 3.1). Filters say the same.
func noPort(m fact.ICMPError) bool {
	return m.Version == 4 && m.Type == 3 && m.Code == 3 || m.Version == 6 && m.Type == 1 && m.Code == 4
}

func connectSymptom(c fact.Connect, scheme protocol.Scheme, target netip.Addr, own []netip.Addr) gate.Symptom {
	switch c.Outcome {
	case fact.Silent:
		switch {
		case scheme.UDP && scheme.Wire == "":
			return gate.Unasked
		case scheme.UDP:
			return gate.SilentUDP
		}
		return gate.SilentTCP
	case fact.Reset:
		return gate.RefusedByReset
	case fact.ICMP:
		sym := icmpSymptom(*c.ICMP, target, own)
		if sym == gate.ICMPFromTarget && scheme.UDP && noPort(*c.ICMP) {
			return gate.PortUnreachable
		}
		return sym
	}
	switch c.Errno {
	case "EADDRNOTAVAIL":
		return gate.NoPortHere
	case "EPERM":
		return gate.NotPermittedHere
	}
	return gate.NoRouteHere
}

func icmpSymptom(m fact.ICMPError, target netip.Addr, own []netip.Addr) gate.Symptom {
	fromClient := slices.Contains(own, m.From)
	exceeded := m.Version == 4 && m.Type == 11 || m.Version == 6 && m.Type == 3
	lost := slices.Contains(undeliverable[m.Version], m.Code)
	switch {
	case exceeded:
		return gate.HopLimitExceeded
	case lost && fromClient:
		return gate.NeighbourSilent
	case lost:
		return gate.UnreachableFrom
	case fromClient && m.From != target:
		return gate.ICMPFromClient
	case m.From == target:
		return gate.ICMPFromTarget
	}
	return gate.ICMPFromElsewhere
}
