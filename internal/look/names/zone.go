package names

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/miekg/dns"

	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/look"
	"uakari/internal/wire"
)

// Bounds of a walk to the authoritative servers.
const (
	mostZoneServers = 13
	mostCuts        = 8
)

// Zone finds the zone that a name is in, from the nearest cut that answers,
// and asks each of its authoritative servers by itself.
func Zone(ctx context.Context, env look.Env, order fact.Order, emit look.Emit) {
	l := looker{env: env, order: order, emit: emit}
	name := dns.Fqdn(order.Target.Name)
	source := "authority of " + strings.TrimSuffix(name, ".")
	setup, err := ownSetup()
	if len(env.Resolvers) > 0 {
		setup.Servers, err = env.Resolvers, nil
	}
	if err != nil {
		emit(env.Failed(order, source, "could not read how names are looked up", err, "--resolver ADDRESS"))
		return
	}
	zone, servers, by, err := l.cut(ctx, setup.Servers, name)
	if err != nil {
		emit(env.Failed(order, source, "could not find the authoritative servers", err, ""))
		return
	}
	z := fact.Zone{Name: zone, Said: by.String()}
	var wg sync.WaitGroup
	var mu sync.Mutex // guards z.Servers
	for _, server := range servers[:min(len(servers), mostZoneServers)] {
		wg.Go(func() {
			for _, each := range l.zoneServer(ctx, by, zone, server, name) {
				mu.Lock()
				z.Servers = append(z.Servers, each)
				mu.Unlock()
			}
		})
	}
	wg.Wait()
	slices.SortFunc(
		z.Servers,
		func(a, b fact.ZoneServer) int { return cmp.Or(strings.Compare(a.Name, b.Name), a.Addr.Compare(b.Addr)) },
	)
	f := env.Seen(order, source, fmt.Sprintf("%d servers of %s", len(z.Servers), strings.TrimSuffix(zone, ".")))
	f.Zone = &z
	emit(f)
}

// cut finds the nearest zone at or above a name, and its servers, by the
// first resolver that answers. All names above are asked for at once.
func (l looker) cut(
	ctx context.Context,
	resolvers []netip.AddrPort,
	name string,
) (zone string, servers []string, by netip.AddrPort, err error) {
	var cuts []string
	for at := name; at != "." && at != "" && len(cuts) < mostCuts; {
		cuts = append(cuts, at)
		_, at, _ = strings.Cut(at, ".")
	}
	err = errors.New("no resolver answers")
	for _, resolver := range resolvers {
		found := make([][]string, len(cuts))
		answered := false
		var mu sync.Mutex // guards answered
		var wg sync.WaitGroup
		for i, each := range cuts {
			wg.Go(func() {
				reply, err := l.question(ctx, resolver.String(), each, dns.TypeNS, true)
				mu.Lock()
				answered = answered || err == nil
				mu.Unlock()
				if err != nil {
					return
				}
				for _, rr := range reply.Answer {
					if ns, ok := rr.(*dns.NS); ok && strings.EqualFold(ns.Hdr.Name, each) {
						found[i] = append(found[i], ns.Ns)
					}
				}
			})
		}
		wg.Wait()
		for i, list := range found {
			if len(list) > 0 {
				return cuts[i], list, resolver, nil
			}
		}
		if answered {
			err = errors.New("no zone above it names its servers")
		}
	}
	return "", nil, netip.AddrPort{}, err
}

func (l looker) question(ctx context.Context, server, name string, kind uint16, recurse bool) (*dns.Msg, error) {
	ctx, cancel := context.WithTimeout(ctx, look.Within(ctx, l.env.Patience()))
	defer cancel()
	q := new(dns.Msg)
	q.SetQuestion(presentation(name), kind)
	q.RecursionDesired = recurse
	q.SetEdns0(1232, false)
	return exchange(ctx, server, q)
}

// zoneServer asks one authoritative server, at each of its addresses, for its
// serial and for the name.
func (l looker) zoneServer(ctx context.Context, by netip.AddrPort, zone, server, name string) []fact.ZoneServer {
	var addrs []netip.Addr
	for _, kind := range []uint16{dns.TypeA, dns.TypeAAAA} {
		a := l.query(ctx, by, server, kind)
		addrs = append(addrs, a.Addrs...)
	}
	clean := foreign.Clean(strings.TrimSuffix(server, "."))
	if len(addrs) == 0 {
		return []fact.ZoneServer{{Name: clean, Outcome: fact.NoData}}
	}
	list := make([]fact.ZoneServer, len(addrs))
	var wg sync.WaitGroup
	for i, addr := range addrs {
		wg.Go(func() { list[i] = l.askAuthority(ctx, clean, netip.AddrPortFrom(addr, authorityPort(by)), zone, name) })
	}
	wg.Wait()
	return list
}

// authorityPort is the port of authoritative servers: 53, unless the resolver
// is on a port of its own, as in a world on loopback.
func authorityPort(by netip.AddrPort) uint16 {
	if by.Addr().IsLoopback() && by.Port() != 53 {
		return by.Port()
	}
	return 53
}

func (l looker) askAuthority(ctx context.Context, server string, at netip.AddrPort, zone,
	name string) fact.ZoneServer {
	z := fact.ZoneServer{Name: server, Addr: at.Addr()}
	began := time.Now()
	var wg sync.WaitGroup
	var soa *dns.Msg
	var soaErr error
	answers := make([]fact.Answer, 2)
	wg.Go(func() { soa, soaErr = l.question(ctx, at.String(), zone, dns.TypeSOA, false) })
	for i, kind := range []uint16{dns.TypeA, dns.TypeAAAA} {
		wg.Go(func() {
			reply, err := l.question(ctx, at.String(), name, kind, false)
			answers[i].Type = dns.TypeToString[kind]
			if err != nil {
				answers[i].Outcome = failedQuery(err)
				return
			}
			readReply(reply, &answers[i])
		})
	}
	wg.Wait()
	z.TookMS = wire.MS(time.Since(began))
	if soaErr != nil {
		z.Outcome = failedQuery(soaErr)
		return z
	}
	z.Lame = !soa.Authoritative
	for _, rr := range soa.Answer {
		if s, ok := rr.(*dns.SOA); ok {
			z.Serial = s.Serial
		}
	}
	z.Outcome = answers[0].Outcome
	for _, a := range answers {
		if a.Outcome == fact.Addressed {
			z.Outcome = a.Outcome
		}
		z.Addrs = append(z.Addrs, a.Addrs...)
		if len(z.Aliases) == 0 {
			z.Aliases = a.Aliases
		}
	}
	return z
}
