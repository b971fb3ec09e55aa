package tell

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"unicode/utf8"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// NamesFormat is the shape of what `names --json` writes.
const NamesFormat = "uakari.names/1"

// NameViews is every view of a name.
type NameViews struct {
	Format  string       `json:"format"`
	Name    string       `json:"name"`
	Unicode string       `json:"unicode,omitempty"` // the same name as people write it
	Gives   []netip.Addr `json:"gives"`             // to this client, in no order
	By      string       `json:"by,omitempty"`      // the view that decides
	TTL     uint32       `json:"ttl,omitempty"`     // seconds that it may be kept
	Wait    string       `json:"wait,omitempty"`    // what programs wait for first
	Zone    string       `json:"zone,omitempty"`    //
	Agree   bool         `json:"agree"`             // no two views differ
	Differ  []string     `json:"differ,omitempty"`  // what does, in words
	NotHeld []string     `json:"not_held,omitempty"`
	Unseen  []string     `json:"unseen,omitempty"`
	Views   []NameView   `json:"views"`

	Services []ServiceView `json:"services,omitempty"`
}

// ServiceView is one service record as one resolver gives it, and whether its
// target works from here.
type ServiceView struct {
	Record   string       `json:"record"`
	Resolver string       `json:"resolver"`
	Outcome  string       `json:"outcome"`
	Target   string       `json:"target,omitempty"`
	Port     uint16       `json:"port,omitempty"`
	Priority uint16       `json:"priority"`
	Weight   uint16       `json:"weight"`
	Tried    []ServiceTry `json:"tried,omitempty"`
}

// ServiceTry is how one address of a target took a connection.
type ServiceTry struct {
	Addr    netip.Addr          `json:"addr"`
	Outcome fact.ConnectOutcome `json:"outcome"`
}

// Works says whether an address of the target takes connections.
func (s ServiceView) Works() bool {
	return slices.ContainsFunc(s.Tried, func(t ServiceTry) bool { return t.Outcome == fact.Connected })
}

// Answered reports whether any resolver said that the name gives something, or
// nothing: where none does, nobody knows.
func (n NameViews) Answered() bool {
	return len(n.Gives) > 0 || slices.ContainsFunc(n.Views, func(v NameView) bool { return settled(v.Outcome) }) ||
		slices.ContainsFunc(n.Services, func(s ServiceView) bool { return s.Target != "" || settled(s.Outcome) })
}

// settled reports whether a resolver knows what a name gives, or that it gives
// nothing.
func settled(outcome string) bool {
	return slices.Contains(
		[]fact.AnswerOutcome{fact.Addressed, fact.NoSuchName, fact.NoData},
		fact.AnswerOutcome(outcome),
	)
}

// NameView is one source's answer.
type NameView struct {
	Host      string       `json:"host"`
	Source    string       `json:"source"`
	Addr      string       `json:"addr,omitempty"` // of an authoritative server
	Authority bool         `json:"authority,omitempty"`
	Lame      bool         `json:"lame,omitempty"`
	Serial    uint32       `json:"serial,omitempty"`
	Line      int          `json:"line,omitempty"` // of a hosts file
	Type      string       `json:"type,omitempty"`
	Asked     string       `json:"asked,omitempty"`
	Outcome   string       `json:"outcome"`
	Addrs     []netip.Addr `json:"addrs,omitempty"`
	Aliases   []string     `json:"aliases,omitempty"`
	TTL       uint32       `json:"ttl,omitempty"`
	Verified  bool         `json:"verified,omitempty"`
	TookMS    float64      `json:"took_ms,omitempty"`
}

// Decide finds what the name gives to programs of a host: its hosts file,
// else the first resolver that answers for the first form of the name.
func (n *NameViews) Decide(setup *fact.ResolverSetup, host string) {
	n.compare()
	for _, v := range n.Views {
		if v.Host == host && v.Line > 0 {
			n.Gives, n.By = v.Addrs, fmt.Sprintf("%s, line %d", v.Source, v.Line)
			return
		}
	}
	if setup == nil {
		for _, v := range n.Views {
			if len(v.Addrs) > 0 && len(n.Gives) == 0 {
				n.Gives, n.By, n.TTL = v.Addrs, v.Source, v.TTL
			}
		}
		return
	}
	for _, asked := range setup.Candidates(n.Name) {
		for _, resolver := range setup.Servers {
			final := false
			for _, v := range n.Views {
				if v.Host != host || v.Source != resolver.String() || v.Asked != strings.TrimSuffix(asked, ".") {
					continue
				}
				switch fact.AnswerOutcome(v.Outcome) {
				case fact.Addressed:
					n.Gives, n.By, n.TTL = append(n.Gives, v.Addrs...), v.Source, v.TTL
				case fact.NoSuchName, fact.NoData:
					final = true
				case fact.NoReply:
					n.Wait = fmt.Sprintf("programs wait %g s for %s first", setup.TimeoutMS/1000, v.Source)
				}
			}
			if len(n.Gives) > 0 {
				return
			}
			if final {
				break
			}
		}
	}
}

