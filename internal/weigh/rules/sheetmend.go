package rules

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/filter"
	"uakari/internal/foreign"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// sheetMend is the smallest change of a layer that lets a packet pass under the
// layer's own order, as the evaluator says.
type sheetMend struct {
	side   string
	allow  *fact.SheetRule // to be put in; nil: none is needed
	before int             // the rule that it must come before, from 1; 0: it may be the last
	name   string          // of that rule
	out    []string        // the rules that the packet's end must be left out of, by number and name
	except string          // by what
}

// mend tries changes, the smallest first: a rule more at the end, one before the
// rule that denies, the packet's end left out of what denies, and that with a
// rule more.
func (s SheetStep) mend() sheetMend {
	allow := s.allowing()
	m := sheetMend{side: s.side, allow: &allow}
	rules := s.rules()
	if s.passes(append(slices.Clone(rules), allow)) {
		return m
	}
	denies := s.denying()
	if s.layer.Order == "first" && len(denies) > 0 {
		first := denies[0]
		if s.passes(slices.Insert(slices.Clone(rules), first, allow)) {
			m.before, m.name = first+1, rules[first].Name
			return m
		}
	}
	without := slices.Clone(rules)
	for _, i := range denies {
		end, key := s.packet.from, "not-from"
		if s.back || s.side == "out" {
			end, key = s.packet.to, "not-to"
			without[i].NotTo = append(slices.Clone(without[i].NotTo), end.String())
		} else {
			without[i].NotFrom = append(slices.Clone(without[i].NotFrom), end.String())
		}
		m.out = append(m.out, strings.TrimSpace(fmt.Sprintf("%d %s", i+1, named(rules[i].Name))))
		m.except = fmt.Sprintf("%s: [%s]", key, end)
	}
	if s.passes(without) {
		m.allow = nil
	}
	return m
}

func named(name string) string {
	if name == "" {
		return ""
	}
	return "(" + name + ")"
}

func (s SheetStep) rules() []fact.SheetRule {
	if s.side == "out" {
		return s.layer.Out
	}
	return s.layer.In
}

// denying is the places of the rules that deny some of the packet.
func (s SheetStep) denying() []int {
	var list []int
	for i, r := range s.rules() {
		if r.Do != "deny" || !ruleConcerns(&r, s.sheet, s.packet) {
			continue
		}
		if hit, _ := cutPorts([]portRange{{s.packet.low, s.packet.high}}, r.Ports); len(hit) > 0 {
			list = append(list, i)
		}
	}
	return list
}

// passes reports whether the layer lets the packet pass with other rules.
func (s SheetStep) passes(rules []fact.SheetRule) bool {
	l := *s.layer
	if s.side == "out" {
		l.Out = rules
	} else {
		l.In = rules
	}
	return judgeLayer(s.sheet, &l, s.side, s.packet, s.back, s.guardsEnd).allowed
}

// allowing is the narrowest rule for the packet.
func (s SheetStep) allowing() fact.SheetRule {
	r := fact.SheetRule{Do: "allow", Transport: s.packet.transport, Ports: []string{fmt.Sprint(s.packet.low)}}
	if s.packet.low != s.packet.high {
		r.Ports = []string{fmt.Sprintf("%d-%d", s.packet.low, s.packet.high)}
	}
	if s.side == "out" {
		r.To = []string{s.packet.to.String()}
	} else {
		r.From = []string{s.packet.from.String()}
	}
	return r
}

// text is the rule to be put in, as a sheet has it.
func (m sheetMend) text() string {
	if m.allow == nil {
		return ""
	}
	end := "from: [" + strings.Join(m.allow.From, ", ") + "]"
	if len(m.allow.To) > 0 {
		end = "to: [" + strings.Join(m.allow.To, ", ") + "]"
	}
	return fmt.Sprintf(
		"%s: {do: allow, %s, transport: %s, ports: [%s]}",
		m.side,
		end,
		m.allow.Transport,
		strings.Join(m.allow.Ports, ", "),
	)
}

