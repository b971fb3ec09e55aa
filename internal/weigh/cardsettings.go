package weigh

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/trail"
)

// cardReadings reads what the card names on both sides: settings, the client
// program, signs, and how long clients wait.
func (v *view) cardReadings(w *wants, t *try) []Reading {
	c := v.ask.Card
	if c == nil {
		return nil
	}
	var readings []Reading
	if len(c.Settings) > 0 || c.ClientProgram != "" {
		w.add(Want{Look: fact.LookSettings, At: fact.Client, Target: fact.Target{Name: "client"}, Gate: Intent})
		if t.server != "" {
			w.add(Want{Look: fact.LookSettings, At: fact.Server, On: t.server, Target: fact.Target{Name: "server"}, Gate: Intent})
		}
		readings = append(readings, v.settingRules(w, t)...)
	}
	if slices.ContainsFunc(c.Signs, func(s fact.Sign) bool { return s.On == "client" }) {
		w.add(Want{Look: fact.LookSigns, At: fact.Client, Target: fact.Target{Name: "client"}, Gate: Intent})
	}
	if t.server != "" && slices.ContainsFunc(c.Signs, func(s fact.Sign) bool { return s.On == "server" }) {
		w.add(Want{Look: fact.LookSigns, At: fact.Server, On: t.server, Target: fact.Target{Name: "server"}, Gate: Room})
	}
	if r, ok := v.fromReading(t); ok {
		readings = append(readings, r)
	}
	return append(append(readings, v.signReadings(t)...), v.slowReading(t)...)
}

// fromReading reads a client that is in none of the nets which the card says
// may use the application.
func (v *view) fromReading(t *try) (Reading, bool) {
	source := v.localAddress(t)
	if len(v.ask.Card.From) == 0 || !source.IsValid() || t.symptom == Fine {
		return Reading{}, false
	}
	for _, text := range v.ask.Card.From {
		if net, err := fact.Net(text); err == nil && net.Contains(source) {
			return Reading{}, false
		}
	}
	return Reading{Gate: Door, Cause: "rules/out-of-scope", Most: trail.Likely, Because: t.climb.ids(), Vantage: v.client,
		Summary: fmt.Sprintf("%s is in none of the nets that the card lets in (%s)", source, strings.Join(v.ask.Card.From, ", ")),
		Values:  v.place(t, values{"source": source.String(), "server": v.answering(t)})}, true
}

// side is what one vantage has of the card's settings.
func (v *view) side(vantage, name string) (*fact.Fact, *fact.Settings) {
	for _, f := range v.facts(vantage, fact.LookSettings) {
		if f.Settings != nil && f.Settings.Side == name {
			return f, f.Settings
		}
	}
	return nil, nil
}

// settingRules judges each of the card's settings.
func (v *view) settingRules(w *wants, t *try) []Reading {
	var readings []Reading
	cf, client := v.side(v.client, "client")
	sf, server := v.side(t.server, "server")
	if client != nil && client.Program != "" && client.ProgramPath == "" {
		readings = append(readings, Reading{Gate: Intent, Cause: "settings/client-missing", Apart: true, Because: factIDs(cf), Vantage: v.client,
			Summary: fmt.Sprintf("%s is not installed on %s", client.Program, v.host(v.client)), Values: values{"program": client.Program, "host": v.host(v.client)}})
	}
	for i, rule := range v.ask.Card.Settings {
		var first *fact.SettingSeen
		for _, from := range []struct {
			f    *fact.Fact
			s    *fact.Settings
			here string
		}{{cf, client, v.client}, {sf, server, t.server}} {
			if from.s == nil {
				continue
			}
			for j := range from.s.List {
				seen := &from.s.List[j]
				if seen.Rule != i || seen.Unread != "" {
					continue
				}
				j := settingJudge{v: v, w: w, t: t, rule: rule, seen: *seen, f: from.f, at: from.here}
				r, wrong := j.judge()
				switch {
				case wrong:
					readings = append(readings, r)
				case first != nil && first.Value != seen.Value && seen.Missing == "":
					readings = append(readings, j.differs(*first))
				case seen.Missing == "" && first == nil:
					first = seen
				}
			}
		}
	}
	return readings
}

// settingJudge judges one setting against its rule.
type settingJudge struct {
	v    *view
	w    *wants
	t    *try
	rule fact.SettingRule
	seen fact.SettingSeen
	f    *fact.Fact
	at   string
}

func (j settingJudge) reading(cause, summary string) Reading {
	return Reading{Gate: Intent, Cause: cause, Apart: true, Because: factIDs(j.f), Vantage: j.at, Summary: summary,
		Values: j.v.place(j.t, values{"file": j.seen.At.File, "key": j.seen.At.Key, "host": j.v.host(j.at), "right": j.wanted(), "clean": j.seen.Clean})}
}

