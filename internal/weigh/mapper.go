package weigh

import (
	"fmt"
	"strconv"
	"strings"

	"uakari/internal/fact"
)

// mapperReadings asks a port mapper for the service that the endpoint names
// (rpc://HOST/SERVICE) and tries the port that it says.
func (v *view) mapperReadings(w *wants, t *try) []Reading {
	service := strings.Trim(t.target.Path, "/")
	if t.target.Scheme != "rpc" || service == "" || t.symptom != Fine {
		return nil
	}
	asked := fact.Target{Addr: t.target.Addr, Port: t.target.Port}
	w.add(Want{Look: fact.LookMapper, At: fact.Client, Target: asked, Gate: Listener})
	for _, f := range v.facts(v.client, fact.LookMapper) {
		if f.Mapper == nil || f.Order.Target != asked {
			continue
		}
		r := Reading{Gate: Answer, Cause: "ports/dynamic-shut", Apart: true, Because: factIDs(f), Vantage: v.client, Values: v.place(t, values{"server": v.answering(t)})}
		port := uint16(0)
		for _, e := range f.Mapper.Entries {
			if e.Transport == "tcp" && (e.Name == service || strconv.FormatUint(uint64(e.Program), 10) == service) {
				port = e.Port
			}
		}
		if port == 0 {
			delete(r.Values, "port")
			r.Summary = fmt.Sprintf("the port mapper of %s answers, and nothing is registered there as %s over TCP", v.answering(t), service)
			return []Reading{r}
		}
		target := fact.Target{Name: t.target.Name, Addr: t.target.Addr, Port: port, Scheme: "tcp", Security: fact.Plain}
		w.add(Want{Look: fact.LookSession, At: fact.Client, Target: target, Gate: Session})
		c, seen := v.climbs[seat{v.client, target}]
		if !seen || c.connect == nil || c.connect.Connect.Outcome == fact.Connected {
			continue
		}
		r.Because = union(r.Because, c.ids())
		r.Values["port"] = fmt.Sprint(port)
		r.Summary = fmt.Sprintf("the port mapper names port %d for %s, and there: %s", port, service, c.symptom(v.own()))
		return []Reading{r}
	}
	return nil
}
