package scene

import (
	"fmt"
	"slices"

	"uakari/internal/fact"
	"uakari/internal/protocol"
)

// publishers are programs that hold a port of the host for a container behind
// them.
var publishers = []string{
	"docker-proxy",
	"rootlessport",
	"conmon",
	"rootlesskit",
	"slirp4netns",
	"pasta",
	"pasta.avx2",
	"kube-proxy",
}

// Taking is the listeners that certainly take a connection to the target.
func (v *Scene) Taking(t *Try) []fact.Listener {
	_, list := v.Listeners(t.Server)
	if list == nil {
		return nil
	}
	return slices.DeleteFunc(list.On(v.Ask.Endpoint.Transport, t.Target.Port), func(l fact.Listener) bool {
		takes, certain := l.Takes(t.Target.Addr)
		return !takes || !certain
	})
}

// ServedBy is the program that holds the socket of a try, as its host names
// it; "" where that was not seen.
func (v *Scene) ServedBy(t *Try) string {
	for _, l := range v.Taking(t) {
		if l.Program != "" {
			return l.Program
		}
	}
	return ""
}

// Ours leaves out listeners that are known to be somebody else's: where it is
// known which program serves the endpoint, and another one holds the socket.
func (v *Scene) Ours(t *Try, on []fact.Listener) []fact.Listener {
	p, short := v.Chosen(v.ProgramsAt(t.Server))
	if p == nil || len(short) > 0 || p.Why == "holder" {
		return on // who holds a socket that several processes share is not always the same
	}
	return slices.DeleteFunc(slices.Clone(on), func(l fact.Listener) bool {
		// The service manager holds sockets for others.
		return l.Program != "" && l.PID != 1 && !slices.Contains(publishers, l.Program) &&
			!Serves(l, []fact.Program{*p})
	})
}

func Owner(l fact.Listener) string {
	switch {
	case l.Program != "" && l.PID != 0:
		return fmt.Sprintf("%s (pid %d)", l.Program, l.PID)
	case l.Unit != "":
		return l.Unit
	case l.User != "":
		return "a process of " + l.User
	}
	return "a process that was not shown"
}

// Expected reports whether a climb found the endpoint's own protocol.
func (c Climb) Expected() bool {
	switch {
	case c.Reply != nil:
		return c.Reply.Reply.Ending == fact.Done
	case c.Handshake != nil:
		return c.Handshake.Handshake.Ending == fact.Done
	}
	scheme, _ := protocol.Lookup(c.Target.Scheme)
	return c.Greeting != nil && c.Greeting.Greeting.Ending == fact.Done && c.Greeting.Greeting.Protocol == scheme.Wire
}

// OnSame reports whether client and server are one host.
func (v *Scene) OnSame(t *Try) bool {
	_, own := v.Addresses(v.Client)
	return slices.ContainsFunc(v.Set.Vantages, func(at fact.Vantage) bool {
		// Names alone say little: many hosts are called alike.
		return at.ID == t.Server &&
			(at.Implied && v.clientHere() || at.Host == v.Host(v.Client) && (own == nil || own.Holds(t.Target.Addr)))
	})
}

// LinesBefore is what the log files of a try's server held when its service was
// first looked at.
func (v *Scene) LinesBefore(t *Try) []string {
	var list []string
	for _, f := range v.Facts(t.Server, fact.LookService) {
		if f.Service == nil || f.Order.Target.Again != 0 {
			continue
		}
		for _, p := range f.Service.Programs {
			for _, file := range p.Logs {
				list = append(list, file.Lines...)
			}
		}
	}
	return list
}