// compare finds views that differ, kind by kind.
func (n *NameViews) compare() {
	first := map[string]NameView{}
	for _, v := range n.Views {
		if len(v.Addrs) == 0 || v.Line > 0 || v.Source == "the system's own look-up" {
			continue
		}
		for _, six := range []bool{false, true} {
			addrs := slices.DeleteFunc(slices.Clone(v.Addrs), func(a netip.Addr) bool { return a.Is6() != six })
			if len(addrs) == 0 {
				continue
			}
			slices.SortFunc(addrs, netip.Addr.Compare)
			v := v
			v.Addrs = addrs
			key := fmt.Sprint(six)
			f, ok := first[key]
			if !ok {
				first[key] = v
				continue
			}
			if !slices.Equal(f.Addrs, addrs) {
				n.Agree = false
				n.Differ = append(
					n.Differ,
					fmt.Sprintf("%s gives %s, %s gives %s", f.title(), joined(f.Addrs), v.title(), joined(addrs)),
				)
			}
		}
	}
}

// shown is a source as the table has it.
func (v NameView) shown() string {
	if v.Authority && v.Serial > 0 {
		return fmt.Sprintf("%s, serial %d", v.Source, v.Serial)
	}
	return v.Source
}

func (v NameView) title() string {
	text := v.Source
	if v.Authority && v.Serial > 0 {
		text += fmt.Sprintf(" (serial %d)", v.Serial)
	}
	return text + " from " + v.Host
}

func joined(addrs []netip.Addr) string {
	var list []string
	for _, a := range addrs {
		list = append(list, a.String())
	}
	return strings.Join(list, ", ")
}

// outcomeWords are outcomes as people say them.
var outcomeWords = map[string]string{
	"no-such-name":   "no such name",
	"no-data":        "no such address",
	"server-failure": "it fails",
	"refused":        "it refuses",
	"silent":         "no answer",
	"unreachable":    "not reachable",
	"bad-reply":      "unreadable",
	"cut-off":        "cut off, nothing over TCP",
	"not named":      "does not name it",
}

// Names tells every view of a name as a table, the answer first.
func Names(n NameViews, colour bool) string {
	p := paint{colour}
	var b strings.Builder
	for _, line := range wrap(n.answer(), width) {
		fmt.Fprintln(&b, p.as(bold, line))
	}
	host, longest := "", 0
	for _, v := range n.Views {
		longest = max(longest, utf8.RuneCountInString(foreign.Printable(v.shown())))
	}
	for _, v := range n.Views {
		if v.Host != host {
			host = v.Host
			fmt.Fprintf(&b, "\nfrom %s\n", foreign.Printable(host))
		}
		what := outcomeWords[v.Outcome]
		if what == "" {
			what = foreign.Printable(v.Outcome)
		}
		if len(v.Addrs) > 0 {
			what = joined(v.Addrs)
		}
		if v.Lame {
			what += ", without authority"
		}
		tail := ""
		if v.TTL > 0 {
			tail = fmt.Sprintf(" for %d s", v.TTL)
		}
		if v.Line > 0 {
			tail = fmt.Sprintf(", line %d", v.Line)
		}
		if v.Verified {
			tail += ", signed"
		}
		if v.TookMS > 0 {
			tail += fmt.Sprintf(" (%.1f ms)", v.TookMS)
		}
		asked := ""
		if v.Asked != "" && v.Asked != strings.TrimSuffix(n.Name, ".") {
			asked = " as " + foreign.Printable(v.Asked)
		}
		if len(v.Aliases) > 0 && len(v.Addrs) > 0 {
			tail += " through " + foreign.Printable(strings.Join(v.Aliases, " → "))
		}
		head := fmt.Sprintf("  %-*s %-4s ", longest, foreign.Printable(v.shown()), foreign.Printable(v.Type))
		block(&b, head, strings.Repeat(" ", utf8.RuneCountInString(head)), what+tail+asked, max(width, len(head)+40))
	}
	n.tellServices(&b)
	for _, group := range [][]string{n.Differ, n.NotHeld} {
		for _, line := range group {
			block(&b, "\nDiffers: ", "         ", foreign.Printable(line)+".", width)
		}
	}
	for _, line := range n.Unseen {
		block(&b, "\nNot seen: ", "          ", foreign.Printable(line)+".", width)
	}
	return b.String()
}

