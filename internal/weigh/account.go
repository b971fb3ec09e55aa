package weigh

import (
	"fmt"
	"slices"
	"strings"

	"uakari/internal/fact"
)

// accountOf is what the server says of the account before it is tried; nil if
// nobody was asked, or no answer is there yet.
func (v *view) accountOf(w *wants, t *try) *fact.Fact {
	if t.server == "" || v.scheme.Wire != "ssh" {
		return nil
	}
	target := fact.Target{Account: v.ask.Account, Scheme: t.target.Scheme, Port: t.target.Port}
	w.add(Want{Look: fact.LookAccount, At: fact.Server, On: t.server, Target: target, Gate: Account})
	for _, f := range v.facts(t.server, fact.LookAccount) {
		if f.Order.Target == target {
			return f
		}
	}
	return nil
}

// mayLock reports whether one more failure would lock the account.
func (v *view) mayLock(f *fact.Fact) bool {
	return f != nil && f.Account != nil && f.Account.Deny > 0 && f.Account.Failures == f.Account.Deny-1
}

// lockedBefore reads an account that is locked for its failures already: it
// is not tried at all.
func (v *view) lockedBefore(t *try, f *fact.Fact) (Reading, bool) {
	if f == nil || f.Account == nil || f.Account.Deny == 0 || f.Account.Failures < f.Account.Deny {
		return Reading{}, false
	}
	a := f.Account
	return Reading{Gate: Account, Cause: "login/locked", Apart: true, Because: factIDs(f), Vantage: t.server,
		Summary: fmt.Sprintf("%s is locked: %d failures count, and %d lock it; it was not tried", a.Name, a.Failures, a.Deny),
		Values:  v.place(t, values{"account": a.Name, "unlock": "faillock --user " + ShellWord(a.Name) + " --reset"})}, true
}

// accountReason says, by the state of the account, why a try was refused.
func (v *view) accountReason(t *try, login, f *fact.Fact, r *Reading) {
	if f == nil || f.Account == nil {
		return
	}
	a, l := f.Account, login.Login
	cause, text := "", ""
	short := r.Short
	began := v.ask.Began
	password := l.Mechanism != "publickey"
	pamCause, pamText := pamReason(a, v.localAddress(t))
	switch {
	case a.ClosedBy != "" && a.UID != "0":
		cause, text = "login/closed-for-all", fmt.Sprintf("%s is there, which shuts out everybody but root", a.ClosedBy)
	case !a.Known:
		cause, text = "login/unknown-account", fmt.Sprintf("%s has no account %s", v.host(t.server), a.Name)
		if len(a.Others) > 0 {
			short = []string{"accounts also come from " + strings.Join(a.Others, ", ") + ", which were not asked"}
		} else {
			short = nil
		}
	case a.Locked && password:
		cause, text, short = "login/locked", fmt.Sprintf("the password of %s is locked", a.Name), nil
	case a.NoSecret && password:
		cause, text, short = "login/mechanism-off", fmt.Sprintf("%s has no password: only keys can let it in", a.Name), nil
	case !a.Ends.IsZero() && began.After(a.Ends):
		cause, text, short = "login/account-expired", fmt.Sprintf("the account %s ended on %s", a.Name, a.Ends.Format("2006-01-02")), nil
	case !password && (a.KeysWrong != "" || len(a.Keys) > 0 && foreignKeys(a, l) != ""):
		cause, text, short = "login/key-too-open", a.KeysWrong, nil
		switch {
		case text == "":
			cause, text = "login/key-refused", foreignKeys(a, l)
		case strings.HasPrefix(text, "there is no"):
			cause = "login/key-refused"
		}
		if a.KeysElse != "" {
			short = []string{"keys may also come from " + a.KeysElse}
		}
	case pamCause != "":
		cause, text, short = pamCause, pamText, nil
		if _, direct, _ := v.source(t); !direct && !v.seenFrom(t, v.localAddress(t)) && !v.onSame(t) {
			short = []string{"a translation on the way may show the server another address"}
		}
	case r.Cause == "login/wrong-secret" && a.Shadow && a.Failures < max(a.Deny, 1):
		// The log says that the password failed, and the account is well.
		r.Short, r.Most = nil, ""
		r.Because = union(r.Because, factIDs(f))
		return
	default:
		return
	}
	if r.Cause != "login/rejected" && r.Cause != "login/wrong-secret" && r.Cause != "login/key-refused" && r.Cause != cause {
		return // the log said something else, and it was there
	}
	if r.Cause == cause && r.Most == "" && len(r.Short) == 0 {
		short = nil // the log has proven it
	}
	r.Cause, r.Most, r.Short = cause, "", short
	if cause == "login/closed-for-all" {
		r.Short = nil
	}
	r.Summary = fmt.Sprintf("%s is refused: %s", l.Account, text)
	r.Because = union(r.Because, factIDs(f))
}

