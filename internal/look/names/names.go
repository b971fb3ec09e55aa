// Package names looks a name up in every place that this host's programs
// would, each by itself: the hosts file, and every configured resolver.
package names

import (
	"context"
	"errors"
	"fmt"
	"net"
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

// Look asks the hosts file and every resolver for the addresses of a name.
// All resolvers are asked at once; the names of the search list only when
// nobody knows the first form of the name.
func Look(ctx context.Context, env look.Env, order fact.Order, emit look.Emit) {
	l := looker{env: env, order: order, emit: emit}
	l.hosts()
	setup, ok := l.setup()
	if !ok {
		return
	}
	system := make(chan struct{})
	go func() {
		defer close(system)
		l.system(ctx)
	}()
	defer func() { <-system }()
	candidates := setup.Candidates(order.Target.Name)
	behind := setup
	behind.Servers = setup.Upstreams
	upstream := make(chan struct{})
	go func() {
		defer close(upstream)
		l.ask(ctx, behind, candidates[:1])
	}()
	defer func() { <-upstream }()
	if !l.ask(ctx, setup, candidates[:1]) {
		l.ask(ctx, setup, candidates[1:])
	}
}

// Resolver leaves how this host looks names up, and its whole hosts file, one
// fact per name.
func Resolver(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
	l := looker{env: env, order: order, emit: emit}
	l.setup()
	path := env.HostsFile
	if path == "" {
		path = systemHosts
	}
	entries, err := allHosts(path)
	if err != nil {
		emit(env.Failed(order, path, "could not read the hosts file", err, ""))
	}
	for _, entry := range entries {
		f := env.Seen(order, path, fmt.Sprintf("line %d: %s is %s", entry.Line, entry.Name, joinAddrs(entry.Addrs)))
		f.HostsFile = &entry
		emit(f)
	}
}

type looker struct {
	env   look.Env
	order fact.Order
	emit  look.Emit
}

// hosts leaves what the hosts file says.
func (l looker) hosts() {
	path := l.env.HostsFile
	if path == "" {
		path = systemHosts
	}
	entry, err := ReadHosts(path, l.order.Target.Name)
	if err != nil {
		l.emit(l.env.Failed(l.order, path, "could not read the hosts file", err, ""))
		return
	}
	if own := strings.ToLower(strings.TrimSuffix(l.order.Target.Name, ".")); len(entry.Addrs) == 0 &&
		(own == "localhost" || strings.HasSuffix(own, ".localhost")) {
		// Programs answer this name themselves (RFC 6761 section 6.3).
		entry = fact.HostsFile{
			Path:  "RFC 6761",
			Name:  entry.Name,
			Addrs: []netip.Addr{netip.MustParseAddr("127.0.0.1")},
		}
	}
	saw := "does not name it"
	if len(entry.Addrs) > 0 {
		saw = fmt.Sprintf("line %d: %s", entry.Line, joinAddrs(entry.Addrs))
	}
	f := l.env.Seen(l.order, path, saw)
	f.HostsFile = &entry
	l.emit(f)
}

func joinAddrs(addrs []netip.Addr) string {
	var texts []string
	for _, a := range addrs {
		texts = append(texts, a.String())
	}
	return strings.Join(texts, ", ")
}

// setup leaves how this host is set to look names up.
func (l looker) setup() (fact.ResolverSetup, bool) {
	setup, err := ownSetup()
	if len(l.env.Resolvers) > 0 {
		setup = fact.ResolverSetup{Path: "--resolver", Servers: l.env.Resolvers, Ndots: 1, TimeoutMS: 5000,
			Attempts: 2}
		err = nil
	}
	if err != nil {
		l.emit(l.env.Failed(l.order, systemSetup, "could not read how names are looked up", err, "--resolver ADDRESS"))
		return setup, false
	}
	var servers []string
	for _, s := range setup.Servers {
		servers = append(servers, s.String())
	}
	f := l.env.Seen(l.order, setup.Path, "resolvers "+strings.Join(servers, ", "))
	f.Setup = &setup
	l.emit(f)
	return setup, true
}

// ask asks every resolver for every name, A and AAAA, all at once. It reports
// whether anybody gave an address.
func (l looker) ask(ctx context.Context, setup fact.ResolverSetup, candidates []string) bool {
	var (
		wg    sync.WaitGroup
		mu    sync.Mutex // guards found
		found bool
	)
	for _, name := range candidates {
		for _, server := range setup.Servers {
			for _, kind := range []uint16{dns.TypeA, dns.TypeAAAA} {
				wg.Go(func() {
					answer := l.query(ctx, server, name, kind)
					f := l.env.Seen(
						l.order,
						fmt.Sprintf("%s %s at %s", answer.Type, strings.TrimSuffix(name, "."), server),
						sawAnswer(answer),
					)
					f.Answer = &answer
					l.emit(f)
					mu.Lock()
					found = found || answer.Outcome == fact.Addressed
					mu.Unlock()
				})
			}
		}
	}
	wg.Wait()
	return found
}

func sawAnswer(a fact.Answer) string {
	took := fmt.Sprintf(" in %.1f ms", a.TookMS)
	switch a.Outcome {
	case fact.Addressed:
		return fmt.Sprintf("%s, kept %d s%s", joinAddrs(a.Addrs), a.TTL, took)
	case fact.NoSuchName:
		return "no such name" + took
	case fact.NoData:
		return "no such address" + took
	case fact.NoReply:
		return fmt.Sprintf("no answer in %.1f s", a.TookMS/1000)
	case fact.CutOff:
		return "too large for a datagram, and nothing comes over TCP" + took
	}
	return string(a.Outcome) + took
}

// presentation writes a name as the DNS library reads it back: bytes beyond
// printable ASCII as \DDD (RFC 1035 section 5.1).
func presentation(name string) string {
	var b strings.Builder
	for i := range len(name) {
		if c := name[i]; c > ' ' && c < 0x7f {
			b.WriteByte(c)
		} else {
			fmt.Fprintf(&b, `\%03d`, c)
		}
	}
	return b.String()
}

// resend is how long one datagram is waited for before it is sent again.
const resend = time.Second

// query asks one resolver one question, over UDP and, if the answer does not
// fit, over TCP (RFC 1035 section 4.2).
func (l looker) query(ctx context.Context, server netip.AddrPort, name string, kind uint16) fact.Answer {
	ctx, cancel := context.WithTimeout(ctx, look.Within(ctx, l.env.Patience()))
	defer cancel()
	question := new(dns.Msg)
	question.SetQuestion(presentation(name), kind)
	question.SetEdns0(1232, false)
	answer := fact.Answer{Resolver: server, Asked: name, Type: dns.TypeToString[kind]}
	began := time.Now()
	reply, err := exchange(ctx, server.String(), question)
	answer.TookMS = wire.MS(time.Since(began))
	if err != nil {
		answer.Outcome = failedQuery(err)
		return answer
	}
	readReply(reply, &answer)
	if reply.Truncated {
		answer.Outcome = fact.CutOff
	}
	if _, zone, ok := strings.Cut(strings.TrimSuffix(name, "."), "."); ok && answer.Outcome == fact.NoSuchName &&
		!answer.Authoritative {
		if outer, err := exchange(ctx, server.String(), soaOf(zone)); err == nil && outer.Rcode == dns.RcodeNameError {
			answer.Denies = zone
		}
	}
	if answer.Outcome == fact.ServerFailure {
		// Whether it is the signatures shows without their being checked.
		question.CheckingDisabled = true
		question.Id = dns.Id()
		if unchecked, err := exchange(ctx, server.String(), question); err == nil &&
			unchecked.Rcode == dns.RcodeSuccess {
			second := answer
			readReply(unchecked, &second)
			answer.Unchecked = second.Addrs
		}
		if len(answer.Aliases) == 0 {
			answer.Aliases = l.links(ctx, server, name)
		}
	}
	return answer
}

func soaOf(zone string) *dns.Msg {
	question := new(dns.Msg)
	question.SetQuestion(presentation(zone+"."), dns.TypeSOA)
	question.SetEdns0(1232, false)
	return question
}

// mostLinks bounds how far a chain of aliases is followed.
const mostLinks = 8

// links follows a chain of aliases link by link, where a resolver fails for the
// whole: each is asked for by itself. It ends with the first that is there
// already, which is a loop.
func (l looker) links(ctx context.Context, server netip.AddrPort, name string) []string {
	var chain []string
	seen := map[string]bool{strings.ToLower(strings.TrimSuffix(name, ".")): true}
	for range mostLinks {
		question := new(dns.Msg)
		question.SetQuestion(presentation(name), dns.TypeCNAME)
		question.SetEdns0(1232, false)
		reply, err := exchange(ctx, server.String(), question)
		if err != nil {
			return chain
		}
		next := ""
		for _, rr := range reply.Answer {
			if alias, ok := rr.(*dns.CNAME); ok && strings.EqualFold(alias.Hdr.Name, presentation(name)) {
				next = alias.Target
			}
		}
		if next == "" {
			return chain
		}
		link := strings.ToLower(strings.TrimSuffix(next, "."))
		chain = append(chain, link)
		if seen[link] {
			return chain
		}
		seen[link], name = true, next
	}
	return chain
}

func exchange(ctx context.Context, server string, question *dns.Msg) (*dns.Msg, error) {
	for {
		udp := dns.Client{Net: "udp", Timeout: resend}
		reply, _, err := udp.ExchangeContext(ctx, question, server)
		if err == nil && reply.Truncated {
			tcp := dns.Client{Net: "tcp", Timeout: time.Minute}
			if deadline, ok := ctx.Deadline(); ok {
				tcp.Timeout = time.Until(deadline)
			}
			whole, _, err := tcp.ExchangeContext(ctx, question, server)
			if err != nil {
				return reply, nil // what came over UDP, still marked as truncated
			}
			return whole, nil
		}
		if err == nil && !answers(reply, question) {
			return nil, dns.ErrId
		}
		if !isTimeout(err) || ctx.Err() != nil {
			return reply, err
		}
	}
}

// answers reports whether a reply is one to our question.
func answers(reply, question *dns.Msg) bool {
	if !reply.Response || reply.Id != question.Id {
		return false
	}
	if len(reply.Question) == 0 {
		return reply.Rcode != dns.RcodeSuccess // some refuse without repeating it
	}
	q := question.Question[0]
	return strings.EqualFold(reply.Question[0].Name, q.Name) && reply.Question[0].Qtype == q.Qtype
}

func isTimeout(err error) bool {
	var ne net.Error
	return errors.As(err, &ne) && ne.Timeout()
}

func failedQuery(err error) fact.AnswerOutcome {
	switch {
	case isTimeout(err), errors.Is(err, context.DeadlineExceeded), errors.Is(err, context.Canceled):
		return fact.NoReply
	case slices.ContainsFunc(unreachable, func(e error) bool { return errors.Is(err, e) }):
		return fact.Unreachable
	}
	return fact.BadReply
}

// mostAnswers bounds the addresses and aliases kept of one answer.
const mostAnswers = 32

// readReply takes what matters out of a reply.
func readReply(reply *dns.Msg, answer *fact.Answer) {
	answer.Authoritative, answer.Verified, answer.Edns = reply.Authoritative, reply.AuthenticatedData,
		reply.IsEdns0() != nil
	switch reply.Rcode {
	case dns.RcodeSuccess:
	case dns.RcodeNameError:
		answer.Outcome = fact.NoSuchName
		answer.Aliases = aliasesOf(reply)
		return
	case dns.RcodeRefused:
		answer.Outcome = fact.QueryRefused
		return
	default:
		answer.Outcome = fact.ServerFailure
		return
	}
	ttl := ^uint32(0)
	names := namesOf(reply)
	for _, rr := range reply.Answer[:min(len(reply.Answer), 2*mostAnswers)] {
		if !names[strings.ToLower(rr.Header().Name)] {
			continue // of another name: nobody asked for it
		}
		switch r := rr.(type) {
		case *dns.A:
			if addr, ok := netip.AddrFromSlice(r.A.To4()); ok && answer.Type == "A" {
				answer.Addrs = append(answer.Addrs, addr)
			}
		case *dns.AAAA:
			if addr, ok := netip.AddrFromSlice(r.AAAA.To16()); ok && answer.Type == "AAAA" {
				answer.Addrs = append(answer.Addrs, addr)
			}
		case *dns.CNAME:
		default:
			continue
		}
		ttl = min(ttl, rr.Header().Ttl)
	}
	answer.Aliases = aliasesOf(reply)
	answer.Addrs = slices.Compact(answer.Addrs[:min(len(answer.Addrs), mostAnswers)])
	answer.Outcome = fact.NoData
	if len(answer.Addrs) > 0 {
		answer.Outcome, answer.TTL = fact.Addressed, ttl
	}
}

// namesOf is the name that was asked for and those that its aliases lead to.
func namesOf(reply *dns.Msg) map[string]bool {
	names := map[string]bool{}
	if len(reply.Question) == 1 {
		names[strings.ToLower(reply.Question[0].Name)] = true
	}
	for more := true; more; {
		more = false
		for _, rr := range reply.Answer[:min(len(reply.Answer), 2*mostAnswers)] {
			c, ok := rr.(*dns.CNAME)
			if ok && names[strings.ToLower(c.Hdr.Name)] && !names[strings.ToLower(c.Target)] {
				names[strings.ToLower(c.Target)], more = true, true
			}
		}
	}
	return names
}

// aliasesOf is the chain of aliases of a reply, in its order.
func aliasesOf(reply *dns.Msg) []string {
	var list []string
	for _, rr := range reply.Answer[:min(len(reply.Answer), mostAnswers)] {
		if c, ok := rr.(*dns.CNAME); ok {
			list = append(list, foreign.Clean(strings.TrimSuffix(c.Target, ".")))
		}
	}
	return list
}
