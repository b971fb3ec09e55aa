package rules

import (
	"fmt"
	"slices"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/filter"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

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
		Gate:     g,
		Strength: gate.Read,
		Vantage:  at.vantage,
		Because:  tableIDs(v, at.vantage),
		Values:   v.Place(t, catalogue.Values{"at": host}),
	}
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
		r.Values["link"] = step.Link
		return r
	case filter.ByForwarding:
		r.Cause, r.Shows = "rules/forwarding-off", []gate.Symptom{gate.SilentTCP}
		r.Summary = fmt.Sprintf("%s is on the way and does not forward", host)
		r.Values["setting"] = "net.ipv4.ip_forward"
		if step.Packet.Six() {
			r.Values["setting"] = "net.ipv6.conf.all.forwarding"
		}
		if step.Link != "" {
			r.Summary = fmt.Sprintf("%s is on the way and does not forward what comes by %s", host, step.Link)
			r.Values["setting"] = "net.ipv4.conf." + step.Link + ".forwarding"
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
	if step.Rejects {
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

// ruleText names a rule as its owner knows it.
func ruleText(v *scene.Scene, host string, step filter.Step, back bool) string {
	what := "it"
	if back {
		what = "the reply"
	}
	verb := "drops"
	if step.Rejects {
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

// redirected is a translation that leads where nobody takes the connection, or on the way
// to another place than was asked for.
func redirected(v *scene.Scene, t *scene.Try, at standing, walk filter.Walk) (gate.Reading, bool) {
	if walk.Verdict != filter.Accepts {
		return gate.Reading{}, false
	}
	for _, rw := range walk.Rewrites {
		if rw.Kind != "destination" {
			continue
		}
		r := gate.Reading{
			Gate:     gate.WayIn,
			Cause:    "rules/redirected",
			Strength: gate.Read,
			Vantage:  at.vantage,
			Because:  tableIDs(v, at.vantage),
			Shows: []gate.Symptom{gate.RefusedByReset, gate.SilentTCP, gate.UnreachableFrom,
				gate.ICMPFromElsewhere},
			Summary: fmt.Sprintf("a translation on %s sends it from %s to %s", v.Host(at.vantage), rw.Was, rw.Now),
			Values:  v.Place(t, catalogue.Values{"at": v.Host(at.vantage), "was": rw.Was, "now": rw.Now}),
		}
		_, held := v.Addresses(at.vantage)
		_, list := v.Listeners(t.Server)
		switch {
		case at.role == fact.Client && !v.OnSame(t):
			r.Gate = gate.WayOut
			r.Lacks = []gate.Lack{{Guard: gate.OneMeaning, Why: "whether it is meant to go there is not known"}}
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
			_, told, _ := v.PublishedAt(t)
			if c == nil && told != nil {
				return gate.Reading{}, false // the engine's own translation: what is behind it is told with the port
			}
			if c != nil {
				inside := v.Inside(t, f, c, walk.Last.ToPort)
				return inside, inside.Cause != "" && told == nil // an engine's word is told with the port
			}
			r.Lacks = []gate.Lack{{Guard: gate.AllRead, Why: "what answers there was not seen"}}
		}
		return r, true
	}
	return gate.Reading{}, false
}