// connectWords are ends of a connect as people say them.
var connectWords = map[fact.ConnectOutcome]string{
	fact.Connected:  "takes connections",
	fact.Reset:      "refuses",
	fact.ICMP:       "is not reachable",
	fact.Silent:     "does not answer",
	fact.LocalError: "cannot be tried from here",
	"":              "was not tried",
}

func (n NameViews) tellServices(b *strings.Builder) {
	title := ""
	for _, s := range n.Services {
		if next := s.Record + " at " + s.Resolver; next != title {
			title = next
			fmt.Fprintf(b, "\nservice records of %s\n", foreign.Printable(title))
		}
		if s.Target == "" {
			fmt.Fprintf(b, "  %s\n", s.nothing())
			continue
		}
		says := "does not resolve here"
		if len(s.Tried) > 0 {
			var each []string
			for _, t := range s.Tried {
				each = append(each, t.Addr.String()+" "+connectWords[t.Outcome])
			}
			says = strings.Join(each, ", ")
		}
		head := fmt.Sprintf("  %s ", foreign.Printable(endpoint.HostPort(s.Target, s.Port)))
		block(
			b,
			head,
			"    ",
			fmt.Sprintf("(priority %d, weight %d): %s", s.Priority, s.Weight, says),
			max(width, len(head)+40),
		)
	}
}

// nothing says why a record leads nowhere.
func (s ServiceView) nothing() string {
	if s.Outcome == string(fact.Addressed) {
		return "says that there is no such service" // the root as target, RFC 2782
	}
	return cmp.Or(outcomeWords[s.Outcome], foreign.Printable(s.Outcome))
}

// shownName is the name in both of its forms.
func (n NameViews) shownName() string {
	if n.Unicode == "" {
		return foreign.Printable(n.Name)
	}
	return fmt.Sprintf("%s (%s in DNS)", foreign.Printable(n.Unicode), foreign.Printable(n.Name))
}

// leadsTo is the target that clients take, the first that works.
func (n NameViews) leadsTo() string {
	text := ""
	for _, s := range n.Services {
		if s.Target == "" || text != "" && !s.Works() {
			continue
		}
		text = fmt.Sprintf(
			"%s leads to %s",
			foreign.Printable(s.Record),
			foreign.Printable(endpoint.HostPort(s.Target, s.Port)),
		)
		if s.Works() {
			return text
		}
	}
	if text != "" {
		text += ", which takes no connection from here"
	}
	return text
}

// answer is the first line.
func (n NameViews) answer() string {
	leads := n.leadsTo()
	switch {
	case !n.Answered() && strings.HasPrefix(n.Name, "_"):
		return fmt.Sprintf("Not known: where %s leads; no resolver says.", n.shownName())
	case !n.Answered():
		return fmt.Sprintf("Not known: what %s resolves to; no resolver answers.", n.shownName())
	case len(n.Gives) == 0 && leads == "" && strings.HasPrefix(n.Name, "_"):
		return fmt.Sprintf("%s leads to no server here.", n.shownName())
	case len(n.Gives) == 0 && leads == "":
		return fmt.Sprintf("%s does not resolve here.", n.shownName())
	case len(n.Gives) == 0 && strings.HasPrefix(n.Name, "_"):
		return leads + "."
	case len(n.Gives) == 0:
		return fmt.Sprintf("%s does not resolve here; %s.", n.shownName(), leads)
	}
	text := fmt.Sprintf("%s resolves to %s, from %s", n.shownName(), joined(n.Gives), foreign.Printable(n.By))
	if n.TTL > 0 {
		text += fmt.Sprintf(", TTL %d s", n.TTL)
	}
	if n.Wait != "" {
		text += "; " + foreign.Printable(n.Wait)
	}
	if !n.Agree {
		text += "; the views differ"
	}
	return text + "."
}
