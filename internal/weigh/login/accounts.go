package login

import (
	"fmt"
	"slices"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/program"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// kept is what a service says of one account that it keeps.
type kept struct {
	f     *fact.Fact
	state *fact.ServiceAccount // nil: there is no such account
}

// bySession is the mechanisms that present a certificate and no secret.
var bySession = map[string]bool{"certificate": true, "EXTERNAL": true}

// keptAccount asks the service for the account, before it is tried. It is done
// when no more is to come; nil if nothing was learnt.
func keptAccount(v *scene.Scene, w *scene.Wants, t *scene.Try) (k *kept, done bool) {
	if t.Server == "" || !v.Protocol.Accounts {
		return nil, true
	}
	w.Add(
		scene.Want{
			Look:   fact.LookAccounts,
			At:     fact.Server,
			On:     t.Server,
			Target: fact.Target{Port: t.Target.Port, Account: v.Ask.Account},
			Gate:   gate.Account,
		},
	)
	for _, f := range v.Facts(t.Server, fact.LookAccounts) {
		done = true
		if f.Accounts == nil || f.Accounts.Of != "" && f.Accounts.Of != v.Ask.Account {
			continue
		}
		found := &kept{f: f}
		for i := range f.Accounts.List {
			if a := &f.Accounts.List[i]; a.Name == v.Ask.Account ||
				v.Protocol.Entries && program.SameEntry(a.Name, v.Ask.Account) {
				found.state = a
			}
		}
		if found.state == nil && f.Accounts.Of == "" && v.Protocol.Entries {
			return nil, true // the list has those whose secret root may see, and no others
		}
		return found, true
	}
	return nil, done
}

// forbids reports whether one more failure would lock the account.
func (k *kept) forbids() bool {
	return k != nil && k.state != nil && k.state.Deny > 0 && k.state.Failures == k.state.Deny-1
}

// reading begins a reading of what the service says of the account.
func (k *kept) reading(v *scene.Scene, t *scene.Try, cause, text string) gate.Reading {
	r := gate.Reading{
		Gate:     gate.Account,
		Cause:    cause,
		Strength: gate.Read,
		Reach:    gate.Further,
		Because:  scene.FactIDs(k.f),
		Vantage:  t.Server,
		Summary:  text,
		Values:   v.Place(t, catalogue.Values{"account": v.Ask.Account, "server": v.Host(t.Server)}),
	}
	if k.f.Accounts.Else != "" {
		r.Lacks = []gate.Lack{{Guard: gate.AllRead, Why: "it may differ by " + k.f.Accounts.Else}}
	}
	return r
}

// shut says by the state of an account why it cannot sign in by a mechanism,
// whatever secret is presented; nothing if that does not say.
func (k *kept) shut(v *scene.Scene, t *scene.Try, mechanism string) (cause, text string) {
	a := k.state
	switch {
	case a == nil:
		return "login/unknown-account", fmt.Sprintf("%s has no account %s", v.Host(t.Server), v.Ask.Account)
	case a.Locked:
		return "login/locked", fmt.Sprintf("%s is locked", a.Name)
	case a.NoLogin:
		return "login/disabled", fmt.Sprintf("%s is there, and may not sign in", a.Name)
	case !a.SecretEnds.IsZero() && v.Ask.Began.After(a.SecretEnds) && !bySession[mechanism]:
		return "login/secret-expired", fmt.Sprintf(
			"the password of %s ended on %s",
			a.Name,
			a.SecretEnds.Format("2006-01-02 15:04"),
		)
	}
	return "", ""
}

// behind reads what keeps an account from a database even when its secret is
// taken. A server looks at it only then, so that it is never why a secret was
// refused, and a cause of its own.
func (k *kept) behind(v *scene.Scene, t *scene.Try) (gate.Reading, bool) {
	if k == nil || k.state == nil || v.Protocol.OwnSecret == "" {
		return gate.Reading{}, false
	}
	cause, text := k.barred(v, t)
	return k.reading(v, t, cause, text), cause != ""
}

func (k *kept) barred(v *scene.Scene, t *scene.Try) (cause, text string) {
	a, where := k.state, v.Host(t.Server)
	database := scene.DatabaseOf(t.Target.Path, v.Ask.Account)
	switch {
	case slices.ContainsFunc(k.f.Accounts.Databases, func(d fact.Database) bool {
		return d.Name == database &&
			d.Closed
	}):
		return "login/closed-for-all", fmt.Sprintf("the database %s takes no connections at all", database)
	case len(k.f.Accounts.Databases) > 0 && !slices.ContainsFunc(k.f.Accounts.Databases,
		func(d fact.Database) bool { return d.Name == database }):
		return "login/no-such-resource", fmt.Sprintf("%s has no database %s", where, database)
	case slices.Contains(a.Barred, database):
		return "login/no-right", fmt.Sprintf(
			"%s may not connect to the database %s: neither it nor a role that it is in has the right",
			a.Name,
			database,
		)
	case a.Limit > 0 && a.Sessions >= a.Limit && !a.Admin:
		return "login/too-many-sessions", fmt.Sprintf(
			"%s has %d sessions open and may have %d",
			a.Name,
			a.Sessions,
			a.Limit,
		)
	}
	return "", ""
}

// untried reads an account that cannot sign in, or not to its database, when
// no secret is there to present.
func (k *kept) untried(v *scene.Scene, t *scene.Try) (gate.Reading, bool) {
	if k == nil {
		return gate.Reading{}, false
	}
	if cause, text := k.shut(v, t, ""); cause != "" {
		return k.reading(v, t, cause, text), true
	}
	return k.behind(v, t)
}

// refusalReadings reads from what the service keeps of the account why a try
// was refused.
func (k *kept) refusalReadings(v *scene.Scene, w *scene.Wants, t *scene.Try, login *fact.Fact) []gate.Reading {
	if k == nil {
		return nil
	}
	l := login.Login
	r := refusal(v, t, login, "", gate.Read)
	r.Lacks = k.reading(v, t, "", "").Lacks
	r.Because = gate.Union(r.Because, scene.FactIDs(k.f))
	switch cause, text := k.shut(v, t, l.Mechanism); {
	case cause != "":
		r.Cause, r.Summary = cause, fmt.Sprintf("%s is refused: %s", l.Account, text)
	case bySession[l.Mechanism]:
		return nil // no secret of the account was asked for
	case byOthers(v, w, t, login):
		return nil // nor was the one that is kept here
	case k.state.Secret == "none":
		r.Cause, r.Summary = "login/wrong-secret", fmt.Sprintf(
			"%s is refused: no password is set for it, so none fits",
			l.Account,
		)
	case k.state.Secret == "md5" && strings.HasPrefix(l.Mechanism, "SCRAM"):
		r.Cause = "login/mechanism-off"
		r.Summary = fmt.Sprintf(
			"%s is refused: its password is kept as md5, and the server asks for %s, which needs it kept that way",
			l.Account,
			l.Mechanism,
		)
	case k.state.Secret == "" || l.Mechanism == "none":
		return nil
	default:
		r.Cause, r.Strength = "login/wrong-secret", gate.Inferred
		r.Summary = fmt.Sprintf("%s is there and may sign in, and the secret that was given does not fit it",
			l.Account)
		r.Lacks = []gate.Lack{
			{Guard: gate.AllRead, Why: "the secret itself cannot be read; the server's log says whether it failed"},
		}
	}
	return []gate.Reading{r}
}

// byOthers reports whether the server sends this account's check to another
// service, by the line of its list or by the word of its refusal: what it keeps
// itself says nothing then.
func byOthers(v *scene.Scene, w *scene.Wants, t *scene.Try, login *fact.Fact) bool {
	line, _, f := hbaLine(v, w, t, login)
	own := []string{"scram-sha-256", "md5", "password"}
	return f != nil && !slices.Contains(own, line.Method) ||
		v.Protocol.OwnSecret != "" && !strings.HasPrefix(login.Login.Text, v.Protocol.OwnSecret)
}

// missing reads a group of the card that an accepted account is not in.
func (k *kept) missing(v *scene.Scene, t *scene.Try) (gate.Reading, bool) {
	if k == nil || k.state == nil || v.Ask.Card == nil || v.Ask.Card.Account == nil || k.state.Admin ||
		v.Protocol.Ungrouped {
		return gate.Reading{}, false
	}
	for _, group := range v.Ask.Card.Account.Groups {
		if !slices.Contains(k.state.Groups, group) {
			return k.reading(
				v,
				t,
				"login/missing-group",
				fmt.Sprintf(
					"%s is accepted, and is not in the group %s, which the card wants, neither by itself nor "+
						"through another",
					k.state.Name,
					group,
				),
			), true
		}
	}
	return gate.Reading{}, false
}
