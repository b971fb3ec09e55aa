// Package weigh judges facts: the same facts always give the same trail. It
// does no input or output, reads no clock and keeps nothing between calls.
//
// A connection passes a chain of gates ([Gate]); how a try ended says which
// may be shut ([Symptom] and its table); a [Reading] says that one is open or
// shut; [combine] decides what is left. A file per rung turns facts into
// readings of its gates and does nothing else. No rung judges certainty.
package weigh

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"slices"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/trail"
)

// Want is a look that would tell weighing more. Equal wants are one want.
type Want struct {
	Look   fact.Kind
	At     fact.Role
	On     string // the one vantage of that role that is meant; "": all of them
	Target fact.Target
	Gate   Gate // the gate it would read
}

// Order is the look without the reason for it.
func (w Want) Order() fact.Order { return fact.Order{Look: w.Look, Target: w.Target} }

// Weigh judges a set and names the looks that would tell it more. Looks that
// were already taken may be among them.
func Weigh(set fact.Set) (trail.Trail, []Want) {
	v := newView(set)
	w := &wants{}
	tried := v.walk(w)
	t := v.trail(tried)
	for _, hop := range set.Behind {
		behind, _ := Weigh(hop.Set)
		t.Behind = append(t.Behind, trail.Behind{From: hop.From, Pair: hop.Pair, Trail: behind})
	}
	return t, w.list
}

// Next is an endpoint that is worth a trace of its own, from a vantage of this
// one: a backend that it needs and does not get, or its partner in a pair.
type Next struct {
	From     string // the vantage
	Endpoint string // as it would be typed
	Pair     bool
}

// mostHops bounds how many hops behind one endpoint are traced.
const mostHops = 3

// Hops is what is to be traced from the server: the card's pairs and, where a
// gateway answers for a backend that fails, the backends behind it.
func Hops(set fact.Set) []Next {
	v := newView(set)
	var list []Next
	add := func(next Next) {
		if len(list) < mostHops && !slices.Contains(list, next) {
			list = append(list, next)
		}
	}
	for _, t := range v.walk(&wants{}) {
		last := t.last()
		if last.server == "" {
			continue
		}
		if v.ask.Card != nil {
			for _, input := range v.ask.Card.Pairs {
				add(Next{last.server, input, true})
			}
		}
		if !slices.ContainsFunc(last.verdict.causes, func(j *judged) bool { return j.Cause == "answer/hop-fails" && j.blocking }) {
			continue
		}
		for _, f := range v.facts(last.server, fact.LookUpstreams) {
			for _, up := range v.backends(f) {
				if text, _ := v.upstream(&wants{}, last, up); text != "" {
					add(Next{last.server, up.Scheme + "://" + endpoint.HostPort(up.Host, up.Port) + "/", false})
				}
			}
		}
	}
	return list
}

// wants collects what would help, each once.
type wants struct{ list []Want }

func (w *wants) add(more ...Want) {
	for _, each := range more {
		if !slices.Contains(w.list, each) {
			w.list = append(w.list, each)
		}
	}
}

// try is one target with its verdict, and the try that corrects it, if any.
type try struct {
	target   fact.Target
	climb    climb
	symptom  Symptom
	server   string // the server's vantage; "" : not seen
	running  string // that the service runs there, in words; "" : not seen
	verdict  verdict
	instead  *try
	sessions climb // where later gates were read: the client's climb, or the server's own
	ownTry   bool  // sessions is the server's own
	lookup   *lookup
}

// last is the try that is in the end the right one.
func (t *try) last() *try {
	for t.instead != nil {
		t = t.instead
	}
	return t
}

// causes is every cause of the try and of its correction. A correction's
// causes are masked by what had to be corrected.
func (t *try) causes() []*judged {
	all := slices.Clone(t.verdict.causes)
	if t.instead == nil {
		return all
	}
	for _, later := range t.instead.causes() {
		if later.blocking {
			for _, first := range all {
				if first.Instead != nil && first.blocking && !slices.Contains(later.maskedBy, first) {
					later.maskedBy = append(later.maskedBy, first)
				}
			}
		}
		all = append(all, later)
	}
	return all
}

// walk weighs the endpoint's name and every address it gives.
func (v *view) walk(w *wants) []*try {
	e := v.ask.Endpoint
	w.add(Want{Look: fact.LookAddresses, At: fact.Client})
	return v.tryName(w, fact.Target{Name: e.Host, Port: e.Port, Scheme: e.Scheme, Security: e.Security, Path: e.Path}, 0)
}

