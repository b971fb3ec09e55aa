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
	"uakari/internal/weigh/answer"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/certs"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/login"
	"uakari/internal/weigh/names"
	"uakari/internal/weigh/ports"
	"uakari/internal/weigh/rules"
	"uakari/internal/weigh/scene"
	"uakari/internal/weigh/service"
	"uakari/internal/weigh/settings"
)

// Next is an endpoint that is worth a trace of its own, from a vantage of this
// one: a backend that it needs and does not get, or its partner in a pair.
type Next struct {
	From     string // the vantage
	Endpoint string // as it would be typed
	Pair     bool
	Trust    string // the store by which it is judged; "": the host's own
	Lenient  bool   // whoever goes there does not check the certificate
	AnyName  bool   // or not its name
}

// mostHops bounds how many hops behind one endpoint are traced.
const mostHops = 3

// mostCorrections bounds how often a target is corrected: a stray character,
// then an address, then the security.
const mostCorrections = 3

// mostAddresses bounds how many addresses of one name are tried.
const mostAddresses = 8

// rungReaders turn facts into readings, a function per rung.
var rungReaders = []func(*scene.Scene, *scene.Wants, *scene.Try) []gate.Reading{
	settings.Readings,
	settings.CardReadings,
	names.Readings,
	names.RecordReadings,
	service.Readings,
	ports.Readings,
	rules.Readings,
	rules.WayInReadings,
	rules.FilterReadings,
	rules.PacketReadings,
	rules.NeighbourReadings,
	rules.SheetReadings,
	rules.AccessReadings,
	certs.Readings,
	certs.FileReadings,
	login.PolicyReadings,
	login.Readings,
	answer.Readings,
	answer.StrainReadings,
	mapperReadings,
}

// Weigh judges a set and names the looks that would tell it more. Looks that
// were already taken may be among them.
func Weigh(set fact.Set) (trail.Trail, []scene.Want) {
	v := scene.New(set)
	w := &scene.Wants{}
	tried := walk(v, w)
	t := trailOf(v, tried)
	for _, hop := range set.Behind {
		behind, _ := Weigh(hop.Set)
		b := trail.Behind{From: hop.From, Pair: hop.Pair, Trail: behind}
		if hop.Pair { // each direction has a client and a server of its own
			b.Needs = certs.NeedsOf(hop.Set)
			t.Needs = certs.NeedsOf(set)
		}
		t.Behind = append(t.Behind, b)
	}
	return t, w.List
}

// Hops is what is to be traced from the server: the card's pairs and, where a
// gateway answers for a backend that fails, the backends behind it.
func Hops(set fact.Set) []Next {
	v := scene.New(set)
	var list []Next
	add := func(next Next) {
		if len(list) < mostHops && !slices.Contains(list, next) {
			list = append(list, next)
		}
	}
	for _, t := range walk(v, &scene.Wants{}) {
		last := t.Last()
		if last.Server == "" {
			continue
		}
		if v.Ask.Card != nil {
			for _, pair := range v.Ask.Card.Pairs {
				add(Next{From: last.Server, Endpoint: pair.Endpoint, Pair: true, Trust: pair.Trust})
			}
		}
		if !slices.ContainsFunc(
			last.Verdict.Causes,
			func(j *gate.Judged) bool { return j.Values["hop"] != "" && j.Blocking },
		) {
			continue
		}
		for _, f := range v.Facts(last.Server, fact.LookUpstreams) {
			for _, up := range answer.Backends(v, f) {
				if text, _ := v.Backend(&scene.Wants{}, last, up); text != "" {
					add(Next{
						From: last.Server, Endpoint: up.Scheme + "://" + endpoint.HostPort(up.Host, up.Port) + "/",
						Trust: up.Trust, Lenient: up.Line > 0 && !up.Verified,
						// That its certificate is for another name is told of the gateway.
						AnyName: up.AnyName || up.Name != "" && up.Name != up.Host,
					})
				}
			}
		}
	}
	return list
}

