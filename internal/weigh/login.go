package weigh

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"uakari/internal/fact"
	"uakari/internal/trail"
)

// loginCode says what a protocol's refusal means.
type loginCode struct {
	code  string // as the protocol has it; a part of it where it ends in "*"
	text  string // that must be in the server's words; "": any
	cause string
	most  trail.Certainty // how sure that is from the code alone; "": proven
}

// loginCodes is refusals by protocol, the most telling first: the SQLSTATEs of
// PostgreSQL (manual, appendix A), result codes of LDAP (RFC 4511 appendix A,
// with the sub-codes that one directory writes into its text), status codes of
// HTTP (RFC 9110), enhanced codes of mail (RFC 3463, RFC 4954), response codes
// of IMAP (RFC 5530), errors of Redis (its manual, "ACL") and of MariaDB and
// MySQL (their manuals, "Error Codes").
var loginCodes = map[string][]loginCode{
	"postgres": {
		{"28000", "no pg_hba.conf entry", "login/not-from-here", ""}, {"28000", "pg_hba.conf rejects", "login/not-from-here", ""},
		{"28000", "is not permitted to log in", "login/disabled", ""}, {"28000", "does not exist", "login/unknown-account", ""},
		{"28000", "requires a valid client certificate", "login/mechanism-off", ""}, {"28000", "Peer authentication failed", "login/mechanism-off", ""}, {"28000", "Ident authentication failed", "login/mechanism-off", ""},
		{"mechanism", "", "login/mechanism-off", ""}, {"28P01", "", "login/rejected", trail.Likely}, {"28000", "", "login/rejected", trail.Likely},
		{"55000", "not currently accepting connections", "login/closed-for-all", ""}, {"3D000", "", "login/no-such-resource", ""}, {"53300", "", "login/too-many-sessions", ""}, {"42501", "", "login/no-right", ""},
	},
	"ldap": {
		{"49", "policy: passwordExpired", "login/secret-expired", ""}, {"49", "policy: accountLocked", "login/locked", ""},
		{"49", "data 525", "login/unknown-account", ""}, {"49", "data 52e", "login/wrong-secret", ""}, {"49", "data 530", "login/policy-blocks", trail.Likely},
		{"49", "data 532", "login/secret-expired", ""}, {"49", "data 533", "login/disabled", ""}, {"49", "data 701", "login/account-expired", ""},
		{"49", "data 773", "login/must-change", ""}, {"49", "data 775", "login/locked", ""}, {"49", "", "login/rejected", trail.Likely},
		{"32", "", "login/rejected", trail.Likely}, {"8", "", "login/mechanism-off", ""}, {"13", "", "login/mechanism-off", ""}, {"48", "", "login/mechanism-off", ""},
		{"50", "", "login/no-right", ""}, {"52", "", "login/directory-down", trail.Likely}, {"51", "", "login/directory-down", trail.Likely}, {"53", "", "login/rejected", trail.Likely},
	},
	"http":  {{"mechanism", "", "login/mechanism-off", ""}, {"401", "", "login/rejected", trail.Likely}, {"403", "", "login/no-right", trail.Likely}, {"429", "", "login/locked", trail.Possible}},
	"redis": {{"WRONGPASS", "", "login/rejected", trail.Likely}, {"NOPERM", "", "login/no-right", ""}, {"ERR", "without any password configured", "login/mechanism-off", ""}, {"ERR", "", "login/rejected", trail.Likely}},
	"smtp": {{"mechanism", "", "login/mechanism-off", ""}, {"535*", "", "login/rejected", trail.Likely}, {"534*", "", "login/mechanism-off", ""}, {"538*", "", "login/mechanism-off", ""}, {"504*", "", "login/mechanism-off", ""},
		{"503*", "", "login/mechanism-off", trail.Likely}, {"530*", "", "login/mechanism-off", trail.Likely}, {"454*", "", "login/directory-down", trail.Likely}},
	"imap": {{"mechanism", "", "login/mechanism-off", ""}, {"AUTHENTICATIONFAILED", "", "login/rejected", trail.Likely}, {"AUTHORIZATIONFAILED", "", "login/no-right", ""}, {"EXPIRED", "", "login/secret-expired", ""},
		{"PRIVACYREQUIRED", "", "login/mechanism-off", ""}, {"UNAVAILABLE", "", "login/directory-down", ""}, {"LIMIT", "", "login/too-many-sessions", ""}, {"NO", "", "login/rejected", trail.Likely}},
	"mysql": {{"1045", "", "login/rejected", trail.Likely}, {"1698", "", "login/mechanism-off", trail.Likely}, {"1251", "", "login/mechanism-off", ""}, {"1524", "", "login/mechanism-off", ""}, {"mechanism", "", "login/mechanism-off", ""},
		{"1044", "", "login/no-right", ""}, {"1049", "", "login/no-such-resource", ""}, {"1040", "", "login/too-many-sessions", ""}, {"1203", "", "login/too-many-sessions", ""}, {"1226", "", "login/too-many-sessions", ""},
		{"1129", "", "login/host-blocked", ""}, {"1130", "", "login/not-from-here", ""}, {"4151", "", "login/locked", ""}, {"3118", "", "login/locked", ""}, {"4150", "", "login/locked", ""}, {"3955", "", "login/locked", ""},
		{"1820", "", "login/must-change", ""}, {"1862", "", "login/secret-expired", ""}},
	// RFC 4120 section 7.5.9.
	"krb5": {{"6", "", "login/unknown-account", ""}, {"18", "", "login/locked", trail.Likely}, {"1", "", "login/account-expired", ""}, {"23", "", "login/secret-expired", ""}, {"24", "", "login/wrong-secret", ""},
		{"37", "", "login/clock-skew", ""}, {"14", "", "login/mechanism-off", ""}, {"12", "", "login/policy-blocks", trail.Likely}, {"7", "", "login/no-principal", ""}, {"8", "", "login/duplicate-principal", ""},
		{"27", "", "login/no-principal", trail.Likely}, {"13", "", "login/policy-blocks", trail.Likely}, {"", "", "login/rejected", trail.Likely}},
	// MS-ERREF section 2.3.1.
	"smb": {{"C0000064", "", "login/unknown-account", ""}, {"C000006A", "", "login/wrong-secret", ""}, {"C0000234", "", "login/locked", ""}, {"C0000072", "", "login/disabled", ""},
		{"C0000193", "", "login/account-expired", ""}, {"C0000071", "", "login/secret-expired", ""}, {"C0000224", "", "login/must-change", ""}, {"C000006F", "", "login/policy-blocks", trail.Likely},
		{"C0000070", "", "login/not-from-here", ""}, {"C000006E", "", "login/policy-blocks", trail.Likely}, {"C000015B", "", "login/no-right", ""}, {"C0000022 share", "", "login/no-right", ""}, {"C0000022", "", "login/no-right", trail.Likely},
		{"C00000CC", "", "login/no-such-resource", ""}, {"C00000D0", "", "login/too-many-sessions", ""}, {"C0000133", "", "login/clock-skew", ""}, {"C000005E", "", "login/directory-down", ""},
		{"C0000192", "", "login/directory-down", ""}, {"C00000BB", "", "login/mechanism-off", trail.Likely}, {"", "", "login/rejected", trail.Likely}},
	"ssh": {{"second-factor", "", "login/second-factor", ""}, {"too-many", "", "login/key-refused", trail.Likely}, {"mechanism", "", "login/mechanism-off", ""}, {"", "", "login/rejected", trail.Likely}},
}

