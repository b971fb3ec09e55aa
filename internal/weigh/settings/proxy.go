package settings

import (
	"fmt"
	"slices"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// proxyReadings reads proxies of the client's environment, its system and its programs' own
// files that take the connection elsewhere than straight to the server.
func proxyReadings(v *scene.Scene, w *scene.Wants, t *scene.Try) (list []gate.Reading) {
	if !v.Protocol.Web || v.Ask.Endpoint.Host == "" {
		return nil
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
		if f.Proxy != nil && f.Proxy.Script != "" {
			list = append(list, scriptReadings(v, w, t, f)...)
			continue
		}
		if f.Proxy == nil || f.Proxy.Value == "" || t.Target.Addr.IsLoopback() && f.Proxy.By == "" {
			continue
		}
		if who, some := goThrough(v.Ask, f.Proxy); who != "" {
			// That some programs take another way is told where it does not lead there.
			if r, shut := throughProxy(v, w, t, f, who, some); shut || !some {
				list = append(list, r)
			}
		}
	}
	return list
}

// scriptReadings reads what a script says of the endpoint that decides over proxies.
func scriptReadings(v *scene.Scene, w *scene.Wants, t *scene.Try, set *fact.Fact) []gate.Reading {
	e := v.Ask.Endpoint
	at := fact.Target{Scheme: e.Scheme, Name: e.Host, Port: e.Port, Path: set.Proxy.Script}
	w.Add(scene.Want{Look: fact.LookScript, At: fact.Client, Target: at, Gate: gate.Intent})
	for _, f := range v.Facts(v.Client, fact.LookScript) {
		if f.Proxy == nil || f.Order.Target != at {
			continue
		}
		p := *f.Proxy
		p.Name = fmt.Sprintf("%s, by %s", p.Name, set.Proxy.Name)
		if p.Line > 0 {
			p.Name = fmt.Sprintf("line %d of %s", p.Line, p.Name)
		}
		switch {
		case p.Wrong != "":
			r := gate.Reading{
				Gate: gate.Intent, Cause: "settings/proxy-script-fails", Strength: gate.Inferred,
				Reach: gate.Elsewhere, Harmless: t.Symptom.Good() || t.Symptom == gate.NotTried,
				Because: scene.FactIDs(set, f), Vantage: v.Client,
				Summary: fmt.Sprintf("%s decides over proxies for programs of this user, and tells none: %s",
					p.Name, p.Wrong),
				Values: catalogue.Values{"url": p.Script, "host": e.Host, "client": v.Host(v.Client)},
				Lacks: []gate.Lack{{Guard: gate.OneMeaning,
					Why: "most programs go straight then, and some go nowhere"}},
			}
			return []gate.Reading{r}
		case p.Value == "" || !strings.HasPrefix(p.Value, "http"):
			return nil // straight, or by a way that is not tried here
		}
		seen := *f
		seen.Proxy = &p
		r, shut := throughProxy(v, w, t, &seen, "programs that go by it go", p.Falls)
		if shut && p.Falls {
			r.Summary += "; the script allows another way then"
		}
		r.Because = gate.Union(scene.FactIDs(set), r.Because)
		return []gate.Reading{r}
	}
	return nil
}

// goThrough says which programs use a proxy for an endpoint, as the beginning of a sentence,
// and whether these are but some; "" if none does.
func goThrough(ask fact.Ask, p *fact.ProxySetting) (who string, some bool) {
	e := ask.Endpoint
	of := func(c string) bool {
		return ask.Program != "" && slices.Contains(strings.Fields(strings.ToLower(c)), ask.Program)
	}
	switch {
	case p.By != "":
		if ask.Program != "" && ask.Program != p.By {
			return "", false
		}
		return p.By + " goes", ask.Program == ""
	case p.System:
		if exemptBySystem(p.NoProxy, e.Scheme, e.Host, e.Port) {
			return "", false
		}
		return "programs of this environment go", false
	}
	straight, through := exempt(p.NoProxy, e.Host, e.Port)
	switch {
	case len(through) == 0, slices.ContainsFunc(straight, of):
		return "", false
	case slices.ContainsFunc(through, of):
		return ask.Program + " goes", false
	case len(straight) == 0:
		return "programs of this environment go", false
	}
	return fmt.Sprintf("%s (by no_proxy; not %s) go", strings.Join(through, ", "), strings.Join(straight, ", ")), true
}

// throughProxy reads a proxy that programs use; if that leads nowhere, which shut says, they
// do not get through.
func throughProxy(
	v *scene.Scene, w *scene.Wants, t *scene.Try, f *fact.Fact, who string, some bool,
) (r gate.Reading, shut bool) {
	host, p := v.Ask.Endpoint.Host, f.Proxy
	r = gate.Reading{
		Gate:     gate.Intent,
		Cause:    "settings/proxy-in-the-way",
		Strength: gate.Read,
		Reach:    gate.Elsewhere,
		Harmless: true,
		Because:  scene.FactIDs(f),
		Vantage:  v.Client,
		Summary: fmt.Sprintf("%s to the proxy %s (%s), not straight to %s as this trace does", who, p.Value, p.Name,
			host),
		Values: catalogue.Values{"proxy": p.Value, "variable": p.Name, "host": host, "client": v.Host(v.Client)},
	}
	if !strings.Contains(p.Name, " ") && p.By == "" { // it is a variable
		r.Values["exempts"] = "$no_proxy," + host
	}
	through := fact.Target{Name: t.Target.Name, Port: t.Target.Port, Path: p.Value}
	w.Add(scene.Want{Look: fact.LookThrough, At: fact.Client, Target: through, Gate: gate.Intent})
	for _, tried := range v.Facts(v.Client, fact.LookThrough) {
		if tried.Through == nil || tried.Order.Target != through || tried.Through.Open {
			continue
		}
		shut = true
		r.Harmless, r.Because = some, append(r.Because, tried.ID)
		how := fmt.Sprintf("it answers %d", tried.Through.Status)
		if tried.Through.Status == 0 {
			how = tried.Through.Error
		}
		r.Summary = fmt.Sprintf("%s to the proxy %s (%s), and there: %s; straight to %s there is: %s", who, p.Value, p.Name,
			how, host, t.Symptom)
	}
	return r, shut
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
