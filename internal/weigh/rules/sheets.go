package rules

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/filter"
	"uakari/internal/sheet"
	"uakari/internal/trail"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// sheetRoutes is what a sheet's route tables say of a packet; "" for nothing
// against it.
func sheetRoutes(sheets []fact.Sheet, from, to netip.Addr) (text string, of *fact.Sheet) {
	for i := range sheets {
		s := &sheets[i]
		for _, table := range s.Routes {
			if !sheet.HoldsAny(s, table.For, from) {
				continue
			}
			best, via := -1, ""
			for _, entry := range table.Table {
				p, err := netip.ParsePrefix(entry.To)
				if err != nil {
					if a, err := netip.ParseAddr(entry.To); err == nil {
						p = netip.PrefixFrom(a, a.BitLen())
					}
				}
				if p.IsValid() && p.Masked().Contains(to) && p.Bits() > best {
					best, via = p.Bits(), entry.Via
				}
			}
			switch {
			case best < 0:
				return fmt.Sprintf("sheet %s, routes %s: no entry leads to %s", s.Name, table.Name, to), s
			case via == "none":
				return fmt.Sprintf("sheet %s, routes %s: the entry for %s drops it", s.Name, table.Name, to), s
			}
		}
	}
	return "", nil
}

// routesFor names the route table of a sheet that sends an address' packets on.
func routesFor(s *fact.Sheet, from netip.Addr) string {
	for _, table := range s.Routes {
		if sheet.HoldsAny(s, table.For, from) {
			return cmp.Or(table.Name, "for "+strings.Join(table.For, ", "))
		}
	}
	return ""
}

// scopeProblem is why the client's address is not served; "" if it is, or if
// no sheet declares scopes for this endpoint.
func scopeProblem(sheets []fact.Sheet, client netip.Addr, names []string) string {
	for i := range sheets {
		s := sheets[i]
		if s.Scopes == nil {
			continue
		}
		serving := map[string]bool{}
		off := map[string]bool{}
		for _, g := range s.Scopes.Groups {
			if slices.ContainsFunc(g.Serves, func(e string) bool { return slices.Contains(names, e) }) {
				serving[g.Name], off[g.Name] = true, g.Off
			}
		}
		if len(serving) == 0 {
			continue
		}
		in, switchedOff := "", ""
		for _, r := range s.Scopes.Ranges {
			if !sheet.HoldsAny(&s, []string{r.Range}, client) {
				continue
			}
			switch {
			case serving[r.Group] && !off[r.Group]:
				return ""
			case serving[r.Group]:
				switchedOff = fmt.Sprintf(
					"%s is in the range %s, whose group %s is switched off",
					client,
					r.Range,
					r.Group,
				)
			default:
				in = fmt.Sprintf(
					"%s is in the range %s, whose group %s does not serve this endpoint",
					client,
					r.Range,
					r.Group,
				)
			}
		}
		for _, text := range []string{switchedOff, in} {
			if text != "" {
				return fmt.Sprintf("sheet %s: %s", s.Name, text)
			}
		}
		return fmt.Sprintf("sheet %s: %s is in no declared range", s.Name, client)
	}
	return ""
}

