package weigh

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/trail"
)

// gatewayStatuses are the statuses with which a gateway answers for a backend
// (RFC 9110 sections 15.6.3 to 15.6.5).
var gatewayStatuses = map[int]string{
	502: "its backend answers with nothing, or with nonsense", 503: "it has no backend that is well", 504: "its backend does not answer in time",
}

// hopReading reads a gateway that answers for a backend: which one, and how
// that stands, seen from the gateway itself.
func (v *view) hopReading(w *wants, t *try, r Reading, reply fact.Reply) (Reading, bool) {
	says, ok := gatewayStatuses[reply.Status]
	if !ok || reply.Status == 503 && reply.Program == "" && !v.gatewayAnswers(t, reply) {
		return r, false
	}
	r.Cause, r.Most = "answer/hop-fails", trail.Likely
	r.Summary = fmt.Sprintf("%s answers %d: %s", orElse(reply.Program, "a gateway"), reply.Status, says)
	r.Values = v.place(t, values{"server": v.answering(t), "gateway": v.answering(t)})
	r.Short = []string{"which backend it is, and how it stands, was not seen: --at server=USER@HOST, or a record made there"}
	if t.server == "" {
		return r, true
	}
	w.add(Want{Look: fact.LookUpstreams, At: fact.Server, On: t.server, Target: fact.Target{Port: t.target.Port}, Gate: Answer})
	for _, f := range v.facts(t.server, fact.LookUpstreams) {
		if f.Upstreams == nil {
			continue
		}
		var failing []string
		const most = 3
		backends := v.backends(f)
		for i, up := range backends {
			if i == most {
				break
			}
			text, ids := v.upstream(w, t, up)
			if text != "" {
				if len(failing) == 0 {
					r.Values["hop"] = up.Scheme + "://" + endpoint.HostPort(up.Host, up.Port) + "/"
				}
				failing = append(failing, text)
				r.Because = union(append(r.Because, f.ID), ids)
			}
		}
		if len(failing) == 0 {
			continue
		}
		r.Summary = fmt.Sprintf("%s on %s answers %d for its backend: %s", orElse(reply.Program, "a gateway"), v.host(t.server), reply.Status, strings.Join(failing, "; "))
		r.Values["backend"] = failing[0]
		r.Short, r.Most = nil, ""
		if len(backends) > 1 {
			r.Short = []string{"its settings name several backends; which of them this request goes to was not worked out"}
		}
	}
	return r, true
}

// gatewayAnswers reports whether an answer without a name is a gateway's own:
// by who holds the port, or by words that one writes when no backend is left.
func (v *view) gatewayAnswers(t *try, reply fact.Reply) bool {
	return strings.Contains(reply.Text, "No server is available to handle this request") ||
		slices.ContainsFunc(v.taking(t), func(l fact.Listener) bool { return l.Program == "haproxy" })
}

// backends is what a gateway needs: the hops of the card or, where it names
// none, what the gateway's settings name.
func (v *view) backends(f *fact.Fact) []fact.Upstream {
	var list []fact.Upstream
	if v.ask.Card != nil {
		for _, input := range v.ask.Card.Hops {
			if e, err := endpoint.Parse(input); err == nil {
				list = append(list, fact.Upstream{Scheme: e.Scheme, Host: e.Host, Port: e.Port, Path: "the card " + v.ask.Card.Name})
			}
		}
	}
	if len(list) > 0 || f.Upstreams == nil {
		return list
	}
	return f.Upstreams.List
}

func orElse(s, other string) string {
	if s == "" {
		return other
	}
	return s
}

// upstream says what is wrong with a backend, seen from the gateway; "" if
// nothing is, or it was not seen yet.
func (v *view) upstream(w *wants, t *try, up fact.Upstream) (string, []string) {
	addr, ok := v.addressAt(w, t.server, up.Host)
	if !ok {
		return "", nil
	}
	scheme, _ := endpoint.Lookup(up.Scheme)
	target := fact.Target{Name: up.Host, Addr: addr, Port: up.Port, Scheme: up.Scheme, Security: scheme.Security, Path: "/"}
	w.add(Want{Look: fact.LookSession, At: fact.Server, On: t.server, Target: target, Gate: Answer})
	c, seen := v.climbs[seat{t.server, target}]
	if !seen {
		return "", nil
	}
	s := c.symptom(nil)
	if s == Fine || s == NotTried {
		return "", nil
	}
	place := up.Path
	if up.Line > 0 {
		place += fmt.Sprintf(", line %d", up.Line)
	}
	return fmt.Sprintf("%s (%s): %s", endpoint.HostPort(up.Host, up.Port), place, s), c.ids()
}

