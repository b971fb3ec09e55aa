package tell

import (
	"fmt"
	"net/netip"
	"strings"

	"uakari/internal/foreign"
	"uakari/internal/trail"
)

// Journey tells a packet's way: the answer first, then each step.
func Journey(j trail.Journey, colour bool) string {
	p := paint{colour}
	var b strings.Builder
	for _, line := range wrap(journeyAnswer(j), width) {
		fmt.Fprintln(&b, p.as(bold, line))
	}
	legs := []struct {
		name string
		leg  *trail.Leg
	}{{"request", &j.Leg}, {"reply", &j.Reply}, {"what follows", j.Later}}
	for _, l := range legs {
		if l.leg == nil {
			continue
		}
		fmt.Fprintf(&b, "\n%s: %s%s\n", l.name, legVerdict(*l.leg), why(*l.leg))
		tellSteps(&b, p, *l.leg)
		for _, r := range l.leg.Rewrites {
			if l.name == "request" {
				fmt.Fprintf(
					&b,
					"  its %s is changed on %s: %s becomes %s\n",
					foreign.Printable(r.Kind),
					foreign.Printable(r.Host),
					foreign.Printable(r.Was),
					foreign.Printable(r.Now),
				)
			}
		}
	}
	for _, d := range j.Doubts {
		fmt.Fprintf(&b, "\nOdd: %s\n", foreign.Printable(d))
	}
	if s := j.Suppose; s != nil {
		tellSuppose(&b, *s)
	} else {
		for _, m := range j.Mend {
			fmt.Fprintf(&b, "\nTo mend, on %s (owner: %s):\n", foreign.Printable(m.Host), foreign.Printable(m.Owner))
			block(&b, "  ", "  ", upperFirst(foreign.Printable(m.Do))+".", width)
			fmt.Fprintf(&b, "    %s\n", foreign.Printable(m.Command))
			block(&b, "  risk: ", "        ", "it "+foreign.Printable(m.Risk), width)
			block(&b, "  undo: ", "        ", foreign.Printable(m.Undo), width)
		}
	}
	return b.String()
}

// journeyAnswer is the first line.
func journeyAnswer(j trail.Journey) string {
	what := fmt.Sprintf("%s to %s", foreign.Printable(j.Packet.From), foreign.Printable(j.Packet.To))
	if j.Packet.ToPort != 0 {
		what = fmt.Sprintf(
			"%s to %s/%s",
			foreign.Printable(j.Packet.From),
			foreign.Printable(hostPort(j.Packet.To, j.Packet.ToPort)),
			foreign.Printable(j.Packet.Transport),
		)
	} else {
		what += " (" + foreign.Printable(j.Packet.Transport) + ")"
	}
	switch {
	case j.Verdict == "unknown":
		return fmt.Sprintf("Not known whether %s passes.", what)
	case j.Verdict != "accept":
		return fmt.Sprintf("No: %s is stopped%s.", what, stoppedAt(j.Leg))
	case j.Reply.Verdict == "unknown":
		return fmt.Sprintf("%s passes; not known whether its reply does.", what)
	case j.Reply.Verdict != "accept":
		return fmt.Sprintf("No: %s passes, and its reply is stopped%s.", what, stoppedAt(j.Reply))
	case j.Later != nil:
		return fmt.Sprintf(
			"No: the first packet of %s passes, and what follows is stopped%s.",
			what,
			stoppedAt(*j.Later),
		)
	}
	return fmt.Sprintf("Yes: %s passes, and its reply.", what)
}

func hostPort(host string, port uint16) string {
	if a, err := netip.ParseAddr(host); err == nil {
		return netip.AddrPortFrom(a, port).String()
	}
	return fmt.Sprintf("%s:%d", host, port)
}

