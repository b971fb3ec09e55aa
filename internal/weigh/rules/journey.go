package rules

import (
	"uakari/internal/filter"
	"uakari/internal/trail"
)

// transports are protocols by their names.
var transports = map[uint8]string{filter.TCP: "tcp", filter.UDP: "udp", filter.ICMP: "icmp", filter.ICMPv6: "icmp"}

// Journey takes a packet over hosts in turn and tells its way.
func Journey(p filter.Packet, hops []filter.Hop) trail.Journey {
	// Without any host, sheets alone judge.
	trip := filter.Trip{Request: filter.Walk{Verdict: filter.Accepts}, Reply: filter.Walk{Verdict: filter.Accepts}}
	trip.Later, trip.LaterReply = trip.Request, trip.Reply
	if len(hops) > 0 {
		trip = filter.Travel(p, hops)
	}
	j := trail.Journey{Format: trail.JourneyFormat, Leg: legOf(trip.Request), Reply: legOf(trip.Reply),
		Packet: trail.JourneyPacket{
			Transport: transports[p.Proto],
			From:      p.From.String(),
			FromPort:  p.FromPort,
			To:        p.To.String(),
			ToPort:    p.ToPort,
		}}
	for _, w := range []filter.Walk{trip.Later, trip.LaterReply} {
		if trip.Request.Verdict == filter.Accepts && trip.Reply.Verdict == filter.Accepts &&
			w.Verdict != filter.Accepts &&
			j.Later == nil {
			later := legOf(w)
			j.Later = &later
		}
	}
	for _, w := range []filter.Walk{trip.Request, trip.Reply} {
		for _, at := range legOf(w).Blocks {
			j.Mend = append(j.Mend, mendStep(w.Steps[at], hops)...)
		}
	}
	return j
}

func legOf(w filter.Walk) trail.Leg {
	l := trail.Leg{
		Verdict:    string(w.Verdict),
		WhyUnknown: w.Why,
		Steps:      []trail.Step{},
		Rewrites:   []trail.Rewrite{},
		Blocks:     []int{},
	}
	if w.Verdict == filter.Rejects {
		l.RejectWith = w.With.String()
	}
	for _, s := range w.Steps {
		step := trail.Step{Host: s.Host, Hook: s.Hook, Effect: s.Effect, Maybe: s.Maybe}
		if s.Chain != nil {
			step.Table, step.Chain = s.Chain.Table.Title(), s.Chain.Name
		}
		if s.Rule != nil {
			step.Rule, step.Handle, step.Text = s.Rule.Number, s.Rule.Handle, s.Rule.Words()
		}
		l.Steps = append(l.Steps, step)
	}
	if w.Verdict == filter.Drops || w.Verdict == filter.Rejects {
		l.Blocks = append(l.Blocks, w.Blocks...)
	}
	for _, r := range w.Rewrites {
		l.Rewrites = append(l.Rewrites, trail.Rewrite(r))
	}
	return l
}

// mendStep is the narrowest change for one step that stops a packet.
func mendStep(s filter.Step, hops []filter.Hop) []trail.Remedy {
	for _, h := range hops {
		if h.Host.Name != s.Host {
			continue
		}
		if c, ok := h.Host.Narrowest(s); ok {
			return []trail.Remedy{
				{
					Do:      "let this packet through, and nothing else; to make it last: " + c.Lasts,
					Command: c.Do,
					Host:    s.Host,
					Owner:   "the filter of " + s.Host,
					Risk:    "opens " + c.Opens,
					Undo:    c.Undo,
				},
			}
		}
	}
	return nil
}
