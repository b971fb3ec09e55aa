package weigh

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/protocol"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/names"
	"uakari/internal/weigh/scene"
)

// tryRecords weighs the servers that service records name for a domain, in the
// order in which clients try them (RFC 2782): the least priority first, and of
// one priority the greatest weight.
func tryRecords(v *scene.Scene, w *scene.Wants, l *scene.Lookup, target fact.Target, depth int) []*scene.Try {
	record := protocol.RecordOf(v.Ask.Endpoint, target.Name)
	if depth > 0 || record == "" || !l.Settled {
		return nil
	}
	w.Add(scene.Want{Look: fact.LookServices, At: fact.Client, Target: fact.Target{Name: record}, Gate: gate.Name})
	var list []fact.ServiceRecord
	for _, f := range v.Facts(v.Client, fact.LookServices) {
		if f.ServiceRecords == nil || f.Order.Target.Name != record {
			continue
		}
		for _, s := range f.ServiceRecords.List {
			if s.Target != "" && s.Target != "." && !slices.Contains(list, s) {
				list = append(list, s)
			}
		}
	}
	slices.SortStableFunc(list, func(a, b fact.ServiceRecord) int {
		return cmp.Or(
			cmp.Compare(a.Priority, b.Priority),
			cmp.Compare(b.Weight, a.Weight),
			strings.Compare(a.Target, b.Target),
		)
	})
	var tries []*scene.Try
	for _, s := range list[:min(len(list), names.MostRecords)] {
		next := target
		next.Name, next.Port = strings.TrimSuffix(s.Target, "."), s.Port
		v.Led[next.Name] = fmt.Sprintf("%s leads to %s: ", record, endpoint.HostPort(next.Name, next.Port))
		tries = append(tries, tryName(v, w, next, depth+1)...)
	}
	return tries
}

// noRecord adds to the reason why a name gives nothing that no service record
// leads on from it either, or that one says the service is not there (RFC 2782,
// a target of ".").
func noRecord(v *scene.Scene, t *scene.Try) {
	record := protocol.RecordOf(v.Ask.Endpoint, t.Target.Name)
	for _, f := range v.Facts(v.Client, fact.LookServices) {
		s := f.ServiceRecords
		if record == "" || s == nil || f.Order.Target.Name != record {
			continue
		}
		text := ""
		switch {
		case len(s.List) > 0:
			text = "; " + record + " says that the service is not offered there"
		case s.Outcome == fact.NoSuchName || s.Outcome == fact.NoData:
			text = "; there is no service record " + record + " either"
		}
		for _, j := range t.Verdict.Causes {
			if j.Gate == gate.Name && text != "" && (j.Cause == "names/no-address" ||
				j.Cause == "names/no-such-name") {
				j.Summary += text
				j.Because = gate.Union(j.Because, scene.FactIDs(f))
				return
			}
		}
	}
}
