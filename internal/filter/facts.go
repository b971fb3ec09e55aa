package filter

import (
	"bytes"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"uakari/internal/fact"
)

// FromFacts reads the tables of a host as it was looked at.
func FromFacts(t *fact.Tables) (*Ruleset, error) {
	links := map[uint32]Link{}
	for _, l := range t.Links {
		links[l.Index] = Link{Name: l.Name, Group: l.Group, Kind: l.Kind, Type: l.Type}
	}
	byIndex, byName := map[uint16]*Set{}, map[string]*Set{}
	for i := range t.IPSets {
		s := fromIPSet(&t.IPSets[i])
		byIndex[t.IPSets[i].Index], byName[s.Name] = s, s
	}
	r := &Ruleset{Links: links}
	if n := t.Nftables; n != nil {
		var err error
		r, err = FromNetlink(Dump{n.Tables, n.Chains, n.Sets, n.Elements, n.Rules, byIndex, links})
		if err != nil {
			return nil, err
		}
	}
	for _, s := range t.Saved {
		older, err := FromSaved([]byte(s.Text), byName)
		if err != nil {
			return nil, fmt.Errorf("the older tables: %w", err)
		}
		for _, table := range older.Tables {
			table.Family, table.Xtable = IPv4, Legacy
			if s.Six {
				table.Family = IPv6
			}
		}
		r.Tables = append(r.Tables, older.Tables...)
	}
	if t.Firewall != nil {
		table, err := fromFirewall(t.Firewall)
		if err != nil {
			return nil, err
		}
		r.Tables = append(r.Tables, table)
	}
	r.arrange()
	return r, nil
}

// Join is the tables of two rule sets of one host.
func Join(a, b *Ruleset) *Ruleset {
	r := &Ruleset{
		Tables: append(slices.Clone(a.Tables), b.Tables...),
		Opaque: append(slices.Clone(a.Opaque), b.Opaque...),
		Links:  a.Links,
	}
	r.arrange()
	return r
}

// fromIPSet is a kernel IP set in the form that rules look up: each member's
// fields, one after the other.
func fromIPSet(in *fact.IPSet) *Set {
	s := &Set{Name: in.Name}
	size := 4
	if in.Six {
		size = 16
	}
	_, spec, _ := strings.Cut(in.Type, ":")
	for field := range strings.SplitSeq(spec, ",") {
		switch field {
		case "ip", "net":
			s.Fields = append(s.Fields, size)
		case "port":
			s.Fields = append(s.Fields, 1, 2)
		default:
			s.Why = fmt.Sprintf("the set %s is of the type %s, which is not understood", in.Name, in.Type)
		}
	}
	for _, m := range in.Members {
		e := Elem{Negated: m.Not}
		ranged := false
		nets := []string{m.Net, m.Net2}
		for _, n := range s.Fields {
			low, high := []byte{m.Proto}, []byte{m.Proto}
			switch n {
			case 2:
				from, to, ok := strings.Cut(m.Port, "-")
				if !ok {
					to = from
				}
				a, err := strconv.ParseUint(from, 10, 16)
				b, err2 := strconv.ParseUint(to, 10, 16)
				if err != nil || err2 != nil {
					s.Why = "a member of the set " + in.Name + " is not understood"
				}
				low, high = be16(uint16(a)), be16(uint16(b))
			case 4, 16:
				p, err := prefix(nets[0])
				if nets = append(nets[1:], ""); err != nil || p.Addr().BitLen() != n*8 {
					s.Why = "a member of the set " + in.Name + " is not understood"
					p = netip.PrefixFrom(netip.IPv4Unspecified(), 0)
				}
				low, high = bounds(p)
			}
			ranged = ranged || !bytes.Equal(low, high)
			e.Key, e.End = append(e.Key, low...), append(e.End, high...)
			if len(s.Fields) > 1 {
				for len(e.Key)%4 != 0 {
					e.Key, e.End = append(e.Key, 0), append(e.End, 0)
				}
			}
		}
		if !ranged {
			e.End = nil
		}
		s.Elems = append(s.Elems, e)
	}
	for _, n := range s.Fields {
		if len(s.Fields) > 1 {
			n = (n + 3) &^ 3
		}
		s.KeyLen += n
	}
	if len(s.Fields) == 1 {
		s.Fields = nil
	}
	s.index()
	return s
}

