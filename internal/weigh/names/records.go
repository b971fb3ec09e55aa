package names

import (
	"fmt"
	"slices"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// MostRecords bounds how many servers of a domain are tried.
const MostRecords = 4

// RecordReadings reads the service record that the card says clients find the
// server by.
func RecordReadings(v *scene.Scene, w *scene.Wants, t *scene.Try) []gate.Reading {
	if v.Ask.Card == nil || v.Ask.Card.ServiceRecord == "" {
		return nil
	}
	name := strings.TrimSuffix(v.Ask.Card.ServiceRecord, ".")
	w.Add(scene.Want{Look: fact.LookServices, At: fact.Client, Target: fact.Target{Name: name}, Gate: gate.Name})
	var none, told []*fact.Fact
	found, asked := []fact.ServiceRecord(nil), 0
	for _, f := range v.Facts(v.Client, fact.LookServices) {
		switch {
		case f.ServiceRecords == nil || f.Order.Target.Name != name:
			continue
		case len(f.ServiceRecords.List) > 0:
			found, told = append(found, f.ServiceRecords.List...), append(told, f)
		case f.ServiceRecords.Outcome == fact.NoSuchName || f.ServiceRecords.Outcome == fact.NoData:
			none = append(none, f)
		}
		asked++
	}
	_, zone, _ := strings.Cut(strings.TrimPrefix(name[strings.Index(name, ".")+1:], "_"), ".")
	r := gate.Reading{
		Gate:     gate.Name,
		Cause:    "names/no-service-record",
		Strength: gate.Read,
		Reach:    gate.Elsewhere,
		Because:  scene.FactIDs(none...),
		Vantage:  v.Client,
		Values: catalogue.Values{
			"record": name,
			"zone":   zone,
			"port":   fmt.Sprint(v.Ask.Endpoint.Port),
			"host":   strings.TrimSuffix(v.Ask.Endpoint.Host, "."),
		},
	}
	switch {
	case asked == 0 || len(found) == 0 && len(none) == 0:
		return nil // nobody has said anything yet, or could
	case len(found) == 0:
		r.Summary = fmt.Sprintf("clients find the server by %s, and there is no such record", name)
		return []gate.Reading{r}
	}
	e := v.Ask.Endpoint
	if slices.ContainsFunc(found, func(s fact.ServiceRecord) bool {
		return s.Port == e.Port && strings.EqualFold(s.Target, strings.TrimSuffix(e.Host, "."))
	}) {
		return nil
	}
	r.Harmless, r.Because = true, scene.FactIDs(told...)
	r.Summary = fmt.Sprintf(
		"%s leads clients to %s:%d, not to %s:%d",
		name,
		found[0].Target,
		found[0].Port,
		e.Host,
		e.Port,
	)
	return []gate.Reading{r}
}

// frontReading reads an address that belongs to a gateway which does not
// carry the port.
func frontReading(v *scene.Scene, w *scene.Wants, t *scene.Try, r gate.Reading) gate.Reading {
	for _, at := range v.Set.Vantages {
		if at.Role != fact.Gateway {
			continue
		}
		w.Add(scene.Want{Look: fact.LookAddresses, At: fact.Gateway, On: at.ID, Gate: gate.Name})
		f, held := v.Addresses(at.ID)
		if held == nil || !held.Holds(t.Target.Addr) {
			continue
		}
		w.Add(
			scene.Want{
				Look:   fact.LookListeners,
				At:     fact.Gateway,
				On:     at.ID,
				Target: fact.Target{Port: t.Target.Port, Scheme: t.Target.Scheme},
				Gate:   gate.Name,
			},
		)
		w.Add(
			scene.Want{
				Look:   fact.LookService,
				At:     fact.Gateway,
				On:     at.ID,
				Target: fact.Target{Port: t.Target.Port, Scheme: t.Target.Scheme},
				Gate:   gate.Name,
			},
		)
		seen, list := v.Listeners(at.ID)
		if list == nil || len(list.On(v.Ask.Endpoint.Transport, t.Target.Port)) > 0 {
			continue
		}
		// What stands behind a front has the certificate and the accounts of what it is
		// for: to go there past it shows nothing.
		r.Cause, r.Instead = "names/points-at-front", nil
		r.Summary = fmt.Sprintf(
			"%s resolves to %s, which is %s, and nothing there takes port %d; %s has %s",
			t.Target.Name,
			t.Target.Addr,
			at.Host,
			t.Target.Port,
			r.Values["server"],
			r.Values["right"],
		)
		r.Because = gate.Union(r.Because, scene.FactIDs(f, seen))
		r.Values["front"], r.Values["port"] = at.Host, fmt.Sprint(t.Target.Port)
	}
	return r
}
