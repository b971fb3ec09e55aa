package login

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"uakari/internal/fact"
	"uakari/internal/program"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// behindReadings reads of an account what can be told while nobody gets so far
// as to present it: what the server keeps of it, what its log says of earlier
// tries, and the key that this client would offer.
func behindReadings(v *scene.Scene, w *scene.Wants, t *scene.Try) []gate.Reading {
	list := keyFileReadings(v, w, t)
	if t.Server == "" || gate.Symptoms[t.Symptom].Open.Has(gate.Session) {
		return list
	}
	if kept := keptReadings(v, w, t, accountOf(v, w, t)); len(kept) > 0 {
		return append(list, kept...)
	}
	if r, ok := earlier(v, t, false); ok {
		list = append(list, r)
	}
	return list
}

// keptReadings reads what the server keeps of an account that nobody presents.
func keptReadings(v *scene.Scene, w *scene.Wants, t *scene.Try, account *fact.Fact) []gate.Reading {
	if t.Server == "" {
		return nil
	}
	if r, ok := lockedBefore(v, t, account); ok {
		return []gate.Reading{r}
	}
	keeps, _ := keptAccount(v, w, t)
	if r, ok := keeps.untried(v, t); ok {
		return []gate.Reading{r}
	}
	if r, ok := closedBefore(v, t, account); ok {
		return []gate.Reading{r}
	}
	if r, ok := mysqlBehind(v, w, t); ok {
		return []gate.Reading{r}
	}
	return sshListReadings(v, w, t, nil, account)
}

// mysqlBehind reads a database that has no such account, or none that may come from this
// client.
func mysqlBehind(v *scene.Scene, w *scene.Wants, t *scene.Try) (gate.Reading, bool) {
	if v.Protocol.List != fact.ListMySQL {
		return gate.Reading{}, false
	}
	w.AddLists(t)
	source := v.SourceOf(t)
	for _, f := range v.Facts(t.Server, fact.LookAccess) {
		if f.Access == nil || !source.IsValid() {
			continue
		}
		for _, file := range f.Access.Files {
			if file.Kind != fact.ListMySQL {
				continue
			}
			cause, text := mysqlAccount(file, v.Host(t.Server), v.Ask.Account, source)
			if cause == "" {
				cause, text = mysqlMay(v, t, f.Access, file, source)
			}
			if cause == "" {
				continue
			}
			r := gate.Reading{Gate: gate.Account, Cause: cause,
				Strength: gate.Read, Reach: gate.Further, Because: scene.FactIDs(f),
				Vantage: t.Server, Summary: text,
				Values: v.Place(t, map[string]string{"account": v.Ask.Account, "server": v.Host(t.Server)})}
			r.Rests.Source = source
			return r, true
		}
	}
	return gate.Reading{}, false
}

// mysqlMay is why a database would not let an account of its list go on: it is locked, has
// no right on the database, or that is not there.
func mysqlMay(
	v *scene.Scene, t *scene.Try, a *fact.Access, list fact.AccessFile, source netip.Addr,
) (cause, text string) {
	here, _, known := program.MySQLAccounts(list, v.Ask.Account, source)
	at := slices.IndexFunc(a.Files, func(f fact.AccessFile) bool { return f.Kind == fact.ListMySQLRights })
	if at < 0 || !known || len(here) != 1 || v.Ask.Account == "" {
		return "", "" // of several that fit, which one the server takes was not worked out
	}
	name, _, _ := strings.Cut(strings.Trim(t.Target.Path, "/"), "?")
	r := program.MySQLRightsOf(a.Files[at], here[0], name)
	switch server := v.Host(t.Server); {
	case r.Locked:
		return "login/locked", fmt.Sprintf("the account %s of the database on %s is locked", here[0], server)
	case name == "", r.Roles:
	case !r.Granted:
		return "login/no-right", fmt.Sprintf("%s has no right on the database %s of %s", here[0], name, server)
	case !r.Database:
		return "login/no-such-resource", fmt.Sprintf("there is no database %s on %s", name, server)
	}
	return "", ""
}

// closedBefore reads an account that could not sign in whatever it presents, by
// what its host says of it.
func closedBefore(v *scene.Scene, t *scene.Try, f *fact.Fact) (gate.Reading, bool) {
	if f == nil || f.Account == nil {
		return gate.Reading{}, false
	}
	a := f.Account
	r := gate.Reading{
		Gate:     gate.Account,
		Strength: gate.Read,
		Reach:    gate.Further,
		Because:  scene.FactIDs(f),
		Vantage:  t.Server,
		Values:   v.Place(t, map[string]string{"account": a.Name, "server": v.Host(t.Server)}),
	}
	switch {
	case a.ClosedBy != "" && a.UID != "0":
		r.Cause, r.Summary = "login/closed-for-all", fmt.Sprintf(
			"%s is there, which shuts out everybody but root",
			a.ClosedBy,
		)
	case !a.Known:
		r.Cause, r.Summary = "login/unknown-account", fmt.Sprintf("%s has no account %s", v.Host(t.Server), a.Name)
		if len(a.Others) > 0 {
			r.Lacks = []gate.Lack{
				{
					Guard: gate.AllRead,
					Why:   "accounts also come from " + strings.Join(a.Others, ", ") + ", which were not asked",
				},
			}
		}
	case !a.Ends.IsZero() && v.Ask.Began.After(a.Ends):
		r.Cause, r.Summary = "login/account-expired", fmt.Sprintf(
			"the account %s ended on %s",
			a.Name,
			a.Ends.Format(time.DateOnly),
		)
	case a.ShellWrong != "":
		r.Cause, r.Summary = "login/disabled", fmt.Sprintf(
			"the shell of %s (%s) ends every session",
			a.Name,
			a.ShellWrong,
		)
		r.Lacks = []gate.Lack{
			{Guard: gate.OneMeaning, Why: "the server may give this account something else than a shell"},
		}
	default:
		return gate.Reading{}, false
	}
	return r, true
}

// keyFileReadings reads the key that SSH clients here would offer.
func keyFileReadings(v *scene.Scene, w *scene.Wants, t *scene.Try) []gate.Reading {
	if !v.Protocol.HostKeys {
		return nil
	}
	target := t.Target
	target.Account = v.Ask.Account
	w.Add(scene.Want{Look: fact.LookKeyFile, At: fact.Client, Target: target, Gate: gate.Account})
	for _, f := range v.Facts(v.Client, fact.LookKeyFile) {
		if f.KeyFile == nil || f.KeyFile.Wrong == "" || f.Order.Target != target {
			continue
		}
		return []gate.Reading{keyTooOpen(v, t, f, v.Ask.Account, f.KeyFile.Wrong)}
	}
	return nil
}
