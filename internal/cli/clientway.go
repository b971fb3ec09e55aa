package cli

import (
	"strings"

	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/look/clientlib"
	"uakari/internal/protocol"
)

// clientHere reports whether this host and this account are the client: elsewhere the
// settings of its library are not those that are read here.
func (s *seeing) clientHere() bool {
	for _, each := range []struct {
		flag    string
		role    fact.Role // if none is given
		entries []string
	}{{"--at", fact.Server, s.at}, {"--record", fact.Server, s.records}, {"--in", fact.Client, s.in}} {
		for _, text := range each.entries {
			role := each.role
			if strings.Contains(text, "=") {
				role, _, _ = roleOf(each.flag, text) // what is wrong with it is told when it is used
			}
			if role == fact.Client {
				return false
			}
		}
	}
	return true
}

// asClients makes the try as this account's own client programs would, wherever the endpoint
// and the flags do not say: how they encrypt, what they check, which roots they trust, and
// which certificate they present.
func (s *seeing) asClients(e *fact.Endpoint, env *look.Env) {
	way, ok := clientlib.For(*e, s.program)
	if !ok {
		return
	}
	e.Way = &way
	scheme, _ := protocol.Lookup(e.Scheme)
	if modes := protocol.Of(scheme.Wire).Modes; modes != nil {
		if set, known := modes.Values[strings.ToLower(way.Mode)]; known {
			e.Security, e.Verify, e.Insist, e.AnyName = set.Security, set.Verify, set.Insist, set.AnyName
		}
	}
	e.Insist = e.Insist && !way.Lax
	if way.NoCheck {
		e.Verify = false
	}
	if env.Trust == "" && (env.Card == nil || env.Card.ClientTrust == "") {
		env.Trust = way.Trust
	}
	if env.Presented == "" {
		env.Presented = way.Presented
	}
}