// mostCorrections bounds how often a target is corrected: a stray character,
// then an address, then the security.
const mostCorrections = 3

// mostAddresses bounds how many addresses of one name are tried.
const mostAddresses = 8

// tryName weighs a name and then each address it gives, in the client's own
// order.
func (v *view) tryName(w *wants, target fact.Target, depth int) []*try {
	if stray := v.strayTry(w, target, depth); stray != nil {
		return []*try{stray}
	}
	l := v.lookUp(w, target.Name)
	if len(l.addrs) == 0 {
		if tries := v.tryRecords(w, l, target, depth); len(tries) > 0 {
			return tries
		}
		return []*try{v.tryNoAddress(w, l, target, depth)}
	}
	var tries []*try
	for _, addr := range l.addrs[:min(len(l.addrs), mostAddresses)] {
		t := target
		t.Addr = addr
		tries = append(tries, v.tryAddress(w, l, t, depth))
	}
	return tries
}

// tryNoAddress weighs a name that gives nothing to try.
func (v *view) tryNoAddress(w *wants, l *lookup, target fact.Target, depth int) *try {
	t := &try{target: target, lookup: l, symptom: NotTried}
	if l.settled {
		t.symptom = NoAddress
	}
	t.verdict = combine(t.symptom, v.nameReadings(w, t))
	v.noRecord(t)
	v.correct(w, t, depth)
	return t
}

// rungReaders turn facts into readings, a function per rung.
var rungReaders = []func(*view, *wants, *try) []Reading{
	(*view).settingsReadings,
	(*view).cardReadings,
	(*view).nameReadings,
	(*view).recordReadings,
	(*view).serviceReadings,
	(*view).portReadings,
	(*view).ruleReadings,
	(*view).wayInReadings,
	(*view).filterReadings,
	(*view).sheetReadings,
	(*view).accessReadings,
	(*view).certReadings,
	(*view).certFileReadings,
	(*view).policyReadings,
	(*view).loginReadings,
	(*view).answerReadings,
	(*view).strainReadings,
	(*view).mapperReadings,
}

// First is the looks that weighing wants of every server of an endpoint,
// whatever comes of them.
func First(e fact.Endpoint) []fact.Order {
	at := fact.Target{Port: e.Port, Scheme: e.Scheme}
	return []fact.Order{{Look: fact.LookAddresses}, {Look: fact.LookListeners, Target: at}, {Look: fact.LookService, Target: at}, {Look: fact.LookKernel}}
}

// tryAddress weighs one address of the endpoint.
func (v *view) tryAddress(w *wants, l *lookup, target fact.Target, depth int) *try {
	w.add(Want{Look: fact.LookSession, At: fact.Client, Target: target, Gate: Answer},
		Want{Look: fact.LookAddresses, At: fact.Server, Gate: Host})
	t := &try{target: target, lookup: l, climb: v.climbs[seat{v.client, target}], server: v.serverOf(target.Addr)}
	t.symptom = t.climb.symptom(v.own())
	if t.server != "" {
		at := fact.Target{Port: target.Port, Scheme: target.Scheme}
		w.add(Want{Look: fact.LookListeners, At: fact.Server, On: t.server, Target: at, Gate: Listener})
		w.add(Want{Look: fact.LookKernel, At: fact.Server, On: t.server, Gate: Room})
		if t.symptom == SilentTCP {
			w.add(Want{Look: fact.LookKernel, At: fact.Server, On: t.server, Target: fact.Target{Again: 1}, Gate: Room})
		}
		if t.symptom == ServerFirstSilent || t.symptom == ClientFirstSilent || t.symptom == SilentUDP {
			at.Again = 1
			w.add(Want{Look: fact.LookListeners, At: fact.Server, On: t.server, Target: at, Gate: Room})
		}
	}
	t.sessions = t.climb
	if !t.climb.past(Listener) {
		v.ownSide(w, t)
	}
	var readings []Reading
	for _, read := range rungReaders {
		readings = append(readings, read(v, w, t)...)
	}
	for i := range readings {
		if r := &readings[i]; !r.open() {
			r.Short = append(r.Short, v.age(t, r.Vantage)...)
		}
	}
	t.verdict = combine(t.symptom, readings)
	if t.climb.handshake != nil && v.ask.Endpoint.Verify && t.verdict.opened[Session] == nil {
		// Our handshake checked nothing: alone it does not show that the
		// client's would succeed.
		t.verdict.open &^= gates(Session)
	}
	for _, j := range t.verdict.causes {
		if !j.unread {
			continue
		}
		j.Because, j.Vantage, j.Values = t.climb.ids(), v.client, v.place(t, values{"server": v.answering(t)})
		if text, id := v.diesAfter(t); text != "" && j.Gate == Way {
			j.Summary += text
			j.Because = append(j.Because, id)
			if j.certainty == trail.Likely && v.bothEndsOpen(t) {
				j.certainty, j.Short = trail.Proven, nil
			}
		}
		if t.climb.hasty() {
			j.certainty, j.blocking = trail.Possible, false
		}
	}
	v.hintSender(t)
	v.correct(w, t, depth)
	return t
}

