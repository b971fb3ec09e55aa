package weigh

import (
	"fmt"
	"slices"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/trail"
)

// keepsAccounts is the protocols whose servers keep accounts themselves, and
// can be asked for them on their own host.
var keepsAccounts = []string{"postgres", "ldap", "redis"}

// kept is what a service says of one account that it keeps.
type kept struct {
	f     *fact.Fact
	state *fact.ServiceAccount // nil: there is no such account
}

// keptAccount asks the service for the account, before it is tried. It is done
// when no more is to come; nil if nothing was learnt.
func (v *view) keptAccount(w *wants, t *try) (k *kept, done bool) {
	if t.server == "" || !slices.Contains(keepsAccounts, v.scheme.Wire) {
		return nil, true
	}
	w.add(Want{Look: fact.LookAccounts, At: fact.Server, On: t.server, Target: fact.Target{Port: t.target.Port, Account: v.ask.Account}, Gate: Account})
	for _, f := range v.facts(t.server, fact.LookAccounts) {
		done = true
		if f.Accounts == nil || f.Accounts.Of != "" && f.Accounts.Of != v.ask.Account {
			continue
		}
		found := &kept{f: f}
		for i := range f.Accounts.List {
			if a := &f.Accounts.List[i]; a.Name == v.ask.Account || v.scheme.Wire == "ldap" && strings.EqualFold(a.Name, v.ask.Account) {
				found.state = a
			}
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
func (k *kept) reading(v *view, t *try, cause, text string) Reading {
	r := Reading{Gate: Account, Cause: cause, Apart: true, Because: factIDs(k.f), Vantage: t.server, Summary: text,
		Values: v.place(t, values{"account": v.ask.Account, "server": v.host(t.server)})}
	if k.f.Accounts.Else != "" {
		r.Short = []string{"it may differ by " + k.f.Accounts.Else}
	}
	return r
}

// shut says by the state of an account why it cannot sign in by a mechanism,
// whatever secret is presented; nothing if that does not say.
func (k *kept) shut(v *view, t *try, mechanism string) (cause, text string) {
	a := k.state
	switch {
	case a == nil:
		return "login/unknown-account", fmt.Sprintf("%s has no account %s", v.host(t.server), v.ask.Account)
	case a.Locked:
		return "login/locked", fmt.Sprintf("%s is locked", a.Name)
	case a.NoLogin:
		return "login/disabled", fmt.Sprintf("%s is there, and may not sign in", a.Name)
	case !a.SecretEnds.IsZero() && v.ask.Began.After(a.SecretEnds) && !bySession[mechanism]:
		return "login/secret-expired", fmt.Sprintf("the password of %s ended on %s", a.Name, a.SecretEnds.Format("2006-01-02 15:04"))
	}
	return "", ""
}

// bySession is the mechanisms that present a certificate and no secret.
var bySession = map[string]bool{"certificate": true, "EXTERNAL": true}

// behind reads what keeps an account from a database even when its secret is
// taken. A server looks at it only then, so that it is never why a secret was
// refused, and a cause of its own.
func (k *kept) behind(v *view, t *try) (Reading, bool) {
	if k == nil || k.state == nil || v.scheme.Wire != "postgres" {
		return Reading{}, false
	}
	cause, text := k.barred(v, t)
	return k.reading(v, t, cause, text), cause != ""
}

func (k *kept) barred(v *view, t *try) (cause, text string) {
	a, where := k.state, v.host(t.server)
	database := databaseOf(t.target.Path, v.ask.Account)
	switch {
	case slices.ContainsFunc(k.f.Accounts.Databases, func(d fact.Database) bool { return d.Name == database && d.Closed }):
		return "login/closed-for-all", fmt.Sprintf("the database %s takes no connections at all", database)
	case len(k.f.Accounts.Databases) > 0 && !slices.ContainsFunc(k.f.Accounts.Databases, func(d fact.Database) bool { return d.Name == database }):
		return "login/no-such-resource", fmt.Sprintf("%s has no database %s", where, database)
	case slices.Contains(a.Barred, database):
		return "login/no-right", fmt.Sprintf("%s may not connect to the database %s: neither it nor a role that it is in has the right", a.Name, database)
	case a.Limit > 0 && a.Sessions >= a.Limit && !a.Admin:
		return "login/too-many-sessions", fmt.Sprintf("%s has %d sessions open and may have %d", a.Name, a.Sessions, a.Limit)
	}
	return "", ""
}

// untried reads an account that cannot sign in, or not to its database, when
// no secret is there to present.
func (k *kept) untried(v *view, t *try) (Reading, bool) {
	if k == nil {
		return Reading{}, false
	}
	if cause, text := k.shut(v, t, ""); cause != "" {
		return k.reading(v, t, cause, text), true
	}
	return k.behind(v, t)
}

// reason says, by what the service keeps of the account, why a try was refused.
func (k *kept) reason(v *view, t *try, login *fact.Fact, r *Reading) {
	if k == nil || r.Cause != "login/rejected" {
		return
	}
	by, l := k.reading(v, t, "", ""), login.Login
	switch cause, text := k.shut(v, t, l.Mechanism); {
	case cause != "":
		r.Cause, r.Summary, r.Most, r.Short = cause, fmt.Sprintf("%s is refused: %s", l.Account, text), "", by.Short
	case bySession[l.Mechanism]:
		return // no secret of the account was asked for
	case k.state.Secret == "none":
		r.Cause, r.Summary, r.Most, r.Short = "login/wrong-secret", fmt.Sprintf("%s is refused: no password is set for it, so none fits", l.Account), "", by.Short
	case k.state.Secret == "md5" && strings.HasPrefix(l.Mechanism, "SCRAM"):
		r.Cause, r.Most, r.Short = "login/mechanism-off", "", by.Short
		r.Summary = fmt.Sprintf("%s is refused: its password is kept as md5, and the server asks for %s, which needs it kept that way", l.Account, l.Mechanism)
	case k.state.Secret == "" || l.Mechanism == "none":
		return
	default:
		r.Cause, r.Most = "login/wrong-secret", trail.Likely
		r.Summary = fmt.Sprintf("%s is there and may sign in, and the secret that was given does not fit it", l.Account)
		r.Short = []string{"the secret itself cannot be read; the server's log says whether it failed"}
	}
	r.Because = union(r.Because, factIDs(k.f))
}

// missing reads a group of the card that an accepted account is not in.
func (k *kept) missing(v *view, t *try) (Reading, bool) {
	if k == nil || k.state == nil || v.ask.Card == nil || v.ask.Card.Account == nil || k.state.Admin || v.scheme.Wire == "redis" {
		return Reading{}, false
	}
	for _, group := range v.ask.Card.Account.Groups {
		if !slices.Contains(k.state.Groups, group) {
			return k.reading(v, t, "login/missing-group", fmt.Sprintf("%s is accepted, and is not in the group %s, which the card wants, neither by itself nor through another", k.state.Name, group)), true
		}
	}
	return Reading{}, false
}
