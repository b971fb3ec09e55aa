package weigh

import (
	"slices"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/trail"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// symptom is how the client's own try ended, of the address that decides.
func (s sum) symptom() string {
	for _, t := range s.decide {
		if t.Symptom != gate.NotTried {
			return t.Symptom.String()
		}
	}
	return ""
}

// answers reports whether an address that decides gave all that was asked for.
func (s sum) answers() bool {
	return slices.ContainsFunc(s.decide, func(t *scene.Try) bool { return t.Instead == nil && t.Symptom.Good() })
}

// rejects reports whether the account is rejected at this address.
func rejects(t *scene.Try) bool {
	return t.Instead == nil && t.Symptom.Good() && slices.ContainsFunc(t.Verdict.Causes, func(j *gate.Judged) bool {
		return j.Blocking && j.Gate == gate.Account
	})
}

// vague reports whether the server refused what it need not answer.
func (s sum) vague() bool {
	return slices.ContainsFunc(s.decide, func(t *scene.Try) bool {
		r := t.Last().Climb.Reply
		return r != nil && r.Reply.Vague
	})
}

// accepted reports whether the account that was asked for was presented by the
// client, and accepted.
func accepted(v *scene.Scene) bool {
	return slices.ContainsFunc(v.Facts(v.Client, fact.LookLogin), func(f *fact.Fact) bool {
		return f.Login != nil && f.Login.Account == v.Ask.Account && f.Login.Outcome == fact.LoginAccepted
	})
}

// signsOf is the card's signs, each as the side that it is on has it.
func signsOf(v *scene.Scene, s sum) []trail.Sign {
	if v.Ask.Card == nil {
		return nil
	}
	server := ""
	for _, t := range s.tries {
		if at := t.Last().Server; at != "" {
			server = at
		}
	}
	var list []trail.Sign
	for _, sign := range v.Ask.Card.Signs {
		at := v.Client
		if sign.On == "server" {
			at = server
		}
		list = append(list, signAt(v, sign, at))
	}
	return list
}

// signAt is one sign, as a vantage has it; "" for the vantage: nobody looked at
// the side that it is on.
func signAt(v *scene.Scene, sign fact.Sign, at string) trail.Sign {
	row := trail.Sign{Host: v.Host(at), What: sign.Of(), State: trail.SignUnseen, Saw: "not checked"}
	if at == "" {
		row.Host, row.Saw = "the "+sign.On, "the "+sign.On+" was not checked"
		return row
	}
	for _, f := range v.Facts(at, fact.LookSigns) {
		if f.Failed != nil {
			row.Saw = f.Failed.Why
		}
		if f.Signs == nil {
			continue
		}
		for _, seen := range f.Signs.List {
			switch {
			case seen.Sign != sign:
			case seen.Wrong != "":
				row.State, row.Saw = trail.SignFails, seen.Wrong
			case seen.Unread != "":
				row.Saw = seen.Unread
			default:
				row.State, row.Saw = trail.SignMet, ""
			}
		}
	}
	return row
}

// untried is what was asked for and not tried, in words. None of it is ever
// "Yes".
func untried(v *scene.Scene, s sum, t trail.Trail) []string {
	var list []string
	asked := func(rung trail.Rung) bool {
		return len(v.Ask.Only) == 0 || slices.Contains(v.Ask.Only, string(rung))
	}
	unseen := func(rung trail.Rung) bool {
		return slices.ContainsFunc(t.Rungs, func(f trail.Finding) bool {
			return f.Name == rung && f.State == trail.Unseen
		})
	}
	// A server that nobody could judge is none for a client that does.
	if v.Ask.Endpoint.Verify && !v.Protocol.HostKeys && asked(trail.Certs) && unseen(trail.Certs) {
		list = append(list, "the check of the certificate")
	}
	if t.Account != "" && !t.Accepted && asked(trail.Login) {
		list = append(list, "the login")
	}
	if s.leftOut() && asked(trail.Answer) {
		list = append(list, "the request with its secret parameters")
	}
	if s.vague() && asked(trail.Answer) {
		list = append(list, "a name that the server answers for; add one: dns://HOST/NAME")
	}
	for _, f := range t.Rungs {
		given := slices.Contains(v.Ask.Only, string(f.Name)) && f.State == trail.Unseen
		named := func(text string) bool { return strings.HasSuffix(text, string(f.Name)) }
		if given && !slices.ContainsFunc(list, named) {
			list = append(list, "the rung "+string(f.Name))
		}
	}
	for _, at := range v.Set.Vantages {
		if !at.Implied && v.Missing(at.ID) {
			list = append(list, "the checks from "+at.Host)
		}
	}
	signs := 0
	for _, sign := range t.Signs {
		if sign.State == trail.SignUnseen {
			signs++
		}
	}
	if signs > 0 && len(v.Ask.Only) == 0 {
		list = append(list, foreign.Plural(signs, "sign")+" of the card")
	}
	return list
}