// place is where the setting stands.
func (j settingJudge) place() string {
	if j.seen.Line == 0 {
		return fmt.Sprintf("%s in %s", j.seen.At.Key, j.seen.At.File)
	}
	return fmt.Sprintf("%s in %s, line %d,", j.seen.At.Key, j.seen.At.File, j.seen.Line)
}

// wanted is what the setting must be, as it would be written; "" if that is
// not for this side alone to say.
func (j settingJudge) wanted() string {
	e := j.v.ask.Endpoint
	switch {
	case j.rule.Value != "":
		return j.rule.Value
	case j.rule.Is == "host":
		return e.Host
	case j.rule.Is == "port":
		return fmt.Sprint(e.Port)
	case j.rule.Is == "url":
		return fmt.Sprintf("%s://%s%s", e.Scheme, endpoint.HostPort(e.Host, e.Port), e.Path)
	case j.rule.Is == "address" && j.t.target.Addr.IsValid():
		return j.t.target.Addr.String()
	}
	return ""
}

// judge says whether a setting is wrong by itself.
func (j settingJudge) judge() (Reading, bool) {
	seen, side := j.seen, "the client's"
	if j.at != j.v.client {
		side = "the server's"
	}
	if seen.Missing != "" {
		text := fmt.Sprintf("%s setting %s is not there: %s", side, seen.At.Key, seen.Missing)
		if seen.Near != "" {
			text += fmt.Sprintf("; line %d has %q: was that meant?", seen.NearLine, seen.Near)
		}
		return j.reading("settings/blank", text), true
	}
	if len(seen.Stray) > 0 {
		r := j.reading("settings/stray-characters", fmt.Sprintf("%s setting %s has %s; without, it is %q", side, j.place(), strayText(seen.Stray), seen.Clean))
		if want := j.wanted(); want != "" && seen.Clean != want && j.wrongCause(seen.Clean) != "" {
			r.Short = append(r.Short, "without them it is still not what it should be")
		}
		return r, true
	}
	cause := j.wrongCause(seen.Value)
	if cause == "" {
		return Reading{}, false
	}
	text := fmt.Sprintf("%s setting %s is %q", side, j.place(), seen.Value)
	if want := j.wanted(); want != "" {
		text += fmt.Sprintf(", and should be %q", want)
	}
	r := j.reading(cause, text)
	if j.t.symptom != Fine && !j.v.asOnCard(j.t.target) {
		r.Short = append(r.Short, "whether the endpoint that was asked for is the right one was not seen, and the card does not say")
	}
	switch cause {
	case "settings/wrong-host":
		elsewhere, known := j.elsewhere(seen.Value)
		if known && !elsewhere {
			return Reading{}, false // another name of the same server
		}
		if !known {
			r.Most = trail.Likely
			r.Short = append(r.Short, "where that name leads, or whether it is the server's, was not seen")
		}
	case "settings/wrong-port":
		listens, known := j.listens(seen.Value)
		if listens {
			return Reading{}, false // the server takes connections there as well
		}
		if !known && j.t.symptom != Fine {
			r.Short = append(r.Short, "whether the server listens there was not seen")
		}
	}
	return r, true
}

// wrongCause is which cause a value is; "" for a right one.
func (j settingJudge) wrongCause(value string) string {
	e := j.v.ask.Endpoint
	if j.rule.Value != "" {
		if value == j.rule.Value {
			return ""
		}
		return "settings/copies-differ"
	}
	switch j.rule.Is {
	case "host":
		if j.knownHost(value) {
			return ""
		}
		if addr, err := netip.ParseAddr(value); err == nil {
			return j.addressCause(addr)
		}
		return "settings/wrong-host"
	case "port":
		if n, err := strconv.ParseUint(strings.TrimSpace(value), 10, 16); err == nil && uint16(n) == e.Port {
			return ""
		}
		return "settings/wrong-port"
	case "address":
		if addr, err := netip.ParseAddr(value); err == nil {
			return j.addressCause(addr)
		}
		return "settings/wrong-host"
	case "url":
		u, err := endpoint.Parse(value)
		switch {
		case err != nil:
			return "settings/wrong-host"
		case !j.knownHost(u.Host):
			if addr, ok := endpoint.Literal(u.Host); ok {
				return j.addressCause(addr)
			}
			return "settings/wrong-host"
		case u.Port != e.Port:
			return "settings/wrong-port"
		case u.Security != e.Security:
			return "settings/wrong-security"
		}
	}
	return ""
}

func (j settingJudge) knownHost(name string) bool {
	names := append([]string{j.v.ask.Endpoint.Host}, j.v.ask.Card.Aliases...)
	return slices.ContainsFunc(names, func(n string) bool {
		return strings.EqualFold(strings.TrimSuffix(n, "."), strings.TrimSuffix(name, "."))
	})
}

