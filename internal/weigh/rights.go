package weigh

import (
	"fmt"
	"strings"

	"uakari/internal/fact"
)

// rightReadings reads what an account that was accepted may not do, of what
// the card wants it to: by what its own session was told, and, of paths, by
// the server's files.
func (v *view) rightReadings(w *wants, t *try, login *fact.Fact) []Reading {
	var list []Reading
	account := login.Login.Account
	for _, lack := range login.Login.Lacks {
		if lack.Unknown != "" {
			continue
		}
		r := Reading{Gate: Account, Cause: "login/no-right", Apart: true, Because: factIDs(login), Vantage: v.client,
			Values: v.place(t, values{"account": account, "level": lack.Level})}
		may := strings.ToUpper(lack.Right.May)
		if lack.Level != lack.Right.On && strings.HasPrefix(lack.Level, "schema ") {
			may = "USAGE"
		}
		if lack.Absent {
			r.Cause, r.Summary = "login/no-such-resource", fmt.Sprintf("%s is accepted, and there is no %s, which the card speaks of", account, lack.Level)
			list = append(list, r)
			continue
		}
		r.Summary = fmt.Sprintf("%s is accepted, and lacks %s on the %s", account, may, lack.Level)
		if lack.Level != lack.Right.On && lack.Level != "table "+lack.Right.On {
			r.Summary += fmt.Sprintf(", through which it must go for %s on %s", strings.ToUpper(lack.Right.May), lack.Right.On)
		}
		grant, revoke := grantOf(v.scheme.Wire, may, lack.Level, account)
		r.Values["revoke"] = revoke
		if v.scheme.Wire == "mysql" {
			r.Values["granted"] = grant
		} else {
			r.Values["grant"], r.Values["database"] = grant, databaseOf(t.target.Path, account)
		}
		list = append(list, r)
	}
	if v.ask.Card == nil || v.ask.Card.Account == nil || t.server == "" {
		return list
	}
	for _, right := range v.ask.Card.Account.Rights {
		if !strings.HasPrefix(right.On, "/") {
			continue
		}
		target := fact.Target{Account: account, Path: right.On}
		w.add(Want{Look: fact.LookPathRight, At: fact.Server, On: t.server, Target: target, Gate: Account})
		for _, f := range v.facts(t.server, fact.LookPathRight) {
			if f.PathRight == nil || f.Order.Target != target || f.PathRight.Why == "" {
				continue
			}
			at := f.PathRight
			list = append(list, Reading{Gate: Account, Cause: "login/path-right", Apart: true, Because: factIDs(login, f), Vantage: t.server,
				Summary: fmt.Sprintf("%s is accepted, and does not get to %s: %s", account, right.On, at.Why),
				Values:  v.place(t, values{"account": account, "user": account, "level": at.Level, "mode": at.Mode, "chmod": at.Grant})})
		}
	}
	return list
}

// databaseOf is the database that an endpoint names, or the one that goes by an
// account's name.
func databaseOf(path, account string) string {
	name, _, _ := strings.Cut(strings.Trim(path, "/"), "?")
	return orElse(name, account)
}

// grantOf is the words of SQL that give a right, and take it again.
func grantOf(wire, may, level, account string) (grant, revoke string) {
	kind, name, _ := strings.Cut(level, " ")
	on, who := strings.ToUpper(kind)+" "+name, account
	if wire == "mysql" {
		on, who = name, account+"@HOST"
		if kind == "database" {
			on += ".*"
		}
	}
	return fmt.Sprintf("GRANT %s ON %s TO %s", may, on, who), fmt.Sprintf("REVOKE %s ON %s FROM %s", may, on, who)
}
