package weigh

import (
	"cmp"
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"fmt"
	"math"
	"slices"
	"time"

	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/trail"
	"uakari/internal/weigh/scene"
)

// Pulse is one trace of a watch, as far as a watch keeps it.
type Pulse struct {
	At      time.Time
	Outcome trail.Outcome
	Reached trail.Reached
	// Presented is that the account was put before the server; Accepted, that it was taken.
	Presented, Accepted bool
	Why                 string     // the first blocking cause and its summary; "" for none
	Rung                trail.Rung // of that cause
	// SessionMS is how long the secure session took, and Ends when the
	// certificate that was shown ends; zero where there was none.
	SessionMS float64
	Ends      time.Time
	Addr      string // the address that decided
	// Took is milliseconds of the connect, and of the answer once it was
	// asked for; zero where it did not get so far.
	ConnectMS, AnswerMS float64
	// Marks is what may change from one time to the next, by name: the process
	// that holds the port, the unit's start, the certificate, the route.
	Marks map[string]string
	Log   string // the newest line of the service's log
}

// Turn is a moment at which a watch saw the outcome change.
type Turn struct {
	Pulse
	Changes []string
}

// Tally is what a watch adds up. It stays small however long the watch goes
// on.
type Tally struct {
	Tries, Failed int
	Streak        int // of equal outcomes, up to now
	Worst         int // the longest row of failures
	First, Last   Pulse
	Turns         []Turn // the last of them
	History       []Try  // the last tries, the oldest first
	ByAddr        map[string]*AddrTally
}

// Try is one of the last tries of a watch.
type Try struct {
	At      time.Time
	Works   bool
	MS      float64 // connect and answer together; 0 where it did not get so far
	Why     string
	Changes []string // since the try before
}

// mostTurns and mostAddrs bound what a tally keeps.
const (
	mostTurns   = 50
	mostHistory = 1000
	mostAddrs   = 32
)

// AddrTally is the tries of one address, with how long they took in buckets
// that are a twentieth apart.
type AddrTally struct {
	Tries, Failed int
	MostMS        float64
	Last          []bool // whether each of the last tries worked, the oldest first
	buckets       map[int]int
}

// mostLast bounds how many of the last tries of an address are kept one by one.
const mostLast = 30

const bucketWidth = 1.05

// PulseOf takes what a watch keeps out of one trace.
func PulseOf(set fact.Set, t trail.Trail) Pulse {
	p := Pulse{At: set.Ask.Began, Outcome: t.Outcome, Reached: t.Reached, Marks: map[string]string{},
		Presented: set.Presented(), Accepted: t.Accepted}
	if blocking := t.Blocking(); len(blocking) > 0 {
		p.Why, p.Rung = fmt.Sprintf(
			"%s (%s, %s)",
			blocking[0].Summary,
			blocking[0].ID,
			blocking[0].Certainty,
		), blocking[0].Rung
	}
	client := scene.New(set).Client
	port := set.Ask.Endpoint.Port
	for i := range set.Facts {
		f := &set.Facts[i]
		switch {
		case f.Connect != nil && f.Vantage == client && (p.Addr == "" || t.Outcome == trail.OutcomeClear &&
			f.Connect.Outcome == fact.Connected):
			p.Addr, p.ConnectMS = f.Order.Target.Addr.String(), f.Connect.TookMS
		case f.Reply != nil && f.Vantage == client && f.Reply.Ending == fact.Done:
			p.AnswerMS = max(0, f.Reply.FirstMS-f.Reply.SentMS)
		case f.Handshake != nil && f.Vantage == client && len(f.Handshake.Chain) > 0:
			p.SessionMS = f.Handshake.TookMS
			if leaf, err := x509.ParseCertificate(f.Handshake.Chain[0]); err == nil {
				p.Ends = leaf.NotAfter
			}
			sum := sha256.Sum256(f.Handshake.Chain[0])
			p.Marks["certificate"] = hex.EncodeToString(sum[:6])
		case f.Route != nil && f.Vantage == client && f.Route.Outcome == "found":
			p.Marks["route"] = f.Saw
		case f.Listeners != nil && f.Order.Target.Again == 0:
			for _, l := range f.Listeners.On(set.Ask.Endpoint.Transport, port) {
				p.Marks["holder of the port"] = fmt.Sprintf("%s, pid %d", cmp.Or(l.Program, "unknown"), l.PID)
				if l.Full() {
					p.Marks["queue"] = "full"
				}
			}
		case f.Service != nil && f.Order.Target.Again == 0:
			for _, prog := range f.Service.Programs {
				if prog.Why == "scheme" {
					continue
				}
				if u := scene.MainUnit(&prog); u != nil {
					p.Marks["unit"] = fmt.Sprintf(
						"%s %s since %s",
						u.Name,
						u.Active,
						u.Since.UTC().Format(time.TimeOnly),
					)
					if n := len(u.Log); n > 0 {
						p.Log = u.Log[n-1].Text
					}
				}
				for _, file := range prog.Logs {
					p.Marks["log file"] = file.Path // several of one day mean restarts
					if n := len(file.Lines); n > 0 && p.Log == "" {
						p.Log = file.Lines[n-1]
					}
				}
			}
		}
	}
	if p.Addr != "" {
		p.Marks["address"] = p.Addr
	}
	return p
}

