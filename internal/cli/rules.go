package cli

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"slices"
	"strconv"
	"strings"

	"uakari/internal/weigh/rules"

	"github.com/spf13/cobra"

	"uakari/internal/fact"
	"uakari/internal/filter"
	"uakari/internal/foreign"
	"uakari/internal/look"
	"uakari/internal/look/file"
	"uakari/internal/tell"
	"uakari/internal/trail"
)

// rulesFlags is what the flags of rules say.
type rulesFlags struct {
	traceFlags
	from, to, transport   string
	tables                string
	hook, arrives, leaves string
	suppose               []string
}

func newRules() *cobra.Command {
	f := rulesFlags{traceFlags: traceFlags{out: "text"}}
	cmd := &cobra.Command{
		Use:   "rules [ENDPOINT]",
		Short: "find the rule that stops a packet, and what would let it through",
		Long: `Follow a packet, and the reply to it, through the packet filters, routes and
translations of this host, of records, and of saved tables; name every rule in
its way, and the narrowest change that would let it through.

With an ENDPOINT, judge the rules rung of a trace alone. With --tables, judge a
saved dump, of whatever host: nft -j list ruleset, or iptables-save.

Exit status: 0 the packet and its reply pass, 1 one of them does not, 3 that
cannot be told, 2 wrong usage or unreadable input.`,
		Example: `  uakari rules --from 10.20.7.31 --to 10.20.0.14:443
  uakari rules --from 10.20.7.31 --to 10.20.0.14:443 --record tidebook.uakari.json
  uakari rules --tables ruleset.json --hook in --from 10.20.7.31 --to 10.20.0.14:443
  uakari rules --tables rules.v4 --from 10.20.7.31 --to 10.20.0.14:443 \
      --suppose '-I INPUT 3 -s 10.20.7.0/24 -p tcp --dport 443 -j ACCEPT'`,
		Args: takes(0, 1, "one ENDPOINT"),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx, stop := interruptible(cmd)
			defer stop()
			if len(args) == 1 {
				if f.from != "" || f.to != "" || f.tables != "" {
					return errors.New("rules: either an ENDPOINT, or --from and --to")
				}
				f.only = []string{"rules"}
				return f.traceFlags.run(ctx, cmd, args[0])
			}
			return f.journey(ctx, cmd)
		},
	}
	f.addFlags(cmd)
	f.addFar(cmd)
	flags := cmd.Flags()
	flags.StringVar(&f.from, "from", "", "where the packet comes from: `ADDRESS[:PORT]`")
	flags.StringVar(&f.to, "to", "", "where it goes: `ADDRESS:PORT`, or an address alone for icmp")
	flags.StringVar(&f.transport, "transport", "tcp", "tcp, udp or icmp")
	flags.StringVar(&f.tables, "tables", "", "judge the saved tables in this `file`")
	flags.StringVar(&f.hook, "hook", "in", "how the packet meets the saved tables' host: in, out or through")
	flags.StringVar(&f.arrives, "arrives", "", "the `link` by which it comes")
	flags.StringVar(&f.leaves, "leaves", "", "the `link` by which it leaves")
	flags.StringArrayVar(
		&f.suppose,
		"suppose",
		nil,
		"suppose this change, a command of nft or iptables or a `file` of them: what does it open?",
	)
	asData(cmd, &f.json, " (uakari.journey/1)")
	flags.StringVar(&f.color, "color", "auto", "auto, always or never")
	return cmd
}

// place reads ADDRESS[:PORT].
func place(flag, text string) (netip.Addr, uint16, error) {
	if a, err := netip.ParseAddr(strings.Trim(text, "[]")); err == nil {
		return a.Unmap(), 0, nil
	}
	if ap, err := netip.ParseAddrPort(text); err == nil {
		return ap.Addr().Unmap(), ap.Port(), nil
	}
	if text == "" {
		return netip.Addr{}, 0, fmt.Errorf("rules: %s is needed: an address, as in %s 10.20.7.31", flag, flag)
	}
	return netip.Addr{}, 0, fmt.Errorf(
		"%s %q: expected ADDRESS or ADDRESS:PORT, with [ ] around an IPv6 address that has a port",
		flag,
		text,
	)
}

