package filter

import (
	"fmt"
	"slices"
)

// Bounds of one evaluation. They are far beyond what real tables need; tables
// from a file may be anything.
const (
	mostForks = 64
	mostDepth = 64
	mostFuel  = 4 << 20 // rules looked at
)

// Step is one thing that happened to a packet on its way.
type Step struct {
	Host   string
	Hook   string
	Chain  *Chain // nil: no chain did it
	Rule   *Rule  // nil: the chain's policy, or no chain
	Kind   StepKind
	Packet Packet // as it was there
	// Effect says what was done: "drop", "jump web", "mark 0x1".
	Effect string
	// Rejects is that it was stopped with a word to the sender, With.
	Rejects bool
	With    Refusal
	// Link is the link by which it came, where that decided.
	Link string
	// Maybe says why it is not certain that the rule matches; "": it is.
	Maybe string
	Base  *Chain // the base chain in which it happened

	in, out port
	mark    uint32
	flow    *flow // nil: not tracked
}

// StepKind tells rules from what else decides over a packet.
type StepKind uint8

const (
	ByRule StepKind = iota
	ByPolicy
	ByRoute
	ByReversePath
	ByForwarding
	ByLayer
)

// state is one packet on its way, with what became of it so far. Several are
// alive where a condition is not known.
type state struct {
	packet    Packet
	in, out   port
	mark      uint32
	ctMark    uint32
	untracked bool
	tracked   bool
	flow      *flow
	steps     []Step
	blocks    []int // steps that stop it; evaluation went on as if they had accepted
	doubts    []string
	stateful  bool // a doubt rests on state that nobody can read
}

func (s *state) clone() *state {
	c := *s
	c.steps = s.steps[:len(s.steps):len(s.steps)]
	c.blocks = s.blocks[:len(s.blocks):len(s.blocks)]
	c.doubts = s.doubts[:len(s.doubts):len(s.doubts)]
	return &c
}

// same reports whether nothing that is yet to come can tell two states apart.
func (s *state) same(o *state) bool {
	return s.packet == o.packet && s.in == o.in && s.out == o.out && s.mark == o.mark && s.ctMark == o.ctMark &&
		s.untracked == o.untracked && s.tracked == o.tracked && s.flow.same(o.flow) &&
		(len(s.blocks) == 0) == (len(o.blocks) == 0) && s.firstBlock() == o.firstBlock()
}

func (s *state) firstBlock() (b struct {
	rule *Rule
	kind StepKind
}) {
	if len(s.blocks) > 0 {
		at := s.steps[s.blocks[0]]
		b.rule, b.kind = at.Rule, at.Kind
	}
	return b
}

// join drops states that others stand for.
func join(list []*state) []*state {
	if len(list) < 2 {
		return list
	}
	var kept []*state
	for _, s := range list {
		at := slices.IndexFunc(kept, s.same)
		if at < 0 {
			kept = append(kept, s)
			continue
		}
		if len(s.doubts) < len(kept[at].doubts) {
			kept[at] = s
		}
	}
	return kept
}

// control is what a rule does with the course of evaluation.
type control uint8

const (
	goOn control = iota
	accepted
	dropped
	rejected
	queued
	returned
	jumped
	gone
	puzzled
)

// mostSteps bounds the way of one packet: chains that jump to each other many
// times lead on without end, however shallow they are.
const mostSteps = 2000

// evaluator walks the chains of one hook.
type evaluator struct {
	host  *Host
	m     machine
	fuel  *int
	hook  Hook
	at    *Chain // the base chain
	began uint32 // the mark with which the packet came to it
	// stuck is why the whole evaluation gives no answer; "": it does.
	stuck string
}

// ready sets the machine for a state.
func (ev *evaluator) ready(s *state) {
	ev.m.mark, ev.m.ctMark = s.mark, s.ctMark
}

// base evaluates a base chain for a state. The states that come back have
// passed it, or were blocked by it and go on as if they had passed.
func (ev *evaluator) base(c *Chain, s *state, priority int) []*state {
	ev.prepare(s, priority)
	ev.at, ev.began = c, s.mark
	falls, ends := ev.chain(c, s, 0)
	for _, f := range falls {
		if c.Drop {
			ends = append(ends, ev.block(f, Step{Chain: c, Kind: ByPolicy, Effect: "policy drop"}))
			continue
		}
		if len(ev.host.rulesOf(c)) > 0 {
			ev.step(f, Step{Chain: c, Kind: ByPolicy, Effect: "policy accept"})
		}
		ends = append(ends, f)
	}
	return join(ends)
}

// prepare sets the machine up for a state at a hook.
func (ev *evaluator) prepare(s *state, priority int) {
	m := &ev.m
	*m = machine{packet: s.packet, network: s.packet.network(), transport: s.packet.transport(), hook: ev.hook,
		in: s.in, out: s.out, host: ev.host, untracked: s.untracked, later: s.flow != nil && s.flow.stage == later}
	if s.tracked && !s.untracked {
		m.track = s.flow.tracking()
	}
	m.flatten()
	ev.ready(s)
}

func (ev *evaluator) step(s *state, step Step) {
	if len(s.steps) >= mostSteps {
		ev.stuck, *ev.fuel = "the chains lead on and on", 0
	}
	step.Host, step.Hook, step.Packet, step.Base = ev.host.Name, ev.hook.String(), ev.m.packet, ev.at
	step.in, step.out, step.mark = s.in, s.out, ev.began
	if s.tracked {
		step.flow = s.flow
	}
	s.steps = append(s.steps[:len(s.steps):len(s.steps)], step)
}

