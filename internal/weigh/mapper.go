package weigh

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"uakari/internal/card"
	"uakari/internal/fact"
)

// chosenPorts is where systems that follow RFC 6335 choose ports at run time.
const chosenPorts = "49152-65535"

// mapperReadings asks a port mapper for the service that the endpoint names
// (rpc://HOST/SERVICE, dcerpc://HOST/SERVICE) and tries the port that it says.
func (v *view) mapperReadings(w *wants, t *try) []Reading {
	service := strings.Trim(t.target.Path, "/")
	if t.target.Scheme != "rpc" && t.target.Scheme != "dcerpc" || service == "" || t.symptom != Fine {
		return nil
	}
	asked := fact.Target{Addr: t.target.Addr, Port: t.target.Port, Scheme: t.target.Scheme}
	w.add(Want{Look: fact.LookMapper, At: fact.Client, Target: asked, Gate: Listener})
	for _, f := range v.facts(v.client, fact.LookMapper) {
		if f.Mapper == nil || f.Order.Target != asked {
			continue
		}
		r := Reading{Gate: Answer, Cause: "ports/dynamic-shut", Apart: true, Because: factIDs(f), Vantage: v.client, Values: v.place(t, values{"server": v.answering(t)})}
		ports := mappedPorts(f.Mapper, service)
		if len(ports) == 0 {
			delete(r.Values, "port")
			r.Summary = fmt.Sprintf("the port mapper of %s answers, and nothing is registered there as %s over TCP", v.answering(t), service)
			return []Reading{r}
		}
		// Several are copies of one program: whichever is open serves.
		for i, port := range ports {
			target := fact.Target{Name: t.target.Name, Addr: t.target.Addr, Port: port, Scheme: "tcp", Security: fact.Plain}
			w.add(Want{Look: fact.LookSession, At: fact.Client, Target: target, Gate: Session})
			c, seen := v.climbs[seat{v.client, target}]
			if !seen || c.connect == nil || c.connect.Connect.Outcome == fact.Connected {
				return nil
			}
			r.Because = union(r.Because, c.ids())
			if i == 0 {
				r.Values["port"], r.Values["range"] = fmt.Sprint(port), v.rangeOf(port)
				r.Summary = fmt.Sprintf("the port mapper names port %d for %s, and there: %s", port, service, c.symptom(v.own()))
			}
		}
		return []Reading{r}
	}
	return nil
}

// mostMapped bounds how many ports of one service are tried.
const mostMapped = 3

// mappedPorts is the TCP ports that a mapper names for a service: by its name,
// its number, or the identifier of its interface.
func mappedPorts(m *fact.Mapper, service string) []uint16 {
	var ports []uint16
	for _, e := range m.Entries {
		named := e.Name == service || strings.EqualFold(e.Interface, service) || e.Program != 0 && strconv.FormatUint(uint64(e.Program), 10) == service
		if named && e.Transport == "tcp" && !slices.Contains(ports, e.Port) {
			ports = append(ports, e.Port)
		}
	}
	return ports[:min(len(ports), mostMapped)]
}

// rangeOf is the ports among which one is chosen at run time: those that the
// card says, or else those that the registry leaves for it; "" if it is in
// neither.
func (v *view) rangeOf(port uint16) string {
	ranges := []string{chosenPorts}
	if v.ask.Card != nil {
		for _, use := range slices.Backward(v.ask.Card.PortMap) {
			ranges = append([]string{use.Range}, ranges...)
		}
	}
	for _, each := range ranges {
		if from, to, ok := card.PortRange(each); ok && from <= port && port <= to {
			return each
		}
	}
	return ""
}
