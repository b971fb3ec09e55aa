package gate

// candidate is what a gate that nobody could read may hide, for some
// symptoms. The order of the table is how often it is the reason in practice.
type candidate struct {
	symptoms []Symptom
	gate     Gate
	cause    string
	summary  string // as one of several
	alone    string // as the only one left
}

// fullSized is the candidate that only packets of full size meet.
const fullSized = "rules/large-packets-lost"

var candidateTable = []candidate{
	// Refused: most often nobody listens.
	{
		[]Symptom{RefusedByReset},
		Listener,
		"ports/none-listening",
		"the service may be down, or on another port or address",
		"nothing takes connections on this address and port",
	},
	{
		[]Symptom{RefusedByReset},
		WayIn,
		"rules/server-reject",
		"the server's own filter may refuse with a reset",
		"the server's own filter refuses with a reset",
	},
	{
		[]Symptom{RefusedByReset},
		Way,
		"rules/transit-reject",
		"a filter on the way may refuse in the server's place",
		"a filter on the way refuses in the server's place",
	},
	{
		[]Symptom{RefusedByReset},
		Intent,
		"settings/wrong-port",
		"the port may be the wrong one",
		"the port is the wrong one",
	},
	{
		[]Symptom{RefusedByReset},
		Name,
		"names/stale-address",
		"the address may belong to another machine",
		"the address belongs to another machine",
	},
	{
		[]Symptom{RefusedByReset},
		WayOut,
		"rules/client-reject",
		"this client's own filter may refuse",
		"this client's own filter refuses",
	},

	// Silence: most often a filter swallows the packet.
	{
		[]Symptom{SilentTCP, AnsweredBetween, SilentUDP},
		WayIn,
		"rules/server-drop",
		"the server's filter may drop it",
		"the server's filter drops it",
	},
	{
		[]Symptom{SilentTCP, AnsweredBetween, SilentUDP},
		Way,
		"rules/transit-silent",
		"a filter or router on the way may swallow it",
		"something on the way swallows it",
	},
	{
		[]Symptom{SilentTCP, AnsweredBetween, SilentUDP},
		Host,
		"service/host-down",
		"the machine may be off or off the network",
		"the machine is off or off the network",
	},
	{
		[]Symptom{SilentTCP, AnsweredBetween, SilentUDP},
		Name,
		"names/stale-address",
		"the address may be an old one",
		"the address is an old one",
	},
	{
		[]Symptom{SilentUDP},
		Listener,
		"ports/none-listening",
		"the service may be down, and a filter may hold back that it is",
		"nothing takes datagrams on this address and port",
	},
	{[]Symptom{SilentUDP}, Room, "service/hung", "the service may be hung", "the service is hung"},
	{
		[]Symptom{SilentUDP},
		Door,
		"answer/source-refused",
		"the service may pass over this client's address in silence",
		"the service passes over this client's address in silence",
	},
	{
		[]Symptom{SilentTCP, AnsweredBetween},
		Room,
		"ports/queue-full",
		"the service may be hung and its queue full",
		"the service is hung and its queue full",
	},
	{
		[]Symptom{SilentTCP, AnsweredBetween, SilentUDP},
		WayBack,
		"rules/return-drop",
		"the reply may be lost on its way back",
		"the reply is lost on its way back",
	},
	{
		[]Symptom{SilentTCP, AnsweredBetween, SilentUDP},
		Intent,
		"settings/wrong-host",
		"the host may be the wrong one",
		"the host is the wrong one",
	},
	{
		[]Symptom{SilentTCP, SilentUDP},
		WayOut,
		"rules/client-drop",
		"this client's own filter may drop it",
		"this client's own filter drops it",
	},

	{
		[]Symptom{PortUnreachable},
		Listener,
		"ports/none-listening",
		"the service may be down, or on another port or address",
		"nothing takes datagrams on this address and port",
	},
	{
		[]Symptom{PortUnreachable},
		WayIn,
		"rules/server-reject",
		"the server's own filter may refuse it",
		"the server's own filter refuses it",
	},

	// The kernel at either end says no by itself.
	{[]Symptom{ICMPFromClient}, WayOut, "rules/client-reject", "", "this client's own filter refuses it"},
	{[]Symptom{ICMPFromTarget}, WayIn, "rules/server-reject", "", "the server's own filter refuses it"},
	{[]Symptom{ICMPFromElsewhere}, Way, "rules/transit-reject", "", "a router or filter on the way refuses it"},
	{[]Symptom{NoRouteHere}, WayOut, "rules/no-route", "", "this client has no route there"},
	{[]Symptom{NoPortHere}, WayOut, "ports/client-exhausted", "", "this client has no local port left"},
	{[]Symptom{NotPermittedHere}, WayOut, "rules/client-drop", "", "this client's own filter drops it"},

	// Undeliverable.
	{
		[]Symptom{NeighbourSilent, UnreachableFrom},
		Host,
		"service/host-down",
		"the machine may be off or off the network",
		"the machine is off or off the network",
	},
	{
		[]Symptom{NeighbourSilent, UnreachableFrom},
		Name,
		"names/stale-address",
		"the address may be an old one",
		"the address is an old one",
	},
	{[]Symptom{NeighbourSilent}, Way, "rules/transit-silent", "the link between may be cut",
		"the link between is cut"},
	{
		[]Symptom{UnreachableFrom},
		Way,
		"rules/no-route",
		"a router on the way may have no route",
		"a router on the way has no route",
	},
	{[]Symptom{HopLimitExceeded}, Way, "rules/no-route", "", "routers on the way send the packets round in a loop"},

	// Connected, and then nothing good.
	{
		[]Symptom{ServerFirstClosed, ServerFirstRefused, ClientFirstClosed},
		Door,
		"answer/source-refused",
		"the service may turn this client's address away",
		"the service turns this client's address away",
	},
	{
		[]Symptom{ServerFirstClosed, ServerFirstSilent, ServerFirstRefused, ClientFirstClosed, ClientFirstSilent},
		Room,
		"service/hung",
		"the service may be hung or out of room",
		"the service is hung or out of room",
	},
	{
		[]Symptom{ClientFirstClosed, ClientFirstSilent, ServerFirstSilent},
		Intent,
		"settings/wrong-security",
		"the server may expect the other kind of security",
		"the server expects the other kind of security",
	},
	{
		[]Symptom{ClientFirstSilent, LargeStalls},
		Way,
		fullSized,
		"full-sized packets may be lost on the way",
		"full-sized packets are lost on the way",
	},
	{
		[]Symptom{OtherProtocol},
		Listener,
		"answer/wrong-application",
		"another program may hold the port",
		"another program holds the port",
	},
	{
		[]Symptom{OtherProtocol},
		Intent,
		"settings/wrong-port",
		"the port may be the wrong one",
		"the port is the wrong one",
	},
	{[]Symptom{NoAddress}, Name, "names/server-failure", "the resolvers could not say", "the resolvers could not say"},
	{[]Symptom{NoAddress}, Intent, "settings/wrong-host", "the name may be mistyped", "the name is mistyped"},
	{[]Symptom{SessionFailed}, Session, "certs/handshake-stalls", "", "the secure session does not come up"},
	{[]Symptom{ErrorAnswer}, Answer, "answer/error-status", "", "the application answers with an error"},
}