// walk weighs the endpoint's name and every address it gives.
func walk(v *scene.Scene, w *scene.Wants) []*scene.Try {
	e := v.Ask.Endpoint
	w.Add(scene.Want{Look: fact.LookAddresses, At: fact.Client})
	return tryName(
		v,
		w,
		fact.Target{Name: e.Host, Port: e.Port, Scheme: e.Scheme, Security: e.Security, Path: e.Path},
		0,
	)
}

// tryName weighs a name and then each address it gives, in the client's own
// order.
func tryName(v *scene.Scene, w *scene.Wants, target fact.Target, depth int) []*scene.Try {
	if stray := strayTry(v, w, target, depth); stray != nil {
		return []*scene.Try{stray}
	}
	l := v.LookUp(w, target.Name)
	if len(l.Addrs) == 0 {
		if tries := tryRecords(v, w, l, target, depth); len(tries) > 0 {
			return tries
		}
		return []*scene.Try{tryNoAddress(v, w, l, target, depth)}
	}
	var tries []*scene.Try
	for _, addr := range l.Addrs[:min(len(l.Addrs), mostAddresses)] {
		t := target
		t.Addr = addr
		tries = append(tries, tryAddress(v, w, l, t, depth))
	}
	return tries
}

// tryNoAddress weighs a name that gives nothing to try.
func tryNoAddress(v *scene.Scene, w *scene.Wants, l *scene.Lookup, target fact.Target, depth int) *scene.Try {
	t := &scene.Try{Target: target, Lookup: l, Symptom: gate.NotTried}
	if l.Settled {
		t.Symptom = gate.NoAddress
	}
	t.Verdict = gate.Combine(
		v.Ending(t),
		names.Readings(v, w, t),
		func(r gate.Reading) []gate.Lack { return v.Guards(t, r) },
	)
	noRecord(v, t)
	correct(v, w, t, depth)
	return t
}

// First is the looks that weighing wants of every server of an endpoint,
// whatever comes of them.
func First(e fact.Endpoint) []fact.Order {
	at := fact.Target{Port: e.Port, Scheme: e.Scheme}
	return []fact.Order{
		{Look: fact.LookAddresses},
		{Look: fact.LookListeners, Target: at},
		{Look: fact.LookService, Target: at},
		{Look: fact.LookKernel},
	}
}

// tryAddress weighs one address of the endpoint.
func tryAddress(v *scene.Scene, w *scene.Wants, l *scene.Lookup, target fact.Target, depth int) *scene.Try {
	w.Add(scene.Want{Look: fact.LookSession, At: fact.Client, Target: target, Gate: gate.Answer},
		scene.Want{Look: fact.LookAddresses, At: fact.Server, Gate: gate.Host})
	t := &scene.Try{Target: target, Lookup: l, Server: v.ServerOf(target.Addr)}
	t.Climb, _ = v.ClimbAt(v.Client, target)
	t.Symptom = t.Climb.Symptom(v.Own())
	if rules.AnsweredBetween(v, t) {
		t.Symptom = gate.AnsweredBetween
	}
	if t.Server != "" {
		at := fact.Target{Port: target.Port, Scheme: target.Scheme}
		w.Add(scene.Want{Look: fact.LookListeners, At: fact.Server, On: t.Server, Target: at, Gate: gate.Listener})
		w.Add(scene.Want{Look: fact.LookKernel, At: fact.Server, On: t.Server, Gate: gate.Room})
		if t.Symptom == gate.SilentTCP || t.Symptom == gate.AnsweredBetween {
			w.Add(
				scene.Want{
					Look:   fact.LookKernel,
					At:     fact.Server,
					On:     t.Server,
					Target: fact.Target{Again: 1},
					Gate:   gate.Room,
				},
			)
		}
		if t.Symptom == gate.ServerFirstSilent || t.Symptom == gate.ClientFirstSilent || t.Symptom == gate.SilentUDP ||
			t.Symptom == gate.Connects && v.Ask.Endpoint.Transport == "tcp" {
			at.Again = 1
			w.Add(scene.Want{Look: fact.LookListeners, At: fact.Server, On: t.Server, Target: at, Gate: gate.Room})
			if v.Unread(t).Waits {
				at.Again = 2
				w.Add(scene.Want{Look: fact.LookListeners, At: fact.Server, On: t.Server, Target: at, Gate: gate.Room})
			}
		}
	}
	t.Sessions = t.Climb
	if !t.Climb.Past(gate.Listener) {
		ownSide(v, w, t)
	}
	var readings []gate.Reading
	for _, read := range rungReaders {
		readings = append(readings, read(v, w, t)...)
	}
	t.Verdict = gate.Combine(v.Ending(t), readings, func(r gate.Reading) []gate.Lack { return v.Guards(t, r) })
	for _, j := range t.Verdict.Causes {
		if !j.Unread {
			continue
		}
		j.Because, j.Vantage, j.Values = t.Climb.IDs(), v.Client,
			v.Place(t, catalogue.Values{"server": v.Answering(t)})
		if text, id := v.DiesAfter(t); text != "" && j.Gate == gate.Way {
			j.Summary += text
			j.Because = append(j.Because, id)
		}
	}
	hintSender(v, t)
	correct(v, w, t, depth)
	return t
}

