package login

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"time"

	"uakari/internal/fact"
	"uakari/internal/sheet"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// SignInTry is who signs in, from where, at what, and when.
type SignInTry struct {
	Account string
	From    netip.Addr // invalid: not known
	Host    string     // of the endpoint; "": none in particular
	Port    uint16
	At      time.Time
}

// SignInVerdict is what a sheet's policies say of one try.
type SignInVerdict struct {
	Do      string   // "allow", "refuse" or "require"
	Require string   // what is required
	Rule    int      // the rule that decides, from 1; 0: none, what holds otherwise
	Name    string   // of the rule
	Unsure  string   // why an earlier rule may decide instead; "" if none may
	Passed  []string // the rules before it, and why each does not apply
}

// JudgeSignIn finds the first rule that applies.
func JudgeSignIn(s *fact.Sheet, try SignInTry) SignInVerdict {
	v := SignInVerdict{Do: s.SignIn.Otherwise}
	if v.Do == "" {
		v.Do = "allow"
	}
	for i, r := range s.SignIn.Rules {
		why, unsure := passedOver(s, &r, try)
		if unsure != "" && v.Unsure == "" {
			v.Unsure = fmt.Sprintf("rule %d (%s) may apply: %s", i+1, r.Name, unsure)
		}
		if why != "" {
			v.Passed = append(v.Passed, fmt.Sprintf("rule %d (%s): %s", i+1, r.Name, why))
			continue
		}
		if unsure != "" {
			continue
		}
		v.Do, v.Require, v.Rule, v.Name = r.Do, r.Require, i+1, r.Name
		return v
	}
	return v
}

// passedOver says why a rule does not apply, or what must be known to tell.
func passedOver(s *fact.Sheet, r *fact.SignInRule, try SignInTry) (why, unsure string) {
	member := func(list []string) bool {
		return slices.Contains(list, try.Account) || slices.Contains(list, fact.AllAddresses) ||
			slices.ContainsFunc(s.SignIn.Accounts[try.Account],
				func(g string) bool { return slices.Contains(list, g) })
	}
	switch {
	case r.Off:
		return "switched off", ""
	case len(r.Who) > 0 && !member(r.Who):
		return "not for " + try.Account, ""
	case member(r.Except):
		return try.Account + " is left out of it", ""
	case len(r.Endpoints) > 0 && try.Host != "" && !slices.ContainsFunc(r.Endpoints,
		func(e string) bool { return names(e, try) }):
		return "not for this endpoint", ""
	case len(r.From) > 0 && try.From.IsValid() && !sheet.HoldsAny(s, r.From, try.From):
		return "not for " + try.From.String(), ""
	case len(r.NotFrom) > 0 && try.From.IsValid() && sheet.HoldsAny(s, r.NotFrom, try.From):
		return try.From.String() + " is left out of it", ""
	case r.Days != "" && !onDay(r.Days, try.At):
		return "not on this day", ""
	case r.Hours != "" && !inHours(r.Hours, try.At):
		return "not at this hour", ""
	case (len(r.From) > 0 || len(r.NotFrom) > 0) && !try.From.IsValid():
		return "", "the address that the account comes from is not known"
	case len(r.Endpoints) > 0 && try.Host == "":
		return "", "the endpoint is not known"
	}
	return "", ""
}

// names reports whether an endpoint of a rule is the one of a try.
func names(endpoint string, try SignInTry) bool {
	host, port, ok := strings.Cut(endpoint, ":")
	return strings.EqualFold(host, strings.TrimSuffix(try.Host, ".")) && (!ok || port == fmt.Sprint(try.Port))
}

func onDay(text string, at time.Time) bool {
	days, err := fact.SignInDays(text)
	return err == nil && days[at.UTC().Weekday()]
}

func inHours(text string, at time.Time) bool {
	from, to, err := fact.SignInHours(text)
	now := at.UTC().Hour()*60 + at.UTC().Minute()
	if from > to { // over midnight
		return err == nil && (now >= from || now < to)
	}
	return err == nil && now >= from && now < to
}

// SignInDoubts is what is odd about the policies themselves: a rule that shuts
// out every administrator from anywhere, and accounts of programs that are
// asked for what only people have.
func SignInDoubts(s *fact.Sheet, at time.Time) []string {
	var doubts []string
	refused, admins := 0, 0
	by := ""
	for account, groups := range s.SignIn.Accounts {
		if s.SignIn.Admins != "" && slices.Contains(groups, s.SignIn.Admins) {
			admins++
			if v := JudgeSignIn(s, SignInTry{Account: account, At: at}); v.Do == "refuse" && v.Unsure == "" {
				refused++
				by = fmt.Sprintf("rule %d (%s)", v.Rule, v.Name)
			}
		}
		if s.SignIn.Services != "" && slices.Contains(groups, s.SignIn.Services) {
			if v := JudgeSignIn(s, SignInTry{Account: account, At: at}); v.Do == "require" {
				doubts = append(
					doubts,
					fmt.Sprintf(
						"rule %d (%s) asks the program account %s for a %s, which no program has",
						v.Rule,
						v.Name,
						account,
						strings.ReplaceAll(v.Require, "-", " "),
					),
				)
			}
		}
	}
	if admins > 0 && refused == admins {
		doubts = append(doubts, fmt.Sprintf("%s shuts out every administrator", by))
	}
	slices.Sort(doubts)
	return doubts
}