// loginLines is lines of a server's log that say why a login was refused, the
// most telling first. The account must be in the line, or in one shortly
// before it.
var loginLines = map[string][]struct{ text, cause string }{
	"ssh": {
		{"not allowed because account is locked", "login/locked"}, {"account temporarily locked", "login/locked"}, {"with correct key but not from a permitted host", "login/not-from-here"}, {"access denied for user", "login/not-from-here"},
		{"not in PubkeyAccepted", "login/key-refused"}, {"not met by user", "login/no-right"},
		{"not allowed because not listed in AllowUsers", "login/no-right"}, {"not allowed because not in any group", "login/missing-group"}, {"not allowed because none of user's groups are listed in AllowGroups", "login/missing-group"},
		{"not allowed because listed in DenyUsers", "login/no-right"}, {"not allowed because a group is listed in DenyGroups", "login/no-right"},
		{"not allowed because shell", "login/disabled"}, {"ROOT LOGIN REFUSED", "login/not-from-here"}, {"(account expired)", "login/account-expired"}, {"account has expired", "login/account-expired"}, {"Account expired", "login/account-expired"},
		// "invalid user" in later lines is said of barred accounts too.
		{"Invalid user ", "login/unknown-account"},
		{"expired password", "login/secret-expired"}, {"password has expired", "login/secret-expired"}, {"nologin", "login/closed-for-all"}, {"System is going down", "login/closed-for-all"},
		{"Partial password for", "login/second-factor"}, {"Partial publickey for", "login/second-factor"}, {"Partial keyboard-interactive", "login/second-factor"},
		{"bad ownership or modes", "login/key-too-open"}, {"Failed publickey for", "login/key-refused"}, {"Failed password for", "login/wrong-secret"},
	},
	"postgres": {
		{"does not exist", "login/unknown-account"}, {"has an expired password", "login/secret-expired"}, {"has no password assigned", "login/wrong-secret"},
		{"Password does not match", "login/wrong-secret"}, {"no pg_hba.conf entry", "login/not-from-here"},
	},
	"imap": {{"unknown user", "login/unknown-account"}, {"Password mismatch", "login/wrong-secret"}, {"password mismatch", "login/wrong-secret"}, {"account disabled", "login/disabled"}},
	"http": {{"was not found in", "login/unknown-account"}, {"password mismatch", "login/wrong-secret"}, {"Password Mismatch", "login/wrong-secret"}, {"not found: ", "login/unknown-account"}},
	"smtp": {{"user not found", "login/unknown-account"}, {"authentication failure", "login/wrong-secret"}},
}

