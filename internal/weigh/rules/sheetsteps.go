package rules

import (
	"fmt"
	"net/netip"
	"strconv"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/filter"
	"uakari/internal/sheet"
)

// crossing is one packet at one layer of a sheet.
type crossing struct {
	transport string
	from, to  netip.Addr
	low, high uint16 // the destination ports that it may have
}

// SheetStep is what a layer says of one packet.
type SheetStep struct {
	sheet     *fact.Sheet
	layer     *fact.Layer
	side      string // "in" or "out"
	back      bool   // the packet is the reply
	rule      int    // from 1; 0: none matched
	allowed   bool
	partly    string // the ports for which it is not
	guardsEnd string // "server" or "client": whose side the layer is on
	packet    crossing
	some      bool // of several behind a forward, others are let in
}

// portRange is a range of ports.
type portRange struct{ low, high uint16 }

// sheetSteps takes a connection and its reply through every layer that guards
// one of its ends.
func sheetSteps(sheets []fact.Sheet, p filter.Packet) []SheetStep {
	transport := transports[p.Proto]
	request := crossing{transport, p.From, p.To, p.ToPort, p.ToPort}
	reply := crossing{transport, p.To, p.From, filter.Ephemeral.Low, filter.Ephemeral.High}
	if p.FromPort != 0 {
		reply.low, reply.high = p.FromPort, p.FromPort
	}
	var list []SheetStep
	for i := range sheets {
		s := &sheets[i]
		for j := range s.Layers {
			l := &s.Layers[j]
			if l.Off {
				continue
			}
			if sheet.HoldsAny(s, l.Guards, p.From) {
				list = append(list, judgeLayer(s, l, "out", request, false, "client"))
			}
			if sheet.HoldsAny(s, l.Guards, p.To) {
				list = append(list, judgeLayer(s, l, "in", request, false, "server"))
			}
			if l.Kind != "stateless" {
				continue // replies follow
			}
			if sheet.HoldsAny(s, l.Guards, p.To) {
				list = append(list, judgeLayer(s, l, "out", reply, true, "server"))
			}
			if sheet.HoldsAny(s, l.Guards, p.From) {
				list = append(list, judgeLayer(s, l, "in", reply, true, "client"))
			}
		}
	}
	return list
}

// judgeLayer finds the rule that decides: in order, the first that matches;
// else an allow suffices, and a deny wins over it.
func judgeLayer(s *fact.Sheet, l *fact.Layer, side string, c crossing, back bool, end string) SheetStep {
	step := SheetStep{
		sheet:     s,
		layer:     l,
		side:      side,
		back:      back,
		allowed:   l.Otherwise == "allow",
		guardsEnd: end,
		packet:    c,
	}
	rules := l.In
	if side == "out" {
		rules = l.Out
	}
	left := []portRange{{c.low, c.high}} // ports that no rule has decided yet
	var denied []portRange
	for _, i := range inOrder(l.Order, rules) {
		r := &rules[i]
		if !ruleConcerns(r, s, c) {
			continue
		}
		hit, rest := cutPorts(left, r.Ports)
		if len(hit) == 0 {
			continue
		}
		left = rest
		if r.Do == "deny" {
			denied = append(denied, hit...)
		}
		if step.rule == 0 || r.Do == "deny" {
			step.rule = i + 1
		}
	}
	if len(left) > 0 && l.Otherwise == "deny" {
		denied = append(denied, left...)
	}
	step.allowed = len(denied) == 0
	if !step.allowed && !(len(denied) == 1 && denied[0] == portRange{c.low, c.high}) {
		step.partly = portsText(denied)
		step.rule = 0
	}
	if !step.allowed && len(left) > 0 && left[0] == (portRange{c.low, c.high}) {
		step.rule = 0
	}
	return step
}

// inOrder is the places of rules in the order in which they decide: where any
// allow suffices and a deny wins, the denies come first.
func inOrder(order string, rules []fact.SheetRule) []int {
	var list []int
	for _, denies := range []bool{true, false} {
		for i := range rules {
			if order == "first" && denies || order != "first" && (rules[i].Do == "deny") == denies {
				list = append(list, i)
			}
		}
	}
	return list
}

func portsText(list []portRange) string {
	var out []string
	for _, r := range list {
		if r.low == r.high {
			out = append(out, strconv.Itoa(int(r.low)))
		} else {
			out = append(out, fmt.Sprintf("%d-%d", r.low, r.high))
		}
	}
	return strings.Join(out, ", ")
}

// cutPorts splits ranges into what a rule's ports name and what is left.
func cutPorts(list []portRange, ports []string) (hit, left []portRange) {
	if len(ports) == 0 {
		return list, nil
	}
	left = list
	for _, text := range ports {
		low, high, err := fact.Ports(text)
		if err != nil {
			continue // sheets are checked when they are read
		}
		var next []portRange
		for _, r := range left {
			if high < r.low || low > r.high {
				next = append(next, r)
				continue
			}
			hit = append(hit, portRange{max(r.low, low), min(r.high, high)})
			if r.low < low {
				next = append(next, portRange{r.low, low - 1})
			}
			if r.high > high {
				next = append(next, portRange{high + 1, r.high})
			}
		}
		left = next
	}
	return hit, left
}

// ruleConcerns reports whether a rule names a packet's ends and transport.
func ruleConcerns(r *fact.SheetRule, s *fact.Sheet, c crossing) bool {
	return (r.Transport == "" || r.Transport == c.transport) &&
		(len(r.From) == 0 || sheet.HoldsAny(s, r.From, c.from)) && (len(r.To) == 0 || sheet.HoldsAny(s, r.To, c.to)) &&
		!sheet.HoldsAny(s, r.NotFrom, c.from) && !sheet.HoldsAny(s, r.NotTo, c.to)
}

// where names the layer and its rule.
func (s SheetStep) where() string {
	text := fmt.Sprintf("sheet %s, layer %s, %s", s.sheet.Name, s.layer.Name, s.side)
	rules := s.layer.In
	if s.side == "out" {
		rules = s.layer.Out
	}
	if s.rule > 0 {
		text += fmt.Sprintf(", rule %d", s.rule)
		if name := rules[s.rule-1].Name; name != "" {
			text += " (" + name + ")"
		}
	}
	return text
}

// says is what the layer does, in words.
func (s SheetStep) says() string {
	switch {
	case s.allowed && s.rule > 0:
		return "allow"
	case s.allowed:
		return "allow, since no rule says otherwise"
	case s.partly != "":
		return "no rule allows the ports " + s.partly
	case s.rule > 0:
		return "deny"
	}
	return "deny, since no rule allows it"
}
