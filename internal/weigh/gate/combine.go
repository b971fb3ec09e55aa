package gate

import (
	"cmp"
	"maps"
	"net/netip"
	"slices"
	"time"

	"uakari/internal/fact"
	"uakari/internal/trail"
	"uakari/internal/weigh/catalogue"
)

// Strength is how directly a reading shows that a gate is shut. It is said of every reading:
// one that does not say it is possible at most.
type Strength uint8

const (
	Unsaid   Strength = iota // a mistake of who made the reading
	Read                     // the deciding thing itself was read
	Logged                   // the program's own words about this try
	Coded                    // a code that means this and nothing else
	Told                     // by words or a code that may mean other things
	Inferred                 // from what else was seen
	Vague                    // that something is shut, and not what
	Hinted                   // no more than that it may be
)

// most is the certainty of a strength when every guard holds.
var most = map[Strength]trail.Certainty{
	Read: trail.Proven, Logged: trail.Proven, Coded: trail.Proven,
	Unsaid: trail.Possible, Told: trail.Likely, Inferred: trail.Likely, Vague: trail.Likely, Hinted: trail.Possible,
}

// rank orders readings that are as certain as each other: what a program says
// itself outranks what was read of it.
var rank = map[Strength]int{Logged: 0, Coded: 1, Read: 2, Told: 3, Inferred: 4, Hinted: 5, Vague: 6, Unsaid: 7}

// Mistaken is called with a reading that does not say its strength. Tests let it fail.
var Mistaken = func(Reading) {}

// Guard is a condition under which a reading may count as proof.
type Guard uint8

const (
	SameHost    Guard = iota // what was read is of the host that was tried
	SameTime                 // and of now
	SamePacket               // and of this packet's way
	SameSource               // and of the client as the server sees it
	SameAccount              // and of this account
	SameClock                // by a clock that is right
	SameProcess              // and of the process that serves
	AllRead                  // everything that may decide was read
	OneMeaning               // what was seen has no other meaning
	Seen                     // something was seen that shows it
)

// Lack is a guard that does not hold, and why.
type Lack struct {
	Guard Guard
	Why   string
}

// Rests is what a reading rests on, for the guards that are applied to all
// readings alike. The zero value of a field rests on nothing of the kind.
type Rests struct {
	// Source is the client's address as the server must see it.
	Source netip.Addr
	// Changing marks what is itself about a change while it was looked at.
	Changing bool
	// Changed is when the settings that were read changed last: the process
	// must have read them since.
	Changed time.Time
}

// Reach is what the client's own try can say against a reading.
type Reach uint8

const (
	Within    Reach = iota // the try speaks of it: it must fit how the try ended
	Unchecked              // the try was more lenient than the client is
	Elsewhere              // the client's own programs go by other settings than the try
	Further                // the try did not go, or did not ask, so far
)

// Reading is what one piece of evidence says of one gate. It does not change
// once it is made.
type Reading struct {
	Gate Gate
	// Cause is the catalogue's identifier of what shuts the gate; empty for
	// a gate that was read open.
	Cause string
	// Shows is the set of symptoms that this shut gate would give when it is
	// the first one met; nil: any that the gate may give.
	Shows []Symptom
	Reach Reach
	// Harmless marks something that does not keep the client out now.
	Harmless bool
	Strength Strength
	// Lacks is the guards that are this reading's own and do not hold.
	Lacks []Lack
	Rests Rests
	// Of names the one event that several readings give a reason for: the
	// strongest of them is the cause, and the others are its evidence.
	Of string
	// Which tells one fault from another of the same cause at the same
	// vantage; "" where there can be only one.
	Which string

	Because []string // evidence
	Vantage string
	Summary string
	Values  catalogue.Values // fills the catalogue's remedies
	// Instead is the target that the client should have used. Every later
	// gate is weighed for it.
	Instead *fact.Target
}

// Judged is a reading that became a cause, or a candidate that was left.
type Judged struct {
	Reading
	Certainty trail.Certainty
	Blocking  bool
	Unread    bool // a candidate: nobody read its gate
	MaskedBy  []*Judged
}