// packet is the packet that the flags describe.
func (f *rulesFlags) packet() (filter.Packet, error) {
	var p filter.Packet
	from, fromPort, err := place("--from", f.from)
	if err != nil {
		return p, err
	}
	to, toPort, err := place("--to", f.to)
	if err != nil {
		return p, err
	}
	p = filter.Packet{From: from, FromPort: fromPort, To: to, ToPort: toPort}
	if from.Is6() != to.Is6() {
		return p, fmt.Errorf("--from %s and --to %s: expected two addresses of one family", from, to)
	}
	switch f.transport {
	case "tcp":
		p.Proto, p.Flags = filter.TCP, filter.SYN
	case "udp":
		p.Proto = filter.UDP
	case "icmp":
		p.Proto = filter.ICMP
		if to.Is6() {
			p.Proto = filter.ICMPv6
		}
		p.ICMPType, p.FromPort, p.ToPort = filter.Echo(to.Is6()), 0, 0
		return p, nil
	default:
		return p, fmt.Errorf("--transport %q: expected tcp, udp or icmp", f.transport)
	}
	if toPort == 0 {
		return p, fmt.Errorf("--to %q: expected a port too, as in --to %s", f.to, netip.AddrPortFrom(to, 443))
	}
	return p, nil
}

// journey follows one packet over the hosts that are known.
func (f *rulesFlags) journey(ctx context.Context, cmd *cobra.Command) error {
	p, err := f.packet()
	if err != nil {
		return err
	}
	on, err := colour(f.color, cmd.OutOrStdout())
	if err != nil {
		return err
	}
	var hops []filter.Hop
	if f.tables != "" {
		hops, err = f.saved(ctx, p)
	} else {
		hops, err = f.hops(ctx, p)
	}
	if err != nil {
		return err
	}
	sheets, err := f.readSheets(ctx)
	if err != nil {
		return err
	}
	if len(hops) == 0 && len(sheets) == 0 {
		return fmt.Errorf(
			"rules: neither %s nor %s is an address of this host or of a record; give a host's record, saved tables "+
				"with --tables, or a --sheet",
			p.From,
			p.To,
		)
	}
	j := rules.Journey(p, hops)
	rules.Layers(&j, sheets, p)
	if len(f.suppose) > 0 {
		if j.Suppose, err = f.supposed(ctx, p, hops); err != nil {
			return err
		}
	}
	if err := told(cmd, f.json, j, func() string { return tell.Journey(j, on) }); err != nil {
		return err
	}
	return journeyStatus(j)
}

func journeyStatus(j trail.Journey) error {
	for _, want := range []struct {
		verdicts []string
		status   int
	}{{[]string{"drop", "reject"}, exitFault}, {[]string{"unknown"}, exitUnsure}} {
		for _, leg := range []trail.Leg{j.Leg, j.Reply} {
			if slices.Contains(want.verdicts, leg.Verdict) {
				return exit(want.status)
			}
		}
	}
	if j.Later != nil {
		return exit(exitFault)
	}
	return nil
}

// saved is the host of a saved dump: on the side that the hook implies it
// holds the packet's address.
func (f *rulesFlags) saved(ctx context.Context, p filter.Packet) ([]filter.Hop, error) {
	text, err := f.read(ctx, f.tables, filter.MostText)
	if err != nil {
		return nil, err
	}
	tables, err := filter.Parse(text)
	if err != nil {
		return nil, fmt.Errorf("%s:%w", f.tables, err)
	}
	if len(tables.Opaque) > 0 {
		fmt.Fprintf(
			os.Stderr,
			"uakari: %s: not judged: %s\n",
			f.tables,
			foreign.Printable(strings.Join(tables.Opaque, "; ")),
		)
	}
	h := &filter.Host{Name: "the host", Rules: tables, Alone: true, Forwards: [2]filter.Tri{filter.Yes, filter.Yes}}
	own := func(a netip.Addr) filter.Held { return filter.Held{Prefix: netip.PrefixFrom(a, a.BitLen())} }
	hop := filter.Hop{Host: h, In: f.arrives, Out: f.leaves}
	switch f.hook {
	case "in":
		h.Held = append(h.Held, own(p.To))
	case "out":
		h.Held = append(h.Held, own(p.From))
	case "through":
	default:
		return nil, fmt.Errorf("--hook %q: expected in, out or through", f.hook)
	}
	return []filter.Hop{hop}, nil
}