// HostFacts is what of a host's facts decides over packets; nil for what was
// not seen.
type HostFacts struct {
	Name      string
	Tables    *fact.Tables
	Addresses *fact.Addresses
	Routes    *fact.Routes
	Kernel    *fact.Kernel
}

// Take keeps a fact, if it is one of those.
func (h *HostFacts) Take(f *fact.Fact) {
	switch {
	case f.Tables != nil:
		h.Tables = f.Tables
	case f.Addresses != nil:
		h.Addresses = f.Addresses
	case f.Routes != nil:
		h.Routes = f.Routes
	case f.Kernel != nil:
		h.Kernel = f.Kernel
	}
}

// NewHost makes the model of a host. Tables that contradict themselves are
// unread.
func NewHost(f HostFacts) *Host {
	h := &Host{Name: f.Name, Forwards: [2]Tri{Unknown, Unknown}, Reverse: map[string]int{},
		ForwardsFrom: map[string]bool{}}
	if f.Tables != nil {
		r, err := FromFacts(f.Tables)
		switch {
		case err != nil:
			h.Unread = "the tables of " + f.Name + ": " + err.Error()
		case f.Tables.Nftables == nil && f.Tables.Firewall == nil:
			h.Unread = "the tables of " + f.Name + " were not read"
		default:
			h.Rules = r
		}
	}
	if f.Addresses != nil {
		for _, a := range f.Addresses.Held {
			h.Held = append(h.Held, Held{a.Prefix, a.Link, !a.Up})
		}
	}
	if f.Routes != nil && len(f.Routes.Entries) > 0 {
		h.Routing = routingOf(f.Routes)
	}
	if f.Kernel != nil {
		h.kernel(f.Kernel.Settings)
	}
	return h
}

// kernel takes the settings that decide over packets.
func (h *Host) kernel(settings map[string]string) {
	for i, key := range []string{"net/ipv4/ip_forward", "net/ipv6/conf/all/forwarding"} {
		if v, ok := settings[key]; ok {
			h.Forwards[i] = triOf(v != "0")
		}
	}
	all, _ := strconv.Atoi(settings["net/ipv4/conf/all/rp_filter"])
	for key, v := range settings {
		link, ours := strings.CutPrefix(key, "net/ipv4/conf/")
		link, what, _ := strings.Cut(link, "/")
		if n, err := strconv.Atoi(v); ours && err == nil && link != "all" && link != "default" {
			switch what {
			case "rp_filter":
				h.Reverse[link] = max(all, n) // the greater of the two counts (ip-sysctl)
			case "forwarding":
				h.ForwardsFrom[link] = n != 0 // it alone counts; the general one only sets it
			}
		}
	}
	low, high, ok := strings.Cut(settings["net/ipv4/ip_local_port_range"], " ")
	a, err := strconv.ParseUint(low, 10, 16)
	b, err2 := strconv.ParseUint(strings.TrimSpace(high), 10, 16)
	if ok && err == nil && err2 == nil {
		h.Ports = Range{uint16(a), uint16(b)}
	}
}

func routingOf(in *fact.Routes) *Routing {
	r := &Routing{}
	for _, e := range in.Entries {
		r.Routes = append(
			r.Routes,
			Route{Table: e.Table, Dst: e.Dst, Type: e.Type, Dev: e.Dev, Via: e.Via, Source: e.Source, Metric: e.Metric,
				Down: e.Down, Many: e.Many, Text: e.Text},
		)
	}
	for _, p := range in.Policies {
		r.Rules = append(
			r.Rules,
			RouteRule{
				Priority: p.Priority,
				From:     p.From,
				To:       p.To,
				Mark:     p.Mark,
				MarkMask: p.Mask,
				In:       p.In,
				Out:      p.Out,
				Table:    p.Table,
				Type:     p.Type,
				Suppress: p.Suppress,
				Invert:   p.Invert,
				Six:      p.Six,
				Opaque:   p.Opaque,
			},
		)
	}
	slices.SortStableFunc(r.Rules, func(a, b RouteRule) int { return a.Priority - b.Priority })
	return r
}