// values fill the catalogue's remedies.
func (m sheetMend) values() catalogue.Values {
	v := catalogue.Values{}
	switch {
	case len(m.out) > 0:
		v["without"], v["except"], v["also"] = strings.Join(m.out, " and "), m.except, m.text()
	case m.before > 0:
		v["before"], v["allow"] = strings.TrimSpace(fmt.Sprintf("%d %s", m.before, named(m.name))), m.text()
	default:
		v["allow"] = m.text()
	}
	return v
}

// says is the change in words, and command what is written for it.
func (m sheetMend) says(layer string) string {
	switch {
	case len(m.out) > 0:
		return fmt.Sprintf("leave it out of rule %s in the layer %s", strings.Join(m.out, " and "), layer)
	case m.before > 0:
		return strings.TrimSpace(fmt.Sprintf("allow it in the layer %s, before rule %d %s", layer, m.before,
			named(m.name)))
	}
	return "allow it in the layer " + layer
}

func (m sheetMend) command() string {
	return strings.TrimSuffix(strings.TrimPrefix(m.except+"; "+m.text(), "; "), "; ")
}

// disproved is, for each sheet that a connection of this run contradicts, which
// one: what a sheet says is shut, and is open, says that the sheet is not what is
// in force.
func disproved(v *scene.Scene, t *scene.Try, source netip.Addr) map[string]string {
	why := map[string]string{}
	for _, c := range v.ConnectedFrom(v.Client) {
		p := filter.Packet{Proto: filter.TCP, From: source, To: c.Addr().Unmap().WithZone(""), ToPort: c.Port()}
		if p.To.Is4() != p.From.Is4() {
			continue
		}
		for _, s := range sheetSteps(v.Ask.Sheets, p) {
			if !s.allowed && s.partly == "" && why[s.sheet.Name] == "" {
				why[s.sheet.Name] = fmt.Sprintf(
					"sheet %s is not what is in force: by it %s would be shut too, and it connects",
					s.sheet.Name,
					c,
				)
			}
		}
	}
	return why
}

// machineAge is how old the word of those who run a machine may be.
const machineAge = 10 * 60 // seconds

// machineReadings reads what the sheets say of the machine itself.
func machineReadings(v *scene.Scene, t *scene.Try) []gate.Reading {
	var readings []gate.Reading
	for _, s := range v.Ask.Sheets {
		for _, m := range s.Machines {
			addr, err := netip.ParseAddr(m.Address)
			if err != nil || addr != t.Target.Addr.Unmap() || m.Power != "off" && m.Checks != "failed" {
				continue
			}
			name := cmp.Or(m.Name, m.Address)
			r := gate.Reading{
				Gate: gate.Host, Cause: "service/machine-off",
				Strength: gate.Read, Because: t.Climb.IDs(), Vantage: v.Client,
				Summary: fmt.Sprintf("sheet %s: %s is switched off, as of %s", s.Name, name,
					m.At.UTC().Format("2006-01-02 15:04")),
				Values: v.Place(t, catalogue.Values{"machine": name, "console": m.Console, "sheet": s.Name,
					"powerless": name}),
			}
			if m.Power == "on" {
				r.Strength = gate.Told
				r.Summary = fmt.Sprintf(
					"sheet %s: %s is on, and the checks of what it runs on failed, as of %s",
					s.Name,
					name,
					m.At.UTC().Format("2006-01-02 15:04"),
				)
				delete(r.Values, "powerless")
			}
			if age := v.Ask.Began.Sub(m.At); age.Seconds() > machineAge {
				r.Lacks = []gate.Lack{{Guard: gate.SameTime, Why: fmt.Sprintf("that is %s old", foreign.Span(age))}}
			}
			readings = append(readings, r)
		}
	}
	return readings
}
