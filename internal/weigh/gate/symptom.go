package gate

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
	AnsweredBetween    // connected, as packets showed with something that is not the server, and nothing came
	OtherProtocol      // it speaks something else
	LargeStalls        // small packets pass, large ones do not
	SessionFailed      // a TLS alert or failure
	RefusedByCode      // refused by the protocol
	ErrorAnswer        // an error of the application
	Connects           // a bare port took the connection, and nothing can be asked of it
	Fine               // all that was asked for came
	symptomCount       //
)

// SymptomRow is a row of the table: which gates may be shut, which are surely
// open (for this address, now), and how the client would say it.
type SymptomRow struct {
	May  Gates
	Open Gates
	says string
}

// Symptoms is the table of weighing's symptoms. A gate that may be shut is
// never among those that are surely open.
var Symptoms = [symptomCount]SymptomRow{
	NotTried:  {0, 0, "not tried"},
	NoAddress: {Of(Name, Intent), 0, "the name does not resolve"},
	SilentTCP: {Of(Intent, Name, WayOut, Way, Host, WayIn, Room, WayBack), 0, "no answer"},
	AnsweredBetween: {
		Of(Intent, Name, Way, Host, WayIn, Room, WayBack),
		Of(WayOut),
		"something on the way takes the connection in the server's name, and nothing comes back",
	},
	SilentUDP: {Of(Intent, Name, WayBack) | upTo(Door), 0, "no answer"},
	Unasked: {
		Of(Intent, Name, WayBack) | upTo(Door),
		0,
		"nothing comes back, and nobody knows whether it should",
	},
	PortUnreachable:   {Of(WayIn, Listener), Of(WayOut, Way, Host), "refused by an ICMP message of the target"},
	RefusedByReset:    {Of(Listener, WayIn, Way, WayOut, Name, Intent), 0, "refused"},
	ICMPFromClient:    {Of(WayOut), 0, "refused by this host itself"},
	ICMPFromTarget:    {Of(WayIn), Of(WayOut, Way, Host), "refused by an ICMP message of the target"},
	ICMPFromElsewhere: {Of(Way), Of(WayOut), "refused by an ICMP message on the way"},
	NeighbourSilent:   {Of(Host, Name, Way), 0, "nobody answers for this address on the link"},
	UnreachableFrom:   {Of(Host, Way, Name), Of(WayOut), "a router on the way cannot deliver"},
	HopLimitExceeded:  {Of(Way), Of(WayOut), "the packets go round in a loop"},
	NoRouteHere:       {Of(WayOut), 0, "this host has no way there"},
	NoPortHere:        {Of(WayOut), 0, "this host has no local port left"},
	NotPermittedHere:  {Of(WayOut), 0, "this host does not let it out"},
	ServerFirstClosed: {
		Of(Door, Room, Session),
		upTo(Listener) | Of(WayBack),
		"connected, then closed before the server said a word",
	},
	ServerFirstSilent:  {Of(Room, Intent), upTo(Listener), "connected, and the server says nothing"},
	ServerFirstRefused: {Of(Door, Room), upTo(Listener) | Of(WayBack), "connected, and turned away in the greeting"},
	ClientFirstClosed: {Of(Door, Room, Intent), upTo(Listener) | Of(WayBack),
		"connected, then closed without an answer"},
	ClientFirstSilent: {Of(Room, Intent, Way), upTo(Listener) &^ Of(Way), "connected, and nothing comes back"},
	OtherProtocol:     {Of(Intent, Listener), upTo(WayBack) &^ Of(Listener), "something else answers"},
	LargeStalls:       {Of(Way), upTo(Door) &^ Of(Way), "small packets pass, full-sized ones do not"},
	SessionFailed:     {Of(Session), upTo(WayBack), "the secure session fails"},
	RefusedByCode:     {Of(Account, Door), upTo(WayBack)&^Of(Door) | Of(Session), "refused by the server"},
	ErrorAnswer:       {Of(Answer), upTo(Session), "an error answers"},
	Connects:          {Of(Room, Door), allGates &^ Of(Room, Door, Account, Answer), "it connects"},
	Fine:              {0, allGates &^ Of(Account), "it answers"},
}

// like is what a symptom looks like over TCP: a gate that gives that one
// gives this one.
var like = [symptomCount]Symptom{
	SilentUDP: SilentTCP, Unasked: SilentTCP, AnsweredBetween: SilentTCP, PortUnreachable: ICMPFromTarget,
}

// ShownBy is the symptoms that a gate gives when it is shut.
func ShownBy(g Gate) []Symptom {
	var list []Symptom
	for sym := range symptomCount {
		if Symptoms[sym].May.Has(g) {
			list = append(list, sym)
		}
	}
	return list
}

// String is how the client would say it.
func (s Symptom) String() string { return Symptoms[s].says }

// Good reports whether all that could be asked for came.
func (s Symptom) Good() bool { return s == Fine || s == Connects }

// Silent reports whether nothing at all came back.
func (s Symptom) Silent() bool { return s == SilentTCP || like[s] == SilentTCP }

// Progress orders symptoms by how far the try got; a larger number after a
// change is progress, even if it is still an error.
func (s Symptom) Progress() int {
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
	case s < Connects:
		return 4
	}
	return 5
}