// loginReadings reads the account gate: the protocol's own word for the one
// try, and what the server knows of the account where that says more.
func (v *view) loginReadings(w *wants, t *try) []Reading {
	if r, ok := v.wayReading(t); ok {
		return []Reading{r}
	}
	if v.ask.Account == "" || t.symptom != Fine {
		return nil
	}
	target := t.target
	target.Account = v.ask.Account
	account := v.accountOf(w, t)
	if locked, ok := v.lockedBefore(t, account); ok {
		return []Reading{locked}
	}
	if account != nil && account.Account == nil && account.Failed == nil || v.mayLock(account) {
		return nil // the state before the try is on its way, or forbids it
	}
	keeps, done := v.keptAccount(w, t)
	shut, barred := keeps.untried(v, t)
	if barred && shut.Cause == "login/locked" {
		return []Reading{shut}
	}
	// Whose server it is, and what its log held before the try, is known first:
	// the one may forbid the try, and lines of files have no other time.
	if ready := done && !keeps.forbids() && v.serversKnown() && v.serviceLooked(t); ready && (t.server == "" || v.scheme.Wire != "ssh" || account != nil) {
		w.add(Want{Look: fact.LookLogin, At: fact.Client, Target: target, Gate: Account})
	}
	for _, f := range v.facts(v.client, fact.LookLogin) {
		if f.Login == nil || f.Order.Target != target {
			continue
		}
		switch l := f.Login; l.Outcome {
		case fact.LoginAccepted:
			if strings.Contains(l.Text, "policy: changeAfterReset") {
				return []Reading{{Gate: Account, Cause: "login/must-change", Apart: true, Because: factIDs(f), Vantage: v.client, Values: v.place(t, values{"account": l.Account, "server": v.answering(t)}),
					Summary: fmt.Sprintf("%s is accepted, and must change its password before anything else", l.Account)}}
			}
			accepted := Reading{Gate: Account, Because: factIDs(f), Vantage: v.client, Summary: fmt.Sprintf("%s is accepted, by %s", l.Account, l.Mechanism)}
			list := append(append(v.behindLogin(w, t, f, account), v.keyReadings(w, t, f)...), accepted)
			list = append(list, v.rightReadings(w, t, f)...)
			if r, ok := keeps.missing(v, t); ok {
				list = append(list, r)
			}
			if r, ok := v.ownKey(t, f); ok {
				list = append(list, r)
			}
			return list
		case fact.LoginWithheld, fact.LoginFailed:
			if barred {
				return []Reading{shut} // no need of a try to know that
			}
		case fact.LoginRefused:
			refused := []Reading{v.refusedLogin(w, t, f, account, keeps)}
			if r, ok := v.ownKey(t, f); ok {
				refused = append(refused, r)
			}
			if r, ok := keeps.behind(v, t); ok && r.Cause != refused[0].Cause {
				refused = append(refused, r)
			}
			if refused[0].Cause == "login/not-from-here" && t.server != "" {
				w.add(Want{Look: fact.LookAccess, At: fact.Server, On: t.server, Target: fact.Target{Port: t.target.Port}, Gate: Door})
				if r, ok := v.reverseReading(w, t, v.localAddress(t)); ok {
					refused = append(refused, r)
				}
			}
			return refused
		}
	}
	return nil
}

