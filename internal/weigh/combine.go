package weigh

import (
	"slices"

	"uakari/internal/fact"
	"uakari/internal/trail"
)

// Reading is what one piece of evidence says of one gate.
type Reading struct {
	Gate Gate
	// Cause is the catalogue's identifier of what shuts the gate; empty for
	// a gate that was read open.
	Cause string
	// Shows is the set of symptoms that this shut gate would give when it is
	// the first one met; nil: any that the gate may give.
	Shows []Symptom
	// Apart marks a reading that our own try does not speak about, because
	// the try was more lenient than the client is: a certificate that was
	// not checked.
	Apart bool
	// Harmless marks something that does not keep the client out now.
	Harmless bool
	// Short lists the guards that are missing; any one keeps the cause from
	// being proven.
	Short []string
	// Most, if set, bounds the certainty for another reason.
	Most trail.Certainty

	Because []string // evidence
	Vantage string
	Summary string
	Values  values // fills the catalogue's remedies
	// Instead is the target that the client should have used. Every later
	// gate is weighed for it.
	Instead *fact.Target
}

func (r Reading) open() bool { return r.Cause == "" }

// judged is a reading that became a cause, or a candidate that was left.
type judged struct {
	Reading
	certainty trail.Certainty
	blocking  bool
	unread    bool // a candidate: nobody read its gate
	maskedBy  []*judged
}

// verdict is the judgement of one try.
type verdict struct {
	causes []*judged
	open   Gates             // read open, or surely open by the symptom
	drop   map[Gate]*judged  // gates that are shut only as a consequence, and of what
	left   []Gate            // not read while the symptom is unexplained
	opened map[Gate]*Reading // the reading that says so
}

// tellsMore says, of two causes that name one fault from two sides, which is
// the cause; the others are its evidence.
var tellsMore = map[string][]string{
	"service/stopped":            {"ports/none-listening"},
	"service/failed":             {"ports/none-listening"},
	"service/not-installed":      {"ports/none-listening"},
	"service/settings-rejected":  {"ports/none-listening"},
	"service/port-taken":         {"ports/none-listening", "ports/other-owner", "answer/wrong-application"},
	"service/needs-down":         {"ports/none-listening"},
	"service/restarting":         {"ports/none-listening"},
	"service/starting":           {"ports/none-listening"},
	"service/zombie":             {"ports/none-listening"},
	"service/policy-denied":      {"ports/none-listening"},
	"service/starved":            {"ports/none-listening", "service/hung", "ports/queue-full"},
	"service/hung":               {"ports/queue-full"},
	"ports/other-owner":          {"answer/wrong-application", "service/stopped"},
	"ports/other-namespace":      {"ports/none-listening"},
	"ports/moved":                {"ports/none-listening", "service/stopped"},
	"settings/wrong-port":        {"ports/none-listening", "ports/moved", "service/stopped"},
	"settings/stray-characters":  {"names/no-such-name", "names/bad-label"},
	"names/hosts-override":       {"names/stale-address"},
	"settings/wrong-security":    {"certs/server-speaks-tls", "certs/server-speaks-plain", "answer/error-status", "answer/wrong-application"},
	"certs/server-speaks-tls":    {"answer/error-status", "answer/wrong-application"},
	"certs/server-speaks-plain":  {"answer/wrong-application"},
	"rules/large-packets-lost":   {"certs/handshake-stalls"},
	"certs/client-cert-wanted":   {"answer/error-status"},
	"certs/client-cert-refused":  {"answer/error-status"},
	"answer/not-ready":           {"answer/error-status"},
	"answer/too-slow":            {"service/hung"},
	"login/policy-blocks":        {"login/rejected"},
	"login/path-right":           {"answer/error-status"},
	"certs/key-mismatch":         {"service/settings-rejected", "service/failed", "service/restarting", "ports/none-listening"},
	"certs/store-unreadable":     {"service/settings-rejected", "service/failed", "service/restarting", "ports/none-listening"},
	"certs/not-reloaded":         {"certs/expired", "certs/name-not-covered", "certs/expires-soon"},
	"certs/other-on-the-way":     {"certs/unknown-issuer", "certs/self-signed"},
	"certs/expired":              {"certs/not-yet-valid"},
	"certs/self-signed":          {"certs/unknown-issuer", "certs/missing-intermediate"},
	"certs/missing-intermediate": {"certs/unknown-issuer"},
	"answer/source-refused":      {"answer/error-status"},
	"service/address-missing":    {"rules/no-return-route"},
	"rules/not-on-list":          {"answer/source-refused", "answer/error-status"},
	"names/reverse-differs":      {"login/not-from-here"},
	"rules/wrapper-deny":         {"answer/source-refused", "service/hung"},
	"rules/gateway-reject":       {"rules/transit-reject"},
	"rules/server-reject":        {"rules/transit-reject"},
	"rules/no-route":             {"rules/transit-reject"},
}

