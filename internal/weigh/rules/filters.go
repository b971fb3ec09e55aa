package rules

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/filter"
	"uakari/internal/weigh/catalogue"
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
		source = soleAddress(v, t.Target.Addr)
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
	if last := hosts[len(hosts)-1]; last.role != fact.Server || !noneBetween(v, t, hosts) {
		// A router that was not read may be the one that stops it.
		readings = slices.DeleteFunc(readings, func(r gate.Reading) bool {
			return r.Cause == "" &&
				r.Gate == gate.Way
		})
	}
	return append(readings, wayBackOpen(v, t, hosts, readings)...)
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
			Gate:    gate.WayBack,
			Because: tableIDs(v, last.vantage),
			Vantage: last.vantage,
			Summary: "both ends let the reply pass",
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
		p.why = Beside(v, at.ID, p.host)
		list = append(list, p)
	}
	return list
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
	return v.Set.Memo(key, func() any { return filter.NewHost(f) }).(*filter.Host)
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
	list := []gate.Reading{{Gate: g, Because: ids, Vantage: at.vantage, Summary: text}}
	if at.role == fact.Client && v.OnSame(t) {
		list = append(
			list,
			gate.Reading{Gate: gate.WayIn, Because: ids, Vantage: at.vantage, Summary: text},
			gate.Reading{Gate: gate.WayBack, Because: ids, Vantage: at.vantage, Summary: text},
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

// stopped is everything in a host's tables that stops the packet, its reply,
// or the packets that follow.
func stopped(v *scene.Scene, t *scene.Try, at standing, g gate.Gate, trip filter.Trip) []gate.Reading {
	list := blocks(v, t, at, g, trip.Request)
	if len(list) > 0 && list[0].Cause == "rules/network-isolated" {
		return list // which holds both ways
	}
	list = append(list, blocks(v, t, at, gate.WayBack, trip.Reply)...)
	if len(list) == 0 {
		later := blocks(v, t, at, g, trip.Later)
		if len(later) == 0 {
			later = blocks(v, t, at, gate.WayBack, trip.LaterReply)
		}
		for i := range later {
			later[i].Gate = gate.Room // the connection is made, and then nothing passes
			later[i].Shows = []gate.Symptom{gate.ServerFirstSilent, gate.ClientFirstSilent, gate.LargeStalls}
			later[i].Summary += "; only what follows the first packet"
		}
		list = append(list, later...)
	}
	if r, ok := rateLimited(v, t, at, g, trip.Request); ok {
		list = append(list, r)
	}
	if r, ok := redirected(v, t, at, trip.Request); ok {
		list = append(list, r)
	}
	if r, ok := translationsGone(v, t, at, trip.Request); ok {
		list = append(list, r)
	}
	return list
}

// blocks is the readings of the steps that stop a walk.
func blocks(v *scene.Scene, t *scene.Try, at standing, g gate.Gate, walk filter.Walk) []gate.Reading {
	if walk.Verdict != filter.Drops && walk.Verdict != filter.Rejects {
		return nil
	}
	var list []gate.Reading
	for _, i := range walk.Blocks {
		r := block(v, t, at, g, walk, walk.Steps[i])
		keptApart(v, t, at, walk.Steps[i], &r)
		if why := engineChanges(v, t, at); why != "" {
			r.Lacks = append(r.Lacks, gate.Lack{Guard: gate.SameTime, Why: why})
		}
		list = append(list, r)
	}
	return list
}

func block(v *scene.Scene, t *scene.Try, at standing, g gate.Gate, walk filter.Walk, step filter.Step) gate.Reading {
	host := v.Host(at.vantage)
	r := gate.Reading{
		Gate:    g,
		Vantage: at.vantage,
		Because: tableIDs(v, at.vantage),
		Values:  v.Place(t, catalogue.Values{"at": host}),
	}
	rejects := strings.HasPrefix(step.Effect, "reject")
	role := at.role
	if role == fact.Client && v.OnSame(t) && (step.Hook == "input" || step.Hook == "prerouting") {
		role, r.Gate = fact.Server, gate.WayIn
		if g == gate.WayBack {
			r.Gate = gate.WayBack
		}
	}
	switch step.Kind {
	case filter.ByReversePath:
		r.Cause, r.Shows = "rules/reverse-path", []gate.Symptom{gate.SilentTCP}
		r.Summary = fmt.Sprintf("%s discards it: %s", host, strings.TrimPrefix(step.Effect, "strict "))
		r.Values["link"] = inLink(v, at, step)
		return r
	case filter.ByForwarding:
		r.Cause, r.Shows = "rules/forwarding-off", []gate.Symptom{gate.SilentTCP}
		r.Summary = fmt.Sprintf("%s is on the way and does not forward", host)
		r.Values["setting"] = "net.ipv4.ip_forward"
		if step.Packet.Six() {
			r.Values["setting"] = "net.ipv6.conf.all.forwarding"
		}
		return r
	case filter.ByRoute:
		r.Cause, r.Shows = "rules/no-route", []gate.Symptom{
			gate.SilentTCP,
			gate.UnreachableFrom,
			gate.ICMPFromElsewhere,
			gate.NoRouteHere,
		}
		if g == gate.WayBack {
			r.Cause = "rules/no-return-route"
			r.Shows = []gate.Symptom{gate.SilentTCP}
			r.Values["source"] = step.Packet.To.String()
		}
		r.Summary = fmt.Sprintf("%s has %s", host, step.Effect)
		r.Values["absent"], r.Values["client"], r.Values["server"], r.Values["addr"] = "yes", host, host,
			step.Packet.To.String()
		return r
	}
	r.Cause, r.Shows = dropCauses[role], []gate.Symptom{gate.SilentTCP, gate.NotPermittedHere}
	if rejects {
		r.Cause, r.Shows = rejectCauses[role], shownBy(role, step.With)
	}
	if g == gate.WayBack {
		r.Cause, r.Shows = "rules/return-drop", []gate.Symptom{gate.SilentTCP}
	}
	r.Summary = ruleText(v, host, step, g == gate.WayBack)
	mend(v, &r, at, step)
	return r
}

// shownBy is how a refusal looks to the client, by whose it is.
func shownBy(role fact.Role, with filter.Refusal) []gate.Symptom {
	if with == filter.ByReset {
		return []gate.Symptom{gate.RefusedByReset, gate.SilentTCP}
	}
	switch role {
	case fact.Client:
		return []gate.Symptom{gate.ICMPFromClient, gate.SilentTCP}
	case fact.Gateway:
		return []gate.Symptom{gate.ICMPFromElsewhere, gate.UnreachableFrom, gate.SilentTCP}
	}
	return []gate.Symptom{gate.ICMPFromTarget, gate.UnreachableFrom, gate.ICMPFromElsewhere, gate.SilentTCP}
}

// ruleText names a rule as its keeper knows it.
func ruleText(v *scene.Scene, host string, step filter.Step, back bool) string {
	what := "it"
	if back {
		what = "the reply"
	}
	verb := "drops"
	if strings.HasPrefix(step.Effect, "reject") {
		verb = "refuses"
	}
	return fmt.Sprintf("a rule on %s %s %s: %s", host, verb, what, RulePlace(step))
}

// RulePlace is where a rule stands, and what it says.
func RulePlace(step filter.Step) string {
	c := step.Chain
	where := fmt.Sprintf("table %s, chain %s", c.Table.Title(), c.Name)
	if step.Rule == nil {
		return where + ", its policy (drop)"
	}
	name := fmt.Sprintf("rule %d", step.Rule.Number)
	if step.Rule.Handle != 0 && c.Table.Xtable == filter.NotXtables {
		name = fmt.Sprintf("handle %d", step.Rule.Handle)
	}
	words := step.Rule.Words()
	const most = 120
	if len(words) > most {
		words = strings.ToValidUTF8(words[:most], "") + "…"
	}
	text := fmt.Sprintf("%s, %s (%s)", where, name, words)
	if step.Rule.Comment != "" && !strings.Contains(words, step.Rule.Comment) {
		text += fmt.Sprintf(", noted %q", step.Rule.Comment)
	}
	if kept := c.Kept(); kept != "" {
		text += ", kept by " + kept
	}
	return text
}

// mend fills in the narrowest change that lets the packet pass.
func mend(v *scene.Scene, r *gate.Reading, at standing, step filter.Step) {
	change, ok := at.host.Narrowest(step)
	if !ok {
		r.Values["none"] = "yes"
		return
	}
	r.Values["fix"], r.Values["unfix"], r.Values["opens"], r.Values["lasts"] = change.Do, change.Undo, change.Opens,
		change.Lasts
}

func inLink(v *scene.Scene, at standing, step filter.Step) string {
	if _, after, ok := strings.Cut(step.Effect, "it came by "); ok {
		link, _, _ := strings.Cut(after, ",")
		return link
	}
	return ""
}

// rateLimited is a walk that nothing but a rate or a number of connections
// decides.
func rateLimited(v *scene.Scene, t *scene.Try, at standing, g gate.Gate, walk filter.Walk) (gate.Reading, bool) {
	if walk.Verdict != filter.Undecidable || !walk.Stateful {
		return gate.Reading{}, false
	}
	return gate.Reading{
		Gate:     g,
		Cause:    "rules/rate-limited",
		Vantage:  at.vantage,
		Because:  tableIDs(v, at.vantage),
		Strength: gate.Hinted,
		Shows:    []gate.Symptom{gate.SilentTCP, gate.RefusedByReset, gate.ICMPFromTarget, gate.ICMPFromElsewhere},
		Summary:  fmt.Sprintf("on %s it hangs on a limit: %s", v.Host(at.vantage), walk.Why),
		Values:   v.Place(t, catalogue.Values{"at": v.Host(at.vantage)}),
	}, true
}

// redirected is a translation on the server that leads where nobody takes the
// connection.
func redirected(v *scene.Scene, t *scene.Try, at standing, walk filter.Walk) (gate.Reading, bool) {
	if walk.Verdict != filter.Accepts || at.role == fact.Client && !v.OnSame(t) {
		return gate.Reading{}, false
	}
	for _, rw := range walk.Rewrites {
		if rw.Kind != "destination" {
			continue
		}
		r := gate.Reading{
			Gate:    gate.WayIn,
			Cause:   "rules/redirected",
			Vantage: at.vantage,
			Because: tableIDs(v, at.vantage),
			Shows:   []gate.Symptom{gate.RefusedByReset, gate.SilentTCP, gate.UnreachableFrom, gate.ICMPFromElsewhere},
			Summary: fmt.Sprintf("a translation on %s sends it from %s to %s", v.Host(at.vantage), rw.Was, rw.Now),
			Values:  v.Place(t, catalogue.Values{"at": v.Host(at.vantage), "was": rw.Was, "now": rw.Now}),
		}
		_, held := v.Addresses(at.vantage)
		_, list := v.Listeners(t.Server)
		switch {
		case at.role == fact.Gateway:
			r.Gate = gate.Way
			r.Lacks = []gate.Lack{{Guard: gate.OneMeaning, Why: "whether it is meant to go there is not known"}}
		case held != nil && held.Holds(walk.Last.To) && list != nil:
			if slices.ContainsFunc(
				list.On(v.Ask.Endpoint.Transport, walk.Last.ToPort),
				func(l fact.Listener) bool { takes, _ := l.Takes(walk.Last.To); return takes },
			) {
				return gate.Reading{}, false
			}
			r.Summary += ", where nothing listens"
		default:
			f, c := v.HeldBy(at.vantage, walk.Last.To)
			if c != nil {
				inside := v.Inside(t, f, c, walk.Last.ToPort)
				_, told, _ := v.PublishedAt(t)
				return inside, inside.Cause != "" && told == nil // an engine's word is told with the port
			}
			r.Lacks = []gate.Lack{{Guard: gate.AllRead, Why: "what answers there was not seen"}}
		}
		return r, true
	}
	return gate.Reading{}, false
}