// Verdict is the judgement of one try.
type Verdict struct {
	Causes []*Judged
	Open   Gates             // read open, or certainly open by the symptom
	Drop   map[Gate]*Judged  // gates that are shut only as a consequence, and of what
	left   []Gate            // not read while the symptom is unexplained
	Opened map[Gate]*Reading // the reading that says so
}

// Ending is how a try ended, as far as the one rule needs it.
type Ending struct {
	Symptom Symptom
	// Lenient is true where the try made a session without checking what the
	// client checks: that it came up opens nothing.
	Lenient bool
	// Hasty is true where the try was cut off before an answer could be called
	// late: nothing follows from that none came.
	Hasty bool
	// SmallStalls is true where small packets were tried and stalled alike: it is not
	// the size of packets.
	SmallStalls bool
	// Died is true where the client's packets were seen to die on the way,
	// behind a router that still passed them.
	Died bool
}

// Certainty of a reading: that of its strength, and likely at best where a
// guard does not hold.
func (r Reading) Certainty() trail.Certainty {
	c := most[r.Strength]
	if len(r.Lacks) > 0 && c == trail.Proven {
		return trail.Likely
	}
	return c
}

func (r Reading) Open() bool { return r.Cause == "" }

// Combine is the one rule by which readings and a symptom become causes. It
// knows no protocol; see the table of symptoms for what a symptom means and
// the table of candidates for what a gate that nobody could read may hide.
// Guards says which of the guards that hold for all readings one lacks.
func Combine(end Ending, readings []Reading, guards func(Reading) []Lack) Verdict {
	sym, row := end.Symptom, Symptoms[end.Symptom]
	v := Verdict{Open: row.Open, Drop: map[Gate]*Judged{}, Opened: map[Gate]*Reading{}}
	var shut []*Judged
	var leans Gates // likely open: they count for what is left, and are not called open
	for _, r := range readings {
		if r.Strength == Unsaid {
			Mistaken(r)
		}
		r.Lacks = append(slices.Clone(r.Lacks), guards(r)...)
		if !r.Open() {
			if len(r.Because) == 0 {
				r.Lacks = append(r.Lacks, Lack{Guard: Seen, Why: "nothing that was seen shows it"})
			}
			shut = append(shut, &Judged{Reading: r, Certainty: r.Certainty()})
			continue
		}
		if !opens(r) {
			if most[r.Strength] == trail.Likely &&
				!slices.ContainsFunc(r.Lacks, func(l Lack) bool { return l.Guard != SameClock }) {
				leans |= Of(r.Gate)
			}
			continue
		}
		v.Open |= Of(r.Gate)
		if v.Opened[r.Gate] == nil {
			v.Opened[r.Gate] = &r
		}
	}
	if end.Lenient && v.Opened[Session] == nil {
		v.Open &^= Of(Session)
	}
	shut = strongest(shut)
	for _, j := range shut {
		if !j.Harmless {
			v.Open &^= Of(j.Gate) &^ row.Open
		}
	}
	slices.SortStableFunc(shut, func(a, b *Judged) int { return int(a.Gate) - int(b.Gate) })

	if sym == NotTried {
		// Nothing was seen of the client yet: a reading has nothing to
		// explain, unless it never has.
		shut = slices.DeleteFunc(shut, func(j *Judged) bool { return j.Reach == Within && !j.Harmless })
	}
	explained := firstExplaining(sym, shut)
	var only []Gate
	var before []*Judged                                 // what blocks at earlier gates, as far as we go
	if explained == nil && row.May != 0 && !sym.Good() { // what is good has nothing to explain
		v.left = (row.May &^ v.Open).List()
		// Where all but one are likely open, that one is likely the one.
		if last := (row.May &^ v.Open &^ leans).List(); len(last) == 1 && !end.Hasty {
			if hint := onlyHint(sym, shut, last[0]); hint != nil {
				hint.Certainty = trail.Likely
				explained, v.left = hint, nil
			} else {
				only = last
			}
		}
		list := candidates(end, v.left)
		if only != nil {
			list = append(
				candidates(Ending{Symptom: sym, SmallStalls: end.SmallStalls}, only),
				slices.DeleteFunc(list, func(j *Judged) bool { return j.Gate == only[0] })...)
		}
		for _, j := range list {
			if slices.ContainsFunc(
				shut,
				func(s *Judged) bool { return s.Cause == j.Cause && consistent(sym, s.Reading) },
			) {
				continue // something speaks for it
			}
			v.Causes = append(v.Causes, j)
			if j.Blocking {
				before = append(before, j)
			}
		}
	}
	for _, j := range shut {
		switch {
		case j.Harmless:
		case j.Reach != Within || consistent(sym, j.Reading):
			j.Blocking = j.Certainty != trail.Possible
		case row.Open.Has(j.Gate):
			contradict(j)
		case explained != nil && explained.Gate == WayBack && j.Gate > WayIn && j.Gate < WayBack:
			j.Blocking = j.Certainty != trail.Possible // the reply that would show it does not come back
		case explained != nil && explained.Gate < j.Gate, earlierUnread(v.left, j.Gate):
			j.Blocking = j.Certainty != trail.Possible
		default:
			contradict(j)
		}
		if w := winner(j, shut); w != nil {
			for range shut {
				if more := winner(w, shut); more != nil && more != j {
					w = more // what tells more than that is the cause of both
				}
			}
			w.Because = Union(w.Because, j.Because)
			v.Drop[j.Gate] = w
			continue
		}
		if j.Blocking {
			j.MaskedBy = masks(before, j.Gate)
			before = append(before, j)
		}
		v.Causes = append(v.Causes, j)
	}
	// Of what is only possible, what something speaks for is told first.
	slices.SortStableFunc(v.Causes, func(a, b *Judged) int {
		if a.Certainty != trail.Possible || b.Certainty != trail.Possible || a.Harmless || b.Harmless ||
			a.Unread == b.Unread {
			return 0
		}
		if b.Unread {
			return -1
		}
		return 1
	})
	return v
}