// combine is the one rule by which readings and a symptom become causes. It
// knows no protocol; see the table of symptoms for what a symptom means and
// the table of candidates for what a gate that nobody could read may hide.
func combine(sym Symptom, readings []Reading) verdict {
	row := symptoms[sym]
	v := verdict{open: row.open, drop: map[Gate]*judged{}, opened: map[Gate]*Reading{}}
	var shut []*judged
	for i := range readings {
		r := &readings[i]
		if r.open() {
			v.open |= gates(r.Gate)
			if v.opened[r.Gate] == nil {
				v.opened[r.Gate] = r
			}
			continue
		}
		shut = append(shut, &judged{Reading: *r})
	}
	for _, j := range shut {
		if !j.Harmless {
			v.open &^= gates(j.Gate) &^ row.open
		}
	}
	slices.SortStableFunc(shut, func(a, b *judged) int { return int(a.Gate) - int(b.Gate) })

	if sym == NotTried {
		// Nothing was seen of the client yet: a reading has nothing to
		// explain, unless it never has.
		shut = slices.DeleteFunc(shut, func(j *judged) bool { return !j.Apart && !j.Harmless })
	}
	explained := firstExplaining(sym, shut)
	var before []*judged // what shuts earlier gates, as far as we go
	if explained == nil && row.may != 0 {
		v.left = (row.may &^ v.open).list()
		before = candidates(sym, v.left)
		v.causes = append(v.causes, before...)
	}
	for _, j := range shut {
		j.certainty = certainty(j.Reading)
		switch {
		case j.Harmless:
		case j.Apart || consistent(sym, j.Reading):
			j.blocking = j.certainty != trail.Possible
		case row.open.has(j.Gate):
			contradict(j)
		case explained != nil && explained.Gate < j.Gate, earlierUnread(v.left, j.Gate):
			j.blocking = j.certainty != trail.Possible
		default:
			contradict(j)
		}
		if w := winner(j, shut); w != nil {
			for range shut {
				if more := winner(w, shut); more != nil && more != j {
					w = more // what tells more than that is the cause of both
				}
			}
			w.Because = union(w.Because, j.Because)
			v.drop[j.Gate] = w
			continue
		}
		if j.blocking {
			j.maskedBy = masks(before, j.Gate)
			before = append(before, j)
		}
		v.causes = append(v.causes, j)
	}
	return v
}

// firstExplaining is the first shut gate that gives the symptom by itself.
func firstExplaining(sym Symptom, shut []*judged) *judged {
	for _, j := range shut {
		if !j.Harmless && consistent(sym, j.Reading) && (!j.Apart || symptoms[sym].may.has(j.Gate)) {
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
	return symptoms[sym].may.has(r.Gate)
}

// certainty of a gate that was read shut: proven, unless a guard is missing.
func certainty(r Reading) trail.Certainty {
	if r.Most != "" {
		return r.Most
	}
	if len(r.Short) > 0 {
		return trail.Likely
	}
	return trail.Proven
}

// contradict turns a reading that the symptom disproves into a doubt: the
// reading is stale, or of another path or another host.
func contradict(j *judged) {
	j.certainty, j.blocking, j.Harmless = trail.Possible, false, true
	j.Short = append(j.Short, "the client's own try says otherwise: the reading may be old, or of another path or host")
}

// earlierUnread reports whether a gate before this one may be what is shut.
func earlierUnread(left []Gate, g Gate) bool {
	return len(left) > 0 && left[0] < g
}

// masks is what must be mended before a gate can show.
func masks(before []*judged, g Gate) []*judged {
	var by []*judged
	for _, b := range before {
		if b.Gate < g && !b.Harmless {
			by = append(by, b)
		}
	}
	return by
}

// winner is the cause that tells more about the fault that j names, if one
// was read as well.
func winner(j *judged, shut []*judged) *judged {
	for _, other := range shut {
		if other != j && other.Harmless == j.Harmless && slices.Contains(tellsMore[other.Cause], j.Cause) {
			return other
		}
	}
	return nil
}

// candidates are the causes that gates nobody could read may hide: likely
// if one gate is left, possible if several are, most frequent first.
func candidates(sym Symptom, left []Gate) []*judged {
	var list []*judged
	for _, c := range candidateTable {
		if !slices.Contains(c.symptoms, sym) || !slices.Contains(left, c.gate) {
			continue
		}
		j := &judged{Reading: Reading{Gate: c.gate, Cause: c.cause, Summary: c.summary}, certainty: trail.Possible, unread: true}
		if len(left) == 1 {
			j.certainty, j.blocking = trail.Likely, true
			j.Summary = c.alone
			j.Short = []string{"nobody read this gate; every other one that could give this symptom is open"}
		}
		list = append(list, j)
	}
	if len(left) == 1 && len(list) > 1 {
		for _, j := range list {
			j.certainty, j.blocking = trail.Possible, false
		}
	}
	return list
}

func union(a, b []string) []string {
	a = slices.Clone(a)
	for _, each := range b {
		if !slices.Contains(a, each) {
			a = append(a, each)
		}
	}
	return a
}