// foreignKeys says why none of the keys that were offered could be taken: the
// account's list has none of them, or the server gave up before its turn came;
// "" if neither is so.
func foreignKeys(a *fact.Account, l *fact.Login) string {
	if l.KeysIn == "" {
		if l.Key == "" || slices.Contains(a.Keys, l.Key) {
			return ""
		}
		return fmt.Sprintf("the key %s is none of the %d in %s", l.Key, len(a.Keys), a.KeysFile)
	}
	at := slices.IndexFunc(l.Keys, func(k string) bool { return slices.Contains(a.Keys, k) })
	switch {
	case at < 0:
		return fmt.Sprintf("none of the %d keys of %s is among the %d in %s", len(l.Keys), l.KeysIn, len(a.Keys), a.KeysFile)
	case l.Code == "too-many" && at > 0:
		return fmt.Sprintf("%s offers %d keys; the one that the account has, %s, is number %d of them, and the server gave up before it", l.KeysIn, len(l.Keys), l.Keys[at], at+1)
	}
	return ""
}

// ownKey reads a key file that SSH clients do not use, since others may read
// it, whatever the server thinks of it.
func (v *view) ownKey(t *try, login *fact.Fact) (Reading, bool) {
	if login.Login.KeyWrong == "" {
		return Reading{}, false
	}
	path, _, _ := strings.Cut(login.Login.KeyWrong, " has mode")
	return Reading{Gate: Account, Cause: "login/key-too-open", Apart: true, Because: factIDs(login), Vantage: v.client,
		Summary: login.Login.KeyWrong + ": SSH clients do not use a private key that others may read",
		Values:  v.place(t, values{"account": login.Login.Account, "own": "chmod 600 " + ShellWord(path)})}, true
}

// behindLogin is what keeps an account from working though it was accepted: a
// stored secret that programs send instead, a password that must be changed,
// a shell that lets nobody work.
func (v *view) behindLogin(w *wants, t *try, login, f *fact.Fact) []Reading {
	var list []Reading
	if r, ok := v.savedSecret(w, t, login); ok {
		list = append(list, r)
	}
	if f == nil || f.Account == nil {
		return list
	}
	a := f.Account
	r := Reading{Gate: Account, Apart: true, Because: factIDs(login, f), Vantage: t.server, Values: v.place(t, values{"account": a.Name})}
	switch {
	case login.Login.Mechanism != "publickey" && a.MustChange:
		r.Cause, r.Summary = "login/must-change", fmt.Sprintf("%s is accepted, and must change its password before anything else", a.Name)
	case login.Login.Mechanism != "publickey" && !a.SecretEnds.IsZero() && v.ask.Began.After(a.SecretEnds):
		r.Cause, r.Summary = "login/secret-expired", fmt.Sprintf("the password of %s ended on %s", a.Name, a.SecretEnds.Format("2006-01-02"))
	case a.ShellWrong != "":
		r.Cause, r.Summary = "login/disabled", fmt.Sprintf("%s is accepted, and its shell (%s) ends every session", a.Name, a.ShellWrong)
		r.Short = []string{"the server may give this account something else than a shell"}
	default:
		group := v.missingGroup(a)
		if group == "" {
			return list
		}
		r.Cause, r.Summary = "login/missing-group", fmt.Sprintf("%s is accepted, and is not in the group %s, which the card wants", a.Name, group)
	}
	return append(list, r)
}

// missingGroup is the first group of the card that an account is not in.
func (v *view) missingGroup(a *fact.Account) string {
	if v.ask.Card == nil || v.ask.Card.Account == nil || !a.Known {
		return ""
	}
	for _, group := range v.ask.Card.Account.Groups {
		if !slices.Contains(a.Groups, group) {
			return group
		}
	}
	return ""
}

// savedSecret reads a stored secret that programs of this user would send in
// place of the one that was accepted.
func (v *view) savedSecret(w *wants, t *try, login *fact.Fact) (Reading, bool) {
	target := t.target
	target.Account = v.ask.Account
	w.add(Want{Look: fact.LookStored, At: fact.Client, Target: target, Gate: Account})
	for _, f := range v.facts(v.client, fact.LookStored) {
		if f.Stored == nil || f.Order.Target != target || len(f.Stored.List) == 0 {
			continue
		}
		if r, ok := v.keptTicket(t, login, f); ok {
			return r, true
		}
		first := f.Stored.List[0]
		if first.For != "" || first.Same == nil || *first.Same || first.Account != "" && first.Account != "*" && first.Account != v.ask.Account {
			continue
		}
		return Reading{Gate: Account, Cause: "login/saved-secret", Apart: true, Because: factIDs(login, f), Vantage: v.client,
			Summary: fmt.Sprintf("the secret that was given is accepted, and programs here send another one, from %s", first.Place),
			Values:  v.place(t, values{"account": v.ask.Account, "place": first.Place})}, true
	}
	return Reading{}, false
}