// hops is this host and those of records, as far as they are on the packet's
// way, in its order.
func (f *rulesFlags) hops(ctx context.Context, p filter.Packet) ([]filter.Hop, error) {
	type seen struct {
		hop        filter.Hop
		from, to   bool
		through    bool
		name, role string
	}
	var list []seen
	add := func(name, role string, facts []fact.Fact) {
		h := filter.HostFacts{Name: name}
		unread := ""
		for i := range facts {
			each := &facts[i]
			h.Take(each)
			if each.Failed != nil && each.Order.Look == fact.LookTables {
				unread = fmt.Sprintf("the tables of %s: %s", name, each.Failed.Why)
				if each.Failed.Needs != "" {
					unread += "; needs " + each.Failed.Needs
				}
			}
		}
		s := seen{hop: filter.Hop{Host: filter.NewHost(h)}, name: name, role: role}
		if s.hop.Host.Unread == "" {
			s.hop.Host.Unread = unread
		}
		if h.Addresses != nil {
			s.from, s.to = h.Addresses.Holds(p.From), h.Addresses.Holds(p.To)
		}
		s.through = role == string(fact.Gateway)
		list = append(list, s)
	}
	add(
		hostname(),
		"",
		lookHere(ctx, look.Env{}, fact.Order{Look: fact.LookTables}, fact.Order{Look: fact.LookAddresses},
			fact.Order{Look: fact.LookRoutes}, fact.Order{Look: fact.LookKernel}),
	)
	for _, text := range f.records {
		role, path, err := roleOf("--record", text)
		if err != nil {
			return nil, err
		}
		r, err := f.readRecord(ctx, path)
		if err != nil {
			return nil, err
		}
		add(r.Host, string(role), r.Facts)
	}
	var hops []filter.Hop
	for _, want := range []func(seen) bool{
		func(s seen) bool { return s.from },
		func(s seen) bool { return s.through && !s.from && !s.to },
		func(s seen) bool { return s.to && !s.from },
	} {
		for _, s := range list {
			if want(s) {
				hops = append(hops, s.hop)
			}
		}
	}
	if len(hops) == 0 {
		return nil, nil
	}
	hops[0].Out, hops[len(hops)-1].In = f.leaves, f.arrives
	return hops, nil
}

// supposed makes the changes on the host that they fit, and compares.
func (f *rulesFlags) supposed(ctx context.Context, p filter.Packet, hops []filter.Hop) (*trail.Suppose, error) {
	var texts []string
	for _, text := range f.suppose {
		if kept, err := file.Typed(ctx, text, file.MostSettings); err == nil {
			for line := range strings.Lines(string(kept)) {
				if line = strings.TrimSpace(line); line != "" && line[0] != '#' {
					texts = append(texts, line)
				}
			}
			continue
		}
		texts = append(texts, text)
	}
	changed := slices.Clone(hops)
	s := &trail.Suppose{Change: strings.Join(texts, "; "), Opens: []string{}, Closes: []string{}}
	for _, text := range texts {
		at, err := supposeOn(changed, text)
		if err != nil {
			return nil, fmt.Errorf("--suppose %s: %w", strconv.Quote(text), err)
		}
		before, after := hops[at.index].Host, at.host
		list, whole := filter.Differences(before, after, at.rules, p, hops[at.index])
		if !whole {
			s.Partly = "not every case could be compared"
		}
		for _, o := range list {
			if o.Accepted {
				s.Opens = append(s.Opens, o.String())
			} else {
				s.Closes = append(s.Closes, o.String())
			}
		}
		changed[at.index].Host = at.host
	}
	s.Before = verdicts(rules.Journey(p, hops))
	s.After = verdicts(rules.Journey(p, changed))
	return s, nil
}

func verdicts(j trail.Journey) string {
	if j.Verdict == "accept" {
		return "accept, its reply " + j.Reply.Verdict
	}
	return j.Verdict
}

// supposition is a change on one of the hosts.
type supposition struct {
	index int
	host  *filter.Host
	rules []*filter.Rule
}

// supposeOn makes a change on the last host that it fits.
func supposeOn(hops []filter.Hop, text string) (supposition, error) {
	var first error
	for i := len(hops) - 1; i >= 0; i-- {
		h, rules, err := hops[i].Host.Suppose(text)
		if err == nil {
			return supposition{i, h, rules}, nil
		}
		if first == nil {
			first = err
		}
	}
	return supposition{}, first
}