// addressCause is what an address in a setting is: right, or one that the
// server does not have.
func (j settingJudge) addressCause(addr netip.Addr) string {
	for _, a := range j.t.lookup.addrs {
		if a == addr {
			return ""
		}
	}
	if _, held := j.v.addresses(j.t.server); j.t.server != "" && held != nil && held.Holds(addr) {
		return ""
	}
	return "settings/stale-address"
}

// hostIn is the host of a setting that is a host or a URL.
func (j settingJudge) hostIn(value string) string {
	if u, err := endpoint.Parse(value); err == nil && j.rule.Is == "url" {
		return u.Host
	}
	return value
}

// elsewhere reports whether a name leads to something else than the server, or
// nowhere, and whether that could be seen.
func (j settingJudge) elsewhere(value string) (elsewhere, known bool) {
	name := j.hostIn(value)
	if _, err := endpoint.Parse("tcp://" + endpoint.HostPort(name, 1)); err != nil {
		return true, true // no name at all
	}
	l := j.v.lookUp(j.w, name)
	if len(l.addrs) == 0 {
		return true, l.settled
	}
	right := j.t.lookup.addrs
	for _, addr := range l.addrs {
		if slices.Contains(right, addr) {
			return false, true
		}
	}
	_, held := j.v.addresses(j.t.server)
	if j.t.server == "" || held == nil {
		return true, false
	}
	return !slices.ContainsFunc(l.addrs, held.Holds), true
}

// listens reports whether the server's service listens on the port of a
// setting, and whether that could be seen.
func (j settingJudge) listens(value string) (listens, known bool) {
	if u, err := endpoint.Parse(value); err == nil && j.rule.Is == "url" {
		value = fmt.Sprint(u.Port)
	}
	n, err := strconv.ParseUint(strings.TrimSpace(value), 10, 16)
	if err != nil {
		return false, true
	}
	_, list := j.v.listeners(j.t.server)
	if j.t.server == "" || list == nil {
		return false, false
	}
	return len(list.On(j.v.ask.Endpoint.Transport, uint16(n))) > 0, true
}

// differs reads two settings that should agree.
func (j settingJudge) differs(other fact.SettingSeen) Reading {
	where := fmt.Sprintf("%s in %s, line %d, has %q", other.At.Key, other.At.File, other.Line, other.Value)
	r := j.reading("settings/copies-differ", fmt.Sprintf("%s is %q, and %s: %s must agree", j.place(), j.seen.Value, where, j.rule.Name))
	r.Values["other"] = where
	return r
}

// signReadings reads the marks of health that the card names.
func (v *view) signReadings(t *try) []Reading {
	var readings []Reading
	for _, at := range []string{v.client, t.server} {
		if at == "" {
			continue
		}
		for _, f := range v.facts(at, fact.LookSigns) {
			if f.Signs == nil {
				continue
			}
			for _, s := range f.Signs.List {
				if s.Wrong == "" {
					continue
				}
				r := Reading{Gate: Intent, Cause: "settings/not-received", Harmless: t.symptom == Fine, Apart: true, Because: factIDs(f), Vantage: at, Summary: s.Wrong,
					Values: values{"file": s.Sign.File + s.Sign.Folder, "trouble": s.Wrong, "host": v.host(at)}}
				if f.Signs.Side == "server" {
					r.Gate, r.Cause, r.Harmless = Room, "service/stale-log", true
					r.Values = v.place(t, values{"file": s.Sign.File + s.Sign.Folder, "program": v.ask.Card.Program, "server": v.host(at)})
				}
				readings = append(readings, r)
			}
		}
	}
	return readings
}

// slowReading reads an answer that comes later than clients wait.
func (v *view) slowReading(t *try) []Reading {
	limit, err := time.ParseDuration(v.ask.Card.Limit)
	c := t.climb.reply
	if err != nil || c == nil {
		return nil
	}
	took := time.Duration((c.Reply.FirstMS - c.Reply.SentMS) * float64(time.Millisecond))
	says := fmt.Sprintf("the answer takes %s, and clients wait %s", rounded(took), v.ask.Card.Limit)
	if c.Reply.Ending == fact.Stalled {
		took = time.Duration(c.Reply.TookMS * float64(time.Millisecond))
		says = fmt.Sprintf("there is no answer after %s, and clients wait %s", rounded(took), v.ask.Card.Limit)
	}
	if took <= limit {
		return nil
	}
	return []Reading{{Gate: Answer, Cause: "answer/too-slow", Apart: true, Because: factIDs(c), Vantage: v.client, Summary: says,
		Values: v.place(t, values{"server": v.answering(t), "took": rounded(took)})}}
}

func rounded(d time.Duration) string {
	if d < time.Second {
		return fmt.Sprintf("%d ms", d.Milliseconds())
	}
	return fmt.Sprintf("%.3g s", d.Seconds())
}
