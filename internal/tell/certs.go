package tell

import (
	"fmt"
	"strings"
	"time"

	"uakari/internal/foreign"
	"uakari/internal/trail"
)

// Certs tells a chain as a small tree: the root first, what it vouches for
// below it.
func Certs(c trail.CertList, colour bool) string {
	p := paint{colour}
	var b strings.Builder
	for _, line := range wrap(certsAnswer(c), width) {
		fmt.Fprintln(&b, p.as(bold, line))
	}
	if len(c.Chain) == 0 {
		return b.String()
	}
	b.WriteString("\n")
	tellChain(&b, p, c)
	if len(c.Names) > 0 {
		b.WriteString("\nnames\n")
	}
	for _, n := range c.Names {
		word := "covered"
		if !n.Covered {
			word = p.as(red, "NOT covered")
		}
		fmt.Fprintf(&b, "  %-40s %s\n", foreign.Printable(n.Name), word)
	}
	tellNeeds(&b, p, c.Needs)
	for i, each := range c.Problems {
		if i > 0 || len(c.Problems) > 1 {
			block(&b, "\nProblem: ", "         ", foreign.Printable(each)+".", width)
		}
	}
	for _, each := range c.Doubts {
		block(&b, "\nDoubt: ", "       ", foreign.Printable(each)+".", width)
	}
	return b.String()
}

// tellNeeds is what each side must send and have.
func tellNeeds(b *strings.Builder, p paint, needs []trail.CertNeed) {
	if len(needs) == 0 {
		return
	}
	widest := 0
	for _, n := range needs {
		widest = max(widest, len([]rune(foreign.Printable(n.Host))))
	}
	b.WriteString("\nwhat each side needs, and whether it was seen there\n")
	for _, n := range needs {
		text := foreign.Printable(n.What)
		if n.Does == "trusts" && n.Fingerprint != "" {
			text += ", SHA-256 " + foreign.Printable(n.Fingerprint[:min(16, len(n.Fingerprint))]) + "…"
		}
		state := map[string]string{"present": "yes", "absent": "NO", "unseen": "?"}[n.State]
		switch {
		case n.State == "absent" && n.Place != "":
			text += ": not in " + foreign.Printable(n.Place)
		case n.State == "unseen":
			text += ": its store was not read"
		case n.Place != "":
			text += ", in " + foreign.Printable(n.Place)
		}
		word := fmt.Sprintf("%-3s", state)
		if n.State == "absent" {
			word = p.as(red, word)
		}
		lead := fmt.Sprintf("  %s %-*s  %-8s ", word, widest, foreign.Printable(n.Host), foreign.Printable(n.Does))
		block(b, lead, strings.Repeat(" ", 2+3+1+widest+2+8+1), text, width)
	}
}

func certsAnswer(c trail.CertList) string {
	switch {
	case len(c.Chain) == 0:
		return fmt.Sprintf("Not known: %s.", foreign.Printable(c.Why))
	case len(c.Problems) > 0:
		return "No: " + foreign.Printable(c.Problems[0]) + "."
	case c.Store == "":
		return "Not known whether it is trusted here: the trust store was not read."
	}
	covers := ""
	if len(c.Names) > 0 {
		covers = "covers " + foreign.Printable(c.Names[0].Name) + ", "
	}
	return fmt.Sprintf("Yes: trusted here, %s%s.", covers, daysLeft(c.Chain[0].DaysLeft))
}

func daysLeft(n int) string {
	switch {
	case n < 0:
		return fmt.Sprintf("expired %d days ago", -n)
	case n == 1:
		return "1 day left"
	}
	return fmt.Sprintf("%d days left", n)
}

// tellChain writes from the top down; what was sent and vouches for nothing
// comes last.
func tellChain(b *strings.Builder, p paint, c trail.CertList) {
	var path []int
	for at := 0; at >= 0 && len(path) <= len(c.Chain); at = c.Chain[at].By {
		path = append(path, at)
	}
	depth := 0
	indent := func() string { return strings.Repeat("  ", depth+1) }
	top := c.Chain[path[len(path)-1]]
	switch {
	case c.Root != "" && c.Root != top.Subject:
		fmt.Fprintf(
			b,
			"%s%s\n%s  trusted, in %s\n",
			indent(),
			foreign.Printable(c.Root),
			indent(),
			foreign.Printable(c.Store),
		)
		depth++
	case c.Root == "" && top.Issuer != top.Subject:
		fmt.Fprintf(b, "%s%s\n", indent(), p.as(red, "? "+foreign.Printable(top.Issuer)))
		fmt.Fprintf(b, "%s  not sent, and not trusted here: the path breaks\n", indent())
		depth++
	}
	used := map[int]bool{}
	for i := len(path) - 1; i >= 0; i-- {
		at := path[i]
		if used[at] {
			continue
		}
		used[at] = true
		tellCert(b, p, indent(), c.Chain[at], c)
		depth++
	}
	for i, cert := range c.Chain {
		if !used[i] {
			fmt.Fprintf(b, "  sent too, and not needed: %s\n", foreign.Printable(cert.Subject))
		}
	}
}

func tellCert(b *strings.Builder, p paint, indent string, cert trail.Cert, c trail.CertList) {
	fmt.Fprintf(b, "%s%s\n", indent, foreign.Printable(cert.Subject))
	until := fmt.Sprintf("until %s, %s", cert.NotAfter.Format(time.DateOnly), daysLeft(cert.DaysLeft))
	if cert.DaysLeft < 0 {
		until = p.as(red, until)
	}
	fmt.Fprintf(b, "%s  %s; %s, %s\n", indent, until, foreign.Printable(cert.Key), foreign.Printable(cert.Signature))
	if cert.Subject == cert.Issuer {
		text := "signed by itself"
		if c.Root == cert.Subject {
			text += "; trusted, in " + foreign.Printable(c.Store)
		} else {
			text += "; " + p.as(red, "not trusted here")
		}
		fmt.Fprintf(b, "%s  %s\n", indent, text)
	}
	if len(cert.Covers) > 0 {
		block(b, indent+"  for ", indent+"      ", foreign.Printable(strings.Join(cert.Covers, ", ")), width)
	}
	fmt.Fprintf(b, "%s  SHA-256 %s…\n", indent, foreign.Printable(cert.Fingerprint[:min(32, len(cert.Fingerprint))]))
}
