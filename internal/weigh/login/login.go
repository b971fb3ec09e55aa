// Package login judges the rung "login": accounts, their rights, and why a server rejects
// one, by its reply, its log and its settings.
package login

import (
	"fmt"
	"slices"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/program"
	"uakari/internal/protocol"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// Readings reads the account gate: the protocol's own word for the one
// try, and what the server knows of the account where that says more.
func Readings(v *scene.Scene, w *scene.Wants, t *scene.Try) []gate.Reading {
	if r, ok := wayReading(v, t); ok {
		return []gate.Reading{r}
	}
	if v.Ask.Account == "" || t.Symptom == gate.NotTried {
		return nil
	}
	if !t.Symptom.Good() {
		return behindReadings(v, w, t)
	}
	target := t.Target
	target.Account = v.Ask.Account
	account := accountOf(v, w, t)
	if locked, ok := lockedBefore(v, t, account); ok {
		return []gate.Reading{locked}
	}
	if account != nil && account.Account == nil && account.Failed == nil || mayLock(v, account) {
		return nil // the state before the try is on its way, or forbids it
	}
	keeps, done := keptAccount(v, w, t)
	shut, barred := keeps.untried(v, t)
	if barred && shut.Cause == "login/locked" {
		return []gate.Reading{shut}
	}
	// Whose server it is, and what its log held before the try, is known first:
	// the one may forbid the try, and lines of files have no other time.
	if barred := v.Set.Barred(t.Target); barred != "" {
		t.Unpresented = barred
		return keptReadings(v, w, t, account) // what can be told without presenting it
	}
	if ready := done && !keeps.forbids() && serversKnown(v) && serviceLooked(v, t); ready &&
		(t.Server == "" || !ofHost(v, t) || account != nil || !asksSystem(v, t)) {
		w.Add(scene.Want{Look: fact.LookLogin, At: fact.Client, Target: target, Gate: gate.Account})
	}
	for _, f := range v.Facts(v.Client, fact.LookLogin) {
		if f.Login == nil || f.Order.Target != target {
			continue
		}
		switch l := f.Login; l.Outcome {
		case fact.LoginAccepted:
			return acceptedReadings(v, w, t, f, account, keeps)
		case fact.LoginWithheld, fact.LoginFailed, fact.LoginStalled:
			if barred {
				return []gate.Reading{shut} // no need of a try to know that
			}
			if r, ok := earlier(v, t, false); ok && l.Outcome == fact.LoginWithheld {
				return []gate.Reading{r}
			}
		case fact.LoginRefused, fact.LoginCut, fact.LoginMore:
			if l.Outcome == fact.LoginMore && l.Code != "second-factor" {
				break // what this program does not speak, the client's own may
			}
			return refusedReadings(v, w, t, f, account, keeps)
		}
	}
	return nil
}

// acceptedReadings reads an account that was accepted, and what may still be in its way.
func acceptedReadings(
	v *scene.Scene, w *scene.Wants, t *scene.Try, f, account *fact.Fact, keeps *kept,
) []gate.Reading {
	l := f.Login
	if strings.Contains(l.Text, "policy: changeAfterReset") {
		return []gate.Reading{
			{
				Gate:     gate.Account,
				Cause:    "login/must-change",
				Strength: gate.Read,
				Reach:    gate.Further,
				Because:  scene.FactIDs(f),
				Vantage:  v.Client,
				Values:   v.Place(t, catalogue.Values{"account": l.Account, "server": v.Answering(t)}),
				Summary: fmt.Sprintf(
					"%s is accepted, and must change its password before anything else",
					l.Account,
				),
			},
		}
	}
	accepted := gate.Reading{
		Gate:     gate.Account,
		Strength: gate.Read,
		Because:  scene.FactIDs(f),
		Vantage:  v.Client,
		Summary:  fmt.Sprintf("%s is accepted, by %s", l.Account, l.Mechanism),
	}
	list := append(append(behindLogin(v, w, t, f, account), keyReadings(v, w, t, f)...), accepted)
	list = append(list, rightReadings(v, w, t, f)...)
	if r, ok := keeps.missing(v, t); ok {
		list = append(list, r)
	}
	if r, ok := ownKey(v, t, f); ok {
		list = append(list, r)
	}
	return list
}

// refusedReadings reads why an account was refused, by whatever tells of it.
func refusedReadings(
	v *scene.Scene, w *scene.Wants, t *scene.Try, f, account *fact.Fact, keeps *kept,
) []gate.Reading {
	refused := refusalReadings(v, w, t, f, account, keeps)
	if r, ok := ownKey(v, t, f); ok {
		refused = append(refused, r)
	}
	if r, ok := keeps.behind(v, t); ok && !anyNames(refused, r.Cause) {
		refused = append(refused, r)
	}
	if anyNames(refused, "login/not-from-here") && t.Server != "" {
		w.Add(
			scene.Want{
				Look:   fact.LookAccess,
				At:     fact.Server,
				On:     t.Server,
				Target: fact.Target{Port: t.Target.Port},
				Gate:   gate.Door,
			},
		)
		if r, ok := v.ReverseReading(w, t, v.LocalAddress(t)); ok {
			refused = append(refused, r)
		}
	}
	return refused
}

// anyNames reports whether one of some readings names a cause.
func anyNames(list []gate.Reading, cause string) bool {
	return slices.ContainsFunc(list, func(r gate.Reading) bool { return r.Cause == cause })
}

// wayReading reads a server that does not offer the way to sign in that the
// card says its clients use. No try is needed to know that.
func wayReading(v *scene.Scene, t *scene.Try) (gate.Reading, bool) {
	c := t.Sessions
	if v.Ask.Card == nil || v.Ask.Card.Account == nil || v.Ask.Card.Account.Mechanism == "" || c.Reply == nil ||
		len(c.Reply.Reply.Ways) == 0 {
		return gate.Reading{}, false
	}
	want, offered := v.Ask.Card.Account.Mechanism, c.Reply.Reply.Ways
	if slices.ContainsFunc(offered, func(w string) bool { return strings.EqualFold(w, want) }) {
		return gate.Reading{}, false
	}
	return gate.Reading{
		Gate:     gate.Account,
		Cause:    "login/mechanism-off",
		Strength: gate.Read,
		Reach:    gate.Further,
		Because:  scene.FactIDs(c.Reply),
		Vantage:  v.Client,
		Summary: fmt.Sprintf(
			"the card's clients sign in by %s, and the server offers %s",
			want,
			strings.Join(offered, ", "),
		),
		Values: v.Place(t, catalogue.Values{"mechanism": want, "server": v.Answering(t)}),
	}, true
}

// refusalReadings reads why a try was refused: the protocol's own word, and
// where that is vague, each source on the server that says more. They speak of
// one refusal; the strongest is the cause.
func refusalReadings(v *scene.Scene, w *scene.Wants, t *scene.Try, f, account *fact.Fact, keeps *kept) []gate.Reading {
	l := f.Login
	coded := codeReading(v, w, t, f)
	list := []gate.Reading{coded}
	if coded.Cause == vagueRefusal || l.Code == "too-many" {
		list = append(list, logReadings(v, w, t, f, account)...)
		list = append(list, stateReadings(v, t, f, account)...)
		list = append(list, sshListReadings(v, w, t, f, account)...)
		list = append(list, mysqlListReadings(v, w, t, f)...)
		list = append(list, methodReadings(v, w, t, f)...)
		list = append(list, keeps.refusalReadings(v, w, t, f)...)
		if r, ok := earlier(v, t, true); ok && len(list) == 1 && !readAfter(v, t, f) {
			r.Strength = gate.Inferred
			list = append(list, r)
		}
	}
	if r, ok := fitsNothing(v, t, f, account, coded); ok && len(list) == 1 {
		list = append(list, r)
	}
	if r, ok := plainRefused(v, w, t, f, coded); ok {
		list = append(list[1:], r)
	}
	words, decides := "", []string(nil)
	if t.Server != "" {
		if says, by := v.Policy(t.Server, func(p protocol.Policy) bool { return refusesSo(p, l) }); by != nil {
			words, decides = "; "+says, scene.FactIDs(by)
		}
	}
	if line, path, from := hbaLine(v, w, t, f); from != nil {
		words, decides = fmt.Sprintf(" (line %d of %s decides: %s)", line.Number, path, line.Text), scene.FactIDs(from)
	}
	if other, ok := seenAsOther(v, w, t, f, coded); ok {
		list = append(list[1:], other)
	}
	for i := range list {
		list[i].Of = f.ID
		list[i].Values = gate.Join(coded.Values, list[i].Values)
		list[i].Summary += words
		list[i].Because = gate.Union(coded.Because, gate.Union(list[i].Because, decides))
	}
	return list
}

// fitsNothing reads a password that was refused for an account of the host which is there,
// and in whose state, as root reads it, nothing keeps it out: then it does not fit.
func fitsNothing(v *scene.Scene, t *scene.Try, f, account *fact.Fact, coded gate.Reading) (gate.Reading, bool) {
	if account == nil || account.Account == nil || coded.Cause != vagueRefusal ||
		f.Login.Outcome != fact.LoginRefused {
		return gate.Reading{}, false
	}
	a := account.Account
	byPassword := f.Login.Mechanism == "password" || f.Login.Mechanism == "keyboard-interactive"
	listed := slices.ContainsFunc(v.Facts(t.Server, fact.LookAccess), func(l *fact.Fact) bool {
		return l.Access != nil && len(l.Access.Files) > 0
	})
	if !listed || !byPassword || !a.Known || !a.Shadow || len(a.Others) > 0 || a.NoSecret || a.Locked {
		return gate.Reading{}, false
	}
	r := refusal(v, t, f, "login/wrong-secret", gate.Inferred)
	r.Because = gate.Union(r.Because, scene.FactIDs(account))
	r.Summary = fmt.Sprintf("%s is there and may log in, and the secret that was given does not fit it", a.Name)
	r.Lacks = []gate.Lack{{
		Guard: gate.AllRead, Why: "the secret itself cannot be read; the server's log says whether it failed",
	}}
	return r, true
}

// plainRefused reads a client that was refused without encryption by a list that has a
// line for it over encrypted sessions: the list does not leave it out, its security is
// the wrong one.
func plainRefused(v *scene.Scene, w *scene.Wants, t *scene.Try, f *fact.Fact, coded gate.Reading) (gate.Reading,
	bool) {
	source := v.LocalAddress(t)
	if coded.Cause != "login/not-from-here" || v.Protocol.List != fact.ListHBA || t.Sessions.Handshake != nil ||
		!strings.Contains(f.Login.Text, "no encryption") || t.Server == "" || !source.IsValid() {
		return gate.Reading{}, false
	}
	w.AddListsAndSource(t)
	for _, list := range v.Facts(t.Server, fact.LookAccess) {
		if list.Access == nil {
			continue
		}
		for i := range list.Access.Files {
			file := &list.Access.Files[i]
			lines, whole := program.HBALines(file, true)
			if file.Kind != fact.ListHBA || !whole {
				continue
			}
			line, found := program.HBAFirst(lines, scene.DatabaseOf(t.Target.Path, f.Login.Account), f.Login.Account,
				source)
			if !found || line.Method == "reject" {
				return gate.Reading{}, false
			}
			r := coded
			r.Cause = "settings/wrong-security"
			r.Because = gate.Union(r.Because, scene.FactIDs(list))
			r.Summary = fmt.Sprintf("the client does not encrypt, and %s takes it over encrypted sessions only "+
				"(line %d of %s: %s)", v.Answering(t), line.Number, file.Path, line.Text)
			r.Values = gate.Join(coded.Values, catalogue.Values{
				"right": "an encrypted session (sslmode=require)", "client": v.Host(v.Client),
			})
			return r, true
		}
	}
	return gate.Reading{}, false
}

// refusesSo reports whether a policy is why a login was refused.
func refusesSo(p protocol.Policy, l *fact.Login) bool {
	return slices.ContainsFunc(p.Refuses, func(c protocol.Code) bool {
		return codeIs(c.Code, l.Code) && strings.Contains(l.Text, c.Text)
	})
}

// codeReading reads the protocol's own word for a refusal.
func codeReading(v *scene.Scene, w *scene.Wants, t *scene.Try, f *fact.Fact) gate.Reading {
	l := f.Login
	r := refusal(v, t, f, vagueRefusal, gate.Vague)
	for _, c := range v.Protocol.Codes {
		if l.Outcome == fact.LoginCut {
			break // it said nothing
		}
		if codeIs(c.Code, l.Code) && (strings.Contains(l.Text, c.Text) || c.Text == l.Routine) {
			r.Cause, r.Strength = c.Cause, strengths[c.Sure]
			break
		}
	}
	if m, ok := v.TalkMeans(l.Text); ok {
		r.Cause, r.Strength = m.Cause, gate.Coded
	}
	words := strings.TrimSpace(l.Code + " " + l.Text)
	if r.Cause == "login/mechanism-off" && len(l.Offered) > 0 {
		words = strings.TrimSpace(words + "; it offers " + strings.Join(l.Offered, ", "))
	}
	for _, known := range wordsMean {
		if strings.Contains(l.Text, known.part) {
			words += "; " + known.meaning
		}
	}
	r.Summary = fmt.Sprintf("%s is refused by %s: %s", l.Account, l.Mechanism, words)
	if r.Cause == vagueRefusal || l.Code == "too-many" {
		r.Lacks = []gate.Lack{
			{Guard: gate.OneMeaning, Why: "the protocol does not say why; the server's log or its accounts do"},
		}
	}
	return ticketWords(v, w, t, l, r)
}

// seenAsOther reads a refusal of an address that is not this client's: what
// translates on the way is the fault, unless the server's list, where it was
// read, has no place for the client's own address either.
func seenAsOther(
	v *scene.Scene,
	w *scene.Wants,
	t *scene.Try,
	login *fact.Fact,
	coded gate.Reading,
) (gate.Reading, bool) {
	seen, ok := program.SeenAs(login.Login.Text)
	source := v.LocalAddress(t)
	if !ok || coded.Cause != "login/not-from-here" || !source.IsValid() || seen == source ||
		slices.Contains(v.Own(), seen) {
		return gate.Reading{}, false
	}
	r := coded
	r.Cause = "rules/other-source"
	r.Summary = fmt.Sprintf("%s sees %s, not %s: %s", v.Answering(t), seen, source, coded.Summary)
	r.Values = gate.Join(
		coded.Values,
		catalogue.Values{"seen": seen.String(), "source": source.String(), "at": v.Answering(t)},
	)
	r.Lacks = []gate.Lack{{Guard: gate.AllRead, Why: "whether its list lets the client's own address in was not read"}}
	for _, f := range v.Facts(t.Server, fact.LookAccess) {
		if f.Access == nil || v.Protocol.List != fact.ListHBA {
			continue
		}
		for i := range f.Access.Files {
			lines, whole := program.HBALines(&f.Access.Files[i], t.Sessions.Handshake != nil)
			if f.Access.Files[i].Kind != fact.ListHBA || !whole {
				continue
			}
			line, found := program.HBAFirst(
				lines,
				scene.DatabaseOf(t.Target.Path, login.Login.Account),
				login.Login.Account,
				source,
			)
			if !found || line.Method == "reject" {
				return gate.Reading{}, false
			}
			r.Lacks, r.Because = nil, gate.Union(r.Because, scene.FactIDs(f))
			r.Summary += fmt.Sprintf(" (line %d of %s is for %s)", line.Number, f.Access.Files[i].Path, source)
		}
	}
	return r, true
}

// refusal begins a reading of why a try was refused.
func refusal(v *scene.Scene, t *scene.Try, f *fact.Fact, cause string, strength gate.Strength) gate.Reading {
	l := f.Login
	return gate.Reading{
		Gate:     gate.Account,
		Cause:    cause,
		Reach:    gate.Further,
		Because:  scene.FactIDs(f),
		Vantage:  v.Client,
		Strength: strength,
		Of:       f.ID,
		Values: v.Place(
			t,
			catalogue.Values{"account": l.Account, "mechanism": l.Mechanism, "server": v.Answering(t), "text": l.Text},
		),
	}
}

func codeIs(pattern, code string) bool {
	if prefix, ok := strings.CutSuffix(pattern, "*"); ok {
		return strings.HasPrefix(code, prefix)
	}
	return pattern == "" || pattern == code
}

// vagueRefusal is a refusal whose reason nobody told.
const vagueRefusal = "login/rejected"

// serversKnown reports whether every server's side has said which addresses it
// has, so that one which is not the server will not turn out to be it later.
func serversKnown(v *scene.Scene) bool {
	return !slices.ContainsFunc(v.Set.Vantages, func(at fact.Vantage) bool {
		return at.Role == fact.Server && len(v.Facts(at.ID, fact.LookAddresses)) == 0
	})
}

// serviceLooked reports whether the server's service was looked at, with its
// log, or there is none to look at.
func serviceLooked(v *scene.Scene, t *scene.Try) bool {
	return t.Server == "" ||
		slices.ContainsFunc(
			v.Facts(t.Server, fact.LookService),
			func(f *fact.Fact) bool { return f.Order.Target.Again == 0 },
		)
}

// unpresentedNeeds is what would let an account be presented.
func unpresentedNeeds(v *scene.Scene) string {
	if v.Ask.Withhold != "" {
		return "a run of its own, later"
	}
	return "typing the right endpoint"
}

// Untried says why the login rung was not seen though an account was
// given, and what would let it be.
func Untried(v *scene.Scene, tries []*scene.Try) (why, needs string) {
	for _, f := range v.All {
		if k := (kept{f: f}); f.Accounts != nil {
			for i := range f.Accounts.List {
				if k.state = &f.Accounts.List[i]; k.state.Name == v.Ask.Account && k.forbids() {
					return fmt.Sprintf(
						"%s was not tried: %d failures count, and the next one would lock it",
						k.state.Name,
						k.state.Failures,
					), ""
				}
			}
		}
		if mayLock(v, f) {
			return fmt.Sprintf(
				"%s was not tried: %d failures count, and the next one would lock it",
				f.Account.Name,
				f.Account.Failures,
			), ""
		}
	}
	for _, f := range v.Facts(v.Client, fact.LookLogin) {
		switch l := f.Login; {
		case l == nil:
		case l.Outcome == fact.LoginWithheld || l.Outcome == fact.LoginFailed:
			return fmt.Sprintf("%s was not tried: %s", l.Account, l.Text), l.Needs
		case l.Outcome == fact.LoginMore:
			return fmt.Sprintf("%s was not tried to the end: %s", l.Account, l.Text), "the client's own program"
		case l.Outcome == fact.LoginStalled:
			return fmt.Sprintf("%s was presented, and the server gave no verdict in time", l.Account), ""
		}
	}
	for _, t := range tries {
		if last := t.Last(); last.Unpresented != "" {
			return fmt.Sprintf("%s was not tried: %s", v.Ask.Account, last.Unpresented), unpresentedNeeds(v)
		}
	}
	return "", ""
}
