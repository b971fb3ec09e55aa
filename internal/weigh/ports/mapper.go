package ports

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"uakari/internal/card"
	"uakari/internal/fact"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// chosenPorts is where systems that follow RFC 6335 choose ports at run time.
const chosenPorts = "49152-65535"

// mostMapped bounds how many ports of one service are tried.
const mostMapped = 3

// MapperReadings asks a port mapper for the service that the endpoint names
// (as in rpc://HOST/SERVICE) and tries the port that it says.
func MapperReadings(v *scene.Scene, w *scene.Wants, t *scene.Try) []gate.Reading {
	service := strings.Trim(t.Target.Path, "/")
	if !v.Protocol.Maps || service == "" || !t.Symptom.Good() {
		return nil
	}
	asked := fact.Target{Addr: t.Target.Addr, Port: t.Target.Port, Scheme: t.Target.Scheme}
	w.Add(scene.Want{Look: fact.LookMapper, At: fact.Client, Target: asked, Gate: gate.Listener})
	for _, f := range v.Facts(v.Client, fact.LookMapper) {
		if f.Mapper == nil || f.Order.Target != asked {
			continue
		}
		r := gate.Reading{
			Gate:     gate.Answer,
			Cause:    "ports/dynamic-shut",
			Strength: gate.Read,
			Reach:    gate.Further,
			Because:  scene.FactIDs(f),
			Vantage:  v.Client,
			Values:   v.Place(t, catalogue.Values{"server": v.Answering(t)}),
		}
		ports := mappedPorts(f.Mapper, service)
		if len(ports) == 0 {
			delete(r.Values, "port")
			r.Summary = fmt.Sprintf(
				"the port mapper of %s answers, and nothing is registered there as %s over TCP",
				v.Answering(t),
				service,
			)
			return []gate.Reading{r}
		}
		// Several are copies of one program: whichever is open serves.
		for i, port := range ports {
			target := fact.Target{
				Name:     t.Target.Name,
				Addr:     t.Target.Addr,
				Port:     port,
				Scheme:   "tcp",
				Security: fact.Plain,
			}
			w.Add(scene.Want{Look: fact.LookSession, At: fact.Client, Target: target, Gate: gate.Session})
			c, seen := v.ClimbAt(v.Client, target)
			if !seen || c.Connect == nil || c.Connect.Connect.Outcome == fact.Connected {
				return nil
			}
			r.Because = gate.Union(r.Because, c.IDs())
			if i == 0 {
				r.Values["port"], r.Values["range"] = fmt.Sprint(port), rangeOf(v, port)
				r.Summary = fmt.Sprintf(
					"the port mapper names port %d for %s, and there: %s",
					port,
					service,
					c.Symptom(v.Own()),
				)
			}
		}
		return []gate.Reading{r}
	}
	return nil
}

// mappedPorts is the TCP ports that a mapper names for a service: by its name,
// its number, or the identifier of its interface.
func mappedPorts(m *fact.Mapper, service string) []uint16 {
	var ports []uint16
	for _, e := range m.Entries {
		named := strings.EqualFold(e.Name, service) || strings.EqualFold(e.Interface, service) ||
			e.Program != 0 && strconv.FormatUint(uint64(e.Program), 10) == service
		if named && e.Transport == "tcp" && !slices.Contains(ports, e.Port) {
			ports = append(ports, e.Port)
		}
	}
	return ports[:min(len(ports), mostMapped)]
}

// rangeOf is the ports among which one is chosen at run time: those that the
// card says, or else those that the registry leaves for it; "" if it is in
// neither.
func rangeOf(v *scene.Scene, port uint16) string {
	ranges := []string{chosenPorts}
	if v.Ask.Card != nil {
		for _, use := range slices.Backward(v.Ask.Card.PortMap) {
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
