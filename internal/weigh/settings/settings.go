// Package settings judges the rung "settings": what the client was told, and by what, against
// what the server is.
package settings

import (
	"fmt"
	"strings"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/protocol"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// Readings reads the intent gate: is the client told the right thing?
// What it was told is right when the server has a listener there.
func Readings(v *scene.Scene, w *scene.Wants, t *scene.Try) []gate.Reading {
	list := append(toldReadings(v, t), toldElsewhere(v, w, t)...)
	if r, ok := missingProxy(v, w, t); ok {
		return append(list, r)
	}
	return append(list, proxyReadings(v, w, t)...)
}

// toldReadings compares what the client was told with the card, or with where
// the server really listens.
func toldReadings(v *scene.Scene, t *scene.Try) []gate.Reading {
	if asOnCard(v, t.Target) {
		return []gate.Reading{{Gate: gate.Intent,
			Strength: gate.Read, Vantage: v.Client, Summary: Told(v, t.Target) + ", as on the card"}}
	}
	if t.Server == "" || !v.Confirmed(t) {
		return nil
	}
	f, list := v.Listeners(t.Server)
	if list == nil || len(list.On(v.Ask.Endpoint.Transport, t.Target.Port)) == 0 {
		return nil
	}
	return []gate.Reading{{Gate: gate.Intent, Strength: gate.Read, Because: scene.FactIDs(f), Vantage: t.Server,
		Summary: Told(v, t.Target)}}
}

// asOnCard reports whether a target is the endpoint that the card names.
func asOnCard(v *scene.Scene, t fact.Target) bool {
	if v.Ask.Card == nil || v.Ask.Card.Endpoint == "" {
		return false
	}
	e, err := endpoint.Parse(v.Ask.Card.Endpoint)
	return err == nil && e.Host == t.Name && e.Port == t.Port && e.Scheme == t.Scheme && e.Security == t.Security
}

// speaks is the protocol of a target.
func speaks(t fact.Target) *protocol.Protocol {
	scheme, _ := protocol.Lookup(t.Scheme)
	return protocol.Of(scheme.Wire)
}

// Told is what the client was told.
func Told(v *scene.Scene, t fact.Target) string {
	security := map[fact.Security]string{fact.Plain: "not encrypted", fact.TLS: "TLS",
		fact.StartTLS: "TLS where offered"}[t.Security]
	if t.Security == fact.StartTLS && v.Ask.Endpoint.Insist {
		security = "TLS by upgrade"
	}
	if speaks(t).HostKeys {
		security = "SSH"
	}
	text := fmt.Sprintf("%s, port %d, %s", t.Name, t.Port, security)
	if v.Ask.Endpoint.Assumed {
		text += "; " + t.Scheme + " taken from the port"
	}
	if by := asClient(v.Ask.Endpoint.Way); by != "" {
		text += "; " + by
	}
	return text
}

// asClient says by which settings of the client's own library the try was made.
func asClient(way *fact.ClientWay) string {
	if way == nil {
		return ""
	}
	var decide []string
	for _, name := range []string{"sslmode", "ssl-mode", "ssl", "ssl-verify-server-cert", "TLS_REQCERT"} {
		if s := way.Named(name); s != nil {
			decide = append(decide, fmt.Sprintf("%s %s (%s)", s.Name, s.Value, s.At))
		}
	}
	if way.Trust != "" {
		decide = append(decide, "trusting "+way.Trust)
	}
	if way.Presented != "" {
		cert, _, _ := strings.Cut(way.Presented, ",")
		decide = append(decide, "presenting "+cert)
	}
	if len(decide) == 0 {
		return ""
	}
	verb := "connects"
	if strings.HasPrefix(way.By, "programs") {
		verb = "connect"
	}
	return fmt.Sprintf("as %s %s for this account: %s", way.By, verb, strings.Join(decide, ", "))
}

func StrayText(list []fact.Stray) string {
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

// CleanInput is the endpoint as it should be written.
func CleanInput(e fact.Endpoint) string {
	return fmt.Sprintf("%s://%s:%d%s", e.Scheme, e.Clean, e.Port, e.Path)
}
