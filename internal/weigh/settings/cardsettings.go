package settings

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"
	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/keep"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// settingJudge judges one setting against its rule.
type settingJudge struct {
	v    *scene.Scene
	w    *scene.Wants
	t    *scene.Try
	rule fact.SettingRule
	seen fact.SettingSeen
	f    *fact.Fact
	at   string
}

// CardReadings reads what the card names on both sides: settings, the client
// program, signs, and how long clients wait.
func CardReadings(v *scene.Scene, w *scene.Wants, t *scene.Try) []gate.Reading {
	c := v.Ask.Card
	if c == nil {
		return nil
	}
	var readings []gate.Reading
	if r, ok := clientService(v, w); ok {
		readings = append(readings, r)
	}
	if len(c.Settings) > 0 || c.ClientProgram != "" {
		w.Add(
			scene.Want{
				Look:   fact.LookSettings,
				At:     fact.Client,
				Target: fact.Target{Name: "client"},
				Gate:   gate.Intent,
			},
		)
		if t.Server != "" {
			w.Add(
				scene.Want{
					Look:   fact.LookSettings,
					At:     fact.Server,
					On:     t.Server,
					Target: fact.Target{Name: "server"},
					Gate:   gate.Intent,
				},
			)
		}
		readings = append(readings, settingRules(v, w, t)...)
	}
	if slices.ContainsFunc(c.Signs, func(s fact.Sign) bool { return s.On == "client" }) {
		w.Add(scene.Want{Look: fact.LookSigns, At: fact.Client, Target: fact.Target{Name: "client"}, Gate: gate.Intent})
	}
	if t.Server != "" && slices.ContainsFunc(c.Signs, func(s fact.Sign) bool { return s.On == "server" }) {
		w.Add(
			scene.Want{
				Look:   fact.LookSigns,
				At:     fact.Server,
				On:     t.Server,
				Target: fact.Target{Name: "server"},
				Gate:   gate.Room,
			},
		)
	}
	if r, ok := fromReading(v, t); ok {
		readings = append(readings, r)
	}
	return append(append(readings, signReadings(v, t)...), slowReading(v, t)...)
}

// fromReading reads a client that is in none of the nets which the card says
// may use the application.
func fromReading(v *scene.Scene, t *scene.Try) (gate.Reading, bool) {
	source := v.LocalAddress(t)
	if len(v.Ask.Card.From) == 0 || !source.IsValid() || t.Symptom == gate.Fine {
		return gate.Reading{}, false
	}
	for _, text := range v.Ask.Card.From {
		if net, err := fact.Net(text); err == nil && net.Contains(source) {
			return gate.Reading{}, false
		}
	}
	return gate.Reading{
		Gate:     gate.Door,
		Cause:    "rules/out-of-scope",
		Strength: gate.Inferred,
		Because:  t.Climb.IDs(),
		Vantage:  v.Client,
		Summary: fmt.Sprintf(
			"%s is in none of the nets that the card lets in (%s)",
			source,
			strings.Join(v.Ask.Card.From, ", "),
		),
		Values: v.Place(t, catalogue.Values{"source": source.String(), "server": v.Answering(t)}),
	}, true
}

// side is what one vantage has of the card's settings.
func side(v *scene.Scene, vantage, name string) (*fact.Fact, *fact.Settings) {
	for _, f := range v.Facts(vantage, fact.LookSettings) {
		if f.Settings != nil && f.Settings.Side == name {
			return f, f.Settings
		}
	}
	return nil, nil
}

// settingRules judges each of the card's settings.
func settingRules(v *scene.Scene, w *scene.Wants, t *scene.Try) []gate.Reading {
	var readings []gate.Reading
	cf, client := side(v, v.Client, "client")
	sf, server := side(v, t.Server, "server")
	if client != nil && client.Program != "" && client.ProgramPath == "" {
		readings = append(
			readings,
			gate.Reading{
				Gate:    gate.Intent,
				Cause:   "settings/client-missing",
				Reach:   gate.Elsewhere,
				Because: scene.FactIDs(cf),
				Vantage: v.Client,
				Summary: fmt.Sprintf(
					"%s is not installed on %s",
					client.Program,
					v.Host(v.Client),
				),
				Values: catalogue.Values{"program": client.Program, "host": v.Host(v.Client)},
			},
		)
	}
	for i, rule := range v.Ask.Card.Settings {
		var first *fact.SettingSeen
		for _, from := range []struct {
			f    *fact.Fact
			s    *fact.Settings
			here string
		}{{cf, client, v.Client}, {sf, server, t.Server}} {
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
				case first != nil && !first.Same(*seen) && seen.Missing == "":
					readings = append(readings, j.differs(*first))
				case seen.Missing == "" && first == nil:
					first = seen
				}
			}
		}
	}
	return readings
}

