// Package gate combines what was read of each gate on the way into causes: how the try
// ended excludes readings, the strength of the evidence and the guards decide between
// proven, likely and possible.
package gate

import (
	"uakari/internal/trail"
)

// Gate is one of the things a connection must pass, in the order in which it
// meets them.
type Gate uint8

const (
	Intent   Gate = iota // the client is told the right thing
	Name                 // the name gives an address of the server
	WayOut               // the client's own filter, route and ports let it leave
	Way                  // what lies between lets it pass
	Host                 // a machine with this address is there
	WayIn                // the server's filter and translation let it in
	Listener             // the right process listens on that address and port
	Room                 // and has room for one more
	Door                 // and does not turn this source away
	WayBack              // the reply gets back
	Session              // the secure session comes up
	Account              // the account is accepted
	Answer               // the application answers rightly
	gateCount
)

var gateNames = [gateCount]string{"intent", "name", "way out", "way", "host", "way in",
	"listener", "room", "door", "way back", "session", "account", "answer"}

// Gates is a set of gates.
type Gates uint16

const allGates Gates = 1<<gateCount - 1

// RungGates says which gates a rung answers for: it is clear when all of
// them are open.
var RungGates = map[trail.Rung]Gates{
	trail.Settings: Of(Intent),
	trail.Service:  Of(Host, Listener),
	trail.Ports:    Of(Listener, Room),
	trail.Rules:    Of(WayOut, Way, WayIn, Door, WayBack),
	trail.Names:    Of(Name),
	trail.Certs:    Of(Session),
	trail.Login:    Of(Account),
	trail.Answer:   Of(Answer),
}

func (g Gate) String() string { return gateNames[g] }

func Of(list ...Gate) Gates {
	var set Gates
	for _, g := range list {
		set |= 1 << g
	}
	return set
}

// upTo is every gate a packet meets up to and with one. What the client was
// told and what the name gave are not among them: a packet that arrives may
// have arrived at the wrong place.
func upTo(last Gate) Gates {
	var set Gates
	for g := WayOut; g <= last; g++ {
		set |= 1 << g
	}
	return set
}

func (s Gates) Has(g Gate) bool { return s&(1<<g) != 0 }

// List is the set's gates in the order of a connection.
func (s Gates) List() []Gate {
	var list []Gate
	for g := range gateCount {
		if s.Has(g) {
			list = append(list, g)
		}
	}
	return list
}
