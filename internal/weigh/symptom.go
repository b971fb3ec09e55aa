package weigh

import (
	"net/netip"
	"slices"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
)

// Symptom is how one try to reach one address ended.
type Symptom uint8

const (
	NotTried Symptom = iota
	NoAddress
	SilentTCP
	SilentUDP
	Unasked // UDP: something was sent, and nobody knows whether it asks for an answer
	RefusedByReset
	PortUnreachable // UDP: the target says that nobody takes it, or its filter says so
	ICMPFromClient  // port unreachable or prohibited, from the client itself
	ICMPFromTarget
	ICMPFromElsewhere
	NeighbourSilent    // host unreachable, said by the client's own kernel
	UnreachableFrom    // host or net unreachable, from another
	HopLimitExceeded   // time exceeded in transit
	NoRouteHere        // ENETUNREACH, EHOSTUNREACH, EACCES or EINVAL at once
	NoPortHere         // EADDRNOTAVAIL
	NotPermittedHere   // EPERM
	ServerFirstClosed  // connected; the server should have spoken, and closed
	ServerFirstSilent  // the same, and said nothing
	ServerFirstRefused // the same, and refused in its greeting
	ClientFirstClosed  // connected; we spoke, and it closed without a byte
	ClientFirstSilent  // the same, and said nothing
	OtherProtocol      // it speaks something else
	LargeStalls        // small packets pass, large ones do not
	SessionFailed      // a TLS alert or failure
	RefusedByCode      // refused by the protocol
	ErrorAnswer        // an error of the application
	Fine               // all that was asked for came
	symptomCount       //
)

// symptomRow is a row of the table: which gates may be shut, which are surely
// open (for this address, now), and how the client would say it.
type symptomRow struct {
	may  Gates
	open Gates
	says string
}

// symptoms is the table of weighing's symptoms. A gate that may be shut is
// never among those that are surely open.
var symptoms = [symptomCount]symptomRow{
	NotTried:           {0, 0, "not tried"},
	NoAddress:          {gates(Name, Intent), 0, "the name gives no address"},
	SilentTCP:          {gates(Intent, Name, WayOut, Way, Host, WayIn, Room, WayBack), 0, "no answer"},
	SilentUDP:          {gates(Intent, Name, WayBack) | upTo(Door), 0, "no answer"},
	Unasked:            {gates(Intent, Name, WayBack) | upTo(Door), 0, "nothing comes back, and nobody knows whether it should"},
	PortUnreachable:    {gates(WayIn, Listener), gates(WayOut, Way, Host), "refused by an ICMP message of the target"},
	RefusedByReset:     {gates(Listener, WayIn, Way, WayOut, Name, Intent), 0, "refused"},
	ICMPFromClient:     {gates(WayOut), 0, "refused by this host itself"},
	ICMPFromTarget:     {gates(WayIn), gates(WayOut, Way, Host), "refused by an ICMP message of the target"},
	ICMPFromElsewhere:  {gates(Way), gates(WayOut), "refused by an ICMP message on the way"},
	NeighbourSilent:    {gates(Host, Name, Way), 0, "nobody answers for this address on the link"},
	UnreachableFrom:    {gates(Host, Way, Name), gates(WayOut), "a router on the way cannot deliver"},
	HopLimitExceeded:   {gates(Way), gates(WayOut), "the packets go round in a loop"},
	NoRouteHere:        {gates(WayOut), 0, "this host has no way there"},
	NoPortHere:         {gates(WayOut), 0, "this host has no local port left"},
	NotPermittedHere:   {gates(WayOut), 0, "this host does not let it out"},
	ServerFirstClosed:  {gates(Door, Room, Session), upTo(Listener) | gates(WayBack), "connected, then closed before the server said a word"},
	ServerFirstSilent:  {gates(Room, Intent), upTo(Listener), "connected, and the server says nothing"},
	ServerFirstRefused: {gates(Door, Room), upTo(Listener) | gates(WayBack), "connected, and turned away in the greeting"},
	ClientFirstClosed:  {gates(Door, Room, Intent), upTo(Listener) | gates(WayBack), "connected, then closed without an answer"},
	ClientFirstSilent:  {gates(Room, Intent, Way), upTo(Listener) &^ gates(Way), "connected, and nothing comes back"},
	OtherProtocol:      {gates(Intent, Listener), upTo(WayBack) &^ gates(Listener), "something else answers"},
	LargeStalls:        {gates(Way), upTo(Door) &^ gates(Way), "small packets pass, full-sized ones do not"},
	SessionFailed:      {gates(Session), upTo(WayBack), "the secure session fails"},
	RefusedByCode:      {gates(Account, Door), upTo(WayBack)&^gates(Door) | gates(Session), "refused by the server"},
	ErrorAnswer:        {gates(Answer), upTo(Session), "an error answers"},
	Fine:               {0, allGates &^ gates(Account), "it answers"},
}