func (j settingJudge) reading(cause, summary string) gate.Reading {
	return gate.Reading{
		Gate:    gate.Intent,
		Cause:   cause,
		Reach:   gate.Elsewhere,
		Because: scene.FactIDs(j.f),
		Vantage: j.at,
		Summary: summary,
		Values: j.v.Place(
			j.t,
			catalogue.Values{
				"file":  j.seen.At.File,
				"key":   j.seen.At.Key,
				"host":  j.v.Host(j.at),
				"right": j.wanted(),
				"clean": j.seen.Clean,
			},
		),
	}
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
	e := j.v.Ask.Endpoint
	switch {
	case j.rule.Value != "":
		return j.rule.Value
	case j.rule.Is == "host":
		return e.Host
	case j.rule.Is == "port":
		return fmt.Sprint(e.Port)
	case j.rule.Is == "url":
		return fmt.Sprintf("%s://%s%s", e.Scheme, endpoint.HostPort(e.Host, e.Port), e.Path)
	case j.rule.Is == "address" && j.t.Target.Addr.IsValid():
		return j.t.Target.Addr.String()
	}
	return ""
}

// judge says whether a setting is wrong by itself.
func (j settingJudge) judge() (gate.Reading, bool) {
	seen, side := j.seen, "the client's"
	if j.at != j.v.Client {
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
		r := j.reading(
			"settings/stray-characters",
			fmt.Sprintf("%s setting %s has %s; without, it is %q", side, j.place(), StrayText(seen.Stray), seen.Clean),
		)
		if want := j.wanted(); want != "" && seen.Clean != want && j.wrongCause(seen.Clean) != "" {
			r.Lacks = append(
				r.Lacks,
				gate.Lack{Guard: gate.AllRead, Why: "without them it is still not what it should be"},
			)
		}
		return r, true
	}
	cause := j.wrongCause(seen.Value)
	if want := j.wanted(); seen.Value == keep.Hidden { // what it is was not kept, only whether it is that
		if want == "" || keep.Mark(want) == seen.Mark {
			return gate.Reading{}, false
		}
		r := j.reading(
			cmp.Or(cause, "settings/copies-differ"),
			fmt.Sprintf("%s setting %s is not %q; what it is was not kept", side, j.place(), want),
		)
		r.Strength = gate.Inferred
		r.Lacks = append(
			r.Lacks,
			gate.Lack{Guard: gate.AllRead, Why: "the value is not known to be no secret, and only its mark was kept"},
		)
		return r, true
	}
	if cause == "" {
		return gate.Reading{}, false
	}
	text := fmt.Sprintf("%s setting %s is %q", side, j.place(), seen.Value)
	if want := j.wanted(); want != "" {
		text += fmt.Sprintf(", and should be %q", want)
	}
	r := j.reading(cause, text)
	if j.t.Symptom != gate.Fine && !asOnCard(j.v, j.t.Target) {
		r.Lacks = append(
			r.Lacks,
			gate.Lack{
				Guard: gate.AllRead,
				Why:   "whether the endpoint that was asked for is the right one was not seen, and the card does not say",
			},
		)
	}
	switch cause {
	case "settings/wrong-host":
		elsewhere, known := j.elsewhere(seen.Value)
		if known && !elsewhere {
			return gate.Reading{}, false // another name of the same server
		}
		if !known {
			r.Strength = gate.Inferred
			r.Lacks = append(
				r.Lacks,
				gate.Lack{
					Guard: gate.AllRead,
					Why:   "where that name leads, or whether it is the server's, was not seen",
				},
			)
		}
	case "settings/wrong-port":
		listens, known := j.listens(seen.Value)
		if listens {
			return gate.Reading{}, false // the server takes connections there as well
		}
		if !known && j.t.Symptom != gate.Fine {
			r.Lacks = append(
				r.Lacks,
				gate.Lack{Guard: gate.AllRead, Why: "whether the server listens there was not seen"},
			)
		}
	}
	return r, true
}