func stoppedAt(l trail.Leg) string {
	if len(l.Blocks) == 0 {
		return ""
	}
	s := l.Steps[l.Blocks[0]]
	if s.Chain == "" {
		return fmt.Sprintf(" on %s: %s", foreign.Printable(s.Host), foreign.Printable(s.Effect))
	}
	return fmt.Sprintf(" on %s by %s", foreign.Printable(s.Host), ruleName(s))
}

// ruleName is a rule as its owner finds it.
func ruleName(s trail.Step) string {
	switch {
	case s.Table == "" && s.Rule == 0:
		return fmt.Sprintf("%s, %s", foreign.Printable(s.Chain), foreign.Printable(s.Hook))
	case s.Table == "":
		return fmt.Sprintf("%s, %s, rule %d", foreign.Printable(s.Chain), foreign.Printable(s.Hook), s.Rule)
	case s.Rule == 0:
		return fmt.Sprintf("the policy of %s, chain %s", foreign.Printable(s.Table), foreign.Printable(s.Chain))
	case s.Handle != 0:
		return fmt.Sprintf(
			"rule %d (handle %d) of %s, chain %s",
			s.Rule,
			s.Handle,
			foreign.Printable(s.Table),
			foreign.Printable(s.Chain),
		)
	}
	return fmt.Sprintf("rule %d of %s, chain %s", s.Rule, foreign.Printable(s.Table), foreign.Printable(s.Chain))
}

func legVerdict(l trail.Leg) string {
	switch l.Verdict {
	case "accept":
		return "passes"
	case "drop":
		return "dropped without a word"
	case "reject":
		return "refused with " + foreign.Printable(l.RejectWith)
	}
	return "not known"
}

func why(l trail.Leg) string {
	if l.WhyUnknown == "" {
		return ""
	}
	return ": " + foreign.Printable(l.WhyUnknown)
}

// tellSteps writes one line a step, and the rule's own text below it.
func tellSteps(b *strings.Builder, p paint, l trail.Leg) {
	if len(l.Steps) == 0 {
		b.WriteString("  no rule concerns it\n")
	}
	stops := map[int]bool{}
	for _, at := range l.Blocks {
		stops[at] = true
	}
	host := ""
	for i, s := range l.Steps {
		if s.Host != host {
			host = s.Host
			fmt.Fprintf(b, "  %s\n", foreign.Printable(host))
		}
		where := foreign.Printable(s.Hook)
		if s.Chain != "" {
			where = fmt.Sprintf(
				"%-11s %s, chain %s",
				foreign.Printable(s.Hook),
				foreign.Printable(s.Table),
				foreign.Printable(s.Chain),
			)
			if s.Table == "" {
				where = fmt.Sprintf("%-11s %s", foreign.Printable(s.Hook), foreign.Printable(s.Chain))
			}
			if s.Rule != 0 {
				where += fmt.Sprintf(", rule %d", s.Rule)
			}
		}
		line := fmt.Sprintf("    %s: %s", where, foreign.Printable(s.Effect))
		if stops[i] {
			line = p.as(red, line)
		}
		fmt.Fprintln(b, line)
		if s.Text != "" {
			block(b, "                ", "                ", foreign.Printable(s.Text), width)
		}
	}
}

func tellSuppose(b *strings.Builder, s trail.Suppose) {
	fmt.Fprintf(
		b,
		"\nSupposing: %s\n  before: %s\n  after:  %s\n",
		foreign.Printable(s.Change),
		foreign.Printable(s.Before),
		foreign.Printable(s.After),
	)
	for _, each := range []struct {
		word string
		list []string
	}{{"opens", s.Opens}, {"closes", s.Closes}} {
		for _, line := range each.list {
			block(b, "  ", "  ", each.word+" "+foreign.Printable(line), width)
		}
	}
	if len(s.Opens)+len(s.Closes) == 0 {
		b.WriteString("  opens and closes nothing\n")
	}
	if s.Partly != "" {
		fmt.Fprintf(b, "  %s\n", foreign.Printable(s.Partly))
	}
}
