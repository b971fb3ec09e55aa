package weigh

import (
	"fmt"
	"slices"
	"strings"

	"uakari/internal/fact"
)

// ticketWords puts what a ticket server refused into words: which service it
// does not know, and by how much the clocks differ.
func (v *view) ticketWords(t *try, l *fact.Login, r *Reading) {
	if v.scheme.Wire != "krb5" {
		return
	}
	r.Values["principal"] = orElse(strings.Trim(t.target.Path, "/"), "krbtgt")
	r.Values["late"] = v.host(v.client)
	switch r.Cause {
	case "login/clock-skew":
		if !l.Clock.IsZero() {
			ahead := v.ask.Began.Sub(l.Clock)
			way := "ahead of"
			if ahead < 0 {
				ahead, way = -ahead, "behind"
			}
			r.Summary = fmt.Sprintf("the clock of %s is %s %s that of %s, and the ticket server bears no more than minutes", v.host(v.client), span(ahead), way, v.answering(t))
		}
	case "login/no-principal", "login/duplicate-principal":
		r.Summary = fmt.Sprintf("%s is accepted, and there is no ticket for %s: %s", l.Account, r.Values["principal"], l.Text)
	}
}

// keyReadings compares the key version of a ticket with the key tables of the
// servers that were seen.
func (v *view) keyReadings(w *wants, t *try, login *fact.Fact) []Reading {
	ticket := login.Login.Ticket
	if ticket == nil {
		return nil
	}
	w.add(Want{Look: fact.LookKeyTable, At: fact.Server, Gate: Account})
	for _, at := range v.set.Vantages {
		for _, f := range v.facts(at.ID, fact.LookKeyTable) {
			if f.KeyTable == nil {
				continue
			}
			var versions, kinds []int
			for _, e := range f.KeyTable.Entries {
				if e.Principal == ticket.Service {
					versions, kinds = append(versions, e.Version), append(kinds, e.Encryption)
				}
			}
			r := Reading{Gate: Account, Cause: "login/key-version", Apart: true, Because: factIDs(login, f), Vantage: at.ID,
				Values: v.place(t, values{"principal": ticket.Service, "place": f.KeyTable.Path, "server": at.Host})}
			switch {
			case len(versions) == 0:
				continue // the service may run on another host
			case !slices.Contains(versions, ticket.Version):
				r.Summary = fmt.Sprintf("the ticket for %s is made with version %d of its key, and %s on %s holds only version %s", ticket.Service, ticket.Version, f.KeyTable.Path, at.Host, numbers(versions))
			case !slices.Contains(kinds, ticket.Encryption):
				r.Summary = fmt.Sprintf("the ticket for %s is encrypted by kind %d, and %s on %s holds keys of kind %s only", ticket.Service, ticket.Encryption, f.KeyTable.Path, at.Host, numbers(kinds))
			default:
				continue
			}
			return []Reading{r}
		}
	}
	return nil
}

func numbers(list []int) string {
	list = slices.Compact(slices.Sorted(slices.Values(list)))
	return strings.Trim(strings.Join(strings.Fields(fmt.Sprint(list)), ", "), "[]")
}
