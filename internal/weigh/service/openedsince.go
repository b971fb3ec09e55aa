package service

import (
	"fmt"

	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/weigh/gate"
)

// openedSince reads a service that opened more ports after its host was looked at: it was
// still starting then, and what was seen of it tells of another moment than the try.
func (s serving) openedSince() (gate.Reading, bool) {
	from, list := s.v.Listeners(s.t.Server)
	if s.v.Ask.Card == nil || list == nil || s.t.Symptom.Good() || s.t.Symptom == gate.NotTried {
		return gate.Reading{}, false
	}
	opened, all := 0, 0
	because := []string{from.ID, s.f.ID}
	for _, port := range s.v.Ask.Card.Ports {
		all++
		if port == s.t.Target.Port || len(list.On(s.v.Ask.Endpoint.Transport, port)) > 0 {
			continue
		}
		target := s.t.Target
		target.Port, target.Scheme, target.Security, target.Path, target.Account = port, "tcp", fact.Plain, "", ""
		c, tried := s.v.ClimbAt(s.v.Client, target)
		if tried && c.Connect != nil && c.Connect.Connect.Outcome == fact.Connected && c.Connect.At.After(from.At) {
			opened++
			because = gate.Union(because, c.IDs())
		}
	}
	if opened == 0 {
		return gate.Reading{}, false
	}
	r := s.reading(gate.Room, "service/starting", fmt.Sprintf(
		"%s was starting when %s was looked at: %d of the card's %s were not open yet, and are now", s.p.Name,
		s.v.Host(s.t.Server), opened, foreign.Plural(all, "port")))
	r.Strength, r.Because = gate.Inferred, because
	r.Lacks = append(r.Lacks, gate.Lack{Guard: gate.SameTime,
		Why: "how it stands now was not seen; look again from the server, at the time of the try"})
	return r, true
}