// wrongCause is which cause a value is; "" for a right one.
func (j settingJudge) wrongCause(value string) string {
	e := j.v.Ask.Endpoint
	if j.rule.Value != "" {
		if sameValue(value, j.rule.Value) {
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
		if n, err := strconv.ParseUint(strings.TrimSpace(value), 10, 16); err == nil &&
			(uint16(n) == e.Port || slices.Contains(j.v.Ask.Card.Ports, uint16(n))) {
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

// switchWords is how settings write yes and no.
var switchWords = map[string]bool{
	"1": true, "true": true, "on": true, "yes": true, "enabled": true, "enable": true,
	"0": false, "false": false, "off": false, "no": false, "disabled": false, "disable": false,
}

// sameValue reports whether two values are one, however they are written.
func sameValue(a, b string) bool {
	if a == b {
		return true
	}
	x, isSwitch := switchWords[strings.ToLower(strings.TrimSpace(a))]
	y, also := switchWords[strings.ToLower(strings.TrimSpace(b))]
	return isSwitch && also && x == y
}

func (j settingJudge) knownHost(name string) bool {
	names := append([]string{j.v.Ask.Endpoint.Host}, j.v.Ask.Card.Aliases...)
	return slices.ContainsFunc(names, func(n string) bool {
		return strings.EqualFold(strings.TrimSuffix(n, "."), strings.TrimSuffix(name, "."))
	})
}

// addressCause is what an address in a setting is: right, or one that the
// server does not have.
func (j settingJudge) addressCause(addr netip.Addr) string {
	for _, a := range j.t.Lookup.Addrs {
		if a == addr {
			return ""
		}
	}
	if _, held := j.v.Addresses(j.t.Server); j.t.Server != "" && held != nil && held.Holds(addr) {
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
	l := j.v.LookUp(j.w, name)
	if len(l.Addrs) == 0 {
		return true, l.Settled
	}
	right := j.t.Lookup.Addrs
	for _, addr := range l.Addrs {
		if slices.Contains(right, addr) {
			return false, true
		}
	}
	_, held := j.v.Addresses(j.t.Server)
	if j.t.Server == "" || held == nil {
		return true, false
	}
	return !slices.ContainsFunc(l.Addrs, held.Holds), true
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
	_, list := j.v.Listeners(j.t.Server)
	if j.t.Server == "" || list == nil {
		return false, false
	}
	return len(list.On(j.v.Ask.Endpoint.Transport, uint16(n))) > 0, true
}

// differs reads two settings that should agree.
func (j settingJudge) differs(other fact.SettingSeen) gate.Reading {
	where := fmt.Sprintf("%s in %s, line %d, has %q", other.At.Key, other.At.File, other.Line, other.Value)
	r := j.reading(
		"settings/copies-differ",
		fmt.Sprintf("%s is %q, and %s: %s must agree", j.place(), j.seen.Value, where, j.rule.Name),
	)
	r.Values["other"] = where
	return r
}

// signReadings reads the marks of health that the card names.
func signReadings(v *scene.Scene, t *scene.Try) []gate.Reading {
	var readings []gate.Reading
	for _, at := range []string{v.Client, t.Server} {
		if at == "" {
			continue
		}
		for _, f := range v.Facts(at, fact.LookSigns) {
			if f.Signs == nil {
				continue
			}
			for _, s := range f.Signs.List {
				if s.Wrong == "" {
					continue
				}
				r := gate.Reading{
					Gate:     gate.Intent,
					Cause:    "settings/not-received",
					Harmless: t.Symptom == gate.Fine,
					Reach:    gate.Elsewhere,
					Because:  scene.FactIDs(f),
					Vantage:  at,
					Summary:  s.Wrong,
					Values: catalogue.Values{
						"file":    s.Sign.File + s.Sign.Folder,
						"trouble": s.Wrong,
						"host":    v.Host(at),
					},
				}
				if f.Signs.Side == "server" {
					r.Gate, r.Cause, r.Harmless = gate.Room, "service/stale-log", true
					r.Values = v.Place(
						t,
						catalogue.Values{
							"file":    s.Sign.File + s.Sign.Folder,
							"program": v.Ask.Card.Program,
							"server":  v.Host(at),
						},
					)
				}
				readings = append(readings, r)
			}
		}
	}
	return readings
}

// slowReading reads an answer that comes later than clients wait.
func slowReading(v *scene.Scene, t *scene.Try) []gate.Reading {
	limit, err := time.ParseDuration(v.Ask.Card.Limit)
	c := t.Climb.Reply
	if err != nil || c == nil {
		return nil
	}
	took := time.Duration((c.Reply.FirstMS - c.Reply.SentMS) * float64(time.Millisecond))
	says := fmt.Sprintf("the answer takes %s, and clients wait %s", rounded(took), v.Ask.Card.Limit)
	if c.Reply.Ending == fact.Stalled {
		took = time.Duration(c.Reply.TookMS * float64(time.Millisecond))
		says = fmt.Sprintf("there is no answer after %s, and clients wait %s", rounded(took), v.Ask.Card.Limit)
	}
	if took <= limit {
		return nil
	}
	return []gate.Reading{
		{
			Gate:    gate.Answer,
			Cause:   "answer/too-slow",
			Reach:   gate.Elsewhere,
			Because: scene.FactIDs(c),
			Vantage: v.Client,
			Summary: says,
			Values:  v.Place(t, catalogue.Values{"server": v.Answering(t), "took": rounded(took)}),
		},
	}
}

func rounded(d time.Duration) string {
	if d < time.Second {
		return fmt.Sprintf("%d ms", d.Milliseconds())
	}
	return fmt.Sprintf("%.3g s", d.Seconds())
}
