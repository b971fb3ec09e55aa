// Package trail holds the result of a trace, as other programs read it
// ("uakari.trail/1", docs/schema/trail.schema.json).
package trail

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"uakari/internal/fact"
)

// Format names the contract. Changes add fields and never change one.
const Format = "uakari.trail/1"

// Rung is one of the ordered checks.
type Rung string

const (
	Settings Rung = "settings"
	Service  Rung = "service"
	Ports    Rung = "ports"
	Rules    Rung = "rules"
	Names    Rung = "names"
	Certs    Rung = "certs"
	Login    Rung = "login"
	Answer   Rung = "answer"
)

// Ladder is every rung, in the order in which practitioners climb.
var Ladder = []Rung{Settings, Service, Ports, Rules, Names, Certs, Login, Answer}

// State is what was found on a rung.
type State string

const (
	Clear   State = "clear"   // looked, nothing in the way
	Fault   State = "fault"   // blocks the client
	Follows State = "follows" // broken only because of another rung's fault
	Doubt   State = "doubt"   // not blocking now, or not certain
	Unseen  State = "unseen"  // could not look
	Moot    State = "moot"    // does not apply to this endpoint
)

// Outcome is the judgement of the whole.
type Outcome string

const (
	OutcomeClear  Outcome = "clear"
	OutcomeFault  Outcome = "fault"
	OutcomeUnsure Outcome = "unsure"
)

// Certainty of a cause.
type Certainty string

// Guess reports whether it is no more than possible.
func (c Certainty) Guess() bool { return c == Possible }

const (
	Proven   Certainty = "proven" // the deciding thing itself was read
	Likely   Certainty = "likely"
	Possible Certainty = "possible"
)

// OnlyConnects is the summary of an answer that nobody could ask for: the
// endpoint does not say what is spoken there.
const OnlyConnects = "it connects; no question asked"

// NotAsked is the summary of a rung that nobody asked for.
const NotAsked = "not asked for"

// Reached says whether the client got its answer.
type Reached string

const (
	Yes     Reached = "yes"
	No      Reached = "no"
	Unknown Reached = "unknown"
)

// Trail is the whole result of one trace.
type Trail struct {
	Format     string     `json:"format"`
	ID         string     `json:"id"`
	Began      time.Time  `json:"began"`
	Ended      time.Time  `json:"ended"`
	Incomplete string     `json:"incomplete,omitempty"` // "deadline", "interrupted"
	CutOff     []string   `json:"cut_off,omitempty"`    // looks that did not end in their time
	Endpoint   Endpoint   `json:"endpoint"`
	Card       string     `json:"card,omitempty"`
	Outcome    Outcome    `json:"outcome"`
	Reached    Reached    `json:"reached"`
	Symptom    string     `json:"symptom,omitempty"` // how the client's own try ended: "refused", "no answer"
	Answers    bool       `json:"answers,omitempty"` // the client's own try got all that it asked for
	Account    string     `json:"account,omitempty"` // the account that was asked for
	Accepted   bool       `json:"accepted,omitempty"`
	Untried    []string   `json:"untried,omitempty"` // what was asked for and not tried: "the login"
	Signs      []Sign     `json:"signs,omitempty"`   // of the card, one each
	Vantages   []Vantage  `json:"vantages"`
	Rungs      []Finding  `json:"rungs"`
	Causes     []Cause    `json:"causes"`
	Tell       *Tell      `json:"tell_apart,omitempty"`
	Since      *Since     `json:"since,omitempty"` // what changed since it worked
	Says       *Says      `json:"says,omitempty"`  // the client's own message, beside this try
	Links      []Sighting `json:"links,omitempty"` // what was seen on the links, where a cause rests on it
	Evidence   []Evidence `json:"evidence"`
	Behind     []Behind   `json:"behind"`
	Needs      []CertNeed `json:"needs,omitempty"`   // of a pair: the certificates that each side needs
	Command    string     `json:"command,omitempty"` // to trace the same again
	// Foreseen is what the fixes of several causes come to, by a rehearsal on the facts.
	Foreseen string `json:"foreseen,omitempty"`
	// Way is by which settings of the client's own library the try was made.
	Way *fact.ClientWay `json:"way,omitempty"`
	// Suspected is what was asked for by name: is it that?
	Suspected *Suspected `json:"suspected,omitempty"`
}

// How a message of the user's client goes with a try (Says.Fits).
const (
	FitsSame    = "same"
	FitsOther   = "other"
	FitsWorks   = "works"
	FitsUnknown = "unknown"
)

// Says is a message that the user's client shows, and how it goes with this try.
type Says struct {
	Text  string `json:"text"`            // as it was given, shortened
	Means string `json:"means,omitempty"` // "": the message is not known
	// Fits is "same" (a cause that was found gives it), "other" (what was found does not give
	// it), "works" (this try works) or "unknown".
	Fits  string `json:"fits"`
	Cause string `json:"cause,omitempty"` // the one that gives it
	// Gives is what gives such a message most often.
	Gives []string `json:"gives,omitempty"`
}

// Since is what changed since a run in which the endpoint was reached.
type Since struct {
	When    time.Time `json:"when"`
	From    string    `json:"from,omitempty"` // where that run was kept: a file, a case
	Changed []Changed `json:"changed"`
	// Beside is the other client that reaches the endpoint now, where it is that
	// one with which this is compared; "" for an earlier run of this client.
	Beside string `json:"beside,omitempty"`
}