// addressAt is what a backend's name gives on the gateway.
func (v *view) addressAt(w *wants, vantage, name string) (netip.Addr, bool) {
	if addr, ok := endpoint.Literal(name); ok {
		return addr, true
	}
	if name == "localhost" {
		return netip.AddrFrom4([4]byte{127, 0, 0, 1}), true
	}
	w.add(Want{Look: fact.LookNames, At: fact.Server, On: vantage, Target: fact.Target{Name: name}, Gate: Answer})
	for _, f := range v.facts(vantage, fact.LookNames) {
		if f.Order.Target.Name != name {
			continue
		}
		if f.HostsFile != nil && len(f.HostsFile.Addrs) > 0 {
			return f.HostsFile.Addrs[0], true
		}
		if f.Answer != nil && len(f.Answer.Addrs) > 0 {
			return f.Answer.Addrs[0], true
		}
	}
	return netip.Addr{}, false
}

// proxyReading reads a proxy of the client's environment that takes the
// connection elsewhere than straight to the server.
func (v *view) proxyReading(w *wants, t *try) (Reading, bool) {
	if v.scheme.Wire != "http" || v.ask.Endpoint.Host == "" {
		return Reading{}, false
	}
	w.add(Want{Look: fact.LookProxy, At: fact.Client, Target: fact.Target{Scheme: v.ask.Endpoint.Scheme}, Gate: Intent})
	for _, f := range v.facts(v.client, fact.LookProxy) {
		if f.Proxy == nil || f.Proxy.Value == "" || excepted(f.Proxy.NoProxy, v.ask.Endpoint.Host, v.ask.Endpoint.Port) || t.target.Addr.IsLoopback() {
			continue
		}
		return Reading{Gate: Intent, Cause: "settings/proxy-in-the-way", Harmless: true, Because: factIDs(f), Vantage: v.client,
			Summary: fmt.Sprintf("programs of this environment go to the proxy %s (%s), not straight to %s as this trace does", f.Proxy.Value, f.Proxy.Name, v.ask.Endpoint.Host),
			Values:  values{"proxy": f.Proxy.Value, "variable": f.Proxy.Name, "host": v.ask.Endpoint.Host, "client": v.host(v.client)}}, true
	}
	return Reading{}, false
}

// missingProxy reads a way that is shut directly and open through the proxy
// that the card names.
func (v *view) missingProxy(w *wants, t *try) (Reading, bool) {
	if v.ask.Card == nil || v.ask.Card.Proxy == "" || t.symptom == Fine || t.symptom == NotTried || symptoms[t.symptom].open.has(Listener) {
		return Reading{}, false
	}
	target := fact.Target{Name: t.target.Name, Port: t.target.Port}
	w.add(Want{Look: fact.LookThrough, At: fact.Client, Target: target, Gate: Intent})
	for _, f := range v.facts(v.client, fact.LookThrough) {
		if f.Through != nil && f.Through.Open && f.Order.Target == target {
			return Reading{Gate: Intent, Cause: "settings/proxy-missing", Because: append(t.climb.ids(), f.ID), Vantage: v.client,
				Summary: fmt.Sprintf("straight to %s there is %s, and through the proxy %s the way is open", t.target.Name, t.symptom, f.Through.Proxy),
				Values:  values{"proxy": f.Through.Proxy, "client": v.host(v.client)}}, true
		}
	}
	return Reading{}, false
}

// excepted reports whether a list of exceptions names a host: names stand for
// themselves and all below them, "*" for everything, nets for their addresses.
func excepted(list, host string, port uint16) bool {
	host = strings.ToLower(strings.TrimSuffix(host, "."))
	return slices.ContainsFunc(strings.FieldsFunc(list, func(r rune) bool { return r == ',' || r == ' ' }), func(each string) bool {
		each = strings.ToLower(strings.TrimSuffix(strings.TrimSuffix(each, fmt.Sprintf(":%d", port)), "."))
		if each == "*" {
			return true
		}
		if addr, ok := endpoint.Literal(host); ok {
			p, err := netPattern(strings.Trim(each, "[]"))
			return err == nil && p.Contains(addr)
		}
		each = strings.TrimPrefix(strings.TrimPrefix(each, "*"), ".")
		return each != "" && (host == each || strings.HasSuffix(host, "."+each))
	})
}
