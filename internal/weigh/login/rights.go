package login

import (
	"fmt"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// rightReadings reads what an account that was accepted may not do, of what
// the card wants it to: by what its own session was told, and, of paths, by
// the server's files.
func rightReadings(v *scene.Scene, w *scene.Wants, t *scene.Try, login *fact.Fact) []gate.Reading {
	var list []gate.Reading
	account := login.Login.Account
	for _, lack := range login.Login.Lacks {
		if lack.Unknown != "" {
			continue
		}
		r := gate.Reading{
			Gate:     gate.Account,
			Cause:    "login/no-right",
			Strength: gate.Read,
			Reach:    gate.Further,
			Because:  scene.FactIDs(login),
			Vantage:  v.Client,
			Values:   v.Place(t, catalogue.Values{"account": account, "level": lack.Level}),
		}
		if lack.Told != "" {
			list = append(list, ownWords(v, lack, r, account))
			continue
		}
		may := strings.ToUpper(lack.Right.May)
		if lack.Level != lack.Right.On && strings.HasPrefix(lack.Level, "schema ") {
			may = "USAGE"
		}
		if lack.Absent {
			r.Cause, r.Summary = "login/no-such-resource", fmt.Sprintf(
				"%s is accepted, and there is no %s, which the card speaks of",
				account,
				lack.Level,
			)
			list = append(list, r)
			continue
		}
		r.Summary = fmt.Sprintf("%s is accepted, and lacks %s on the %s", account, may, lack.Level)
		if lack.Level != lack.Right.On && lack.Level != "table "+lack.Right.On {
			r.Summary += fmt.Sprintf(
				", through which it must go for %s on %s",
				strings.ToUpper(lack.Right.May),
				lack.Right.On,
			)
		}
		grant, revoke := grantOf(v.Protocol.AccountHosts, may, lack.Level, account)
		r.Values["revoke"] = revoke
		if v.Protocol.AccountHosts {
			r.Values["granted"] = grant
		} else {
			r.Values["grant"], r.Values["database"] = grant, scene.DatabaseOf(t.Target.Path, account)
		}
		list = append(list, r)
	}
	if v.Ask.Card == nil || v.Ask.Card.Account == nil || t.Server == "" {
		return list
	}
	for _, right := range v.Ask.Card.Account.Rights {
		if !strings.HasPrefix(right.On, "/") {
			continue
		}
		target := fact.Target{Account: account, Path: right.On}
		w.Add(scene.Want{Look: fact.LookPathRight, At: fact.Server, On: t.Server, Target: target, Gate: gate.Account})
		for _, f := range v.Facts(t.Server, fact.LookPathRight) {
			if f.PathRight == nil || f.Order.Target != target || f.PathRight.Why == "" {
				continue
			}
			at := f.PathRight
			list = append(
				list,
				gate.Reading{
					Gate:     gate.Account,
					Cause:    "login/path-right",
					Strength: gate.Read,
					Reach:    gate.Further,
					Because:  scene.FactIDs(login, f),
					Vantage:  t.Server,
					Summary:  fmt.Sprintf("%s is accepted, and does not get to %s: %s", account, right.On, at.Why),
					Values: v.Place(
						t,
						catalogue.Values{
							"account": account,
							"user":    account,
							"level":   at.Level,
							"mode":    at.Mode,
							"chmod":   at.Grant,
						},
					),
				},
			)
		}
	}
	return list
}

// ownWords reads what the server said itself when the session asked for what
// the endpoint names.
func ownWords(v *scene.Scene, lack fact.LackingRight, r gate.Reading, account string) gate.Reading {
	delete(r.Values, "level")
	r.Strength = gate.Coded
	what := strings.TrimPrefix(lack.Level, "entry ")
	switch {
	case lack.Level == "role":
		r.Gate, r.Cause, r.Summary = gate.Answer, "answer/wrong-role", fmt.Sprintf(
			"%s is accepted, and the server is %s, where this endpoint's clients want one that is %s",
			account, lack.Told, lack.Right.On)
	case lack.Level == "data":
		r.Gate, r.Cause, r.Summary = gate.Answer, "answer/not-ready", fmt.Sprintf(
			"%s is accepted, and the server gives out no data: %s", account, lack.Told)
	case lack.Level == "session":
		r.Cause, r.Of = "login/disabled", "session"
		if changes(lack.Told) {
			r.Cause = "login/must-change"
		}
		r.Summary = fmt.Sprintf("%s is accepted, and gets no session: %q", account, lack.Told)
	case lack.Absent:
		r.Cause, r.Summary = "login/no-such-resource", fmt.Sprintf(
			"%s is accepted, and there is no %s: %s",
			account,
			lack.Level,
			lack.Told,
		)
		if lack.Hidden {
			r.Strength = gate.Told
			const why = "directories may say that of what an account may not see"
			r.Lacks = []gate.Lack{{Guard: gate.OneMeaning, Why: why}}
		}
	case lack.Hidden:
		r.Strength = gate.Told
		r.Summary = fmt.Sprintf(
			"%s is accepted, and is not shown %s (%s): it may not see it, or it is not there",
			account,
			what,
			lack.Told,
		)
		r.Lacks = []gate.Lack{
			{
				Guard: gate.OneMeaning,
				Why:   "directories say the same of what is not there and of what an account may not see",
			},
		}
	case lack.Right.May == "read":
		r.Summary = fmt.Sprintf("%s is accepted, and may not read %s: %s", account, what, lack.Told)
	default:
		r.Summary = fmt.Sprintf(
			"%s is accepted, and may not %s %s: %s",
			account,
			lack.Right.May,
			lack.Right.On,
			lack.Told,
		)
	}
	return r
}

// changes reports whether words are about a password that must be changed.
func changes(text string) bool {
	text = strings.ToLower(text)
	return strings.Contains(text, "expired") || strings.Contains(text, "change") ||
		strings.Contains(text, "set password")
}

// grantOf is the words of SQL that give a right, and take it again.
func grantOf(hosts bool, may, level, account string) (grant, revoke string) {
	kind, name, _ := strings.Cut(level, " ")
	on, who := strings.ToUpper(kind)+" "+name, account
	if hosts {
		on, who = name, account+"@HOST"
		if kind == "database" {
			on += ".*"
		}
	}
	return fmt.Sprintf("GRANT %s ON %s TO %s", may, on, who), fmt.Sprintf("REVOKE %s ON %s FROM %s", may, on, who)
}
