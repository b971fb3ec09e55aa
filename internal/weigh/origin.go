package weigh

import (
	"cmp"
	"fmt"
	"math"
	"net/netip"
	"slices"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/redact"
	"uakari/internal/trail"
)

// Features is what a client is like, as far as a run saw it, for comparing it
// with others.
func Features(set fact.Set) []string {
	var list []string
	add := func(format string, args ...any) {
		if text := fmt.Sprintf(format, args...); !slices.Contains(list, text) {
			list = append(list, text)
		}
	}
	client := ""
	for _, v := range set.Vantages {
		if v.Role == fact.Client {
			client = v.ID
		}
	}
	for i := range set.Facts {
		f := &set.Facts[i]
		if f.Vantage != client {
			continue
		}
		switch {
		case f.Setup != nil:
			for _, server := range f.Setup.Servers {
				add("resolver: %s", server.Addr())
			}
		case f.HostsFile != nil:
			for _, a := range f.HostsFile.Addrs {
				add("hosts file: %s %s", a, f.HostsFile.Name)
			}
		case f.Addresses != nil:
			for _, a := range f.Addresses.Held {
				if p := a.Prefix; !a.Local && p.IsValid() && !p.Addr().IsLinkLocalUnicast() &&
					p.Bits() < p.Addr().BitLen() {
					add("subnet: %s", p.Masked())
				}
			}
		case f.Route != nil && f.Route.Via.IsValid():
			add("gateway: %s", f.Route.Via)
		case f.Library != nil:
			add("TLS library: %s", f.Saw)
		case f.Proxy != nil && f.Proxy.Value != "":
			add("proxy: %s", f.Proxy.Value)
		case f.Identity != nil:
			add("system: %s", strings.TrimSpace(f.Identity.Name+" "+f.Identity.Kernel))
		case f.Service != nil:
			for _, p := range f.Service.Programs {
				if p.Package.Name != "" {
					add("package: %s %s", p.Package.Name, p.Package.Version)
				}
				for _, file := range p.Files {
					if redact.Comparable(file.Mark, redact.Mark("")) {
						add("file: %s, text %s", file.Path, file.Mark)
					}
				}
			}
		case f.Settings != nil:
			for _, each := range f.Settings.List {
				value := each.Value
				if value == redact.Hidden && redact.Comparable(each.Mark, redact.Mark("")) {
					value = each.Mark
				}
				if value != "" && value != redact.Hidden {
					add("setting: %s, %s = %s", each.At.File, each.At.Key, value)
				}
			}
		case f.Answer != nil && len(f.Answer.Addrs) > 0:
			var addrs []netip.Addr
			addrs = append(addrs, f.Answer.Addrs...)
			slices.SortFunc(addrs, netip.Addr.Compare)
			add("%s is %s by %s", strings.TrimSuffix(f.Answer.Asked, "."), joined(addrs), f.Answer.Resolver.Addr())
		}
	}
	slices.Sort(list)
	return list
}

// GroupSweep puts rows of one cause together, the most clients first, and looks
// for what the hosts of each have in common.
func GroupSweep(rows []trail.SweepRow) []trail.SweepGroup {
	groups := []trail.SweepGroup{}
	for _, r := range rows {
		if r.Unseen != "" || r.Outcome == trail.OutcomeClear {
			continue
		}
		at := slices.IndexFunc(groups, func(g trail.SweepGroup) bool { return g.Cause == r.Cause })
		if at < 0 {
			groups = append(groups, trail.SweepGroup{Cause: r.Cause, Certainty: string(r.Certainty),
				Summary: r.Summary})
			at = len(groups) - 1
		}
		g := &groups[at]
		if !slices.Contains(g.Clients, r.Client) {
			g.Clients = append(g.Clients, r.Client)
		}
		if !slices.Contains(g.Endpoints, r.Endpoint) {
			g.Endpoints = append(g.Endpoints, r.Endpoint)
		}
	}
	for i := range groups {
		groups[i].Origin = originOf(groups[i], rows)
		groups[i].Everybody = !slices.ContainsFunc(rows, func(r trail.SweepRow) bool {
			return r.Outcome == trail.OutcomeClear && slices.Contains(groups[i].Endpoints, r.Endpoint)
		})
	}
	slices.SortStableFunc(groups, func(a, b trail.SweepGroup) int { return len(b.Clients) - len(a.Clients) })
	return groups
}

// likelyChance is how likely a difference may be by chance and still be told.
const likelyChance = 0.05

// originOf is the feature that separates the clients of a cause best from those
// that reached the same endpoints; nil if none does beyond chance.
func originOf(g trail.SweepGroup, rows []trail.SweepRow) *trail.Origin {
	failing, working := map[string][]string{}, map[string][]string{}
	for _, r := range rows {
		switch {
		case r.Unseen != "" || !slices.Contains(g.Endpoints, r.Endpoint):
		case slices.Contains(g.Clients, r.Client):
			failing[r.Client] = append(failing[r.Client], r.Features...)
		case r.Outcome == trail.OutcomeClear:
			working[r.Client] = append(working[r.Client], r.Features...)
		}
	}
	if len(failing) == 0 || len(working) == 0 {
		return nil
	}
	features := map[string]bool{}
	for _, list := range failing {
		for _, f := range list {
			features[f] = true
		}
	}
	var best *trail.Origin
	var all []*trail.Origin
	for feature := range features {
		o := &trail.Origin{
			Feature:  feature,
			With:     having(failing, feature),
			Of:       len(failing),
			Others:   having(working, feature),
			OfOthers: len(working),
		}
		o.Chance = min(1, float64(len(features))*exact(o.With, o.Of, o.Others, o.OfOthers))
		if o.Chance <= likelyChance {
			all = append(all, o)
		}
	}
	slices.SortFunc(all, func(a, b *trail.Origin) int {
		return cmp.Or(
			cmp.Compare(a.Chance, b.Chance),
			cmp.Compare(said(a.Feature), said(b.Feature)),
			strings.Compare(a.Feature, b.Feature),
		)
	})
	for _, o := range all {
		if best == nil {
			best = o
		} else if o.Chance == best.Chance {
			best.Also = append(best.Also, o.Feature)
		}
	}
	return best
}

// said puts tags, which people gave, before what was seen of a host.
func said(feature string) int {
	name, _, _ := strings.Cut(feature, ":")
	if slices.Contains([]string{"resolver", "hosts file", "subnet", "gateway", "TLS library", "proxy", "system"},
		name) ||
		strings.Contains(feature, " is ") {
		return 1
	}
	return 0
}

func having(hosts map[string][]string, feature string) int {
	n := 0
	for _, list := range hosts {
		if slices.Contains(list, feature) {
			n++
		}
	}
	return n
}

// exact is how likely it is that at least so many of the failing hosts have a
// feature that so many of all have, if it has nothing to do with failing
// (Fisher's exact test, one-sided).
func exact(with, of, others, ofOthers int) float64 {
	total, have := of+ofOthers, with+others
	sum := 0.0
	for k := with; k <= min(of, have); k++ {
		if have-k > ofOthers {
			continue
		}
		sum += math.Exp(choose(of, k) + choose(ofOthers, have-k) - choose(total, have))
	}
	return min(1, sum)
}

// choose is the logarithm of a binomial coefficient.
func choose(n, k int) float64 {
	a, _ := math.Lgamma(float64(n + 1))
	b, _ := math.Lgamma(float64(k + 1))
	c, _ := math.Lgamma(float64(n - k + 1))
	return a - b - c
}
