package rules

import (
	"fmt"
	"net/netip"
	"slices"

	"uakari/internal/fact"
	"uakari/internal/filter"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// forwardsOf is the forwards of sheets that a packet meets.
func forwardsOf(sheets []fact.Sheet, p filter.Packet) []*fact.Forward {
	var list []*fact.Forward
	for i := range sheets {
		for j := range sheets[i].Forwards {
			f := &sheets[i].Forwards[j]
			if at, err := netip.ParseAddrPort(f.From); err == nil && at == netip.AddrPortFrom(p.To, p.ToPort) {
				list = append(list, f)
			}
		}
	}
	return list
}

// behind is a packet as it goes on to each of those behind an address.
func behind(f *fact.Forward, p filter.Packet) []filter.Packet {
	var list []filter.Packet
	for _, to := range f.To {
		if at, err := netip.ParseAddrPort(to); err == nil { // sheets are checked when they are read
			inner := p
			inner.To, inner.ToPort = at.Addr(), at.Port()
			list = append(list, inner)
		}
	}
	return list
}

// allSteps is the layers that a packet meets on its way to an address and, where
// that leads on, to each of those behind it, each layer once. If only some of
// those are shut, it depends.
func allSteps(sheets []fact.Sheet, p filter.Packet) []SheetStep {
	list := sheetSteps(sheets, p)
	for _, f := range forwardsOf(sheets, p) {
		var steps []SheetStep
		open := false
		for _, inner := range behind(f, p) {
			these := sheetSteps(sheets, inner)
			open = open || !slices.ContainsFunc(these, func(s SheetStep) bool { return !s.allowed })
			steps = append(steps, these...)
		}
		said := map[string]bool{}
		for _, s := range steps {
			if s.some = open && !s.allowed; !said[s.where()] { // one layer may guard all of them
				said[s.where()] = true
				list = append(list, s)
			}
		}
	}
	return list
}

// shutSteps is those of the layers that stop a packet.
func shutSteps(sheets []fact.Sheet, p filter.Packet) []SheetStep {
	return slices.DeleteFunc(allSteps(sheets, p), func(s SheetStep) bool { return s.allowed })
}

// nobodyBehind reads a forward that leads to nobody.
func nobodyBehind(v *scene.Scene, t *scene.Try, p filter.Packet) []gate.Reading {
	var readings []gate.Reading
	for _, f := range forwardsOf(v.Ask.Sheets, p) {
		if len(f.To) > 0 {
			continue
		}
		r := gate.Reading{
			Gate: gate.Listener, Cause: "service/nobody-behind",
			Strength: gate.Read, Which: f.Name, Because: t.Climb.IDs(),
			Vantage: v.Client,
			Shows: []gate.Symptom{
				gate.RefusedByReset,
				gate.SilentTCP,
				gate.PortUnreachable,
				gate.ICMPFromTarget,
				gate.ICMPFromElsewhere,
				gate.ErrorAnswer,
			},
			Summary: fmt.Sprintf("%s leads to nobody", f.Name),
			Values:  v.Place(t, catalogue.Values{"forward": f.Name, "why": f.Why}),
		}
		if f.Why != "" {
			r.Summary += ": " + f.Why
		}
		readings = append(readings, r)
	}
	return readings
}