// Judge makes a cause of a reading of several tries together, which no single
// symptom speaks of.
func Judge(r Reading) *Judged { return &Judged{Reading: r, Certainty: r.Certainty()} }

// Saved is the causes at an address when another one gets the client its
// answer: they are doubts, and what was only possible there is nothing.
func Saved(causes []*Judged) []*Judged {
	var list []*Judged
	for _, j := range causes {
		if j.Blocking, j.Harmless = false, true; j.Certainty != trail.Possible {
			list = append(list, j)
		}
	}
	return list
}

// opens reports whether a reading opens its gate: what keeps one from shutting
// a gate for sure keeps it from opening one, but that a clock was not compared.
func opens(r Reading) bool {
	return most[r.Strength] == trail.Proven &&
		!slices.ContainsFunc(r.Lacks, func(l Lack) bool { return l.Guard != SameClock })
}

// strongest keeps of the readings that give a reason for one event the
// strongest. The others are evidence; of those that name the same cause as
// surely, what was read in the place that decides tells it best.
func strongest(shut []*Judged) []*Judged {
	best := map[string]*Judged{}
	for _, j := range shut {
		if b := best[j.Of]; j.Of != "" && (b == nil || before(j, b)) {
			best[j.Of] = j
		}
	}
	var list []*Judged
	for _, j := range shut {
		b := best[j.Of]
		if j.Of == "" || b == j {
			list = append(list, j)
			continue
		}
		b.Because = Union(b.Because, j.Because)
		if j.Cause == b.Cause {
			b.Values = Join(j.Values, b.Values)
			if j.Certainty == b.Certainty && j.Strength == Read {
				b.Summary, b.Values = j.Summary, Join(b.Values, j.Values)
			}
		}
	}
	return list
}

// before reports whether one reason is stronger than another.
func before(a, b *Judged) bool {
	certain := map[trail.Certainty]int{trail.Proven: 0, trail.Likely: 1, trail.Possible: 2}
	if a.Certainty == b.Certainty && toldBy(b.Cause, a.Cause) {
		return true
	}
	return cmp.Or(certain[a.Certainty]-certain[b.Certainty], rank[a.Strength]-rank[b.Strength]) < 0
}

