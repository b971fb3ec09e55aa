package names

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/miekg/dns"

	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/look"
	"uakari/internal/wire"
)

// Services asks every resolver for the service records of a name (RFC 2782).
func Services(ctx context.Context, env look.Env, order fact.Order, emit look.Emit) {
	l := looker{env: env, order: order, emit: emit}
	setup, ok := l.setup()
	if !ok {
		return
	}
	for _, server := range setup.Servers {
		r := fact.ServiceRecords{Resolver: server, Asked: order.Target.Name}
		began := time.Now()
		reply, err := l.askOne(ctx, server, dns.Fqdn(order.Target.Name), dns.TypeSRV)
		r.TookMS = wire.MS(time.Since(began))
		if err != nil {
			r.Outcome = failedQuery(err)
		} else {
			answer := fact.Answer{}
			readReply(reply, &answer)
			r.Outcome = answer.Outcome
			for _, rr := range reply.Answer[:min(len(reply.Answer), mostAnswers)] {
				if s, ok := rr.(*dns.SRV); ok {
					r.List = append(r.List, fact.ServiceRecord{
						Target: foreign.Clean(strings.TrimSuffix(s.Target, ".")),
						Port:   s.Port, Priority: s.Priority, Weight: s.Weight})
					r.Outcome = fact.Addressed
				}
			}
		}
		f := env.Seen(order, fmt.Sprintf("SRV %s at %s", order.Target.Name, server), sawServices(r))
		f.ServiceRecords = &r
		emit(f)
	}
}

func sawServices(r fact.ServiceRecords) string {
	if len(r.List) == 0 {
		return string(r.Outcome)
	}
	var texts []string
	for _, s := range r.List {
		texts = append(texts, fmt.Sprintf("%s:%d", s.Target, s.Port))
	}
	return strings.Join(texts, ", ")
}

// askOne asks one resolver one question, within the environment's wait.
func (l looker) askOne(ctx context.Context, server netip.AddrPort, name string, kind uint16) (*dns.Msg, error) {
	ctx, cancel := context.WithTimeout(ctx, look.Within(ctx, l.env.Patience()))
	defer cancel()
	question := new(dns.Msg)
	question.SetQuestion(presentation(name), kind)
	question.SetEdns0(1232, false)
	return exchange(ctx, server.String(), question)
}

// Reverse looks an address up as services do that care for their clients'
// names: its names, and which of them lead back to it.
func Reverse(ctx context.Context, env look.Env, order fact.Order, emit look.Emit) {
	l := looker{env: env, order: order, emit: emit}
	addr := order.Target.Addr.Unmap()
	r := fact.Reverse{Addr: addr}
	path := env.HostsFile
	if path == "" {
		path = systemHosts
	}
	if entries, err := allHosts(path); err == nil {
		for _, e := range entries {
			if slices.Contains(e.Addrs, addr) {
				r.Names = append(r.Names, e.Name)
				r.Back = append(r.Back, e.Name)
			}
		}
	}
	if len(r.Names) == 0 {
		if err := l.reverse(ctx, &r); err != nil {
			emit(
				env.Failed(
					order,
					"PTR of "+addr.String(),
					"could not look the address up",
					err,
					"a resolver that answers",
				),
			)
			return
		}
	}
	saw := "no name"
	if len(r.Names) > 0 {
		saw = strings.Join(r.Names, ", ")
		if len(r.Back) == 0 {
			saw += ", which does not lead back"
		}
	}
	f := env.Seen(order, "PTR of "+addr.String(), saw)
	f.Reverse = &r
	emit(f)
}

var errNoResolver = errors.New("no resolver answers")

func (l looker) reverse(ctx context.Context, r *fact.Reverse) error {
	setup, ok := l.setup()
	if !ok {
		return errNoResolver
	}
	arpa, err := dns.ReverseAddr(r.Addr.String())
	if err != nil {
		return err
	}
	for _, server := range setup.Servers {
		reply, err := l.askOne(ctx, server, arpa, dns.TypePTR)
		if err != nil || reply.Rcode != dns.RcodeSuccess && reply.Rcode != dns.RcodeNameError {
			continue
		}
		kind := dns.TypeA
		if r.Addr.Is6() {
			kind = dns.TypeAAAA
		}
		for _, rr := range reply.Answer[:min(len(reply.Answer), mostAnswers)] {
			ptr, ok := rr.(*dns.PTR)
			if !ok {
				continue
			}
			name := foreign.Clean(strings.TrimSuffix(ptr.Ptr, "."))
			r.Names = append(r.Names, name)
			forward := fact.Answer{Type: dns.TypeToString[kind]}
			if back, err := l.askOne(ctx, server, dns.Fqdn(name), kind); err == nil {
				readReply(back, &forward)
			}
			if slices.Contains(forward.Addrs, r.Addr) {
				r.Back = append(r.Back, name)
			}
		}
		return nil
	}
	return errNoResolver
}
