package filter

import (
	"fmt"
	"math/big"
	"net/netip"
	"slices"
	"strings"
)

// Opening is packets whose fate a change turns.
type Opening struct {
	Proto    uint8
	Ports    Range
	To       netip.Addr
	From     []netip.Prefix
	Count    *big.Int // addresses
	Accepted bool     // what becomes of them after the change
	// Asked is the address that was asked about, if it is one of many.
	Asked netip.Addr

	spans []interval
}

// mostCases bounds how many kinds of packets are compared.
const mostCases = 40000

// Differences compares two states of one host for every packet that the
// changed rules may meet: by set arithmetic over sources, destinations and
// ports, cut where any rule makes a difference. It reports false if there were
// too many cases to compare them all.
func Differences(before, after *Host, changed []*Rule, asked Packet, hop Hop) ([]Opening, bool) {
	six := asked.Six()
	cuts := newCuts(six)
	for _, h := range []*Host{before, after} {
		for _, t := range h.Rules.Tables {
			for _, c := range t.order {
				for _, r := range h.rulesOf(c) {
					cuts.rule(r)
				}
			}
		}
	}
	var regions []region
	for _, r := range changed {
		regions = append(regions, regionOf(r, six, asked)...)
	}
	tos := []netip.Addr{asked.To}
	for _, held := range after.Held {
		if a := held.Prefix.Addr(); a.Is6() == six && !a.IsLoopback() && !slices.Contains(tos, a) && len(tos) < 8 {
			tos = append(tos, a)
		}
	}
	var found []Opening
	cases, whole := 0, true
	for _, g := range regions {
		froms := cuts.pieces(0, g.from)
		ports := cuts.pieces(1, g.port)
		for _, to := range tos {
			if !g.to.holds(to) {
				continue
			}
			for _, port := range ports {
				open := Opening{
					Proto: g.proto,
					Ports: Range{uint16(port.lowPort()), uint16(port.highPort())},
					To:    to,
					Count: new(big.Int),
				}
				shut := open
				shut.Count = new(big.Int)
				for _, from := range froms {
					if cases++; cases > mostCases {
						return merged(found), false
					}
					p := Packet{
						Proto:  g.proto,
						From:   from.lowAddr(six),
						To:     to,
						ToPort: uint16(port.lowPort()),
						Flags:  SYN,
					}
					if g.proto == ICMP || g.proto == ICMPv6 {
						p.ICMPType, p.ToPort = Echo(six), 0
					}
					if p.From == to || p.From.IsUnspecified() || p.From.IsMulticast() {
						continue
					}
					was, now := passes(before, p, hop), passes(after, p, hop)
					switch {
					case was == Unknown || now == Unknown:
						whole = whole && was == now
					case was == No && now == Yes:
						open.spans = append(open.spans, from)
					case was == Yes && now == No:
						shut.spans = append(shut.spans, from)
					}
				}
				open.Accepted = true
				for _, o := range []Opening{open, shut} {
					if o.finish(asked, six) {
						found = append(found, o)
					}
				}
			}
		}
	}
	return merged(found), whole
}

// passes reports whether a host lets a packet through.
func passes(h *Host, p Packet, hop Hop) Tri {
	hop.Host = h
	switch Request(p, []Hop{hop}).Verdict {
	case Accepts:
		return Yes
	case Drops, Rejects:
		return No
	}
	return Unknown
}

// merged joins openings that differ in their ports alone and meet.
func merged(list []Opening) []Opening {
	var out []Opening
	for _, o := range list {
		if n := len(out); n > 0 {
			last := &out[n-1]
			if last.Proto == o.Proto && last.To == o.To && last.Accepted == o.Accepted &&
				last.Ports.High+1 == o.Ports.Low &&
				slices.Equal(last.From, o.From) {
				last.Ports.High = o.Ports.High
				continue
			}
		}
		if !slices.ContainsFunc(out, func(x Opening) bool {
			return x.Proto == o.Proto && x.To == o.To && x.Accepted == o.Accepted && x.Ports == o.Ports &&
				slices.Equal(x.From, o.From)
		}) {
			out = append(out, o)
		}
	}
	return out
}

// String tells an opening: "443/tcp of 10.20.0.14 to 10.20.7.0/24 (256 addresses)".
func (o Opening) String() string {
	ports := ""
	switch {
	case o.Proto == ICMP || o.Proto == ICMPv6:
	case o.Ports.Low == 0 && o.Ports.High == 65535:
		ports = "every port, "
	case o.Ports.Low == o.Ports.High:
		ports = fmt.Sprintf("%d/", o.Ports.Low)
	default:
		ports = fmt.Sprintf("%d-%d/", o.Ports.Low, o.Ports.High)
	}
	const most = 4
	if len(o.From) == 1 && o.From[0].Bits() == 0 {
		return fmt.Sprintf("%s%s of %s to every address", ports, protoName(o.Proto), o.To)
	}
	var names []string
	for i, p := range o.From {
		if i == most {
			names = append(names, "…")
			break
		}
		if p.IsSingleIP() {
			names = append(names, p.Addr().String())
		} else {
			names = append(names, p.String())
		}
	}
	count := o.Count.String() + " addresses"
	if o.Count.IsInt64() && o.Count.Int64() == 1 {
		count = "1 address"
	} else if len(count) > 22 {
		count = "very many addresses"
	}
	if o.Asked.IsValid() && o.Count.IsInt64() {
		return fmt.Sprintf(
			"%s%s of %s to %s: %s and %d others",
			ports,
			protoName(o.Proto),
			o.To,
			strings.Join(names, ", "),
			o.Asked,
			o.Count.Int64()-1,
		)
	}
	return fmt.Sprintf("%s%s of %s to %s (%s)", ports, protoName(o.Proto), o.To, strings.Join(names, ", "), count)
}

// Lines is every rule and policy of the tables as text, for comparing two
// moments of one host.
func (r *Ruleset) Lines() []string {
	var lines []string
	for _, t := range r.Tables {
		for _, c := range t.order {
			if c.Drop {
				lines = append(lines, fmt.Sprintf("%s %s: policy drop", t.Title(), c.Name))
			}
			for _, rule := range c.Rules {
				lines = append(lines, fmt.Sprintf("%s %s: %s", t.Title(), c.Name, rule.Words()))
			}
		}
	}
	return lines
}