// SheetReadings reads the sheets that were given.
func SheetReadings(v *scene.Scene, w *scene.Wants, t *scene.Try) []gate.Reading {
	if len(v.Ask.Sheets) == 0 || !t.Target.Addr.IsValid() {
		return nil
	}
	w.Add(
		scene.Want{Look: fact.LookRoute, At: fact.Client, Target: fact.Target{Addr: t.Target.Addr}, Gate: gate.WayOut},
	)
	source, direct, id := v.Source(t)
	certain := direct || v.OnSame(t) || v.SeenFrom(t, source)
	if !source.IsValid() {
		if source = v.SoleAddress(t.Target.Addr); !source.IsValid() {
			return nil
		}
	}
	var because []string
	if id != "" {
		because = []string{id}
	}
	target := t.Target.Addr.Unmap().WithZone("")
	base := gate.Reading{
		Gate:     gate.Way,
		Strength: gate.Read,
		Because:  because,
		Vantage:  v.Client,
		Shows:    []gate.Symptom{gate.SilentTCP, gate.UnreachableFrom, gate.ICMPFromElsewhere},
	}
	p := firstPacket(v, t, source)
	readings := append(machineReadings(v, t), nobodyBehind(v, t, p)...)
	stale := disproved(v, t, source)
	add := func(of *fact.Sheet, cause, summary string, values catalogue.Values, more func(*gate.Reading)) {
		r := base
		r.Cause, r.Summary, r.Values, r.Which = cause, summary, v.Place(t, values), summary
		if of != nil && stale[of.Name] != "" {
			r.Lacks = append(r.Lacks, gate.Lack{Guard: gate.SameTime, Why: stale[of.Name]})
		}
		if more != nil {
			more(&r)
		}
		readings = append(readings, r)
	}
	for _, s := range shutSteps(v.Ask.Sheets, p) {
		cause := map[string]string{"server": "rules/sheet-in", "client": "rules/sheet-out"}[s.guardsEnd]
		if s.back {
			cause = "rules/sheet-return"
		}
		what := "the request"
		if s.back {
			what = "the reply, to a port that the client chose"
		}
		add(
			s.sheet,
			cause,
			fmt.Sprintf("%s stops %s: %s", s.where(), what, s.says()),
			gate.Join(s.mend().values(), catalogue.Values{
				"layer":  s.layer.Name,
				"sheet":  s.sheet.Name,
				"side":   s.side,
				"source": source.String(),
			}),
			func(r *gate.Reading) {
				if s.back {
					r.Gate = gate.WayBack
				}
				if s.some {
					r.Strength = gate.Inferred
					r.Lacks = append(r.Lacks,
						gate.Lack{Guard: gate.OneMeaning,
							Why: "it depends on which of those behind it the connection goes to"})
				}
				if s.partly != "" {
					r.Strength = gate.Inferred
					r.Lacks = append(r.Lacks,
						gate.Lack{Guard: gate.OneMeaning, Why: "it depends on which of its ports the client chooses"})
				}
				if s.guardsEnd == "server" && !certain && s.namesClient(p) {
					r.Strength = gate.Inferred
					r.Lacks = append(
						r.Lacks,
						gate.Lack{
							Guard: gate.SameSource,
							Why: "a translation on the way may show this layer another address than " +
								source.String(),
						},
					)
				}
			},
		)
	}
	if text, s := sheetRoutes(v.Ask.Sheets, source, target); s != nil {
		add(
			s,
			"rules/no-route",
			text,
			catalogue.Values{
				"client": v.Host(v.Client),
				"addr":   target.String(),
				"sheet":  s.Name,
				"table":  routesFor(s, source),
			},
			nil,
		)
	}
	if text, s := sheetRoutes(v.Ask.Sheets, target, source); s != nil {
		add(
			s,
			"rules/no-return-route",
			text,
			catalogue.Values{"source": source.String(), "sheet": s.Name, "table": routesFor(s, target)},
			func(r *gate.Reading) { r.Gate = gate.WayBack },
		)
	}
	e := v.Ask.Endpoint
	names := []string{
		e.Host,
		target.String(),
		fmt.Sprintf("%s:%d", e.Host, t.Target.Port),
		netip.AddrPortFrom(target, t.Target.Port).String(),
	}
	if text := scopeProblem(v.Ask.Sheets, source, names); text != "" {
		add(nil, "rules/out-of-scope", text, catalogue.Values{"source": source.String()}, func(r *gate.Reading) {
			if t.Symptom.Good() { // it connects, and is assigned nothing
				r.Gate, r.Reach = gate.Door, gate.Further
				return
			}
			r.Gate, r.Shows = gate.Door, []gate.Symptom{
				gate.SilentTCP,
				gate.ClientFirstClosed,
				gate.ServerFirstClosed,
				gate.ServerFirstRefused,
				gate.RefusedByCode,
				gate.ErrorAnswer,
				gate.RefusedByReset,
			}
		})
	}
	return readings
}

