package login

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// ticketWords puts what a ticket server refused into words: which service it
// does not know, and by how much the clocks differ.
func ticketWords(v *scene.Scene, w *scene.Wants, t *scene.Try, l *fact.Login, r gate.Reading) gate.Reading {
	if !v.Protocol.Tickets {
		return r
	}
	r.Values["principal"] = cmp.Or(strings.Trim(t.Target.Path, "/"), "krbtgt")
	r.Values["late"] = v.Host(v.Client)
	switch r.Cause {
	case "login/clock-skew":
		if !l.Clock.IsZero() {
			ahead := v.Ask.Began.Sub(l.Clock)
			way := "ahead of"
			if ahead < 0 {
				ahead, way = -ahead, "behind"
			}
			r.Summary = fmt.Sprintf(
				"the clock of %s is %s %s that of %s, and the ticket server bears no more than minutes",
				v.Host(v.Client),
				foreign.Span(ahead.Round(time.Minute)),
				way,
				v.Answering(t),
			)
		}
	case "login/no-principal", "login/duplicate-principal":
		r.Summary = fmt.Sprintf(
			"%s is accepted, and there is no ticket for %s: %s%s",
			l.Account,
			r.Values["principal"],
			l.Text,
			canonical(v, w, r.Values["principal"]),
		)
	}
	return r
}

// keptTicket reads a cache whose ticket programs of this user present in place
// of the one that was got now: one that is over, one of another account, or one
// by a key that the service has no more.
func keptTicket(v *scene.Scene, t *scene.Try, login, f *fact.Fact) (gate.Reading, bool) {
	fresh := login.Login.Ticket
	r := gate.Reading{
		Gate:     gate.Account,
		Cause:    "login/saved-secret",
		Strength: gate.Read,
		Reach:    gate.Elsewhere,
		Because:  scene.FactIDs(login, f),
		Vantage:  v.Client,
		Values:   v.Place(t, catalogue.Values{"account": v.Ask.Account}),
	}
	account, _, _ := strings.Cut(v.Ask.Account, "@")
	for _, s := range f.Stored.List {
		if s.Ticket == nil {
			continue
		}
		r.Values["place"] = s.Place
		owner, _, _ := strings.Cut(s.Account, "@")
		granting := strings.HasPrefix(s.Ticket.Service, "krbtgt/")
		switch {
		case granting && owner != account:
			r.Summary = fmt.Sprintf(
				"%s is accepted, and programs here are %s: the cache %s holds that account's tickets",
				v.Ask.Account,
				s.Account,
				s.Place,
			)
		case granting && v.Ask.Began.After(s.Ticket.Ends):
			r.Summary = fmt.Sprintf(
				"%s is accepted, and programs here present nothing of use: the ticket in the cache %s ended %s ago",
				v.Ask.Account,
				s.Place,
				foreign.Span(v.Ask.Began.Sub(s.Ticket.Ends)),
			)
		case fresh != nil && s.Ticket.Service == fresh.Service && s.Ticket.Version != fresh.Version &&
			v.Ask.Began.Before(s.Ticket.Ends):
			r.Summary = fmt.Sprintf(
				"tickets for %s are made with version %d of its key now, and programs here present one by version "+
					"%d, from the cache %s",
				fresh.Service,
				fresh.Version,
				s.Ticket.Version,
				s.Place,
			)
		default:
			continue
		}
		return r, true
	}
	return gate.Reading{}, false
}

// canonical says, of a service whose principal is missing, by which name
// programs may ask for it instead: many go by the last name of a chain.
func canonical(v *scene.Scene, w *scene.Wants, service string) string {
	kind, host, ok := strings.Cut(service, "/")
	host, _, _ = strings.Cut(host, "@")
	if !ok || !strings.Contains(host, ".") {
		return ""
	}
	w.Add(scene.Want{Look: fact.LookNames, At: fact.Client, Target: fact.Target{Name: host}, Gate: gate.Account})
	for _, f := range v.Facts(v.Client, fact.LookNames) {
		if f.Order.Target.Name == host && f.Answer != nil && len(f.Answer.Aliases) > 0 {
			last := strings.TrimSuffix(f.Answer.Aliases[len(f.Answer.Aliases)-1], ".")
			if !strings.EqualFold(last, strings.TrimSuffix(host, ".")) {
				return fmt.Sprintf(
					"; %s is an alias of %s, and programs that go by that ask for %s/%s",
					host,
					last,
					kind,
					last,
				)
			}
		}
	}
	return ""
}

// isOf reports whether a principal is that of a host itself, which has its keys in the
// usual table. Other services may run elsewhere, or have tables of their own.
func isOf(principal, host string) bool {
	kind, name, _ := strings.Cut(principal, "/")
	name, _, _ = strings.Cut(name, "@")
	return kind == "host" && (strings.EqualFold(name, host) || strings.HasPrefix(name, host+"."))
}

// keyReadings compares the key version of a ticket with the key tables of the
// servers that were seen.
func keyReadings(v *scene.Scene, w *scene.Wants, t *scene.Try, login *fact.Fact) []gate.Reading {
	ticket := login.Login.Ticket
	if ticket == nil {
		return nil
	}
	w.Add(scene.Want{Look: fact.LookKeyTable, At: fact.Server, Gate: gate.Account})
	for _, at := range v.Set.Vantages {
		for _, f := range v.Facts(at.ID, fact.LookKeyTable) {
			if f.KeyTable == nil {
				continue
			}
			var versions, kinds []int
			for _, e := range f.KeyTable.Entries {
				if e.Principal == ticket.Service {
					versions, kinds = append(versions, e.Version), append(kinds, e.Encryption)
				}
			}
			r := gate.Reading{
				Gate:     gate.Account,
				Cause:    "login/key-version",
				Strength: gate.Read,
				Reach:    gate.Elsewhere,
				Because:  scene.FactIDs(login, f),
				Vantage:  at.ID,
				Values: v.Place(
					t,
					catalogue.Values{"principal": ticket.Service, "place": f.KeyTable.Path, "server": at.Host},
				),
			}
			switch {
			case len(versions) == 0 && !isOf(ticket.Service, at.Host):
				continue // the service may run on another host
			case len(versions) == 0:
				r.Summary = fmt.Sprintf("%s on %s holds no key of %s, which tickets for it are made with",
					f.KeyTable.Path, at.Host, ticket.Service)
				if f.KeyTable.Absent {
					r.Summary = fmt.Sprintf("%s has no %s, and so no key that tickets for %s are made with",
						at.Host, f.KeyTable.Path, ticket.Service)
				}
			case !slices.Contains(versions, ticket.Version):
				r.Summary = fmt.Sprintf(
					"the ticket for %s is made with version %d of its key, and %s on %s holds only version %s",
					ticket.Service,
					ticket.Version,
					f.KeyTable.Path,
					at.Host,
					foreign.Numbers(versions),
				)
			case !slices.Contains(kinds, ticket.Encryption):
				r.Summary = fmt.Sprintf(
					"the ticket for %s is encrypted by kind %d, and %s on %s holds keys of kind %s only",
					ticket.Service,
					ticket.Encryption,
					f.KeyTable.Path,
					at.Host,
					foreign.Numbers(kinds),
				)
			default:
				continue
			}
			return []gate.Reading{r}
		}
	}
	return nil
}
