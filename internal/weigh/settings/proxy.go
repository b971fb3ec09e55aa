package settings

import (
	"fmt"
	"slices"
	"strings"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/program"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// proxyReading reads a proxy of the client's environment that takes the
// connection elsewhere than straight to the server.
func proxyReading(v *scene.Scene, w *scene.Wants, t *scene.Try) (gate.Reading, bool) {
	if !v.Protocol.Web || v.Ask.Endpoint.Host == "" {
		return gate.Reading{}, false
	}
	w.Add(
		scene.Want{
			Look:   fact.LookProxy,
			At:     fact.Client,
			Target: fact.Target{Scheme: v.Ask.Endpoint.Scheme},
			Gate:   gate.Intent,
		},
	)
	for _, f := range v.Facts(v.Client, fact.LookProxy) {
		if f.Proxy == nil || f.Proxy.Value == "" ||
			excepted(f.Proxy.NoProxy, v.Ask.Endpoint.Host, v.Ask.Endpoint.Port) ||
			t.Target.Addr.IsLoopback() {
			continue
		}
		r := gate.Reading{
			Gate:     gate.Intent,
			Cause:    "settings/proxy-in-the-way",
			Strength: gate.Read,
			Reach:    gate.Elsewhere,
			Harmless: true,
			Because:  scene.FactIDs(f),
			Vantage:  v.Client,
			Summary: fmt.Sprintf(
				"programs of this environment go to the proxy %s (%s), not straight to %s as this trace does",
				f.Proxy.Value,
				f.Proxy.Name,
				v.Ask.Endpoint.Host,
			),
			Values: catalogue.Values{
				"proxy":    f.Proxy.Value,
				"variable": f.Proxy.Name,
				"host":     v.Ask.Endpoint.Host,
				"client":   v.Host(v.Client),
			},
		}
		if !strings.Contains(f.Proxy.Name, " ") { // it is a variable
			r.Values["exempts"] = "$no_proxy," + v.Ask.Endpoint.Host
		}
		// Programs go there: if that leads nowhere, they do not get through.
		through := fact.Target{Name: t.Target.Name, Port: t.Target.Port, Path: f.Proxy.Value}
		w.Add(scene.Want{Look: fact.LookThrough, At: fact.Client, Target: through, Gate: gate.Intent})
		for _, tried := range v.Facts(v.Client, fact.LookThrough) {
			if tried.Through == nil || tried.Order.Target != through || tried.Through.Open {
				continue
			}
			r.Harmless, r.Because = false, append(r.Because, tried.ID)
			how := fmt.Sprintf("it answers %d", tried.Through.Status)
			if tried.Through.Status == 0 {
				how = tried.Through.Error
			}
			r.Summary = fmt.Sprintf(
				"programs of this environment go to the proxy %s (%s), and there: %s; straight to %s there is: %s",
				f.Proxy.Value,
				f.Proxy.Name,
				how,
				v.Ask.Endpoint.Host,
				t.Symptom,
			)
		}
		return r, true
	}
	return gate.Reading{}, false
}

// missingProxy reads a way that is shut directly and open through the proxy
// that the card names.
func missingProxy(v *scene.Scene, w *scene.Wants, t *scene.Try) (gate.Reading, bool) {
	if v.Ask.Card == nil || v.Ask.Card.Proxy == "" || t.Symptom.Good() || t.Symptom == gate.NotTried ||
		gate.Symptoms[t.Symptom].Open.Has(gate.Listener) {
		return gate.Reading{}, false
	}
	target := fact.Target{Name: t.Target.Name, Port: t.Target.Port}
	w.Add(scene.Want{Look: fact.LookThrough, At: fact.Client, Target: target, Gate: gate.Intent})
	for _, f := range v.Facts(v.Client, fact.LookThrough) {
		if f.Through != nil && f.Through.Open && f.Order.Target == target {
			return gate.Reading{
				Gate:     gate.Intent,
				Cause:    "settings/proxy-missing",
				Strength: gate.Read,
				Because:  append(t.Climb.IDs(), f.ID),
				Vantage:  v.Client,
				Summary: fmt.Sprintf(
					"straight to %s there is %s, and through the proxy %s the way is open",
					t.Target.Name,
					t.Symptom,
					f.Through.Proxy,
				),
				Values: catalogue.Values{"proxy": f.Through.Proxy, "client": v.Host(v.Client)},
			}, true
		}
	}
	return gate.Reading{}, false
}

// excepted reports whether a list of exceptions names a host: names stand for
// themselves and all below them, "*" for everything, nets for their addresses.
func excepted(list, host string, port uint16) bool {
	host = strings.ToLower(strings.TrimSuffix(host, "."))
	return slices.ContainsFunc(
		strings.FieldsFunc(list, func(r rune) bool { return r == ',' || r == ' ' }),
		func(each string) bool {
			each = strings.ToLower(strings.TrimSuffix(strings.TrimSuffix(each, fmt.Sprintf(":%d", port)), "."))
			if each == "*" || each == "<local>" && !strings.Contains(host, ".") {
				return true
			}
			if addr, ok := endpoint.Literal(host); ok {
				p, err := program.NetPattern(strings.Trim(each, "[]"))
				return err == nil && p.Contains(addr)
			}
			each = strings.TrimPrefix(strings.TrimPrefix(each, "*"), ".")
			return each != "" && (host == each || strings.HasSuffix(host, "."+each))
		},
	)
}
