package settings

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"uakari/internal/card"
	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/redact"
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
	at   string // the vantage
	side string // "client" or "server"
}

func (j settingJudge) reading(cause, summary string) gate.Reading {
	return gate.Reading{
		Gate:     gate.Intent,
		Cause:    cause,
		Strength: gate.Read,
		Reach:    gate.Elsewhere,
		Because:  scene.FactIDs(j.f),
		Vantage:  j.at,
		Which:    j.place(),
		Shows:    ofNoTry,
		Summary:  summary,
		Values: j.v.Place(
			j.t,
			catalogue.Values{
				"file":  j.seen.At.File,
				"key":   j.seen.At.Named(),
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
		return fmt.Sprintf("%s in %s", j.seen.At.Named(), j.seen.At.File)
	}
	return fmt.Sprintf("%s in %s,", j.seen.At.Named(), j.seen.At.Place(j.seen.Line))
}

// wanted is what the setting must be, as it would be written; "" if that is
// not for this side alone to say.
func (j settingJudge) wanted() string {
	e := j.v.Ask.Endpoint
	switch {
	case len(j.fixed()) > 0:
		return strings.Join(j.fixed(), " or ")
	case j.rule.Is == "host":
		return e.Host
	case j.rule.Is == "port":
		return fmt.Sprint(e.Port)
	case j.rule.Is == "url":
		return fmt.Sprintf("%s://%s%s", e.Scheme, endpoint.HostPort(e.Host, e.Port), e.Path)
	case j.rule.Is == "security":
		return map[fact.Security]string{fact.Plain: "plain", fact.TLS: "tls", fact.StartTLS: "starttls"}[e.Security]
	case j.rule.Is == "address" && j.t.Target.Addr.IsValid():
		return j.t.Target.Addr.String()
	}
	return ""
}

// judge says whether a setting is wrong by itself.
func (j settingJudge) judge() (gate.Reading, bool) {
	seen, side := j.seen, j.whose()
	if seen.Missing != "" {
		text := fmt.Sprintf("%s setting %s is not there: %s", side, seen.At.Named(), seen.Missing)
		if seen.At.Pattern != "" && seen.NearLine > 0 {
			text = fmt.Sprintf("%s setting %s is commented out: line %d of %s is %q",
				side, cmp.Or(j.rule.Name, "of the card"), seen.NearLine, seen.At.File, seen.Near)
		} else if seen.Near != "" {
			text += fmt.Sprintf("; line %d has %q: was that meant?", seen.NearLine, seen.Near)
		}
		r := j.reading("settings/blank", text)
		if seen.At.Pattern != "" {
			// A pattern is nothing that anybody writes into a file.
			r.Values["key"] = cmp.Or(j.rule.Name, "the setting of the card")
			delete(r.Values, "right")
			if seen.NearLine > 0 {
				r.Values["line"] = fmt.Sprint(seen.NearLine)
			}
		}
		return r, true
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
	if want := j.wanted(); seen.Value == redact.Hidden { // what it is was not kept, only whether it is that
		if want == "" || !redact.Comparable(seen.Mark, redact.Mark("")) || j.marked(seen.Mark) {
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
	if !j.t.Symptom.Good() && !asOnCard(j.v, j.t.Target) && !j.served() {
		r.Lacks = append(
			r.Lacks,
			gate.Lack{
				Guard: gate.AllRead,
				Why: "whether the endpoint that was asked for is the right one was not seen, and the card does " +
					"not say",
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
		if !known && !j.t.Symptom.Good() {
			r.Lacks = append(
				r.Lacks,
				gate.Lack{Guard: gate.AllRead, Why: "whether the server listens there was not seen"},
			)
		}
	}
	return r, true
}

// fixed is the values that the card itself says are right.
func (j settingJudge) fixed() []string {
	if j.rule.Value != "" {
		return []string{j.rule.Value}
	}
	return j.rule.OneOf
}

// marked reports whether a mark is that of a value that is right.
func (j settingJudge) marked(mark string) bool {
	right := j.fixed()
	if len(right) == 0 {
		right = []string{j.wanted()}
	}
	return slices.ContainsFunc(right, func(want string) bool {
		return redact.Mark(card.Canonical(j.rule,
			want)) == mark
	})
}

// whose is whose setting it is, in words.
func (j settingJudge) whose() string {
	if j.side == "server" {
		return "the server's"
	}
	return "the client's"
}

// served reports whether the server was seen to listen where the endpoint says.
func (j settingJudge) served() bool {
	_, list := j.v.Listeners(j.t.Server)
	return j.t.Server != "" && list != nil && len(j.v.Ours(j.t,
		list.On(j.v.Ask.Endpoint.Transport, j.t.Target.Port))) > 0
}

// wrongCause is which cause a value is; "" for a right one.
func (j settingJudge) wrongCause(value string) string {
	e := j.v.Ask.Endpoint
	if fixed := j.fixed(); len(fixed) > 0 {
		have := card.Canonical(j.rule, value)
		if slices.ContainsFunc(fixed, func(want string) bool { return card.Canonical(j.rule, want) == have }) {
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
	case "security":
		if have, ok := card.SecurityOf(value); !ok || have == e.Security ||
			have == fact.StartTLS && e.Security != fact.Plain {
			return "" // a word that nobody here knows is no fault
		}
		return "settings/wrong-security"
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
	names := append([]string{j.v.Ask.Endpoint.Host}, j.v.Ask.Card.Aliases...)
	return slices.ContainsFunc(names, func(n string) bool {
		return strings.EqualFold(strings.TrimSuffix(n, "."), strings.TrimSuffix(name, "."))
	})
}

// addressCause is what an address in a setting is: right, or one that the
// server does not have.
func (j settingJudge) addressCause(addr netip.Addr) string {
	_, held := j.v.Addresses(j.t.Server)
	seen := j.t.Server != "" && held != nil
	// A look-up that was itself corrected to an address of the server is no witness.
	corrected := seen && held.Holds(j.t.Target.Addr) && !slices.Contains(j.t.Lookup.Addrs, j.t.Target.Addr)
	if !corrected && slices.Contains(j.t.Lookup.Addrs, addr) || seen && held.Holds(addr) {
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