// policyMend is what lets an account in under the policies' own order, as the
// evaluator says: an allow before the rule that decides, or the account left out
// of that rule. Of a rule that shuts out every administrator, that comes first.
func policyMend(s *fact.Sheet, try SignInTry, v SignInVerdict) catalogue.Values {
	values := catalogue.Values{}
	if v.Do == "allow" {
		return values
	}
	allow := fact.SignInRule{Name: "let " + try.Account + " in", Do: "allow", Who: []string{try.Account}}
	text := fmt.Sprintf("{name: %s, do: allow, who: [%s]", allow.Name, try.Account)
	if try.From.IsValid() {
		allow.From = []string{try.From.String()}
		text += fmt.Sprintf(", from: [%s]", try.From)
	}
	if try.Host != "" {
		at := fmt.Sprintf("%s:%d", try.Host, try.Port)
		allow.Endpoints = []string{at}
		text += fmt.Sprintf(", endpoints: [%q]", at)
	}
	text += "}"
	at := v.Rule - 1
	if v.Rule == 0 {
		at = len(s.SignIn.Rules)
	}
	passes := func(rules []fact.SignInRule) bool {
		changed, in := *s, *s.SignIn
		in.Rules = rules
		changed.SignIn = &in
		return JudgeSignIn(&changed, try).Do == "allow"
	}
	if passes(slices.Insert(slices.Clone(s.SignIn.Rules), at, allow)) {
		if v.Rule > 0 {
			values["allow"], values["before"] = text, fmt.Sprintf("%d (%s)", v.Rule, v.Name)
		} else {
			values["add"] = text
		}
	}
	if v.Rule > 0 {
		without := slices.Clone(s.SignIn.Rules)
		without[at].Except = append(slices.Clone(without[at].Except), try.Account)
		if passes(without) {
			values["without"] = fmt.Sprintf("%d (%s)", v.Rule, v.Name)
		}
		if v.Do == "refuse" && slices.ContainsFunc(SignInDoubts(s, try.At), func(d string) bool {
			return d == fmt.Sprintf("rule %d (%s) shuts out every administrator", v.Rule, v.Name)
		}) {
			values["admins"] = s.SignIn.Admins
			values["shuts"] = fmt.Sprintf("%d (%s)", v.Rule, v.Name)
		}
	}
	return values
}

// PolicyReadings reads the sheets' sign-in policies for the account.
func PolicyReadings(v *scene.Scene, _ *scene.Wants, t *scene.Try) []gate.Reading {
	if v.Ask.Account == "" {
		return nil
	}
	var readings []gate.Reading
	source := v.LocalAddress(t)
	for i := range v.Ask.Sheets {
		s := &v.Ask.Sheets[i]
		if s.SignIn == nil {
			continue
		}
		try := SignInTry{Account: v.Ask.Account, From: source, Host: t.Target.Name, Port: t.Target.Port,
			At: v.Ask.Began}
		verdict := JudgeSignIn(s, try)
		where := fmt.Sprintf("sheet %s, sign-in rule %d (%s)", s.Name, verdict.Rule, verdict.Name)
		if verdict.Rule == 0 {
			where = fmt.Sprintf("sheet %s, no sign-in rule allows it", s.Name)
		}
		r := gate.Reading{
			Gate:     gate.Account,
			Strength: gate.Read,
			Reach:    gate.Further,
			Because:  t.Climb.IDs(),
			Vantage:  v.Client,
			Values: v.Place(t, catalogue.Values{"account": v.Ask.Account, "server": "sheet " + s.Name,
				"rule": where}),
		}
		maps.Copy(r.Values, policyMend(s, try, verdict))
		switch {
		case verdict.Do == "refuse":
			r.Cause, r.Summary = "login/policy-blocks", fmt.Sprintf("%s refuses %s", where, v.Ask.Account)
		case verdict.Do == "require":
			r.Cause = "login/second-factor"
			r.Summary = fmt.Sprintf(
				"%s requires a %s of %s",
				where,
				strings.ReplaceAll(verdict.Require, "-", " "),
				v.Ask.Account,
			)
			if s.SignIn.Services == "" || !slices.Contains(s.SignIn.Accounts[v.Ask.Account], s.SignIn.Services) {
				r.Strength, r.Harmless = gate.Inferred, true // people can present one
			}
		default:
			continue
		}
		if verdict.Unsure != "" {
			r.Lacks = append(r.Lacks, gate.Lack{Guard: gate.AllRead, Why: verdict.Unsure})
		}
		if _, direct, _ := v.Source(t); !direct && verdict.Rule > 0 &&
			len(s.SignIn.Rules[verdict.Rule-1].From)+len(s.SignIn.Rules[verdict.Rule-1].NotFrom) > 0 &&
			!v.OnSame(t) {
			r.Lacks = append(
				r.Lacks,
				gate.Lack{
					Guard: gate.SameSource,
					Why:   "a translation on the way may show another address than " + source.String(),
				},
			)
		}
		readings = append(readings, r)
	}
	return readings
}
