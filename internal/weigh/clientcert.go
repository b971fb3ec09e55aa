package weigh

import (
	"crypto/x509"
	"fmt"
	"slices"
	"strings"
	"time"

	"uakari/internal/fact"
	"uakari/internal/trail"
)

// aboutClients is the alerts of a server that asked for a client certificate
// and does not go on (RFC 8446 section 6.2): with what was sent, or with
// nothing. A server that found nothing in common would not have come so far as
// to ask.
var aboutClients = map[int]string{40: "handshake failure", 42: "bad certificate", 43: "unsupported certificate", 44: "certificate revoked",
	45: "certificate expired", 46: "certificate unknown", 48: "unknown authority", 49: "access denied", 116: "certificate required"}

// turnsAway is the statuses by which web servers turn away a client whose
// certificate they miss or refuse.
var turnsAway = []int{400, 401, 403, 495, 496}

// clientCertReading reads a server that asks for a client certificate and goes
// no further: it got none, or one that it does not take.
func (v *view) clientCertReading(w *wants, t *try, c climb) (Reading, bool) {
	if c.handshake == nil || !c.handshake.Handshake.Wanted {
		return Reading{}, false
	}
	h := c.handshake.Handshake
	text, most := "", trail.Certainty("")
	switch words, about := aboutClients[h.Alert]; {
	case about:
		text = fmt.Sprintf("its alert is %d, %s", h.Alert, words)
	case h.Alert != 0 || c.reply == nil:
		return Reading{}, false
	case c.reply.Reply.Ending == fact.Closed || c.reply.Reply.Ending == fact.ResetMid:
		text = "it closes after the handshake"
	case slices.Contains(turnsAway, c.reply.Reply.Status) && len(c.reply.Reply.Ways) == 0: // else it wants an account
		text = fmt.Sprintf("it answers %d", c.reply.Reply.Status)
		// A web server of many says outright that this is the reason.
		if said := strings.Contains(c.reply.Reply.Text, "SSL certificate"); c.reply.Reply.Status < 495 && !said {
			most = trail.Likely // the status may have another reason
		}
	default:
		return Reading{}, false
	}
	r := Reading{Gate: Session, Apart: true, Most: most, Because: factIDs(c.handshake, c.reply), Vantage: c.handshake.Vantage,
		Values: v.place(t, values{"server": v.answering(t), "authorities": orElse(strings.Join(h.Authorities, ", "), "it names none")})}
	takes := ""
	if list := h.Authorities; len(list) > 0 {
		takes = "; it takes those of " + strings.Join(list[:min(3, len(list))], " or ")
	}
	sent := parseChain(h.Sent)
	if len(sent) == 0 {
		r.Cause, r.Summary = "certs/client-cert-wanted", "the server asks for a client certificate, and without one it goes no further ("+text+")"+takes+t.seen()
		return r, true
	}
	r.Cause = "certs/client-cert-refused"
	r.Values["subject"], r.Values["issuer"] = nameOf(sent[0]), nameOfName(topOf(sent).Issuer)
	why := v.wrongWithSent(w, t, sent, h.Authorities, &r)
	if said := c.reply != nil && strings.Contains(c.reply.Reply.Text, "SSL certificate"); why == "" && h.Alert == 0 && !said {
		return Reading{}, false // nothing shows that the certificate is the reason
	}
	if why == "" {
		why = "nothing that was seen of it says why; the server's log does"
	}
	r.Summary = fmt.Sprintf("the server does not take the client's certificate %s (%s): %s%s", nameOf(sent[0]), text, why, t.seen())
	return r, true
}

// wrongWithSent says what a server has against a certificate that was sent to
// it, as far as its request, the certificate itself, or its store tell.
func (v *view) wrongWithSent(w *wants, t *try, sent []*x509.Certificate, takes []string, r *Reading) string {
	leaf, now := sent[0], v.ask.Began
	switch {
	case now.After(leaf.NotAfter):
		return fmt.Sprintf("it expired %s ago, on %s", span(now.Sub(leaf.NotAfter)), leaf.NotAfter.UTC().Format(time.DateOnly))
	case now.Before(leaf.NotBefore):
		return fmt.Sprintf("it is valid only from %s", leaf.NotBefore.UTC().Format(time.DateOnly))
	case len(leaf.ExtKeyUsage) > 0 && !slices.Contains(leaf.ExtKeyUsage, x509.ExtKeyUsageClientAuth) && !slices.Contains(leaf.ExtKeyUsage, x509.ExtKeyUsageAny):
		return "it is not meant for clients: its extended key usage leaves them out"
	}
	if f, store := v.clientStore(w, t); store != nil {
		r.Because = union(r.Because, factIDs(f))
		r.Values["store"] = store.Path
		switch missing := missingFrom(sent, parseChain(store.Roots)); {
		case store.Wrong != "":
			return store.Wrong
		case missing != "":
			r.Values["missing"] = missing
			lacks := "lacks " + missing
			if slices.ContainsFunc(parseChain(store.Roots), func(c *x509.Certificate) bool { return nameOf(c) == missing }) {
				lacks = fmt.Sprintf("has another %s than the one that signed it", missing)
			}
			return fmt.Sprintf("%s, by which %s judges clients, %s", store.Path, store.Program, lacks)
		}
		return ""
	}
	if len(takes) > 0 && !slices.ContainsFunc(sent, func(c *x509.Certificate) bool { return slices.Contains(takes, c.Issuer.String()) }) {
		r.Values["missing"] = nameOfName(topOf(sent).Issuer)
		return fmt.Sprintf("it is of %s, and the server takes those of %s", nameOfName(topOf(sent).Issuer), strings.Join(takes[:min(3, len(takes))], " or "))
	}
	return ""
}

// missingFrom names what a store lacks to vouch for a chain; "" for nothing.
func missingFrom(chain, store []*x509.Certificate) string {
	all := slices.Concat(chain, store) // what is in the store need not be sent
	roots := slices.DeleteFunc(slices.Clone(store), func(c *x509.Certificate) bool { return !selfSigned(c) })
	if pathAt(all, roots, withinAll(all)) {
		return ""
	}
	top := topOf(all)
	if selfSigned(top) {
		return nameOf(top)
	}
	return nameOfName(top.Issuer)
}

// clientStore is the certificates by which the service judges those of its
// clients, as its settings name them for this port and name.
func (v *view) clientStore(w *wants, t *try) (*fact.Fact, *fact.ClientStore) {
	if t.server == "" {
		return nil, nil
	}
	w.add(Want{Look: fact.LookCertFiles, At: fact.Server, On: t.server, Target: fact.Target{Port: t.target.Port}, Gate: Session})
	for _, f := range v.facts(t.server, fact.LookCertFiles) {
		if f.CertFiles == nil {
			continue
		}
		var mine []*fact.ClientStore
		for i := range f.CertFiles.Stores {
			s := &f.CertFiles.Stores[i]
			if len(s.Ports) > 0 && !slices.Contains(s.Ports, t.target.Port) || len(s.Names) > 0 && !slices.Contains(s.Names, t.target.Name) {
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