// wayReading reads a server that does not offer the way to sign in that the
// card says its clients use. No try is needed to know that.
func (v *view) wayReading(t *try) (Reading, bool) {
	c := t.sessions
	if v.ask.Card == nil || v.ask.Card.Account == nil || v.ask.Card.Account.Mechanism == "" || c.reply == nil || len(c.reply.Reply.Ways) == 0 {
		return Reading{}, false
	}
	want, offered := v.ask.Card.Account.Mechanism, c.reply.Reply.Ways
	if slices.ContainsFunc(offered, func(w string) bool { return strings.EqualFold(w, want) }) {
		return Reading{}, false
	}
	return Reading{Gate: Account, Cause: "login/mechanism-off", Apart: true, Because: factIDs(c.reply), Vantage: v.client,
		Summary: fmt.Sprintf("the card's clients sign in by %s, and the server offers %s", want, strings.Join(offered, ", ")),
		Values:  v.place(t, values{"mechanism": want, "server": v.answering(t)})}, true
}

func (v *view) refusedLogin(w *wants, t *try, f, account *fact.Fact, keeps *kept) Reading {
	l := f.Login
	r := Reading{Gate: Account, Cause: "login/rejected", Apart: true, Because: factIDs(f), Vantage: v.client, Most: trail.Likely,
		Values: v.place(t, values{"account": l.Account, "mechanism": l.Mechanism, "server": v.answering(t), "text": l.Text})}
	for _, c := range loginCodes[v.scheme.Wire] {
		if codeIs(c.code, l.Code) && strings.Contains(l.Text, c.text) {
			r.Cause, r.Most = c.cause, c.most
			break
		}
	}
	words := strings.TrimSpace(l.Code + " " + l.Text)
	if r.Cause == "login/mechanism-off" && len(l.Offered) > 0 {
		words = strings.TrimSpace(words + "; it offers " + strings.Join(l.Offered, ", "))
	}
	for part, meaning := range wordsMean {
		if strings.Contains(l.Text, part) {
			words += "; " + meaning
		}
	}
	r.Summary = fmt.Sprintf("%s is refused by %s: %s", l.Account, l.Mechanism, words)
	v.ticketWords(w, t, l, &r)
	if r.Cause == "login/rejected" || l.Code == "too-many" {
		r.Short = []string{"the protocol does not say why; the server's log or its accounts do"}
		v.loginReason(w, t, f, &r)
		v.accountReason(t, f, account, &r)
		if r.Cause == "login/rejected" || r.Cause == "login/no-right" || r.Cause == "login/missing-group" {
			v.sshListReason(w, t, f, account, &r)
			v.mysqlListReason(w, t, f, &r)
		}
		keeps.reason(v, t, f, &r)
	}
	r.Summary += v.hbaWords(w, t, f, &r)
	return r
}

// wordsMean is what words of servers mean that few remember.
var wordsMean = map[string]string{
	"Peer authentication failed":          "its list lets an account in over the local socket only for the system's user of the same name (peer), whatever secret is sent",
	"Ident authentication failed":         "its list asks the client's host who the user is (ident), and takes no secret",
	"requires a valid client certificate": "its list lets this account in by a certificate (clientcert, or the method cert)",
	"certificate authentication failed":   "the name in the certificate must be the account's, or one that a map of the server gives it (the method cert)",
}

func codeIs(pattern, code string) bool {
	if prefix, ok := strings.CutSuffix(pattern, "*"); ok {
		return strings.HasPrefix(code, prefix)
	}
	return pattern == "" || pattern == code
}

