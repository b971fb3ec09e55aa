package scene

import (
	"fmt"
	"slices"

	"uakari/internal/fact"
	"uakari/internal/weigh/gate"
)

// Want is a look that would tell weighing more. Equal wants are one want.
type Want struct {
	Look   fact.Kind
	At     fact.Role
	On     string // the one vantage of that role that is meant; "": all of them
	Target fact.Target
	Gate   gate.Gate // the gate it would read
}

// Wants collects what would help, each once.
type Wants struct{ List []Want }

// Try is one target with its verdict, and the try that corrects it, if any.
type Try struct {
	Target   fact.Target
	Climb    Climb
	Symptom  gate.Symptom
	Server   string // the server's vantage; "" : not seen
	Running  string // that the service runs there, in words; "" : not seen
	Verdict  gate.Verdict
	Instead  *Try
	Sessions Climb // where later gates were read: the client's climb, or the server's own
	OwnTry   bool  // sessions is the server's own
	Lookup   *Lookup
	// unpresented is why the account is not presented to this target.
	Unpresented string
}

// patience is how long an answer must have been waited for, in milliseconds,
// before its absence says anything: some services pause for five seconds.
const patience = 5000

// Order is the look without the reason for it.
func (w Want) Order() fact.Order { return fact.Order{Look: w.Look, Target: w.Target} }

func (w *Wants) Add(more ...Want) {
	for _, each := range more {
		if !slices.Contains(w.List, each) {
			w.List = append(w.List, each)
		}
	}
}

// Last is the try that is in the end the right one.
func (t *Try) Last() *Try {
	for t.Instead != nil {
		t = t.Instead
	}
	return t
}

// Causes is every cause of the try and of its correction. A correction's
// causes are masked by what had to be corrected.
func (t *Try) Causes() []*gate.Judged {
	all := slices.Clone(t.Verdict.Causes)
	if t.Instead == nil {
		return all
	}
	for _, later := range t.Instead.Causes() {
		if later.Blocking {
			for _, first := range all {
				if first.Instead != nil && first.Blocking && !slices.Contains(later.MaskedBy, first) {
					later.MaskedBy = append(later.MaskedBy, first)
				}
			}
		}
		all = append(all, later)
	}
	return all
}

// Ending is how a try ended.
func (v *Scene) Ending(t *Try) gate.Ending {
	died, _ := v.DiesAfter(t)
	small := t.Target
	small.Small = true
	c, tried := v.ClimbAt(v.Client, small)
	return gate.Ending{
		SmallStalls: tried && c.Symptom(v.Own()) == t.Symptom,
		Symptom:     t.Symptom,
		Lenient:     t.Climb.Handshake != nil && v.Ask.Endpoint.Verify,
		Hasty:       t.Climb.Hasty(),
		Died:        died != "",
	}
}

// DiesAfter says how far the client's silent packets get; "" where no router
// says anything.
func (v *Scene) DiesAfter(t *Try) (text, id string) {
	for _, f := range v.Facts(v.Client, fact.LookHops) {
		if f.Hops == nil || f.Order.Target.Addr != t.Target.Addr || f.Order.Target.Port != t.Target.Port {
			continue
		}
		if last := f.Hops.Last(); last > 0 {
			return fmt.Sprintf("; it dies after hop %d, %s", last, f.Hops.Routers[last-1]), f.ID
		}
	}
	return "", ""
}

// Hasty reports whether a climb was cut off while it waited for an answer,
// before the answer could be called late.
func (c Climb) Hasty() bool {
	switch {
	case c.Reply != nil:
		return c.Reply.Reply.Ending == fact.Stalled && c.Reply.Reply.TookMS < patience
	case c.Handshake != nil:
		return c.Handshake.Handshake.Ending == fact.Stalled && c.Handshake.Handshake.TookMS < patience
	case c.Greeting != nil:
		return c.Greeting.Greeting.Ending == fact.Stalled && c.Greeting.Greeting.TookMS < patience
	}
	return false
}

// Past reports whether the climb got beyond a gate by its own evidence.
func (c Climb) Past(g gate.Gate) bool {
	return c.Connect != nil && c.Connect.Connect.Outcome == fact.Connected && gate.Symptoms[c.Symptom(nil)].Open.Has(g)
}

// AddLists wants the lists by which a server lets clients in.
func (w *Wants) AddLists(t *Try) {
	w.Add(Want{
		Look: fact.LookAccess, At: fact.Server, On: t.Server, Target: fact.Target{Port: t.Target.Port},
		Gate: gate.Door,
	})
}

// AddListsAndSource wants them, and by which address the server sees the
// client.
func (w *Wants) AddListsAndSource(t *Try) {
	w.AddLists(t)
	w.Add(
		Want{Look: fact.LookRoute, At: fact.Client, Target: fact.Target{Addr: t.Target.Addr}, Gate: gate.Door},
		Want{Look: fact.LookPeers, At: fact.Server, On: t.Server, Gate: gate.Door},
	)
}