// namesClient reports whether the layer would let the packet of some other
// client pass. Every address at which a rule's net begins, or the first after
// it, stands for all up to the next.
func (s SheetStep) namesClient(p filter.Packet) bool {
	others := []netip.Addr{netip.IPv4Unspecified(), netip.IPv6Unspecified()}
	for _, r := range slices.Concat(s.layer.In, s.layer.Out) {
		for _, net := range sheet.Nets(s.sheet, slices.Concat(r.From, r.To, r.NotFrom, r.NotTo)) {
			others = append(others, net.Addr(), after(net))
		}
	}
	return slices.ContainsFunc(others, func(from netip.Addr) bool {
		if !from.IsValid() || from.Is4() != p.To.Is4() {
			return false
		}
		other := p
		other.From = from
		return slices.ContainsFunc(sheetSteps([]fact.Sheet{*s.sheet}, other), func(o SheetStep) bool {
			return o.layer.Name == s.layer.Name && o.side == s.side && o.back == s.back &&
				o.guardsEnd == s.guardsEnd &&
				o.allowed
		})
	})
}

// after is the first address behind a net; invalid if there is none.
func after(p netip.Prefix) netip.Addr {
	b := p.Masked().Addr().AsSlice()
	for i := p.Bits(); i < len(b)*8; i++ {
		b[i/8] |= 0x80 >> (i % 8)
	}
	last, _ := netip.AddrFromSlice(b)
	return last.Next()
}

// Layers adds the layers of sheets to a journey over hosts.
func Layers(j *trail.Journey, sheets []fact.Sheet, p filter.Packet) {
	block := func(l *trail.Leg, s trail.Step, stops bool) {
		l.Steps = append(l.Steps, s)
		if stops {
			l.Blocks = append(l.Blocks, len(l.Steps)-1)
			if l.Verdict == "accept" {
				l.Verdict = "drop"
			}
		}
	}
	for _, f := range forwardsOf(sheets, p) {
		effect := "leads on to " + strings.Join(f.To, ", ")
		if len(f.To) == 0 {
			effect = strings.TrimSuffix("leads to nobody: "+f.Why, ": ")
		}
		block(&j.Leg, trail.Step{Host: f.Name, Hook: "forward", Effect: effect}, len(f.To) == 0)
	}
	for _, s := range allSteps(sheets, p) {
		leg := &j.Leg
		if s.back {
			leg = &j.Reply
		}
		block(
			leg,
			trail.Step{
				Host:   "sheet " + s.sheet.Name,
				Hook:   s.side,
				Chain:  fmt.Sprintf("layer %s (%s)", s.layer.Name, s.layer.Kind),
				Rule:   s.rule,
				Effect: s.says(),
			},
			!s.allowed && !s.some,
		)
		if !s.allowed {
			risk := "opens this port to this client, and to nobody else"
			if s.back {
				risk = "lets replies go to this client, and to nobody else"
			}
			j.Mend = append(
				j.Mend,
				trail.Remedy{
					Do:      s.mend().says(s.layer.Name),
					Command: s.mend().command(),
					Host:    "sheet " + s.sheet.Name,
					Owner:   s.sheet.Name,
					Risk:    risk,
					Undo:    "take the rule out again",
				},
			)
		}
	}
	for _, each := range []struct {
		from, to netip.Addr
		leg      *trail.Leg
	}{{p.From, p.To, &j.Leg}, {p.To, p.From, &j.Reply}} {
		if text, s := sheetRoutes(sheets, each.from, each.to); s != nil {
			block(each.leg, trail.Step{Host: "sheet " + s.Name, Hook: "routing", Effect: text}, true)
		}
	}
	names := []string{p.To.String(), netip.AddrPortFrom(p.To, p.ToPort).String()}
	if text := scopeProblem(sheets, p.From, names); text != "" {
		block(&j.Leg, trail.Step{Host: "sheet", Hook: "scope", Effect: text}, true)
	}
	for i := range sheets {
		j.Doubts = append(j.Doubts, LayerDoubts(&sheets[i])...)
	}
}