// loginReason looks for this try in the server's log, read after it.
func (v *view) loginReason(w *wants, t *try, f *fact.Fact, r *Reading) {
	if t.server == "" {
		return
	}
	after := fact.Target{Port: t.target.Port, Scheme: t.target.Scheme, Again: 1}
	w.add(Want{Look: fact.LookService, At: fact.Server, On: t.server, Target: after, Gate: Account})
	for _, s := range v.facts(t.server, fact.LookService) {
		if s.Service == nil || s.Order.Target.Again != 1 {
			continue
		}
		lines := v.linesOfTry(t, s, f)
		if cause, line := v.cardReason(lines, "login"); cause != "" {
			r.Cause, r.Most, r.Short = cause, "", nil
			r.Summary = fmt.Sprintf("%s is refused, and the log of %s says why: %q", f.Login.Account, v.host(t.server), shortened(line))
			r.Because = append(r.Because, s.ID)
			return
		}
		for _, known := range loginLines[v.scheme.Wire] {
			at := slices.IndexFunc(lines, func(line string) bool { return strings.Contains(line, known.text) })
			if at < 0 {
				continue
			}
			r.Cause, r.Most, r.Short = known.cause, "", nil
			if known.text == "Failed password for" {
				// A locked password, which fits nothing, is logged the same way.
				r.Most, r.Short = trail.Likely, []string{"a password that is locked is refused in the same words; the account's state was not read"}
			}
			r.Summary = fmt.Sprintf("%s is refused, and the log of %s says why: %q", f.Login.Account, v.host(t.server), shortened(lines[at]))
			r.Because = append(r.Because, s.ID)
			return
		}
	}
}

func shortened(line string) string {
	const most = 160
	if len(line) > most {
		return strings.ToValidUTF8(line[:most], "") + "…"
	}
	return line
}

// linesOfTry is the log lines that belong to a try: those that name its
// account, or follow one that does, and were written since it began. Lines of
// files have no time here: they belong to it if they were not there before.
func (v *view) linesOfTry(t *try, s, login *fact.Fact) []string {
	began := login.At.Add(-time.Duration(login.Login.TookMS)*time.Millisecond - 2*time.Second)
	var list []string
	near := 0
	take := func(line string) {
		if strings.Contains(line, login.Login.Account) {
			near = 3
		}
		if near > 0 {
			list = append(list, line)
			near--
		}
	}
	before := v.linesBefore(t)
	for _, p := range s.Service.Programs {
		for _, u := range p.Units {
			for _, line := range u.Log {
				if !line.At.IsZero() && line.At.After(began) {
					take(line.Text)
				}
			}
		}
		for _, file := range p.Logs {
			for _, line := range file.Lines {
				if !slices.Contains(before, line) {
					take(line)
				}
			}
		}
	}
	return list
}

// serversKnown reports whether every server's side has said which addresses it
// has, so that one which is not the server will not turn out to be it later.
func (v *view) serversKnown() bool {
	return !slices.ContainsFunc(v.set.Vantages, func(at fact.Vantage) bool {
		return at.Role == fact.Server && len(v.facts(at.ID, fact.LookAddresses)) == 0
	})
}

// serviceLooked reports whether the server's service was looked at, with its
// log, or there is none to look at.
func (v *view) serviceLooked(t *try) bool {
	return t.server == "" || slices.ContainsFunc(v.facts(t.server, fact.LookService), func(f *fact.Fact) bool { return f.Order.Target.Again == 0 })
}

// linesBefore is what the log files held when the service was first looked at.
func (v *view) linesBefore(t *try) []string {
	var list []string
	for _, f := range v.facts(t.server, fact.LookService) {
		if f.Service == nil || f.Order.Target.Again != 0 {
			continue
		}
		for _, p := range f.Service.Programs {
			for _, file := range p.Logs {
				list = append(list, file.Lines...)
			}
		}
	}
	return list
}

// untriedLogin says why the login rung was not seen though an account was
// given.
func (v *view) untriedLogin() string {
	for _, f := range v.set.Facts {
		if k := (kept{f: &f}); f.Accounts != nil {
			for i := range f.Accounts.List {
				if k.state = &f.Accounts.List[i]; k.state.Name == v.ask.Account && k.forbids() {
					return fmt.Sprintf("%s was not tried: %d failures count, and the next one would lock it", k.state.Name, k.state.Failures)
				}
			}
		}
		if v.mayLock(&f) {
			return fmt.Sprintf("%s was not tried: %d failures count, and the next one would lock it", f.Account.Name, f.Account.Failures)
		}
	}
	for _, f := range v.facts(v.client, fact.LookLogin) {
		if f.Login != nil && (f.Login.Outcome == fact.LoginWithheld || f.Login.Outcome == fact.LoginFailed) {
			return fmt.Sprintf("%s was not tried: %s", f.Login.Account, f.Login.Text)
		}
	}
	return ""
}
