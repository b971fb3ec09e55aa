package scene

import (
	"fmt"
	"slices"

	"uakari/internal/fact"
	"uakari/internal/protocol"
)

// Policy finds a setting of a host that runs Windows which binds the endpoint's server
// there, and says in words what it wants and where it stands.
func (v *Scene) Policy(host string, meant func(protocol.Policy) bool) (words string, by *fact.Fact) {
	for _, f := range v.Facts(host, fact.LookIdentity) {
		if f.Identity == nil {
			continue
		}
		for _, p := range protocol.Policies(v.Scheme.Name) {
			at := slices.IndexFunc(f.Identity.Policies, func(held fact.Policy) bool { return held.Place == p.Place() })
			if at >= 0 && meant(p) {
				return fmt.Sprintf("by a setting of %s %s (%s = %s)", v.Host(host), p.Says, p.Place(),
					f.Identity.Policies[at].Value), f
			}
		}
	}
	return "", nil
}