// like is what a symptom looks like over TCP: a gate that gives that one
// gives this one.
var like = [symptomCount]Symptom{SilentUDP: SilentTCP, Unasked: SilentTCP, PortUnreachable: ICMPFromTarget}

// String is how the client would say it.
func (s Symptom) String() string { return symptoms[s].says }

// silent reports whether nothing at all came back.
func (s Symptom) silent() bool { return s == SilentTCP || like[s] == SilentTCP }

// progress orders symptoms by how far the try got; a larger number after a
// change is progress, even if it is still an error.
func (s Symptom) progress() int {
	switch {
	case s == NotTried:
		return -1
	case s == NoAddress:
		return 0
	case s < ServerFirstClosed:
		return 1
	case s < SessionFailed:
		return 2
	case s == SessionFailed:
		return 3
	case s < Fine:
		return 4
	}
	return 5
}

// climb is one try to reach one address: a fact per step, nil for steps that
// were not reached.
type climb struct {
	target    fact.Target
	connect   *fact.Fact
	greeting  *fact.Fact
	upgrade   *fact.Fact
	handshake *fact.Fact
	trust     *fact.Fact
	beside    *fact.Fact // another store, that the client does not go by
	hostKey   *fact.Fact
	reply     *fact.Fact
}

// ids is the evidence of the climb, the last step first.
func (c climb) ids() []string {
	var ids []string
	for _, f := range []*fact.Fact{c.reply, c.handshake, c.upgrade, c.greeting, c.connect} {
		if f != nil {
			ids = append(ids, f.ID)
		}
	}
	return ids[:min(len(ids), 1)]
}

// symptom reads the climb from its last step to its first.
func (c climb) symptom(own []netip.Addr) Symptom {
	scheme, _ := endpoint.Lookup(c.target.Scheme)
	switch {
	case c.handshake != nil && c.handshake.Handshake.Alert != 0:
		return SessionFailed // it may come after the handshake, in place of an answer
	case c.reply != nil:
		return replySymptom(*c.reply.Reply, c.target, scheme)
	case c.handshake != nil && c.handshake.Handshake.Ending != fact.Done:
		return handshakeSymptom(*c.handshake.Handshake)
	case c.upgrade != nil && c.upgrade.Upgrade.Ending != fact.Done:
		return endingSymptom(c.upgrade.Upgrade.Ending, scheme.First)
	case c.greeting != nil && c.greeting.Greeting.Refusal != "":
		return ServerFirstRefused
	case c.greeting != nil && c.greeting.Greeting.Ending != fact.Done && scheme.First == endpoint.ServerFirst:
		return endingSymptom(c.greeting.Greeting.Ending, scheme.First)
	case c.greeting != nil && (c.greeting.Greeting.Ending == fact.Closed || c.greeting.Greeting.Ending == fact.ResetMid):
		return ClientFirstClosed
	case c.connect != nil && c.connect.Connect.Outcome != fact.Connected:
		return connectSymptom(*c.connect.Connect, scheme, c.target.Addr, own)
	case c.ended(scheme):
		return Fine
	}
	return NotTried
}

