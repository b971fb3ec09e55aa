package weigh

import (
	"fmt"
	"math"
	"time"

	"uakari/internal/fact"
)

// oldest is how old a record may be that proves something about now.
const oldest = 15 * time.Minute

// surely is how far two clocks may seem to differ without a meaning: an HTTP
// date has whole seconds, and the answer was under way.
const surely = 5 * time.Second

// age is the guard of the same time: what keeps a reading of a record from
// proving anything about now; nothing for a host that was looked at live.
func (v *view) age(t *try, vantage string) []string {
	at := v.vantage(vantage)
	if at.Means != fact.Record {
		return nil
	}
	now := v.ask.Began
	if client := v.vantage(v.client); client.Means == fact.Record {
		now = client.Ended
	}
	skew, known := v.skew(t)
	old := now.Add(skew).Sub(at.Ended)
	switch {
	case old < -surely:
		return []string{fmt.Sprintf("the record of %s was made %s in the future, by its clock", at.Host, span(-old))}
	case old > oldest:
		return []string{fmt.Sprintf("the record of %s is %s old", at.Host, span(old))}
	case !known:
		return []string{fmt.Sprintf("the record of %s is %s old if its clock is right, which was not compared with the client's", at.Host, span(max(0, old)))}
	}
	return nil
}

// skew is how far the server's clock is ahead of the client's, by the date in
// an answer of this run.
func (v *view) skew(t *try) (time.Duration, bool) {
	r := t.climb.reply
	if r == nil || r.Reply.Date.IsZero() {
		return 0, false
	}
	ahead := r.Reply.Date.Sub(r.At)
	if math.Abs(ahead.Seconds()) < surely.Seconds() {
		return 0, true
	}
	return ahead, true
}

// vantage finds a vantage by its id.
func (v *view) vantage(id string) fact.Vantage {
	for _, at := range v.set.Vantages {
		if at.ID == id {
			return at
		}
	}
	return fact.Vantage{}
}
