package tell

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"unicode/utf8"

	"uakari/internal/fact"
)

// NameViews is every view of a name ("uakari.names/1").
type NameViews struct {
	Format  string       `json:"format"`
	Name    string       `json:"name"`
	Gives   []netip.Addr `json:"gives"`            // to this client, in no order
	By      string       `json:"by,omitempty"`     // the view that decides
	TTL     uint32       `json:"ttl,omitempty"`    // seconds that it may be kept
	Wait    string       `json:"wait,omitempty"`   // what programs wait for first
	Zone    string       `json:"zone,omitempty"`   //
	Agree   bool         `json:"agree"`            // no two views differ
	Differ  []string     `json:"differ,omitempty"` // what does, in words
	NotHeld []string     `json:"not_held,omitempty"`
	Unseen  []string     `json:"unseen,omitempty"`
	Views   []NameView   `json:"views"`
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
				n.Differ = append(n.Differ, fmt.Sprintf("%s gives %s, %s gives %s", f.title(), joined(f.Addrs), v.title(), joined(addrs)))
			}
		}
	}
}

// shown is a source as the table has it.
func (v NameView) shown() string {
	if v.Authority {
		return fmt.Sprintf("%s, serial %d", v.Source, v.Serial)
	}
	return v.Source
}

func (v NameView) title() string {
	text := v.Source
	if v.Authority {
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
var outcomeWords = map[string]string{"no-such-name": "no such name", "no-data": "no such address", "server-failure": "it fails", "refused": "it refuses",
	"silent": "no answer", "unreachable": "not reachable", "bad-reply": "unreadable", "cut-off": "cut off, nothing over TCP", "not named": "does not name it"}

// Names tells every view of a name as a table, the answer first.
func Names(n NameViews, colour bool) string {
	p := paint{colour}
	var b strings.Builder
	for _, line := range wrap(n.answer(), width) {
		fmt.Fprintln(&b, p.as(bold, line))
	}
	host, longest := "", 0
	for _, v := range n.Views {
		longest = max(longest, utf8.RuneCountInString(safe(v.shown())))
	}
	for _, v := range n.Views {
		if v.Host != host {
			host = v.Host
			fmt.Fprintf(&b, "\nfrom %s\n", safe(host))
		}
		what := outcomeWords[v.Outcome]
		if what == "" {
			what = safe(v.Outcome)
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
			asked = " as " + safe(v.Asked)
		}
		if len(v.Aliases) > 0 && len(v.Addrs) > 0 {
			tail += " through " + safe(strings.Join(v.Aliases, " → "))
		}
		head := fmt.Sprintf("  %-*s %-4s ", longest, safe(v.shown()), safe(v.Type))
		block(&b, head, strings.Repeat(" ", utf8.RuneCountInString(head)), what+tail+asked, max(width, len(head)+40))
	}
	for _, group := range [][]string{n.Differ, n.NotHeld} {
		for _, line := range group {
			block(&b, "\nDiffers: ", "         ", safe(line)+".", width)
		}
	}
	for _, line := range n.Unseen {
		block(&b, "\nNot seen: ", "          ", safe(line)+".", width)
	}
	return b.String()
}

// answer is the first line.
func (n NameViews) answer() string {
	if len(n.Gives) == 0 {
		return fmt.Sprintf("%s gives no address here.", safe(n.Name))
	}
	text := fmt.Sprintf("%s gives %s, from %s", safe(n.Name), joined(n.Gives), safe(n.By))
	if n.TTL > 0 {
		text += fmt.Sprintf(", for %d more seconds", n.TTL)
	}
	if n.Wait != "" {
		text += "; " + safe(n.Wait)
	}
	if !n.Agree {
		text += "; the views differ"
	}
	return text + "."
}