// hintSender puts first among what may have refused a connection what the hop
// limits of its reset hint at. It proves nothing.
func hintSender(v *scene.Scene, t *scene.Try) {
	other, text, id := rules.SentBy(v, t)
	if t.Symptom != gate.RefusedByReset || text == "" {
		return
	}
	hinted := gate.Listener
	if other {
		hinted = gate.Way
	}
	list := t.Verdict.Causes
	first := slices.IndexFunc(list, func(j *gate.Judged) bool { return j.Unread })
	at := slices.IndexFunc(list, func(j *gate.Judged) bool { return j.Unread && j.Gate == hinted })
	if at < 0 {
		return
	}
	j := list[at]
	j.Summary += text
	j.Because = append(j.Because, id)
	t.Verdict.Causes = slices.Insert(slices.Delete(list, at, at+1), first, j)
}

// ownSide looks past a client that gets nowhere: the server tries itself, on
// the address tried or, failing that, on one that its service has.
func ownSide(v *scene.Scene, w *scene.Wants, t *scene.Try) {
	rehearsed := v.Set.Supposed != nil // no try was made after its fixes: the server's own is all there is
	if t.Server == "" || t.Symptom == gate.NotTried && !rehearsed {
		return
	}
	addr, ok := ports.OwnAddress(v, t)
	if !ok {
		return
	}
	own := t.Target
	own.Addr = addr
	if addr == t.Target.Addr && v.OnSame(t) && !rehearsed {
		return // the client is the server: its try was this one
	}
	w.Add(scene.Want{Look: fact.LookSession, At: fact.Server, On: t.Server, Target: own, Gate: gate.Session})
	if c, ok := v.ClimbAt(t.Server, own); ok {
		t.Sessions, t.OwnTry = c, true
	}
}

// correct follows the first reading that says what the client should have
// used, and weighs every later gate for that instead.
func correct(v *scene.Scene, w *scene.Wants, t *scene.Try, depth int) {
	if depth >= mostCorrections {
		return
	}
	for _, j := range t.Verdict.Causes {
		if j.Instead == nil || *j.Instead == t.Target || j.Harmless {
			continue
		}
		next := tryCorrected(v, w, t, *j.Instead, depth+1)
		t.Verdict.Causes = slices.DeleteFunc(t.Verdict.Causes, func(c *gate.Judged) bool {
			return c != j && c.Gate > j.Gate && !c.Harmless || c != j && c.Certainty.Guess()
		})
		t.Instead = next
		return
	}
}

func tryCorrected(v *scene.Scene, w *scene.Wants, t *scene.Try, target fact.Target, depth int) *scene.Try {
	if target.Addr.IsValid() {
		return tryAddress(v, w, t.Lookup, target, depth)
	}
	tries := tryName(v, w, target, depth)
	return slices.MaxFunc(tries, func(a, b *scene.Try) int {
		return a.Last().Symptom.Progress() - b.Last().Symptom.Progress()
	})
}

// id names a trail by what was asked and when, however it was typed: the same
// facts, the same id.
func id(ask fact.Ask) string {
	ask.Command = ""
	text, err := json.Marshal(ask)
	if err != nil {
		return ""
	}
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:6])
}