// ended reports whether a climb without a reply went as far as its scheme
// goes: there is nothing to ask in it.
func (c climb) ended(scheme endpoint.Scheme) bool {
	switch {
	case scheme.Wire != "":
		return false
	case c.target.Security == fact.TLS:
		return c.handshake != nil
	}
	return c.greeting != nil
}

// endingSymptom is the symptom of bytes that did not come as they should.
func endingSymptom(e fact.Ending, first endpoint.First) Symptom {
	server := first == endpoint.ServerFirst
	switch e {
	case fact.Malformed, fact.Bytes:
		return OtherProtocol
	case fact.Stalled:
		if server {
			return ServerFirstSilent
		}
		return ClientFirstSilent
	}
	if server {
		return ServerFirstClosed
	}
	return ClientFirstClosed
}

func handshakeSymptom(h fact.Handshake) Symptom {
	if h.Alert != 0 {
		return SessionFailed
	}
	switch h.Ending {
	case fact.Malformed:
		if h.Spoke != "" || h.Error == "" {
			return OtherProtocol
		}
		return SessionFailed
	case fact.Stalled:
		return ClientFirstSilent
	case fact.Closed, fact.ResetMid:
		return ClientFirstClosed
	}
	return SessionFailed
}

func replySymptom(r fact.Reply, target fact.Target, scheme endpoint.Scheme) Symptom {
	if r.Ending != fact.Done {
		return endingSymptom(r.Ending, endpoint.ClientFirst)
	}
	if answerProblem(r, scheme) != "" && !onlyMissing(r, target) {
		return ErrorAnswer
	}
	return Fine
}

// onlyMissing reports whether an application lacks a page that nobody asked
// for: no path was given, and it answers well that there is none.
func onlyMissing(r fact.Reply, target fact.Target) bool {
	return target.Path == "" && (r.Status == 404 || r.Status == 405)
}

// ICMP destination-unreachable codes that say "cannot deliver" rather than
// "must not" (RFC 792, RFC 1812 section 5.2.7.1, RFC 4443 section 3.1).
var undeliverable = map[int][]uint8{4: {0, 1, 5, 6, 7, 8, 11, 12}, 6: {0, 2, 3}}

// noPort reports whether a message says that nobody takes datagrams on a port
// (RFC 1122 section 3.2.2.1, RFC 4443 section 3.1). Filters say the same.
func noPort(m fact.ICMPError) bool {
	return m.Version == 4 && m.Type == 3 && m.Code == 3 || m.Version == 6 && m.Type == 1 && m.Code == 4
}

func connectSymptom(c fact.Connect, scheme endpoint.Scheme, target netip.Addr, own []netip.Addr) Symptom {
	switch c.Outcome {
	case fact.Silent:
		switch {
		case scheme.UDP && scheme.Wire == "":
			return Unasked
		case scheme.UDP:
			return SilentUDP
		}
		return SilentTCP
	case fact.Reset:
		return RefusedByReset
	case fact.ICMP:
		sym := icmpSymptom(*c.ICMP, target, own)
		if sym == ICMPFromTarget && scheme.UDP && noPort(*c.ICMP) {
			return PortUnreachable
		}
		return sym
	}
	switch c.Errno {
	case "EADDRNOTAVAIL":
		return NoPortHere
	case "EPERM":
		return NotPermittedHere
	}
	return NoRouteHere
}

func icmpSymptom(m fact.ICMPError, target netip.Addr, own []netip.Addr) Symptom {
	fromClient := slices.Contains(own, m.From)
	exceeded := m.Version == 4 && m.Type == 11 || m.Version == 6 && m.Type == 3
	lost := slices.Contains(undeliverable[m.Version], m.Code)
	switch {
	case exceeded:
		return HopLimitExceeded
	case lost && fromClient:
		return NeighbourSilent
	case lost:
		return UnreachableFrom
	case fromClient && m.From != target:
		return ICMPFromClient
	case m.From == target:
		return ICMPFromTarget
	}
	return ICMPFromElsewhere
}
