package weigh

import (
	"fmt"
	"strings"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
)

// settingsReadings reads the intent gate: is the client told the right thing?
// What it was told is right when the server has a listener there.
func (v *view) settingsReadings(w *wants, t *try) []Reading {
	list := append(v.toldReadings(t), v.toldElsewhere(w, t)...)
	if r, ok := v.missingProxy(w, t); ok {
		return append(list, r)
	}
	if r, ok := v.proxyReading(w, t); ok {
		return append(list, r)
	}
	return list
}

// toldReadings compares what the client was told with the card, or with where
// the server really listens.
func (v *view) toldReadings(t *try) []Reading {
	if v.asOnCard(t.target) {
		return []Reading{{Gate: Intent, Vantage: v.client, Summary: v.told(t.target) + ", as on the card"}}
	}
	if t.server == "" || !v.confirmed(t) {
		return nil
	}
	f, list := v.listeners(t.server)
	if list == nil || len(list.On(v.ask.Endpoint.Transport, t.target.Port)) == 0 {
		return nil
	}
	return []Reading{{Gate: Intent, Because: factIDs(f), Vantage: t.server, Summary: v.told(t.target)}}
}

// asOnCard reports whether a target is the endpoint that the card names.
func (v *view) asOnCard(t fact.Target) bool {
	if v.ask.Card == nil || v.ask.Card.Endpoint == "" {
		return false
	}
	e, err := endpoint.Parse(v.ask.Card.Endpoint)
	return err == nil && e.Host == t.Name && e.Port == t.Port && e.Scheme == t.Scheme && e.Security == t.Security
}

// told is what the client was told.
func (v *view) told(t fact.Target) string {
	security := map[fact.Security]string{fact.Plain: "not encrypted", fact.TLS: "TLS", fact.StartTLS: "TLS where offered"}[t.Security]
	if t.Security == fact.StartTLS && v.ask.Endpoint.Verify {
		security = "TLS by upgrade"
	}
	if t.Scheme == "ssh" {
		security = "SSH"
	}
	text := fmt.Sprintf("%s, port %d, %s", t.Name, t.Port, security)
	if v.ask.Endpoint.Assumed {
		text += "; " + t.Scheme + " taken from the port"
	}
	return text
}

// strayTry weighs an endpoint with stray characters: as typed, and then as it
// was meant. It gives nil for an endpoint without any.
func (v *view) strayTry(w *wants, target fact.Target, depth int) *try {
	e := v.ask.Endpoint
	if len(e.Stray) == 0 || depth > 0 {
		return nil
	}
	t := &try{target: target, symptom: NotTried, lookup: &lookup{name: target.Name, settled: true}}
	if e.Host != e.Clean {
		if t.lookup = v.lookUp(w, e.Host); len(t.lookup.addrs) > 0 {
			return nil // a program here drops the characters by itself
		}
		if t.lookup.settled {
			t.symptom = NoAddress
		}
	}
	clean := target
	clean.Name = e.Clean
	r := Reading{
		Gate: Intent, Cause: "settings/stray-characters", Apart: true, Vantage: v.client, Instead: &clean,
		Because: factIDs(t.lookup.ends...),
		Summary: "the endpoint has " + strayText(e.Stray) + "; without, the name is " + e.Clean,
		Values:  values{"clean": cleanInput(e), "client": v.host(v.client)},
	}
	meant := v.lookUp(w, e.Clean)
	switch {
	case meant.source != nil:
		r.Because = append(r.Because, meant.source.ID)
	case meant.settled && !meant.literal:
		r.Short = append(r.Short, "the cleaned name gives no address either")
	}
	readings := []Reading{r}
	if t.symptom == NoAddress {
		readings = append(readings, v.noAddressReadings(w, t)...)
	}
	t.verdict = combine(t.symptom, readings)
	v.correct(w, t, depth)
	return t
}

func strayText(list []fact.Stray) string {
	var parts []string
	for _, s := range list {
		parts = append(parts, fmt.Sprintf("%s (%s, character %d)", s.Name, s.Code, s.At))
	}
	const most = 3
	if len(parts) > most {
		parts = append(parts[:most], fmt.Sprintf("and %d more", len(parts)-most))
	}
	return strings.Join(parts, ", ")
}

// cleanInput is the endpoint as it should be written.
func cleanInput(e fact.Endpoint) string {
	return fmt.Sprintf("%s://%s:%d%s", e.Scheme, e.Clean, e.Port, e.Path)
}
