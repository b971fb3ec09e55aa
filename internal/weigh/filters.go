package weigh

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/filter"
)

// filtered is the symptoms that a packet filter may give.
var filtered = []Symptom{SilentTCP, SilentUDP, Unasked, RefusedByReset, ICMPFromClient, ICMPFromTarget, PortUnreachable, ICMPFromElsewhere, NotPermittedHere, ServerFirstSilent,
	ClientFirstSilent, UnreachableFrom}

// post is one host on a packet's way, as far as it was seen.
type post struct {
	vantage string
	role    fact.Role
	host    *filter.Host
	read    bool   // its tables were read
	why     string // why the gate stays unread, though they say nothing against the packet
}

// filterReadings evaluates the tables of every host on the way for the
// client's first packet, the reply, and the packets that follow.
func (v *view) filterReadings(w *wants, t *try) []Reading {
	if !slices.Contains(filtered, t.symptom) {
		return nil
	}
	w.add(Want{Look: fact.LookRoute, At: fact.Client, Target: fact.Target{Addr: t.target.Addr}, Gate: WayOut})
	seats := v.seats(w, t)
	for _, at := range seats {
		for _, look := range []fact.Kind{fact.LookTables, fact.LookRoutes, fact.LookKernel, fact.LookBarriers} {
			w.add(Want{Look: look, At: at.Role, On: at.ID, Gate: gateOf(at.Role)})
		}
	}
	source, _, from := v.source(t)
	if !source.IsValid() {
		source = v.soleAddress(t.target.Addr)
	}
	if !source.IsValid() {
		return nil
	}
	if t.server != "" {
		w.add(Want{Look: fact.LookRoute, At: fact.Server, On: t.server, Target: fact.Target{Addr: source}, Gate: WayBack},
			Want{Look: fact.LookPeers, At: fact.Server, On: t.server, Gate: WayIn})
	}
	var readings []Reading
	p := v.firstPacket(t, source)
	sure := true // the packet that reaches a host is the one that it is judged by
	gate := Way
	posts := v.posts(t, seats)
	for i, at := range posts {
		if at.role == fact.Server {
			sure = sure && v.noneBetween(t, posts[:i]) || v.seenFrom(t, source)
		}
		gate = gateOf(at.role)
		if !at.read {
			sure = false
			continue
		}
		links := v.arrivals(t, at, p)
		trip := filter.Travel(p, []filter.Hop{{Host: at.host, In: links[0]}})
		list := v.stopped(t, at, gate, trip)
		pass := v.passed(t, at, gate, trip)
		if at.role == fact.Server && p.From != source {
			v.asOther(t, at, p, source, list)
		}
		for _, link := range links[1:] {
			other := v.stopped(t, at, gate, filter.Travel(p, []filter.Hop{{Host: at.host, In: link}}))
			if sameReadings(list, other) {
				continue
			}
			pass = nil
			for j := range list {
				list[j].Short = append(list[j].Short, fmt.Sprintf("whether it comes to %s by %s or by %s is not known", v.host(at.vantage), links[0], link))
			}
		}
		for j := range list {
			list[j].Because = append(list[j].Because, from)
			if !sure {
				list[j].Short = append(list[j].Short, v.otherSource(t, at, p, list[j])...)
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
	return append(readings, v.wayBackOpen(t, posts, readings)...)
}

// firstPacket is the client's first packet, from a source.
func (v *view) firstPacket(t *try, source netip.Addr) filter.Packet {
	p := filter.Packet{Proto: filter.TCP, From: source, To: t.target.Addr.Unmap().WithZone(""), ToPort: t.target.Port, Flags: filter.SYN}
	if v.scheme.UDP {
		p.Proto, p.Flags = filter.UDP, 0
	}
	return p
}

// wayBackOpen reads the way back open where both ends let the reply pass:
// what may stop it then is on the way.
func (v *view) wayBackOpen(t *try, posts []post, readings []Reading) []Reading {
	last := posts[len(posts)-1]
	if last.role != fact.Server || len(readings) == 0 {
		return nil
	}
	for _, p := range posts {
		if !p.read || p.why != "" {
			return nil
		}
	}
	for _, r := range readings {
		if !r.open() {
			return nil
		}
	}
	return []Reading{{Gate: WayBack, Because: v.tableIDs(last.vantage), Vantage: last.vantage, Summary: "both ends let the reply pass"}}
}

// bothEndsOpen reports whether the filters of both ends were read open for
// this packet.
func (v *view) bothEndsOpen(t *try) bool {
	return t.verdict.opened[WayOut] != nil && t.verdict.opened[WayIn] != nil && t.verdict.opened[WayBack] != nil
}

// asOther names the fault of a host that refuses the address which it sees,
// and would let the client's own in.
func (v *view) asOther(t *try, at post, p filter.Packet, source netip.Addr, list []Reading) {
	seen := p.From
	p.From = source
	if filter.Request(p, []filter.Hop{{Host: at.host, In: v.arrivals(t, at, p)[0]}}).Verdict != filter.Accepts {
		return
	}
	for i := range list {
		list[i].Cause = "rules/other-source"
		list[i].Summary = fmt.Sprintf("%s sees %s, not %s: %s", v.host(at.vantage), seen, source, list[i].Summary)
		list[i].Values["seen"], list[i].Values["source"] = seen.String(), source.String()
	}
}

// onward is the packet as it leaves a host, fit to enter the next one.
func onward(before, last filter.Packet) filter.Packet {
	before.From, before.To, before.FromPort, before.ToPort, before.AnySource = last.From, last.To, last.FromPort, last.ToPort, last.AnySource
	return before
}

func gateOf(role fact.Role) Gate {
	return map[fact.Role]Gate{fact.Client: WayOut, fact.Gateway: Way, fact.Server: WayIn}[role]
}

// posts is the models of the hosts on the way.
func (v *view) posts(t *try, seats []fact.Vantage) []post {
	var list []post
	for _, at := range seats {
		p := post{vantage: at.ID, role: at.Role, host: v.filterHost(at.ID)}
		p.read = p.host.Rules != nil
		p.why = v.beside(at.ID, p.host)
		list = append(list, p)
	}
	return list
}

// filterHost is the model of a vantage's host, made once.
func (v *view) filterHost(vantage string) *filter.Host {
	f := filter.HostFacts{Name: v.host(vantage)}
	_, f.Addresses = v.addresses(vantage)
	type seen struct {
		vantage                   string
		tables, routes, kernel, a any
	}
	key := seen{vantage: vantage, a: f.Addresses}
	for i := range v.set.Facts {
		switch each := &v.set.Facts[i]; {
		case each.Vantage != vantage:
		case each.Tables != nil:
			f.Tables, key.tables = each.Tables, each.Tables
		case each.Routes != nil:
			f.Routes, key.routes = each.Routes, each.Routes
		case each.Kernel != nil && each.Order.Target.Again == 0:
			f.Kernel, key.kernel = each.Kernel, each.Kernel
		}
	}
	return v.set.Memo(key, func() any { return filter.NewHost(f) }).(*filter.Host)
}

func (v *view) tablesOf(vantage string) *fact.Tables {
	for _, f := range v.facts(vantage, fact.LookTables) {
		if f.Tables != nil {
			return f.Tables
		}
	}
	return nil
}

// sameReadings reports whether two evaluations stop a packet alike.
func sameReadings(a, b []Reading) bool {
	return slices.EqualFunc(a, b, func(x, y Reading) bool { return x.Summary == y.Summary })
}

// otherSource is the guard of the same packet: where it is not certain from
// which address the packet comes to a host, another one must fare alike.
func (v *view) otherSource(t *try, at post, p filter.Packet, r Reading) []string {
	p.AnySource = true
	trip := filter.Travel(p, []filter.Hop{{Host: at.host, In: v.arrivals(t, at, p)[0]}})
	for _, other := range v.stopped(t, at, gateOf(at.role), trip) {
		if other.Summary == r.Summary {
			return nil
		}
	}
	return []string{"a translation on the way may show " + v.host(at.vantage) + " another address than " + p.From.String() + ", which would fare otherwise"}
}

// passed is the gates that a host's tables open.
func (v *view) passed(t *try, at post, gate Gate, trip filter.Trip) []Reading {
	for _, w := range []filter.Walk{trip.Request, trip.Reply} {
		if w.Verdict != filter.Accepts {
			return nil
		}
	}
	if at.why != "" {
		return nil
	}
	ids := v.tableIDs(at.vantage)
	text := fmt.Sprintf("the filters of %s let it pass, and its reply", v.host(at.vantage))
	if at.role == fact.Gateway {
		return nil // other things may lie on the way
	}
	list := []Reading{{Gate: gate, Because: ids, Vantage: at.vantage, Summary: text}}
	if at.role == fact.Client && v.onSame(t) {
		list = append(list, Reading{Gate: WayIn, Because: ids, Vantage: at.vantage, Summary: text}, Reading{Gate: WayBack, Because: ids, Vantage: at.vantage, Summary: text})
	}
	return list
}

func (v *view) tableIDs(vantage string) []string {
	var ids []string
	for _, f := range v.facts(vantage, fact.LookTables) {
		if f.Tables != nil {
			ids = append(ids, f.ID)
		}
	}
	return ids
}

// stopped is everything in a host's tables that stops the packet, its reply,
// or the packets that follow.
func (v *view) stopped(t *try, at post, gate Gate, trip filter.Trip) []Reading {
	list := v.blocks(t, at, gate, trip.Request)
	list = append(list, v.blocks(t, at, WayBack, trip.Reply)...)
	if len(list) == 0 {
		later := v.blocks(t, at, gate, trip.Later)
		if len(later) == 0 {
			later = v.blocks(t, at, WayBack, trip.LaterReply)
		}
		for i := range later {
			later[i].Gate = Room // the connection is made, and then nothing passes
			later[i].Shows = []Symptom{ServerFirstSilent, ClientFirstSilent, LargeStalls}
			later[i].Summary += "; only what follows the first packet"
		}
		list = append(list, later...)
	}
	if r, ok := v.rateLimited(t, at, gate, trip.Request); ok {
		list = append(list, r)
	}
	if r, ok := v.redirected(t, at, trip.Request); ok {
		list = append(list, r)
	}
	return list
}

// blocks is the readings of the steps that stop a walk.
func (v *view) blocks(t *try, at post, gate Gate, walk filter.Walk) []Reading {
	if walk.Verdict != filter.Drops && walk.Verdict != filter.Rejects {
		return nil
	}
	var list []Reading
	for _, i := range walk.Blocks {
		list = append(list, v.block(t, at, gate, walk, walk.Steps[i]))
	}
	return list
}

// dropCauses and rejectCauses name what stops a packet, by whose rule it is.
var (
	dropCauses   = map[fact.Role]string{fact.Client: "rules/client-drop", fact.Gateway: "rules/gateway-drop", fact.Server: "rules/server-drop"}
	rejectCauses = map[fact.Role]string{fact.Client: "rules/client-reject", fact.Gateway: "rules/gateway-reject", fact.Server: "rules/server-reject"}
)

func (v *view) block(t *try, at post, gate Gate, walk filter.Walk, step filter.Step) Reading {
	host := v.host(at.vantage)
	r := Reading{Gate: gate, Vantage: at.vantage, Because: v.tableIDs(at.vantage), Values: v.place(t, values{"at": host})}
	rejects := strings.HasPrefix(step.Effect, "reject")
	role := at.role
	if role == fact.Client && v.onSame(t) && (step.Hook == "input" || step.Hook == "prerouting") {
		role, r.Gate = fact.Server, WayIn
		if gate == WayBack {
			r.Gate = WayBack
		}
	}
	switch step.Kind {
	case filter.ByReversePath:
		r.Cause, r.Shows = "rules/reverse-path", []Symptom{SilentTCP}
		r.Summary = fmt.Sprintf("%s discards it: %s", host, strings.TrimPrefix(step.Effect, "strict "))
		r.Values["link"] = v.inLink(at, step)
		return r
	case filter.ByForwarding:
		r.Cause, r.Shows = "rules/forwarding-off", []Symptom{SilentTCP}
		r.Summary = fmt.Sprintf("%s is on the way and does not forward", host)
		r.Values["setting"] = "net.ipv4.ip_forward"
		if step.Packet.Six() {
			r.Values["setting"] = "net.ipv6.conf.all.forwarding"
		}
		return r
	case filter.ByRoute:
		r.Cause, r.Shows = "rules/no-route", []Symptom{SilentTCP, UnreachableFrom, ICMPFromElsewhere, NoRouteHere}
		if gate == WayBack {
			r.Cause = "rules/no-return-route"
			r.Shows = []Symptom{SilentTCP}
			r.Values["source"] = step.Packet.To.String()
		}
		r.Summary = fmt.Sprintf("%s has %s", host, step.Effect)
		r.Values["absent"], r.Values["client"], r.Values["server"], r.Values["addr"] = "yes", host, host, step.Packet.To.String()
		return r
	}
	r.Cause, r.Shows = dropCauses[role], []Symptom{SilentTCP, NotPermittedHere}
	if rejects {
		r.Cause, r.Shows = rejectCauses[role], shownBy(role, step.With)
	}
	if gate == WayBack {
		r.Cause, r.Shows = "rules/return-drop", []Symptom{SilentTCP}
	}
	r.Summary = v.ruleText(host, step, gate == WayBack)
	v.mend(&r, at, step)
	return r
}

// shownBy is how a refusal looks to the client, by whose it is.
func shownBy(role fact.Role, with filter.Refusal) []Symptom {
	if with == filter.ByReset {
		return []Symptom{RefusedByReset, SilentTCP}
	}
	switch role {
	case fact.Client:
		return []Symptom{ICMPFromClient, SilentTCP}
	case fact.Gateway:
		return []Symptom{ICMPFromElsewhere, UnreachableFrom, SilentTCP}
	}
	return []Symptom{ICMPFromTarget, UnreachableFrom, ICMPFromElsewhere, SilentTCP}
}

// ruleText names a rule as its keeper knows it.
func (v *view) ruleText(host string, step filter.Step, back bool) string {
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
func (v *view) mend(r *Reading, at post, step filter.Step) {
	change, ok := at.host.Narrowest(step)
	if !ok {
		r.Values["none"] = "yes"
		return
	}
	r.Values["fix"], r.Values["unfix"], r.Values["opens"], r.Values["lasts"] = change.Do, change.Undo, change.Opens, change.Lasts
}

func (v *view) inLink(at post, step filter.Step) string {
	if _, after, ok := strings.Cut(step.Effect, "it came by "); ok {
		link, _, _ := strings.Cut(after, ",")
		return link
	}
	return ""
}

// rateLimited is a walk that nothing but a rate or a number of connections
// decides.
func (v *view) rateLimited(t *try, at post, gate Gate, walk filter.Walk) (Reading, bool) {
	if walk.Verdict != filter.Undecidable || !walk.Stateful {
		return Reading{}, false
	}
	return Reading{Gate: gate, Cause: "rules/rate-limited", Vantage: at.vantage, Because: v.tableIDs(at.vantage), Most: "possible",
		Shows:   []Symptom{SilentTCP, RefusedByReset, ICMPFromTarget, ICMPFromElsewhere},
		Summary: fmt.Sprintf("on %s it hangs on a limit: %s", v.host(at.vantage), walk.Why),
		Values:  v.place(t, values{"at": v.host(at.vantage)})}, true
}

// redirected is a translation on the server that leads where nobody takes the
// connection.
func (v *view) redirected(t *try, at post, walk filter.Walk) (Reading, bool) {
	if walk.Verdict != filter.Accepts || at.role == fact.Client && !v.onSame(t) {
		return Reading{}, false
	}
	for _, rw := range walk.Rewrites {
		if rw.Kind != "destination" {
			continue
		}
		r := Reading{Gate: WayIn, Cause: "rules/redirected", Vantage: at.vantage, Because: v.tableIDs(at.vantage),
			Shows:   []Symptom{RefusedByReset, SilentTCP, UnreachableFrom, ICMPFromElsewhere},
			Summary: fmt.Sprintf("a translation on %s sends it from %s to %s", v.host(at.vantage), rw.Was, rw.Now),
			Values:  v.place(t, values{"at": v.host(at.vantage), "was": rw.Was, "now": rw.Now})}
		_, held := v.addresses(at.vantage)
		_, list := v.listeners(t.server)
		switch {
		case at.role == fact.Gateway:
			r.Gate = Way
			r.Short = []string{"whether it is meant to go there is not known"}
		case held != nil && held.Holds(walk.Last.To) && list != nil:
			if slices.ContainsFunc(list.On(v.ask.Endpoint.Transport, walk.Last.ToPort), func(l fact.Listener) bool { takes, _ := l.Takes(walk.Last.To); return takes }) {
				return Reading{}, false
			}
			r.Summary += ", where nothing listens"
		default:
			r.Short = []string{"what answers there was not seen"}
		}
		return r, true
	}
	return Reading{}, false
}
