package scene

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/protocol"
)

// Answering is the name of the host that answers, as far as it is known.
func (v *Scene) Answering(t *Try) string {
	if t.Server != "" {
		return v.Host(t.Server)
	}
	return t.Target.Name
}

// Seen says that something was seen by the server's own try.
func (t *Try) Seen() string {
	if t.OwnTry {
		return " (seen on the server)"
	}
	return ""
}

// AnswerProblem is what is wrong with a complete reply; "" if nothing is. A
// server that wants an account first is well.
func AnswerProblem(r fact.Reply, scheme protocol.Scheme) string {
	switch {
	case r.Refused:
		return ""
	case protocol.Of(r.Protocol).Web && r.Status >= 400:
		return strings.TrimSpace(fmt.Sprintf("%d %s", r.Status, r.Reason))
	case !protocol.Of(r.Protocol).Web && r.Code != "":
		return strings.TrimSpace(r.Code + " " + r.Text)
	}
	return ""
}

// askedSources is the sources of names that are looked at here, or that know nothing
// beside the host's own name (nsswitch.conf(5)).
var askedSources = []string{"files", "dns", "resolve", "myhostname", "mymachines"}

// ownSources is the sources of names that ask nobody beside this host.
var ownSources = []string{"files", "myhostname", "mymachines"}

// Confirmed reports whether the server's vantage is known to be the server,
// not only the holder of the address: every host holds a loopback address.
func (v *Scene) Confirmed(t *Try) bool {
	if t.Server == "" {
		return false
	}
	for _, at := range v.Set.Vantages {
		if at.ID == t.Server && !at.Implied {
			return true
		}
	}
	if !t.Target.Addr.IsLoopback() || t.Lookup.Literal || ownName(t.Lookup.Name, v.Host(t.Server)) {
		return true
	}
	return slices.ContainsFunc(v.ProgramsAt(t.Server), func(p fact.Program) bool {
		return v.Named(&p) && (p.Path != "" || len(p.Processes) > 0)
	})
}

// FactIDs is the ids of facts, without those that are missing.
func FactIDs(list ...*fact.Fact) []string {
	var ids []string
	for _, f := range list {
		if f != nil {
			ids = append(ids, f.ID)
		}
	}
	return ids
}

// DatabaseOf is the database that an endpoint names, or the one that goes by an
// account's name.
func DatabaseOf(path, account string) string {
	name, _, _ := strings.Cut(strings.Trim(path, "/"), "?")
	return cmp.Or(name, account)
}