// hintSender puts first among what may have refused a connection what the hop
// limits of its reset hint at. It proves nothing.
func (v *view) hintSender(t *try) {
	other, text, id := v.sentBy(t)
	if t.symptom != RefusedByReset || text == "" {
		return
	}
	hinted := Listener
	if other {
		hinted = Way
	}
	list := t.verdict.causes
	first := slices.IndexFunc(list, func(j *judged) bool { return j.unread })
	at := slices.IndexFunc(list, func(j *judged) bool { return j.unread && j.Gate == hinted })
	if at < 0 {
		return
	}
	j := list[at]
	j.Summary += text
	j.Because = append(j.Because, id)
	t.verdict.causes = slices.Insert(slices.Delete(list, at, at+1), first, j)
}

// patience is how long an answer must have been waited for, in milliseconds,
// before its absence says anything: some services pause for five seconds.
const patience = 5000

// hasty reports whether a climb was cut off while it waited for an answer,
// before the answer could be called late.
func (c climb) hasty() bool {
	switch {
	case c.reply != nil:
		return c.reply.Reply.Ending == fact.Stalled && c.reply.Reply.TookMS < patience
	case c.handshake != nil:
		return c.handshake.Handshake.Ending == fact.Stalled && c.handshake.Handshake.TookMS < patience
	case c.greeting != nil:
		return c.greeting.Greeting.Ending == fact.Stalled && c.greeting.Greeting.TookMS < patience
	}
	return false
}

// past reports whether the climb got beyond a gate by its own evidence.
func (c climb) past(g Gate) bool {
	return c.connect != nil && c.connect.Connect.Outcome == fact.Connected && symptoms[c.symptom(nil)].open.has(g)
}

// ownSide looks past a client that gets nowhere: the server tries itself, on
// the address tried or, failing that, on one that its service has.
func (v *view) ownSide(w *wants, t *try) {
	if t.server == "" || t.symptom == NotTried {
		return
	}
	addr, ok := v.ownAddress(t)
	if !ok {
		return
	}
	own := t.target
	own.Addr = addr
	if addr == t.target.Addr && v.onSame(t) {
		return // the client is the server: its try was this one
	}
	w.add(Want{Look: fact.LookSession, At: fact.Server, On: t.server, Target: own, Gate: Session})
	if c, ok := v.climbs[seat{t.server, own}]; ok {
		t.sessions, t.ownTry = c, true
	}
}

// correct follows the first reading that says what the client should have
// used, and weighs every later gate for that instead.
func (v *view) correct(w *wants, t *try, depth int) {
	if depth >= mostCorrections {
		return
	}
	for _, j := range t.verdict.causes {
		if j.Instead == nil || *j.Instead == t.target || j.Harmless {
			continue
		}
		next := v.tryCorrected(w, t, *j.Instead, depth+1)
		t.verdict.causes = slices.DeleteFunc(t.verdict.causes, func(c *judged) bool {
			return c != j && c.Gate > j.Gate && !c.Harmless || c != j && c.certainty == trail.Possible
		})
		t.instead = next
		return
	}
}

func (v *view) tryCorrected(w *wants, t *try, target fact.Target, depth int) *try {
	if target.Addr.IsValid() {
		return v.tryAddress(w, t.lookup, target, depth)
	}
	tries := v.tryName(w, target, depth)
	return slices.MaxFunc(tries, func(a, b *try) int {
		return a.last().symptom.progress() - b.last().symptom.progress()
	})
}

// id names a trail by what was asked: the same facts, the same id.
func id(ask fact.Ask) string {
	text, err := json.Marshal(ask)
	if err != nil {
		return ""
	}
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:6])
}
