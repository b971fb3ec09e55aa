// Package host is what is asked of the host that the program runs on: one set
// of looks, with the system's own behind it. Systems that have no look of their
// own for something say so. On Linux everything is looked at; on Windows what
// package windows lists; elsewhere what is the same on every system.
package host

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"runtime"
	"time"

	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/look/host/common"
)

// asked is everything that is asked of a host, as it is told when a system has
// no look for it.
var asked = map[fact.Kind]struct{ source, failed string }{
	fact.LookAddresses:  {"addresses of this host", "could not list this host's addresses"},
	fact.LookIdentity:   {"identity", "could not tell which host this is"},
	fact.LookListeners:  {"listening sockets", "could not list the listening sockets"},
	fact.LookService:    {"units and processes", "could not look at units and processes"},
	fact.LookRoutes:     {"routes", "could not read the routing tables"},
	fact.LookNeighbours: {"neighbours", "could not read the neighbour table"},
	fact.LookKernel:     {"kernel settings", "could not read the kernel's settings"},
	fact.LookPeers:      {"connections", "could not list the connections"},
	fact.LookBarriers:   {"barriers", "could not look for what stops packets"},
	fact.LookResources:  {"resources", "could not look at disks and memory"},
	fact.LookTables:     {"packet filters", "could not read the packet filters"},
	fact.LookAccess:     {"access lists", "could not read the access lists"},
	fact.LookContainers: {"containers", "could not look at the containers"},
	fact.LookUpstreams:  {"backends", "could not read the gateway's settings"},
	fact.LookCertFiles:  {"certificate files", "could not read the certificate files"},
	fact.LookAccount:    {"accounts", "could not read the state of the account"},
	fact.LookAccounts:   {"accounts", "could not ask the service for its accounts"},
	fact.LookPathRight:  {"path rights", "could not walk the path"},
	fact.LookKeyTable:   {"key table", "could not read the key table"},
	fact.LookSettings:   {"settings", "could not read the settings of the card"},
	fact.LookSigns:      {"signs", "could not look at the signs of the card"},
	fact.LookStored:     {"stored secrets", "could not look where programs keep secrets"},
	fact.LookProxy:      {"proxy", "could not read which proxy is set"},
	fact.LookScript:     {"proxy script", "could not ask the script that decides over proxies"},
	fact.LookTold:       {"clients' settings", "could not read the settings of client programs"},
}

// everywhere is the looks that are the same on every system.
var everywhere = map[fact.Kind]look.Func{
	fact.LookAddresses: common.Addresses(common.Interfaces),
	fact.LookIdentity:  common.Identity(nil),
	fact.LookSettings:  common.Settings,
	fact.LookSigns:     common.Signs,
	fact.LookStored:    common.Stored,
	fact.LookProxy:     common.Proxy,
	fact.LookScript:    common.Script,
	fact.LookTold:      common.Told,
}

// Looks is every look of this host, by its kind: the system's own, else the one
// of every system, else one that says that there is none.
var Looks = looksOf(system)

func looksOf(own map[fact.Kind]look.Func) map[fact.Kind]look.Func {
	looks := map[fact.Kind]look.Func{}
	maps.Copy(looks, own) // kinds that other packages look at too: the system's own wins
	for kind := range asked {
		switch {
		case own[kind] != nil:
		case everywhere[kind] != nil:
			looks[kind] = everywhere[kind]
		default:
			looks[kind] = notHere(kind)
		}
	}
	return looks
}

// Unended is the fact that a look of this host did not end in its time.
func Unended(env look.Env, order fact.Order, after time.Duration) fact.Fact {
	row, known := asked[order.Look]
	if !known { // a look that other packages take, too
		row.source, row.failed = string(order.Look), "could not look at "+string(order.Look)
	}
	f := env.Failed(order, row.source, row.failed, fmt.Errorf("it did not end within %s", after),
		"a host on which no process or disk hangs")
	f.Failed.CutOff = true
	return f
}

var errNotHere = errors.New("not looked at on " + runtime.GOOS)

func notHere(kind fact.Kind) look.Func {
	return func(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
		emit(env.Failed(order, asked[kind].source, asked[kind].failed, errNotHere, "a host that runs Linux"))
	}
}