func (ev *evaluator) block(s *state, step Step) *state {
	ev.step(s, step)
	s.blocks = append(s.blocks[:len(s.blocks):len(s.blocks)], len(s.steps)-1)
	return s
}

// chain evaluates a chain: the states that fall off its end or return, and
// those for which the base chain has ended.
func (ev *evaluator) chain(c *Chain, s *state, depth int) (falls, ends []*state) {
	if depth > mostDepth {
		ev.stuck = "chains jump too deep, or in a loop"
		return []*state{s}, nil
	}
	live := []*state{s}
	var backing [1]*state
	rules := ev.host.rulesOf(c)
	heads := c.heads
	if len(heads) != len(rules) || ev.host.Instead != nil {
		heads = nil
	}
	for i, r := range rules {
		if *ev.fuel--; *ev.fuel < 0 {
			ev.stuck = "the tables are too large to evaluate"
			return live, ends
		}
		if heads != nil && ev.m.rulesOut(&heads[i]) {
			continue
		}
		if len(live) == 1 {
			if t := ev.quick(r, live[0]); t == No {
				continue
			}
		}
		next := backing[:0]
		for _, each := range live {
			stays, done := ev.rule(c, r, each, depth)
			next = append(next, stays.on...)
			falls = append(falls, stays.returned...)
			ends = append(ends, done...)
		}
		live = join(next)
		ends = join(ends)
		switch {
		case len(live) == 0:
			return join(falls), ends
		case len(live)+len(falls)+len(ends) > mostForks:
			ev.stuck = "too many conditions are not known"
			return live[:1], nil
		}
		if len(live) > 1 {
			live = slices.Clone(live)
		}
	}
	return join(append(falls, live...)), ends
}

// quick rules a rule out by its first conditions; anything but No means that
// it must be looked at.
func (ev *evaluator) quick(r *Rule, s *state) Tri {
	for i := range r.Body {
		c := r.Body[i].Cond
		if c == nil {
			return Unknown
		}
		if ev.m.mark != s.mark || ev.m.ctMark != s.ctMark {
			ev.ready(s)
		}
		if t, _ := ev.m.match(c); t == No {
			return No
		}
	}
	return Unknown
}

// outcomes is the states that go on with the next rule of the chain, and
// those that left it without ending the base chain.
type outcomes struct{ on, returned []*state }

// rule runs one rule for one state.
func (ev *evaluator) rule(c *Chain, r *Rule, s *state, depth int) (out outcomes, ends []*state) {
	ev.ready(s)
	maybe, unread := "", false
	for i := range r.Body {
		op := &r.Body[i]
		if op.Cond != nil {
			t, why := ev.m.match(op.Cond)
			switch t {
			case No:
				out.on = append(out.on, s)
				return out, ends
			case Unknown:
				maybe, unread = why, unread || op.Cond.State
			}
			continue
		}
		if op.Act.Doing == Nothing || op.Act.Doing == Continue {
			continue
		}
		if maybe != "" {
			out.on = append(out.on, s)
			s = s.clone()
			s.doubts = append(s.doubts, doubt(r, maybe))
			s.stateful = s.stateful || unread
		}
		ctl, act, targetWhy := ev.do(r, op.Act, s)
		step := Step{Chain: c, Rule: r, Maybe: maybe}
		switch ctl {
		case goOn:
			if act != nil {
				step.Effect = act.Text
				ev.step(s, step)
			}
			ev.ready(s)
			maybe, unread = "", false // what follows is done by this branch alone
			continue
		case accepted:
			step.Effect = "accept"
			if act != nil && act.Text != "" {
				step.Effect = act.Text
			}
			ev.step(s, step)
			return out, append(ends, s)
		case dropped:
			step.Effect = "drop"
			return out, append(ends, ev.block(s, step))
		case rejected:
			step.Effect, step.Rejects, step.With = "reject with "+act.With.String(), true, act.With
			return out, append(ends, ev.block(s, step))
		case returned:
			step.Effect = "return"
			ev.step(s, step)
			out.returned = append(out.returned, s)
			return out, ends
		case jumped, gone:
			step.Effect = map[control]string{jumped: "jump ", gone: "goto "}[ctl] + act.Chain
			ev.step(s, step)
			falls, done := ev.chain(act.target, s, depth+1)
			ends = append(ends, done...)
			if ctl == jumped {
				out.on = append(out.on, falls...)
			} else {
				out.returned = append(out.returned, falls...)
			}
			return out, ends
		default: // queued, puzzled: anything may come of it
			why := targetWhy
			if ctl == queued {
				why = "a program decides (queue)"
			}
			let := s.clone()
			let.doubts = append(let.doubts, doubt(r, why))
			step.Effect, step.Maybe = "unknown: "+why, why
			ev.step(let, step)
			out.on = append(out.on, let.clone())
			stop := let.clone()
			stop.blocks = append(stop.blocks, len(stop.steps)-1)
			return out, append(ends, let, stop)
		}
	}
	out.on = append(out.on, s)
	return out, ends
}

func doubt(r *Rule, why string) string {
	return fmt.Sprintf("rule %d of chain %s: %s", r.Number, r.Chain.Name, why)
}
