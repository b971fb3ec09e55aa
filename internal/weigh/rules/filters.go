package rules

import (
	"fmt"
	"net/netip"
	"slices"

	"uakari/internal/fact"
	"uakari/internal/filter"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// filtered is the symptoms that a packet filter may give.
var filtered = []gate.Symptom{
	gate.SilentTCP,
	gate.AnsweredBetween,
	gate.SilentUDP,
	gate.Unasked,
	gate.RefusedByReset,
	gate.ICMPFromClient,
	gate.ICMPFromTarget,
	gate.PortUnreachable,
	gate.ICMPFromElsewhere,
	gate.NotPermittedHere,
	gate.ServerFirstSilent,
	gate.ClientFirstSilent,
	gate.UnreachableFrom,
}

// standing is one host on a packet's way, as far as it was seen.
type standing struct {
	vantage string
	role    fact.Role
	host    *filter.Host
	read    bool   // its tables were read
	why     string // why the gate stays unread, though they say nothing against the packet
}

// dropCauses and rejectCauses name what stops a packet, by whose rule it is.
var (
	dropCauses = map[fact.Role]string{
		fact.Client:  "rules/client-drop",
		fact.Gateway: "rules/gateway-drop",
		fact.Server:  "rules/server-drop",
	}
	rejectCauses = map[fact.Role]string{
		fact.Client:  "rules/client-reject",
		fact.Gateway: "rules/gateway-reject",
		fact.Server:  "rules/server-reject",
	}
)

// FilterReadings evaluates the tables of every host on the way for the
// client's first packet, the reply, and the packets that follow.
func FilterReadings(v *scene.Scene, w *scene.Wants, t *scene.Try) []gate.Reading {
	if !slices.Contains(filtered, t.Symptom) {
		return nil
	}
	w.Add(
		scene.Want{Look: fact.LookRoute, At: fact.Client, Target: fact.Target{Addr: t.Target.Addr}, Gate: gate.WayOut},
	)
	seats := seats(v, w, t)
	for _, at := range seats {
		for _, look := range []fact.Kind{fact.LookTables, fact.LookRoutes, fact.LookKernel, fact.LookBarriers} {
			w.Add(scene.Want{Look: look, At: at.Role, On: at.ID, Gate: gateOf(at.Role)})
		}
	}
	source, _, from := v.Source(t)
	if !source.IsValid() {
		source = v.SoleAddress(t.Target.Addr)
	}
	if !source.IsValid() {
		return nil
	}
	if t.Server != "" {
		w.Add(
			scene.Want{
				Look:   fact.LookRoute,
				At:     fact.Server,
				On:     t.Server,
				Target: fact.Target{Addr: source},
				Gate:   gate.WayBack,
			},
			scene.Want{Look: fact.LookPeers, At: fact.Server, On: t.Server, Gate: gate.WayIn},
		)
	}
	var readings []gate.Reading
	p := firstPacket(v, t, source)
	sure := true // the packet that reaches a host is the one that it is judged by
	g := gate.Way
	hosts := hostsOnWay(v, t, seats)
	for i, at := range hosts {
		if at.role == fact.Server {
			sure = sure && noneBetween(v, t, hosts[:i]) || v.SeenFrom(t, source)
			if seen, ok := arrivedFrom(v, t); ok {
				p.From, p.AnySource, sure = seen, false, true
			}
		}
		g = gateOf(at.role)
		if at.role == fact.Server && ledAway(v, t, at, p) {
			continue
		}
		if !at.read {
			sure = false
			continue
		}
		links := arrivals(v, t, at, p)
		trip := filter.Travel(p, []filter.Hop{{Host: at.host, In: links[0]}})
		list := stopped(v, t, at, g, trip)
		pass := passed(v, t, at, g, trip)
		if at.role == fact.Server && p.From != source {
			asOther(v, t, at, p, source, list)
		}
		for _, link := range links[1:] {
			other := stopped(v, t, at, g, filter.Travel(p, []filter.Hop{{Host: at.host, In: link}}))
			if sameReadings(list, other) {
				continue
			}
			pass = nil
			for j := range list {
				list[j].Lacks = append(
					list[j].Lacks,
					gate.Lack{
						Guard: gate.SamePacket,
						Why: fmt.Sprintf(
							"whether it comes to %s by %s or by %s is not known",
							v.Host(at.vantage),
							links[0],
							link,
						),
					},
				)
			}
		}
		for j := range list {
			if from != "" {
				list[j].Because = append(list[j].Because, from)
			}
			if !sure {
				list[j].Lacks = append(list[j].Lacks, otherSource(v, t, at, p, list[j])...)
			}
		}
		readings = append(readings, list...)
		if len(list) == 0 {
			readings = append(readings, pass...)
		}
		if trip.Request.Verdict == filter.Accepts || len(list) > 0 {
			p = onward(p, trip.Request.Last)
		} else {
			sure = false
		}
	}
	onlyLimit(v, t, hosts, readings)
	if last := hosts[len(hosts)-1]; last.role != fact.Server || !noneBetween(v, t, hosts) {
		// A router that was not read may be the one that stops it.
		readings = slices.DeleteFunc(readings, func(r gate.Reading) bool {
			return r.Cause == "" &&
				r.Gate == gate.Way
		})
	}
	return append(readings, wayBackOpen(v, t, hosts, readings)...)
}

// onlyLimit takes a limit for the likely cause where all hosts on the way were read, and
// nothing else in them may be what stops the packet.
func onlyLimit(v *scene.Scene, t *scene.Try, hosts []standing, readings []gate.Reading) {
	room := func(l fact.Listener) bool { return l.Queue <= l.Limit }
	if hosts[len(hosts)-1].role != fact.Server || !noneBetween(v, t, hosts) ||
		!slices.ContainsFunc(v.Taking(t), room) || // what nobody takes needs no limit to fail
		slices.ContainsFunc(hosts, func(at standing) bool { return !at.read || at.why != "" }) {
		return
	}
	shut := slices.DeleteFunc(slices.Clone(readings), gate.Reading.Open)
	if len(shut) != 1 || shut[0].Cause != "rules/rate-limited" {
		return
	}
	at := slices.IndexFunc(readings, func(r gate.Reading) bool { return !r.Open() })
	readings[at].Strength = gate.Inferred
	readings[at].Summary += "; nothing else in the filters on the way stops it"
}

// ledAway reports whether a translation before the server sends a packet to an address that
// the server does not have: it never comes there.
func ledAway(v *scene.Scene, t *scene.Try, at standing, p filter.Packet) bool {
	_, held := v.Addresses(at.vantage)
	return p.To != t.Target.Addr.Unmap().WithZone("") && held != nil && !held.Holds(p.To)
}

// firstPacket is the client's first packet, from a source.
func firstPacket(v *scene.Scene, t *scene.Try, source netip.Addr) filter.Packet {
	p := filter.Packet{
		Proto:  filter.TCP,
		From:   source,
		To:     t.Target.Addr.Unmap().WithZone(""),
		ToPort: t.Target.Port,
		Flags:  filter.SYN,
	}
	if v.Scheme.UDP {
		p.Proto, p.Flags = filter.UDP, 0
	}
	return p
}

// wayBackOpen reads the way back open where both ends let the reply pass:
// what may stop it then is on the way.
func wayBackOpen(v *scene.Scene, t *scene.Try, hosts []standing, readings []gate.Reading) []gate.Reading {
	last := hosts[len(hosts)-1]
	if last.role != fact.Server || len(readings) == 0 {
		return nil
	}
	for _, p := range hosts {
		if !p.read || p.why != "" {
			return nil
		}
	}
	for _, r := range readings {
		if !r.Open() {
			return nil
		}
	}
	return []gate.Reading{
		{
			Gate:     gate.WayBack,
			Strength: gate.Read,
			Because:  tableIDs(v, last.vantage),
			Vantage:  last.vantage,
			Summary:  "both ends let the reply pass",
		},
	}
}

// asOther names the fault of a host that refuses the address which it sees,
// and would let the client's own in.
func asOther(v *scene.Scene, t *scene.Try, at standing, p filter.Packet, source netip.Addr, list []gate.Reading) {
	seen := p.From
	p.From = source
	if filter.Request(p, []filter.Hop{{Host: at.host, In: arrivals(v, t, at, p)[0]}}).Verdict != filter.Accepts {
		return
	}
	for i := range list {
		list[i].Cause = "rules/other-source"
		list[i].Summary = fmt.Sprintf("%s sees %s, not %s: %s", v.Host(at.vantage), seen, source, list[i].Summary)
		list[i].Values["seen"], list[i].Values["source"] = seen.String(), source.String()
	}
}

// onward is the packet as it leaves a host, fit to enter the next one.
func onward(before, last filter.Packet) filter.Packet {
	before.From, before.To, before.FromPort, before.ToPort, before.AnySource = last.From, last.To, last.FromPort,
		last.ToPort, last.AnySource
	return before
}

func gateOf(role fact.Role) gate.Gate {
	return map[fact.Role]gate.Gate{fact.Client: gate.WayOut, fact.Gateway: gate.Way, fact.Server: gate.WayIn}[role]
}

// hostsOnWay is the models of the hosts on the way.
func hostsOnWay(v *scene.Scene, t *scene.Try, seats []fact.Vantage) []standing {
	var list []standing
	for _, at := range seats {
		p := standing{vantage: at.ID, role: at.Role, host: FilterHost(v, at.ID)}
		p.read = p.host.Rules != nil
		if p.why = Beside(v, at.ID, p.host); p.why == "" && p.read && t.Target.Addr.Unmap().Is4() {
			p.why = kernelUnread(v, at)
		}
		list = append(list, p)
	}
	return list
}

// kernelUnread says that a host's settings of the kernel were not read, by which it drops
// packets of IPv4 beside its rules (ip-sysctl: rp_filter); "" if they were.
func kernelUnread(v *scene.Scene, at fact.Vantage) string {
	if at.System == "windows" || slices.ContainsFunc(v.Facts(at.ID, fact.LookKernel), func(f *fact.Fact) bool {
		return f.Kernel != nil && f.Order.Target.Again == 0
	}) {
		return ""
	}
	return "the settings of the kernel of " + v.Host(at.ID) + " were not read"
}

// FilterHost is the model of a vantage's host, made once.
func FilterHost(v *scene.Scene, vantage string) *filter.Host {
	f := filter.HostFacts{Name: v.Host(vantage)}
	_, f.Addresses = v.Addresses(vantage)
	type seen struct {
		vantage                   string
		tables, routes, kernel, a any
	}
	key := seen{vantage: vantage, a: f.Addresses}
	for _, each := range v.All {
		switch {
		case each.Vantage != vantage:
		case each.Tables != nil:
			f.Tables, key.tables = each.Tables, each.Tables
		case each.Routes != nil:
			f.Routes, key.routes = each.Routes, each.Routes
		case each.Kernel != nil && each.Order.Target.Again == 0:
			f.Kernel, key.kernel = each.Kernel, each.Kernel
		}
	}
	return v.Set.Memo(key, func() any {
		host := filter.NewHost(f)
		for _, change := range v.Set.Supposed[vantage] { // of a fix that is rehearsed
			if with, _, err := host.Suppose(change); err == nil {
				host = with
			}
		}
		return host
	}).(*filter.Host)
}

func TablesOf(v *scene.Scene, vantage string) *fact.Tables {
	for _, f := range v.Facts(vantage, fact.LookTables) {
		if f.Tables != nil {
			return f.Tables
		}
	}
	return nil
}

// sameReadings reports whether two evaluations stop a packet alike.
func sameReadings(a, b []gate.Reading) bool {
	return slices.EqualFunc(a, b, func(x, y gate.Reading) bool { return x.Summary == y.Summary })
}

// otherSource is the guard of the same packet: where it is not certain from
// which address the packet comes to a host, another one must fare alike.
func otherSource(v *scene.Scene, t *scene.Try, at standing, p filter.Packet, r gate.Reading) []gate.Lack {
	p.AnySource = true
	trip := filter.Travel(p, []filter.Hop{{Host: at.host, In: arrivals(v, t, at, p)[0]}})
	for _, other := range stopped(v, t, at, gateOf(at.role), trip) {
		if other.Summary == r.Summary {
			return nil
		}
	}
	return []gate.Lack{
		{
			Guard: gate.SameSource,
			Why: "a translation on the way may show " + v.Host(
				at.vantage,
			) + " another address than " + p.From.String() + ", which would fare otherwise",
		},
	}
}

// passed is the gates that a host's tables open.
func passed(v *scene.Scene, t *scene.Try, at standing, g gate.Gate, trip filter.Trip) []gate.Reading {
	for _, w := range []filter.Walk{trip.Request, trip.Reply} {
		if w.Verdict != filter.Accepts {
			return nil
		}
	}
	if at.why != "" {
		return nil
	}
	ids := tableIDs(v, at.vantage)
	text := fmt.Sprintf("the filters of %s let it pass, and its reply", v.Host(at.vantage))
	if at.role == fact.Gateway {
		// Other things than routers may lie on the way: it counts for what is left.
		return []gate.Reading{
			{Gate: gate.Way, Strength: gate.Inferred, Because: ids, Vantage: at.vantage, Summary: text},
		}
	}
	list := []gate.Reading{{Gate: g, Strength: gate.Read, Because: ids, Vantage: at.vantage, Summary: text}}
	if at.role == fact.Client && v.OnSame(t) {
		list = append(
			list,
			gate.Reading{Gate: gate.WayIn, Strength: gate.Read, Because: ids, Vantage: at.vantage, Summary: text},
			gate.Reading{Gate: gate.WayBack, Strength: gate.Read, Because: ids, Vantage: at.vantage, Summary: text},
		)
	}
	return list
}

func tableIDs(v *scene.Scene, vantage string) []string {
	var ids []string
	for _, f := range v.Facts(vantage, fact.LookTables) {
		if f.Tables != nil {
			ids = append(ids, f.ID)
		}
	}
	return ids
}
