package program

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/filter"
)

// PAMReason evaluates the rules by which PAM lets an account in from a source
// (access.conf(5)): the first that matches decides, and without one it comes
// in.
func PAMReason(a *fact.Account, source netip.Addr) (cause, text string) {
	if !source.IsValid() {
		return "", ""
	}
	for _, l := range a.AccessRules {
		fields := strings.SplitN(l.Text, ":", 3)
		if len(fields) != 3 {
			continue
		}
		sign, users, origins := strings.TrimSpace(fields[0]), wrapperWords(fields[1]), wrapperWords(fields[2])
		who := listMatches(users, func(w string) filter.Tri { return pamUser(w, a) })
		from := listMatches(origins, func(w string) filter.Tri { return pamOrigin(w, source) })
		switch {
		case who == filter.No || from == filter.No:
			continue
		case who == filter.Unknown || from == filter.Unknown || sign != "-":
			return "", "" // let in, or nobody can say
		}
		cause = "login/not-from-here"
		if slices.Equal(origins, []string{"ALL"}) {
			cause = "login/no-right"
		}
		return cause, fmt.Sprintf(
			"%s, line %d (%s), keeps %s out from %s",
			a.AccessFile,
			l.Number,
			l.Text,
			a.Name,
			source,
		)
	}
	return "", ""
}

func pamUser(word string, a *fact.Account) filter.Tri {
	group, isGroup := strings.CutPrefix(strings.TrimSuffix(word, ")"), "(")
	switch {
	case word == "ALL" || word == a.Name:
		return filter.Yes
	case isGroup:
		return triOf(slices.Contains(a.Groups, group))
	case strings.ContainsAny(word, "@"):
		return filter.Unknown // a netgroup, or an account of one host
	}
	return triOf(slices.Contains(a.Groups, word))
}

func pamOrigin(word string, source netip.Addr) filter.Tri {
	if p, err := NetPattern(word); err == nil {
		return triOf(p.Contains(source))
	}
	switch {
	case word == "ALL":
		return filter.Yes
	case word == "LOCAL", strings.HasPrefix(word, "tty"), strings.HasPrefix(word, ":"), word == "cron",
		word == "crond":
		return filter.No // who comes over the network does not come from there
	case strings.HasSuffix(word, ".") && strings.Trim(word, "0123456789.") == "":
		return triOf(strings.HasPrefix(source.String(), word))
	}
	return filter.Unknown // a name, which the server looks up by itself
}
