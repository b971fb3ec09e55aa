package certs

import (
	"cmp"
	"crypto/x509"
	"fmt"
	"slices"
	"strings"
	"time"

	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// aboutClients is the alerts of a server that asked for a client certificate
// and does not go on (RFC 8446 section 6.2): with what was sent, or with
// nothing. A server that found nothing in common would not have come so far as
// to ask.
var aboutClients = map[int]string{
	40:  "handshake failure",
	42:  "bad certificate",
	43:  "unsupported certificate",
	44:  "certificate revoked",
	45:  "certificate expired",
	46:  "certificate unknown",
	48:  "unknown authority",
	49:  "access denied",
	116: "certificate required",
}

// turnsAway is the statuses by which web servers turn away a client whose
// certificate they miss or refuse.
var turnsAway = []int{400, 401, 403, 495, 496}

// clientCertReading reads a server that asks for a client certificate and goes
// no further: it got none, or one that it does not take.
func clientCertReading(v *scene.Scene, w *scene.Wants, t *scene.Try, c scene.Climb) (gate.Reading, bool) {
	if c.Handshake == nil || !c.Handshake.Handshake.Wanted {
		return gate.Reading{}, false
	}
	h := c.Handshake.Handshake
	text, strength := "", gate.Coded
	switch words, about := aboutClients[h.Alert]; {
	case about:
		text = fmt.Sprintf("its alert is %d, %s", h.Alert, words)
	case h.Alert != 0 || c.Reply == nil:
		return gate.Reading{}, false
	case c.Reply.Reply.Ending == fact.Closed || c.Reply.Reply.Ending == fact.ResetMid:
		text = "it closes after the handshake"
	case slices.Contains(turnsAway, c.Reply.Reply.Status) && len(c.Reply.Reply.Ways) == 0: // else it wants an account
		text = fmt.Sprintf("it answers %d", c.Reply.Reply.Status)
		// A web server of many says outright that this is the reason.
		if said := strings.Contains(c.Reply.Reply.Text, "SSL certificate"); c.Reply.Reply.Status < 495 && !said {
			strength = gate.Told // the status may have another reason
		}
	default:
		return gate.Reading{}, false
	}
	r := gate.Reading{
		Gate:     gate.Session,
		Reach:    gate.Unchecked,
		Strength: strength,
		Because:  scene.FactIDs(c.Handshake, c.Reply),
		Vantage:  c.Handshake.Vantage,
		Values: v.Place(
			t,
			catalogue.Values{
				"server":      v.Answering(t),
				"authorities": cmp.Or(strings.Join(h.Authorities, ", "), "it names none"),
			},
		),
	}
	takes := ""
	if list := h.Authorities; len(list) > 0 {
		takes = "; it takes those of " + strings.Join(list[:min(3, len(list))], " or ")
	}
	sent := ParseChain(h.Sent)
	if len(sent) == 0 {
		r.Cause, r.Summary = "certs/client-cert-wanted",
			"the server asks for a client certificate, and without one it goes no further ("+text+")"+takes+t.Seen()
		return r, true
	}
	r.Cause = "certs/client-cert-refused"
	r.Values["subject"], r.Values["issuer"] = nameOf(sent[0]), nameOfName(TopOf(sent).Issuer)
	why := wrongWithSent(v, w, t, sent, h.Authorities, &r)
	if said := c.Reply != nil && strings.Contains(c.Reply.Reply.Text, "SSL certificate"); why == "" && h.Alert == 0 &&
		!said {
		return gate.Reading{}, false // nothing shows that the certificate is the reason
	}
	if why == "" {
		why = "nothing that was seen of it says why; the server's log does"
	}
	r.Summary = fmt.Sprintf(
		"the server does not take the client's certificate %s (%s): %s%s",
		nameOf(sent[0]),
		text,
		why,
		t.Seen(),
	)
	return r, true
}

// wrongWithSent says what a server has against a certificate that was sent to
// it, as far as its request, the certificate itself, or its store tell.
func wrongWithSent(
	v *scene.Scene,
	w *scene.Wants,
	t *scene.Try,
	sent []*x509.Certificate,
	takes []string,
	r *gate.Reading,
) string {
	leaf, now := sent[0], v.Ask.Began
	switch {
	case now.After(leaf.NotAfter):
		return fmt.Sprintf(
			"it expired %s ago, on %s",
			foreign.Span(now.Sub(leaf.NotAfter)),
			leaf.NotAfter.UTC().Format(time.DateOnly),
		)
	case now.Before(leaf.NotBefore):
		return fmt.Sprintf("it is valid only from %s", leaf.NotBefore.UTC().Format(time.DateOnly))
	case len(leaf.ExtKeyUsage) > 0 && !slices.Contains(leaf.ExtKeyUsage, x509.ExtKeyUsageClientAuth) &&
		!slices.Contains(leaf.ExtKeyUsage, x509.ExtKeyUsageAny):
		return "it is not meant for clients: its extended key usage leaves them out"
	}
	if f, store := clientStore(v, w, t); store != nil {
		r.Because = gate.Union(r.Because, scene.FactIDs(f))
		r.Values["store"] = store.Path
		switch missing := missingFrom(sent, ParseChain(store.Roots)); {
		case store.Wrong != "":
			return store.Wrong
		case missing != "":
			r.Values["missing"] = missing
			lacks := "lacks " + missing
			if slices.ContainsFunc(
				ParseChain(store.Roots),
				func(c *x509.Certificate) bool { return nameOf(c) == missing },
			) {
				lacks = fmt.Sprintf("has another %s than the one that signed it", missing)
			}
			return fmt.Sprintf("%s, by which %s judges clients, %s", store.Path, store.Program, lacks)
		}
		return ""
	}
	if len(takes) > 0 &&
		!slices.ContainsFunc(
			sent,
			func(c *x509.Certificate) bool { return slices.Contains(takes, c.Issuer.String()) },
		) {
		r.Values["missing"] = nameOfName(TopOf(sent).Issuer)
		return fmt.Sprintf(
			"it is of %s, and the server takes those of %s",
			nameOfName(TopOf(sent).Issuer),
			strings.Join(takes[:min(3, len(takes))], " or "),
		)
	}
	return ""
}

// missingFrom names what a store lacks to vouch for a chain; "" for nothing.
func missingFrom(chain, store []*x509.Certificate) string {
	all := slices.Concat(chain, store) // what is in the store need not be sent
	roots := slices.DeleteFunc(slices.Clone(store), func(c *x509.Certificate) bool { return !selfSigned(c) })
	if len(anchors(all, roots)) > 0 {
		return ""
	}
	top := TopOf(all)
	if selfSigned(top) {
		return nameOf(top)
	}
	return nameOfName(top.Issuer)
}

// clientStore is the certificates by which the service judges those of its
// clients, as its settings name them for this port and name.
func clientStore(v *scene.Scene, w *scene.Wants, t *scene.Try) (*fact.Fact, *fact.ClientStore) {
	if t.Server == "" {
		return nil, nil
	}
	w.Add(
		scene.Want{
			Look:   fact.LookCertFiles,
			At:     fact.Server,
			On:     t.Server,
			Target: fact.Target{Port: t.Target.Port},
			Gate:   gate.Session,
		},
	)
	for _, f := range v.Facts(t.Server, fact.LookCertFiles) {
		if f.CertFiles == nil {
			continue
		}
		var mine []*fact.ClientStore
		for i := range f.CertFiles.Stores {
			s := &f.CertFiles.Stores[i]
			if len(s.Ports) > 0 && !slices.Contains(s.Ports, t.Target.Port) ||
				len(s.Names) > 0 && !slices.Contains(s.Names, t.Target.Name) {
				continue
			}
			mine = append(mine, s)
		}
		if len(mine) == 1 && mine[0].Unread == "" {
			return f, mine[0]
		}
	}
	return nil, nil
}
