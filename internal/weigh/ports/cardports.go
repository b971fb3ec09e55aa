package ports

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"uakari/internal/card"
	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/protocol"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// mostCardPorts bounds how many of a card's ports are tried.
const mostCardPorts = 16

// cardPorts tries every port that the card names from the client, and doubts an
// application of which some cannot be reached: its endpoint may answer, and
// what needs the others fails.
func cardPorts(v *scene.Scene, w *scene.Wants, t *scene.Try) []gate.Reading {
	c := v.Ask.Card
	if c == nil || v.Ask.Endpoint.Transport == "udp" || !t.Target.Addr.IsValid() {
		return nil
	}
	all := portsOf(c)
	from, list := v.Listeners(t.Server)
	if t.Server == "" {
		list = nil
	}
	var says, missing, because []string
	unsure := false
	for _, port := range all[:min(len(all), mostCardPorts)] {
		if port == t.Target.Port {
			continue
		}
		if list != nil && len(list.On("udp", port)) > 0 {
			continue // a card does not say of which kind its ports are
		}
		target := beside(t, port)
		w.Add(scene.Want{Look: fact.LookSession, At: fact.Client, Target: target, Gate: gate.Listener})
		gone := list != nil && len(list.On(v.Ask.Endpoint.Transport, port)) == 0
		climb, tried := v.ClimbAt(v.Client, target)
		tried = tried && climb.Connect != nil
		open := tried && climb.Connect.Connect.Outcome == fact.Connected
		// Where the endpoint itself fails, its own reason tells of these too.
		if open || !gone && (!tried || !t.Symptom.Good()) {
			continue
		}
		text := fmt.Sprintf("port %d%s", port, use(c, port))
		switch {
		case gone:
			text += " is not open on " + v.Host(t.Server)
			because = gate.Union(because, scene.FactIDs(from))
		case list != nil:
			text += fmt.Sprintf(
				" is open on %s, and %s gets there: %s",
				v.Host(t.Server),
				v.Host(v.Client),
				climb.Symptom(v.Own()),
			)
			unsure = true
		default:
			text += fmt.Sprintf(": %s", climb.Symptom(v.Own()))
		}
		if tried {
			because = gate.Union(because, climb.IDs())
		}
		says, missing = append(says, text), append(missing, fmt.Sprint(port))
	}
	readings := rangePorts(v, w, t)
	if len(missing) == 0 {
		return readings
	}
	r := gate.Reading{
		Gate: gate.Listener, Cause: "ports/some-missing", Strength: gate.Read, Harmless: true, Because: because,
		Vantage: cmp.Or(t.Server, v.Client),
		Summary: fmt.Sprintf("of the card's %s, %s", foreign.Plural(len(all), "port"), strings.Join(says, "; ")),
		Values: v.Place(t, catalogue.Values{"missing": "port " + strings.Join(missing, ", "),
			"server": v.Answering(t)}),
	}
	if unsure {
		r.Strength = gate.Inferred
	}
	return append(readings, r)
}

// portsOf is every single port of a card.
func portsOf(c *fact.Card) []uint16 {
	list := slices.Clone(c.Ports)
	for _, use := range c.PortMap {
		if use.Port != 0 && !slices.Contains(list, use.Port) {
			list = append(list, use.Port)
		}
	}
	return list
}

// beside is another port of the same address.
func beside(t *scene.Try, port uint16) fact.Target {
	return fact.Target{Name: t.Target.Name, Addr: t.Target.Addr, Port: port, Scheme: "tcp", Security: fact.Plain}
}

// use is what a port is for, and who needs it, in words.
func use(c *fact.Card, port uint16) string {
	for _, u := range c.PortMap {
		if u.Port != port {
			continue
		}
		text := u.For
		if len(u.NeededBy) > 0 {
			text = strings.TrimPrefix(text+", which "+strings.Join(u.NeededBy, " and ")+" cannot do without",
				", which ")
		}
		if text != "" {
			return " (" + text + ")"
		}
	}
	return ""
}

// mapperAt is the scheme of the port mapper that is asked on a port by TCP; ""
// if none is.
func mapperAt(port uint16) string {
	for _, s := range protocol.Schemes {
		if s.Port == port && !s.UDP && protocol.Of(s.Wire) != nil && protocol.Of(s.Wire).Maps {
			return s.Name
		}
	}
	return ""
}

// rangePorts asks a port mapper that the card names which ports of the card's
// ranges are in use now, and tries them.
func rangePorts(v *scene.Scene, w *scene.Wants, t *scene.Try) []gate.Reading {
	c := v.Ask.Card
	ports := portsOf(c)
	at := slices.IndexFunc(ports, func(port uint16) bool { return mapperAt(port) != "" })
	if at < 0 || !slices.ContainsFunc(c.PortMap, func(u fact.PortUse) bool { return u.Range != "" }) {
		return nil
	}
	target := fact.Target{Addr: t.Target.Addr, Port: ports[at], Scheme: mapperAt(ports[at])}
	w.Add(scene.Want{Look: fact.LookMapper, At: fact.Client, Target: target, Gate: gate.Listener})
	var readings []gate.Reading
	for _, f := range v.Facts(v.Client, fact.LookMapper) {
		if f.Mapper == nil || f.Order.Target != target {
			continue
		}
		for _, u := range c.PortMap {
			low, high, ok := card.PortRange(u.Range)
			if !ok {
				continue
			}
			for _, e := range inRange(f.Mapper, low, high) {
				there := beside(t, e.Port)
				w.Add(scene.Want{Look: fact.LookSession, At: fact.Client, Target: there, Gate: gate.Listener})
				climb, tried := v.ClimbAt(v.Client, there)
				if !tried || climb.Connect == nil || climb.Connect.Connect.Outcome == fact.Connected ||
					!t.Symptom.Good() {
					continue
				}
				readings = append(readings, gate.Reading{
					Gate: gate.Listener, Cause: "ports/dynamic-shut",
					Strength: gate.Read, Harmless: true, Reach: gate.Further,
					Which:   fmt.Sprint(e.Port),
					Because: gate.Union(scene.FactIDs(f), climb.IDs()), Vantage: v.Client,
					Summary: fmt.Sprintf("the port mapper names port %d of %s for %s, and there: %s",
						e.Port, u.Range, cmp.Or(u.For, e.Name, fmt.Sprint(e.Program)), climb.Symptom(v.Own())),
					Values: v.Place(t, catalogue.Values{"server": v.Answering(t), "port": fmt.Sprint(e.Port),
						"range": u.Range}),
				})
			}
		}
	}
	return readings
}

// inRange is the TCP ports of a range that a mapper names, once each, and no
// more than are tried.
func inRange(m *fact.Mapper, low, high uint16) []fact.MapperEntry {
	var list []fact.MapperEntry
	for _, e := range m.Entries {
		again := slices.ContainsFunc(list, func(o fact.MapperEntry) bool { return o.Port == e.Port })
		if e.Transport == "tcp" && low <= e.Port && e.Port <= high && !again && len(list) < mostMapped {
			list = append(list, e)
		}
	}
	return list
}