// Changed is what differs between two pulses, of what both saw.
func (p Pulse) Changed(from Pulse) []string {
	var list []string
	for name, now := range p.Marks {
		if was, seen := from.Marks[name]; seen && was != now {
			list = append(list, fmt.Sprintf("%s: %s, was %s", name, now, was))
		}
	}
	slices.Sort(list)
	if p.Outcome != trail.OutcomeClear && p.Log != "" && p.Log != from.Log {
		list = append(list, "its log: "+foreign.Shortened(p.Log))
	}
	return list
}

// Add adds a pulse, and says whether the outcome has changed.
func (t *Tally) Add(p Pulse) (turned bool) {
	good := p.Outcome == trail.OutcomeClear
	try := Try{At: p.At, Works: good, MS: p.ConnectMS + p.AnswerMS, Why: p.Why}
	if t.Tries > 0 {
		try.Changes = p.Changed(t.Last)
	}
	t.History = append(t.History, try)
	t.History = t.History[max(0, len(t.History)-mostHistory):]
	turned = t.Tries > 0 && good != (t.Last.Outcome == trail.OutcomeClear)
	if t.Tries == 0 {
		t.First, t.ByAddr = p, map[string]*AddrTally{}
	}
	if turned || t.Tries == 0 && !good {
		t.Turns = append(t.Turns, Turn{p, p.Changed(t.Last)})
		t.Turns = t.Turns[max(0, len(t.Turns)-mostTurns):]
	}
	if turned {
		t.Streak = 0
	}
	t.Tries++
	t.Streak++
	if !good {
		t.Failed++
		t.Worst = max(t.Worst, t.Streak)
	}
	if a := t.ByAddr[p.Addr]; p.Addr != "" && (a != nil || len(t.ByAddr) < mostAddrs) {
		if a == nil {
			a = &AddrTally{buckets: map[int]int{}}
			t.ByAddr[p.Addr] = a
		}
		a.add(p.ConnectMS+p.AnswerMS, good)
	}
	t.Last = p
	return turned
}

func (a *AddrTally) add(ms float64, good bool) {
	a.Tries++
	a.Last = append(a.Last, good)
	a.Last = a.Last[max(0, len(a.Last)-mostLast):]
	if !good {
		a.Failed++
		return
	}
	a.MostMS = max(a.MostMS, ms)
	a.buckets[int(math.Round(math.Log(max(ms, 0.01))/math.Log(bucketWidth)))]++
}

// Within is the time within which a share of the good tries came, in
// milliseconds; 0 if there was none.
func (a *AddrTally) Within(share float64) float64 {
	need := int(math.Ceil(share * float64(a.Tries-a.Failed)))
	var keys []int
	for k := range a.buckets {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	for _, k := range keys {
		if need -= a.buckets[k]; need <= 0 {
			return min(a.MostMS, math.Pow(bucketWidth, float64(k)))
		}
	}
	return 0
}
