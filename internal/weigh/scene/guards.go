package scene

import (
	"fmt"
	"math"
	"net/netip"
	"slices"
	"time"

	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/weigh/gate"
)

// oldest is how old a record may be that proves something about now.
const oldest = 15 * time.Minute

// clockSlack is how far two clocks may seem to differ without a meaning: an HTTP
// date has whole seconds, and the answer was under way.
const clockSlack = 5 * time.Second

// Guards are those that are applied to every reading alike, by what it rests
// on.
func (v *Scene) Guards(t *Try, r gate.Reading) []gate.Lack {
	var lacks []gate.Lack
	for _, guard := range []func(*Try, gate.Reading) (gate.Lack, bool){v.sameTime, v.sameSource, v.sameProcess,
		v.sameRun} {
		if lack, ok := guard(t, r); ok {
			lacks = append(lacks, lack)
		}
	}
	return lacks
}

// sameSource is the guard of what a server sees of the client: its own address
// unless something on the way may translate it, and nothing showed that it did
// not.
func (v *Scene) sameSource(t *Try, r gate.Reading) (gate.Lack, bool) {
	if !r.Rests.Source.IsValid() || v.OnSame(t) {
		return gate.Lack{}, false
	}
	if _, direct, _ := v.Source(t); direct || v.SeenFrom(t, r.Rests.Source) {
		return gate.Lack{}, false
	}
	return gate.Lack{
		Guard: gate.SameSource,
		Why:   "a translation on the way may show the server another address than " + r.Rests.Source.String(),
	}, true
}

// sameProcess is the guard of settings: the process that serves must have read
// them since they changed.
func (v *Scene) sameProcess(t *Try, r gate.Reading) (gate.Lack, bool) {
	if r.Rests.Changed.IsZero() {
		return gate.Lack{}, false
	}
	why := v.ReadBy(t, r.Rests.Changed)
	return gate.Lack{Guard: gate.SameProcess, Why: why}, why != ""
}

// restMatters is the gates whose readings rest on the process that ran while
// the client tried.
var restMatters = []gate.Gate{gate.Listener, gate.Room, gate.Door}

// sameRun is the guard that the service is the one that was there when the
// client tried: neither it nor its unit was started or stopped between the
// first look and the last.
func (v *Scene) sameRun(t *Try, r gate.Reading) (gate.Lack, bool) {
	if t.Server == "" || r.Vantage != t.Server || r.Rests.Changing || !slices.Contains(restMatters, r.Gate) {
		return gate.Lack{}, false
	}
	var first *fact.Program
	for _, f := range v.Facts(t.Server, fact.LookService) {
		if f.Service == nil {
			continue
		}
		p, _ := v.Chosen(f.Service.Programs)
		switch {
		case p == nil:
		case first == nil:
			first = p
		case p.Name == first.Name && !began(p).Equal(began(first)):
			return gate.Lack{
				Guard: gate.SameProcess,
				Why:   p.Name + " was started or stopped while it was looked at",
			}, true
		}
	}
	return gate.Lack{}, false
}

// began is when the oldest process of a program was started; zero: none runs.
func began(p *fact.Program) time.Time {
	var since time.Time
	for _, proc := range p.Here() {
		if since.IsZero() || proc.Since.Before(since) {
			since = proc.Since
		}
	}
	return since.Truncate(time.Second) // it is worked out from ticks since boot
}

// sameTime is what keeps a reading of records from saying anything about now; nothing where
// every host that it rests on was looked at live.
func (v *Scene) sameTime(t *Try, r gate.Reading) (gate.Lack, bool) {
	if lack, ok := v.aged(t, v.Vantage(r.Vantage)); ok {
		return lack, true
	}
	for _, id := range v.vantagesOf(r.Because) {
		if lack, ok := v.aged(t, v.Vantage(id)); ok && id != r.Vantage && lack.Guard == gate.SameTime {
			return lack, true
		}
	}
	return gate.Lack{}, false
}

// vantagesOf is the hosts that facts were seen from.
func (v *Scene) vantagesOf(ids []string) (list []string) {
	for i := range v.Set.Facts {
		f := &v.Set.Facts[i]
		if slices.Contains(ids, f.ID) && !slices.Contains(list, f.Vantage) {
			list = append(list, f.Vantage)
		}
	}
	return list
}

// aged is what keeps a record from saying anything about now.
func (v *Scene) aged(t *Try, at fact.Vantage) (gate.Lack, bool) {
	if at.Means != fact.Record {
		return gate.Lack{}, false
	}
	now := v.Ask.Began
	if client := v.Vantage(v.Client); client.Means == fact.Record {
		now = client.Ended
	}
	skew, known := v.skew(t)
	old := now.Add(skew).Sub(at.Ended)
	switch {
	case old < -clockSlack:
		return gate.Lack{
			Guard: gate.SameTime,
			Why: fmt.Sprintf("the record of %s was made %s in the future, by its clock",
				at.Host, foreign.Span(-old)),
		}, true
	case old > oldest:
		return gate.Lack{
			Guard: gate.SameTime,
			Why:   fmt.Sprintf("the record of %s is %s old", at.Host, foreign.Span(old)),
		}, true
	case !known:
		return gate.Lack{
			Guard: gate.SameClock,
			Why: fmt.Sprintf(
				"the record of %s is %s old if its clock is right, which was not compared with the client's",
				at.Host,
				foreign.Span(max(0, old)),
			),
		}, true
	}
	return gate.Lack{}, false
}

// skew is how far the server's clock is ahead of the client's, by the date in
// an answer of this run.
func (v *Scene) skew(t *Try) (time.Duration, bool) {
	r := t.Climb.Reply
	if r == nil || r.Reply.Date.IsZero() {
		return 0, false
	}
	ahead := r.Reply.Date.Sub(r.At)
	if math.Abs(ahead.Seconds()) < clockSlack.Seconds() {
		return 0, true
	}
	return ahead, true
}

// SystemOf is the system that a host runs, by the name that the trail calls it;
// "" if it was not told.
func (v *Scene) SystemOf(host string) string {
	for _, at := range v.Set.Vantages {
		if v.Host(at.ID) == host {
			return at.System
		}
	}
	return ""
}

// Vantage finds a vantage by its id.
func (v *Scene) Vantage(id string) fact.Vantage {
	for _, at := range v.Set.Vantages {
		if at.ID == id {
			return at
		}
	}
	return fact.Vantage{}
}

// LocalAddress is the client's own end of its connection.
func (v *Scene) LocalAddress(t *Try) netip.Addr {
	if c := t.Climb.Connect; c != nil && c.Connect.Local.IsValid() {
		return c.Connect.Local.Addr().Unmap().WithZone("")
	}
	source, _, _ := v.Source(t)
	return source
}

// ReadBy is the guard that the running service has read a file: a file that
// changed after the service last started or was told to read it again proves
// nothing; "" if it was read.
func (v *Scene) ReadBy(t *Try, changed time.Time) string {
	p, _ := v.Chosen(v.ProgramsAt(t.Server))
	if p == nil || len(p.Processes) == 0 {
		return "when the service read its settings was not seen"
	}
	var since time.Time
	for _, proc := range p.Processes {
		if since.IsZero() || proc.Since.Before(since) {
			since = proc.Since
		}
	}
	if u := MainUnit(p); u != nil && u.Since.After(since) {
		since = u.Since
	}
	if since.IsZero() || changed.After(since) {
		return "the file changed after the service started; whether it was read since is not known"
	}
	return ""
}
