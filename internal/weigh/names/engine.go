package names

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
	"uakari/internal/yamlfile"
)

// mostNames bounds how many names of a network are told.
const mostNames = 8

// ofEngine reads a name that the resolver of an engine's network does not know: it is told
// which names it knows, and whether a container of that name is in another network.
func ofEngine(v *scene.Scene, w *scene.Wants, name string, resolver netip.Addr, r *gate.Reading) {
	if !resolver.IsValid() || v.Vantage(v.Client).Means != fact.Inside {
		return
	}
	w.Add(scene.Want{Look: fact.LookAddresses, At: fact.Server, Gate: gate.Name})
	host := v.ServerOf(resolver)
	if host == "" {
		return
	}
	w.Add(scene.Want{Look: fact.LookContainers, At: fact.Server, On: host, Gate: gate.Name,
		Target: fact.Target{Port: v.Ask.Endpoint.Port}})
	f, all := v.Containers(host)
	if all == nil {
		return
	}
	network := ""
	for _, c := range all.List {
		for _, n := range c.Networks {
			if n.Gateway == resolver {
				network = n.Name
			}
		}
	}
	if network == "" {
		return
	}
	name, _, _ = strings.Cut(strings.TrimSuffix(name, "."), ".")
	var known []string
	apart, other, engine := "", "", ""
	for _, c := range all.List {
		for _, n := range c.Networks {
			names := append([]string{c.Name}, n.Aliases...)
			switch {
			case n.Name == network && c.State == "running":
				known = append(known, c.Name)
			case n.Name != network && slices.Contains(names, name):
				apart, other, engine = c.Name, n.Name, c.Engine
			}
		}
	}
	slices.Sort(known)
	known = slices.Compact(known)
	r.Because = gate.Union(r.Because, scene.FactIDs(f))
	r.Summary += fmt.Sprintf("; that is the resolver of the network %s on %s", network, v.Host(host))
	if len(known) > 0 {
		r.Summary += ", which knows " + strings.Join(known[:min(len(known), mostNames)], ", ")
	}
	r.Values["network"], r.Values["server"] = network, v.Host(host)
	switch {
	case apart != "":
		r.Summary += fmt.Sprintf("; the container %s has that name in the network %s", apart, other)
		r.Values["apart"], r.Values["engine"] = apart, engine
	case len(known) > 0:
		r.Values["near"] = nearest(name, known)
	}
}

// nearest is the word of a list that takes the fewest changes of letters.
func nearest(word string, list []string) string {
	best, least := list[0], -1
	for _, each := range list {
		if n := yamlfile.Distance(word, each); least < 0 || n < least {
			best, least = each, n
		}
	}
	return best
}
