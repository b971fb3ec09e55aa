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
	"uakari/internal/foreign"
	"uakari/internal/redact"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// judgeRule judges one setting of the card at every place where it was read:
// each by itself, and then whether those that are not wrong by themselves agree.
func judgeRule(
	v *scene.Scene,
	w *scene.Wants,
	t *scene.Try,
	rule fact.SettingRule,
	places []settingJudge,
) []gate.Reading {
	var readings []gate.Reading
	var left []settingJudge
	for _, j := range places {
		j.v, j.w, j.t, j.rule = v, w, t, rule
		if r, wrong := j.judge(); wrong {
			readings = append(readings, r)
		} else {
			left = append(left, j)
		}
	}
	if rule.Is == "same" || rule.Is == "port" {
		readings = append(readings, agreement{left}.readings()...)
	}
	return readings
}

// agreement is places that should have one value.
type agreement struct{ places []settingJudge }

// value is what a place has, in the one way in which equal values are written.
func (j settingJudge) value() string {
	if j.seen.Value == redact.Hidden {
		return redact.Hidden + j.seen.Mark
	}
	return card.Canonical(j.rule, j.seen.Value)
}

// comparable reports whether the values that were not kept have marks of one run.
func (a agreement) comparable() bool {
	first := ""
	for _, j := range a.places {
		if j.seen.Value != redact.Hidden {
			continue
		}
		if first = cmp.Or(first, j.seen.Mark); !redact.Comparable(first, j.seen.Mark) {
			return false
		}
	}
	return true
}

func (a agreement) values() []string {
	var list []string
	for _, j := range a.places {
		if value := j.value(); !slices.Contains(list, value) {
			list = append(list, value)
		}
	}
	return list
}

// readings is what does not agree. Where it is known which value is right, each
// other place is wrong; else nobody says which is, and both ways are offered.
func (a agreement) readings() []gate.Reading {
	if !a.comparable() {
		return nil // told as not compared (NotRead)
	}
	values := a.values()
	if len(values) < 2 || a.allServed(values) {
		return nil
	}
	right, why := a.right(values)
	if right == "" {
		return []gate.Reading{a.undecided(values)}
	}
	good := a.places[slices.IndexFunc(a.places, func(j settingJudge) bool { return j.value() == right })]
	var readings []gate.Reading
	for _, j := range a.places {
		if j.value() == right {
			continue
		}
		r := j.reading("settings/copies-differ", fmt.Sprintf("%s setting %s is %s, and %s on %s has %s: %s",
			j.whose(), j.place(), shown(j), strings.TrimSuffix(good.place(), ","), good.v.Host(good.at), shown(good),
			why))
		r.Because = gate.Union(r.Because, scene.FactIDs(good.f))
		r.Values["right"] = written(good)
		readings = append(readings, r)
	}
	return readings
}

// allServed reports whether the server takes connections at all of several
// ports: then it does not matter that two settings name two of them.
func (a agreement) allServed(values []string) bool {
	if a.places[0].rule.Is != "port" {
		return false
	}
	return !slices.ContainsFunc(values, func(value string) bool {
		listens, known := a.places[0].listens(value)
		return !listens || !known
	})
}

// right is the value that is right, and why: the one of several ports that the
// server listens on; the one that the endpoint has, where that is known to be
// right; the one that most have.
func (a agreement) right(values []string) (value, why string) {
	j := a.places[0]
	served := slices.DeleteFunc(slices.Clone(values), func(value string) bool {
		listens, known := j.listens(portOf(value))
		return !listens || !known || portOf(value) == ""
	})
	onCard := asOnCard(j.v, j.t.Target)
	ports := !slices.ContainsFunc(values, func(value string) bool { return portOf(value) == "" })
	if ports && len(served) == 1 && !(onCard && !j.fits(served[0])) {
		return served[0], "the server listens on " + portOf(served[0])
	}
	fit := slices.DeleteFunc(slices.Clone(values), func(value string) bool { return !j.fits(value) })
	if len(fit) == 1 && (onCard || j.t.Symptom.Good()) {
		if onCard {
			return fit[0], "the card's endpoint says so"
		}
		return fit[0], "the endpoint, which answers, says so"
	}
	for _, value := range values {
		count := 0
		for _, each := range a.places {
			if each.value() == value {
				count++
			}
		}
		if 2*count > len(a.places) && len(a.places) > 2 && count > 1 {
			return value, fmt.Sprintf("%d of %s have it", count, foreign.Plural(len(a.places), "place"))
		}
	}
	return "", ""
}

// portOf is the port that a value is, or that is in it; "" for none.
func portOf(value string) string {
	if n, err := strconv.ParseUint(value, 10, 16); err == nil && n > 0 {
		return value
	}
	if e, err := endpoint.Parse(value); err == nil && strings.Contains(value, "://") {
		return fmt.Sprint(e.Port)
	}
	return ""
}

// fits reports whether a value is the endpoint's host, address, port or URL.
func (j settingJudge) fits(value string) bool {
	e := j.v.Ask.Endpoint
	switch {
	case strings.Contains(value, "://"):
		u, err := endpoint.Parse(value)
		return err == nil && j.knownHost(u.Host) && u.Port == e.Port && u.Security == e.Security
	case value == fmt.Sprint(e.Port), j.knownHost(value):
		return true
	}
	return slices.ContainsFunc(j.t.Lookup.Addrs, func(addr netip.Addr) bool { return addr.String() == value })
}

// undecided is a difference of which nobody can say which side is right: the
// two are told alike, and so are the fixes.
func (a agreement) undecided(values []string) gate.Reading {
	var says []string
	var because []string
	one, other := a.places[0], a.places[0]
	for _, j := range a.places {
		if j.value() != one.value() && other.value() == one.value() {
			other = j
		}
		says = append(says, fmt.Sprintf("%s on %s is %s", strings.TrimSuffix(j.place(), ","), j.v.Host(j.at),
			shown(j)))
		because = gate.Union(because, scene.FactIDs(j.f))
	}
	r := one.reading("settings/copies-differ", fmt.Sprintf("%s must agree: %s", one.rule.Name,
		strings.Join(says, "; ")))
	r.Because = because
	r.Values = one.v.Place(one.t, catalogue.Values{
		"one-key": one.seen.At.Named(), "one-file": one.seen.At.File, "one-host": one.v.Host(one.at),
		"one-value": written(one),
		"other-key": other.seen.At.Named(), "other-file": other.seen.At.File, "other-host": other.v.Host(other.at),
		"other-value": written(other),
	})
	return r
}

// shown is a value where it is told.
func shown(j settingJudge) string {
	if j.seen.Value == redact.Hidden {
		return "another one (it was not kept)"
	}
	return fmt.Sprintf("%q", j.seen.Value)
}

// written is a value as it would be written into the other's place.
func written(j settingJudge) string {
	if j.seen.Value == redact.Hidden {
		return "what " + j.seen.At.Named() + " of " + j.seen.At.File + " has"
	}
	return j.seen.Value
}