// onlyHint is a reading that is no more than a hint, of the only gate that is
// left: then it is likely.
func onlyHint(sym Symptom, shut []*Judged, left Gate) *Judged {
	for _, j := range shut {
		if j.Strength == Hinted && !j.Harmless && left == j.Gate && consistent(sym, j.Reading) {
			return j
		}
	}
	return nil
}

// firstExplaining is the first shut gate that gives the symptom by itself.
func firstExplaining(sym Symptom, shut []*Judged) *Judged {
	for _, j := range shut {
		if !j.Harmless && j.Certainty != trail.Possible && consistent(sym, j.Reading) &&
			(j.Reach == Within || Symptoms[sym].May.Has(j.Gate)) {
			return j
		}
	}
	return nil
}

// consistent reports whether a shut gate may give the symptom.
func consistent(sym Symptom, r Reading) bool {
	if r.Shows != nil {
		return slices.Contains(r.Shows, sym) || like[sym] != NotTried && slices.Contains(r.Shows, like[sym])
	}
	return Symptoms[sym].May.Has(r.Gate)
}

// contradict turns a reading that the symptom disproves into a doubt: the
// reading is stale, or of another path or another host.
func contradict(j *Judged) {
	j.Certainty, j.Blocking, j.Harmless = trail.Possible, false, true
	j.Lacks = append(
		j.Lacks,
		Lack{
			Guard: SameTime,
			Why:   "the client's own try says otherwise: the reading may be old, or of another path or host",
		},
	)
}

// earlierUnread reports whether a gate before this one may be what is shut.
func earlierUnread(left []Gate, g Gate) bool {
	return len(left) > 0 && left[0] < g
}

// masks is what must be fixed before a gate can show.
func masks(before []*Judged, g Gate) []*Judged {
	var by []*Judged
	for _, b := range before {
		if b.Gate < g && !b.Harmless {
			by = append(by, b)
		}
	}
	return by
}

// toldBy reports whether one cause tells more than another about one fault, by
// the catalogue.
func toldBy(cause, more string) bool {
	entry, ok := catalogue.Explain(cause)
	return ok && slices.Contains(entry.ToldBy, more)
}

// winner is the cause that tells more about the fault that j names, if one
// was read as well.
func winner(j *Judged, shut []*Judged) *Judged {
	for _, other := range shut {
		if other != j && other.Harmless == j.Harmless && toldBy(j.Cause, other.Cause) {
			return other
		}
	}
	return nil
}

// candidates are the causes that gates nobody could read may hide: likely
// if one gate is left, possible if several are, most frequent first. What was
// seen to die on the way, with no other gate left, is proven to.
func candidates(end Ending, left []Gate) []*Judged {
	var list []*Judged
	for _, c := range candidateTable {
		if !slices.Contains(c.symptoms, end.Symptom) || !slices.Contains(left, c.gate) ||
			c.cause == fullSized && end.SmallStalls {
			continue
		}
		j := &Judged{
			Reading:   Reading{Gate: c.gate, Cause: c.cause, Strength: Read, Summary: c.summary},
			Certainty: trail.Possible,
			Unread:    true,
		}
		switch {
		case len(left) != 1 || end.Hasty:
		case c.gate == Way && end.Died: // it was seen, and no other gate is left
			j.Certainty, j.Blocking, j.Summary = trail.Proven, true, c.alone
		default:
			j.Certainty, j.Blocking = trail.Likely, true
			j.Summary = c.alone
			j.Lacks = []Lack{
				{Guard: AllRead, Why: "nobody read this gate; every other one that could give this symptom is open"},
			}
		}
		list = append(list, j)
	}
	if len(left) == 1 && len(list) > 1 {
		for _, j := range list {
			j.Certainty, j.Blocking = trail.Possible, false
		}
	}
	return list
}

func Union(a, b []string) []string {
	a = slices.Clone(a)
	for _, each := range b {
		if !slices.Contains(a, each) {
			a = append(a, each)
		}
	}
	return a
}

// Join is values, and others before them.
func Join(first, then catalogue.Values) catalogue.Values {
	all := maps.Clone(first)
	maps.Copy(all, then)
	return all
}