// Changed is one thing that differs. What is new has no Was, what is gone no
// Now.
type Changed struct {
	Host string    `json:"host"`
	What string    `json:"what"` // "packet filters", "who holds the port", …
	Was  string    `json:"was,omitempty"`
	Now  string    `json:"now,omitempty"`
	At   time.Time `json:"at,omitzero"` // as the host itself dates it
	// Explains is the cause that it bears on.
	Explains string `json:"explains,omitempty"`
}

// Endpoint is what was to be reached.
type Endpoint struct {
	Input     string        `json:"input"`
	Scheme    string        `json:"scheme"`
	Host      string        `json:"host"`
	Port      uint16        `json:"port"`
	Transport string        `json:"transport"`
	Security  fact.Security `json:"security"`
}

// Vantage is a host that was looked from.
type Vantage struct {
	ID    string     `json:"id"`
	Role  fact.Role  `json:"role"`
	Host  string     `json:"host"`
	Means fact.Means `json:"means"`
}

// Finding is the judgement of one rung.
type Finding struct {
	Name    Rung     `json:"name"`
	State   State    `json:"state"`
	Summary string   `json:"summary"`
	Follows []string `json:"follows,omitempty"` // keys of the causes it follows from
	Needs   string   `json:"needs,omitempty"`   // what would show an unseen rung
}

// Cause is one fault of the catalogue, as found here.
type Cause struct {
	Key       string    `json:"key"`
	ID        string    `json:"id"`
	Rung      Rung      `json:"rung"`
	Certainty Certainty `json:"certainty"`
	Blocking  bool      `json:"blocking"`
	Vantage   string    `json:"vantage,omitempty"`
	MaskedBy  []string  `json:"masked_by"`
	Summary   string    `json:"summary"`
	Short     []string  `json:"short_of,omitempty"` // the guards that keep it from being proven
	Because   []string  `json:"because"`
	Remedies  []Remedy  `json:"remedies"`
}

// Remedy is a change that mends a cause.
type Remedy struct {
	Do      string `json:"do"`
	Command string `json:"command,omitempty"`
	Host    string `json:"host"`
	Owner   string `json:"owner"`
	Risk    string `json:"risk"`
	Undo    string `json:"undo"`
}

// Tell is the one look that would tell the possible causes apart.
type Tell struct {
	Look    string `json:"look"`
	Command string `json:"command,omitempty"`
}

// Sighting is one kind of packet of the client's tries, and what each host that was
// watched saw of it on its links, from the client to the server.
type Sighting struct {
	Packet string       `json:"packet"` // "SYN", "SYN ACK", "RST", …
	Seen   []SeenOnLink `json:"seen"`
}

// SeenOnLink is how one host saw a kind of packet; not at all, where Times is 0.
type SeenOnLink struct {
	Host  string   `json:"host"`
	Times int      `json:"times"`
	How   []string `json:"how,omitempty"` // "in eth0", "out s"
}

// Evidence is one fact, as shown.
type Evidence struct {
	ID      string    `json:"id"`
	Vantage string    `json:"vantage"`
	At      time.Time `json:"at"`
	Source  string    `json:"source"`
	Saw     string    `json:"saw"`
	Data    any       `json:"data"`
}

// Behind is the trail of the next hop or, for a pair, of the way back.
type Behind struct {
	From  string `json:"from"`
	Pair  bool   `json:"pair,omitempty"`
	Trail Trail  `json:"trail"`
	// Needs is, of a pair, the certificates that each side needs this way.
	Needs []CertNeed `json:"needs,omitempty"`
}

// Mendable is the causes whose remedies are told, in the order in which they are
// counted: what blocks, and then what is proven and does not.
func (t Trail) Mendable() []Cause {
	list := t.Blocking()
	for _, c := range t.Causes {
		if !c.Blocking && c.Certainty == Proven {
			list = append(list, c)
		}
	}
	return list
}

// Taken is the remedy that a number names as it is told: "2" is the first of the
// second cause, "2.3" its third.
func (t Trail) Taken(number string) (Remedy, error) {
	first, second, more := strings.Cut(number, ".")
	cause, err := strconv.Atoi(first)
	which, err2 := 1, error(nil)
	if more {
		which, err2 = strconv.Atoi(second)
	}
	if err != nil || err2 != nil || cause < 1 || which < 1 {
		return Remedy{}, fmt.Errorf(
			"%q is no number of a remedy; expected one like 2, or 2.3 for the third way to mend the second cause",
			number,
		)
	}
	list := t.Mendable()
	if cause > len(list) || which > len(list[cause-1].Remedies) {
		return Remedy{}, fmt.Errorf("the last trace tells of no remedy %s", number)
	}
	return list[cause-1].Remedies[which-1], nil
}

// Blocking is the causes that keep this client out, in order.
func (t Trail) Blocking() []Cause {
	var blocking []Cause
	for _, c := range t.Causes {
		if c.Blocking {
			blocking = append(blocking, c)
		}
	}
	return blocking
}

// Host is the name of a vantage's host; "" if there is no such vantage.
func (t Trail) Host(vantage string) string {
	for _, v := range t.Vantages {
		if v.ID == vantage {
			return v.Host
		}
	}
	return ""
}
