package settings

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/redact"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// ofNoTry is the symptoms of what our own try did not go by: none.
var ofNoTry = []gate.Symptom{}

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
		w.Add(scene.Want{Look: fact.LookSigns, At: fact.Client, Target: fact.Target{Name: "client"},
			Gate: gate.Intent})
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
	readings = append(readings, metadataReadings(v, w, t)...)
	return append(append(readings, signReadings(v, t)...), slowReading(v, t)...)
}

// fromReading reads a client that is in none of the nets which the card says
// may use the application.
func fromReading(v *scene.Scene, t *scene.Try) (gate.Reading, bool) {
	source := v.LocalAddress(t)
	if len(v.Ask.Card.From) == 0 || !source.IsValid() || t.Symptom.Good() {
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
				Gate:     gate.Intent,
				Cause:    "settings/client-missing",
				Strength: gate.Read,
				Reach:    gate.Elsewhere,
				Shows:    ofNoTry,
				Because:  scene.FactIDs(cf),
				Vantage:  v.Client,
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
		readings = append(readings, judgeRule(v, w, t, rule, slices.Concat(
			placesOf(cf, client, i, v.Client), placesOf(sf, server, i, t.Server)))...)
	}
	return readings
}

// placesOf is the places of one rule on one side that could be read.
func placesOf(f *fact.Fact, s *fact.Settings, rule int, at string) []settingJudge {
	if s == nil {
		return nil
	}
	var list []settingJudge
	for _, seen := range s.List {
		if seen.Rule == rule && seen.Unread == "" {
			list = append(list, settingJudge{seen: seen, f: f, at: at, side: s.Side})
		}
	}
	return list
}

// NotRead is the card's settings that nobody could read, each with the host and why;
// none of them is as on the card.
func NotRead(v *scene.Scene, t *scene.Try) []string {
	if v.Ask.Card == nil {
		return nil
	}
	var list []string
	for i, rule := range v.Ask.Card.Settings {
		for _, place := range []struct {
			of       *fact.SettingAt
			at, name string
		}{{rule.Client, v.Client, "client"}, {rule.Server, t.Server, "server"}} {
			if place.of == nil {
				continue
			}
			host := "the " + place.name
			if place.at != "" {
				host = v.Host(place.at)
			}
			if why := unreadAt(v, place.at, place.name, i); why != "" {
				list = append(list, fmt.Sprintf("%s on %s (%s)", rule.Name, host, why))
			}
		}
	}
	return list
}

// unreadAt says why one side's places of a rule were not read; "" if they were.
func unreadAt(v *scene.Scene, at, name string, rule int) string {
	_, s := side(v, at, name)
	if s == nil {
		if f := v.Failed(at, fact.LookSettings); f != nil {
			return f.Failed.Why
		}
		return "not checked"
	}
	why := "not checked"
	for _, seen := range s.List {
		if seen.Rule != rule {
			continue
		}
		if seen.Unread != "" {
			return seen.Unread
		}
		why = ""
		of := v.Ask.Card.Settings[rule]
		compared := of.Value != "" || len(of.OneOf) > 0 || of.Is == "same"
		if compared && seen.Value == redact.Hidden && !redact.Comparable(seen.Mark, redact.Mark("")) {
			return "its value is not kept, and its mark is of another run; add this host to the run to compare it"
		}
	}
	return why
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
					Strength: gate.Read,
					Reach:    gate.Elsewhere,
					Shows:    ofNoTry,
					Which:    s.Wrong,
					Because:  scene.FactIDs(f),
					Vantage:  at,
					Summary:  s.Wrong,
					Values: catalogue.Values{
						"file":    s.Sign.Of(),
						"trouble": s.Wrong,
						"host":    v.Host(at),
					},
				}
				if f.Signs.Side == "server" {
					// A sign of a server that is not reached may follow from what keeps the client out.
					r.Gate, r.Cause, r.Harmless = gate.Room, "service/stale-log", !t.Symptom.Good()
					r.Values = v.Place(
						t,
						catalogue.Values{
							"file":    s.Sign.Of(),
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
	says := fmt.Sprintf("the answer takes %s, and clients wait %s", foreign.Took(took), v.Ask.Card.Limit)
	if c.Reply.Ending == fact.Stalled {
		took = time.Duration(c.Reply.TookMS * float64(time.Millisecond))
		says = fmt.Sprintf("there is no answer after %s, and clients wait %s", foreign.Took(took), v.Ask.Card.Limit)
	}
	if took <= limit {
		return nil
	}
	return []gate.Reading{
		{
			Gate:     gate.Answer,
			Cause:    "answer/too-slow",
			Strength: gate.Read,
			Reach:    gate.Elsewhere,
			Because:  scene.FactIDs(c),
			Vantage:  v.Client,
			Summary:  says,
			Values:   v.Place(t, catalogue.Values{"server": v.Answering(t), "took": foreign.Took(took)}),
		},
	}
}
