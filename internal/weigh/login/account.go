package login

import (
	"fmt"
	"slices"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/program"
	"uakari/internal/protocol"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// accountOf is what the server says of the account before it is tried; nil if
// nobody was asked, or no answer is there yet.
func accountOf(v *scene.Scene, w *scene.Wants, t *scene.Try) *fact.Fact {
	if t.Server == "" || !ofHost(v, t) || !asksSystem(v, t) {
		return nil
	}
	target := fact.Target{Account: v.Ask.Account, Scheme: t.Target.Scheme, Port: t.Target.Port}
	w.Add(scene.Want{Look: fact.LookAccount, At: fact.Server, On: t.Server, Target: target, Gate: gate.Account})
	for _, f := range v.Facts(t.Server, fact.LookAccount) {
		if f.Order.Target == target {
			return f
		}
	}
	return nil
}

// ofHost reports whether the accounts of the endpoint's protocol are those of the server's
// host.
func ofHost(v *scene.Scene, t *scene.Try) bool {
	on := protocol.HostAccountsOn(v.Scheme.Name)
	return v.Protocol.HostAccounts || on != "" && v.Vantage(t.Server).System == on
}

// listensForOthers is who holds ports on behalf of the services behind them: the manager
// of services, and the kernel of Windows.
var listensForOthers = []string{"systemd", "System"}

// asksSystem reports whether the service of a port takes its accounts from the
// host, as far as that was seen: other programs keep accounts of their own.
func asksSystem(v *scene.Scene, t *scene.Try) bool {
	return !slices.ContainsFunc(v.Taking(t), func(l fact.Listener) bool {
		p, ok := v.Programs.Of(l.Program)
		_, serves := p.Serves[v.Scheme.Name]
		return l.Program != "" && !slices.Contains(listensForOthers, l.Program) && !(ok && serves)
	})
}

// mayLock reports whether one more failure would lock the account.
func mayLock(v *scene.Scene, f *fact.Fact) bool {
	return f != nil && f.Account != nil && f.Account.Deny > 0 && f.Account.Failures == f.Account.Deny-1
}

// lockedBefore reads an account that is locked for its failures already: it
// is not tried at all.
func lockedBefore(v *scene.Scene, t *scene.Try, f *fact.Fact) (gate.Reading, bool) {
	if f == nil || f.Account == nil || f.Account.Deny == 0 || f.Account.Failures < f.Account.Deny {
		return gate.Reading{}, false
	}
	a := f.Account
	return gate.Reading{
		Gate:     gate.Account,
		Cause:    "login/locked",
		Strength: gate.Read,
		Reach:    gate.Further,
		Because:  scene.FactIDs(f),
		Vantage:  t.Server,
		Summary: fmt.Sprintf(
			"%s is locked: %d failures count, and %d lock it; it was not tried",
			a.Name,
			a.Failures,
			a.Deny,
		),
		Values: v.Place(
			t,
			catalogue.Values{"account": a.Name, "unlock": "faillock --user " + foreign.ShellWord(a.Name) + " --reset"},
		),
	}, true
}

// accountIsWell reports whether the state of an account was read, and says
// nothing against this try.
func accountIsWell(v *scene.Scene, t *scene.Try, login, f *fact.Fact) bool {
	if f == nil || f.Account == nil {
		return false
	}
	a := f.Account
	known := a.Shadow && a.Failures < max(a.Deny, 1) || login.Login.Mechanism == "publickey"
	return known && len(stateReadings(v, t, login, f)) == 0
}

// stateReadings reads from the state of the account why a try was refused.
func stateReadings(v *scene.Scene, t *scene.Try, login, f *fact.Fact) []gate.Reading {
	if f == nil || f.Account == nil {
		return nil
	}
	a, l := f.Account, login.Login
	password := l.Mechanism != "publickey"
	r := refusal(v, t, login, "", gate.Read)
	text := ""
	pamCause, pamText := program.PAMReason(a, v.LocalAddress(t))
	switch {
	case a.ClosedBy != "" && a.UID != "0":
		r.Cause, text = "login/closed-for-all", fmt.Sprintf(
			"%s is there, which shuts out everybody but root",
			a.ClosedBy,
		)
	case a.RefusesNTLM && strings.Contains(l.Mechanism, "NTLM"):
		r.Cause, text = "login/mechanism-off",
			"the policy of the host takes no proof by NTLM from anybody (RestrictReceivingNTLMTraffic)"
	case !a.Known:
		r.Cause, text = "login/unknown-account", fmt.Sprintf("%s has no account %s", v.Host(t.Server), a.Name)
		if len(a.Others) > 0 {
			r.Lacks = []gate.Lack{
				{
					Guard: gate.AllRead,
					Why:   "accounts also come from " + strings.Join(a.Others, ", ") + ", which were not asked",
				},
			}
		}
	case a.Disabled:
		r.Cause, text = "login/disabled", fmt.Sprintf("the account %s is switched off", a.Name)
	case missingRight(a, t.Target.Scheme) != "":
		r.Cause, text = "login/no-right", missingRight(a, t.Target.Scheme)
	case a.Locked && password:
		r.Cause, text = "login/locked", fmt.Sprintf("the password of %s is locked", a.Name)
	case a.NoSecret && password:
		r.Cause, text = "login/mechanism-off", fmt.Sprintf("%s has no password: only keys can let it in", a.Name)
	case !a.Ends.IsZero() && v.Ask.Began.After(a.Ends):
		r.Cause, text = "login/account-expired", fmt.Sprintf(
			"the account %s ended on %s",
			a.Name,
			a.Ends.Format("2006-01-02"),
		)
	case !password && (a.KeysWrong != "" || len(a.Keys) > 0 && foreignKeys(a, l) != ""):
		r.Cause, text = keysReason(a, l)
		if a.KeysElse != "" {
			r.Lacks = []gate.Lack{{Guard: gate.AllRead, Why: "keys may also come from " + a.KeysElse}}
		}
	case pamCause != "":
		r.Cause, text = pamCause, pamText
		r.Rests.Source = v.LocalAddress(t)
	default:
		return nil
	}
	r.Summary = fmt.Sprintf("%s is refused: %s", l.Account, text)
	r.Because = gate.Union(r.Because, scene.FactIDs(f))
	return []gate.Reading{r}
}

// missingRight says which right to log on an account of Windows lacks; "" for none, and
// where its rights were not read.
func missingRight(a *fact.Account, scheme string) string {
	if a.Rights == nil {
		return ""
	}
	pair := protocol.Spoken(scheme).LogonRights
	if pair[0] == "" {
		pair = [2]string{"SeNetworkLogonRight", "SeDenyNetworkLogonRight"}
	}
	switch {
	case slices.Contains(a.Rights, pair[1]):
		return fmt.Sprintf("the policy of the host denies this kind of logon to %s or a group of it (%s)", a.Name,
			pair[1])
	case !slices.Contains(a.Rights, pair[0]):
		return fmt.Sprintf("neither %s nor a group of it may log on so (%s)", a.Name, pair[0])
	}
	return ""
}

// keysReason says why no key of a try could be taken.
func keysReason(a *fact.Account, l *fact.Login) (cause, text string) {
	switch {
	case a.KeysWrong == "":
		return "login/key-refused", foreignKeys(a, l)
	case strings.HasPrefix(a.KeysWrong, "there is no"):
		return "login/key-refused", a.KeysWrong
	}
	return "login/key-too-open", a.KeysWrong
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
		return fmt.Sprintf(
			"none of the %d keys of %s is among the %d in %s",
			len(l.Keys),
			l.KeysIn,
			len(a.Keys),
			a.KeysFile,
		)
	case l.Code == "too-many" && at > 0:
		return fmt.Sprintf(
			"%s offers %d keys; the one that the account has, %s, is number %d of them, and the server gave up "+
				"before it",
			l.KeysIn,
			len(l.Keys),
			l.Keys[at],
			at+1,
		)
	}
	return ""
}

// ownKey reads a key file that SSH clients do not use, since others may read
// it, whatever the server thinks of it.
func ownKey(v *scene.Scene, t *scene.Try, login *fact.Fact) (gate.Reading, bool) {
	if login.Login.KeyWrong == "" {
		return gate.Reading{}, false
	}
	return keyTooOpen(v, t, login, login.Login.Account, login.Login.KeyWrong), true
}

// keyTooOpen reads a private key that others may read.
func keyTooOpen(v *scene.Scene, t *scene.Try, f *fact.Fact, account, wrong string) gate.Reading {
	path, _, _ := strings.Cut(wrong, " has mode")
	return gate.Reading{
		Gate:     gate.Account,
		Cause:    "login/key-too-open",
		Strength: gate.Read,
		Reach:    gate.Further,
		Because:  scene.FactIDs(f),
		Vantage:  v.Client,
		Summary:  wrong + ": SSH clients do not use a private key that others may read",
		Values:   v.Place(t, catalogue.Values{"account": account, "own": "chmod 600 " + foreign.ShellWord(path)}),
	}
}

// behindLogin is what keeps an account from working though it was accepted: a
// stored secret that programs send instead, a password that must be changed,
// a shell that lets nobody work.
func behindLogin(v *scene.Scene, w *scene.Wants, t *scene.Try, login, f *fact.Fact) []gate.Reading {
	var list []gate.Reading
	if r, ok := savedSecret(v, w, t, login); ok {
		list = append(list, r)
	}
	if f == nil || f.Account == nil {
		return list
	}
	a := f.Account
	r := gate.Reading{
		Gate:     gate.Account,
		Strength: gate.Read,
		Reach:    gate.Further,
		Of:       "session",
		Because:  scene.FactIDs(login, f),
		Vantage:  t.Server,
		Values:   v.Place(t, catalogue.Values{"account": a.Name}),
	}
	switch {
	case login.Login.Mechanism != "publickey" && a.MustChange:
		r.Cause, r.Summary = "login/must-change", fmt.Sprintf(
			"%s is accepted, and must change its password before anything else",
			a.Name,
		)
	case login.Login.Mechanism != "publickey" && !a.SecretEnds.IsZero() && v.Ask.Began.After(a.SecretEnds):
		r.Cause, r.Summary = "login/secret-expired", fmt.Sprintf(
			"the password of %s ended on %s",
			a.Name,
			a.SecretEnds.Format("2006-01-02"),
		)
	case a.ShellWrong != "":
		r.Cause, r.Summary = "login/disabled", fmt.Sprintf(
			"%s is accepted, and its shell (%s) ends every session",
			a.Name,
			a.ShellWrong,
		)
		r.Lacks = []gate.Lack{
			{Guard: gate.OneMeaning, Why: "the server may give this account something else than a shell"},
		}
	default:
		group := missingGroup(v, a)
		if group == "" {
			return list
		}
		r.Cause, r.Summary = "login/missing-group", fmt.Sprintf(
			"%s is accepted, and is not in the group %s, which the card wants",
			a.Name,
			group,
		)
	}
	return append(list, r)
}

// missingGroup is the first group of the card that an account is not in.
func missingGroup(v *scene.Scene, a *fact.Account) string {
	if v.Ask.Card == nil || v.Ask.Card.Account == nil || !a.Known {
		return ""
	}
	for _, group := range v.Ask.Card.Account.Groups {
		if !slices.Contains(a.Groups, group) {
			return group
		}
	}
	return ""
}

// savedSecret reads a stored secret that programs of this user would send in
// place of the one that was accepted.
func savedSecret(v *scene.Scene, w *scene.Wants, t *scene.Try, login *fact.Fact) (gate.Reading, bool) {
	target := t.Target
	target.Account = v.Ask.Account
	w.Add(scene.Want{Look: fact.LookStored, At: fact.Client, Target: target, Gate: gate.Account})
	for _, f := range v.Facts(v.Client, fact.LookStored) {
		if f.Stored == nil || f.Order.Target != target || len(f.Stored.List) == 0 {
			continue
		}
		if r, ok := keptTicket(v, t, login, f); ok {
			return r, true
		}
		first := f.Stored.List[0]
		if first.For == "" && first.Account != "" && first.Account != "*" && first.Account != v.Ask.Account {
			// A client that gives no account at all is another one there.
			return gate.Reading{
				Gate: gate.Account, Cause: "login/saved-secret",
				Strength: gate.Read, Reach: gate.Further, Harmless: true,
				Because: scene.FactIDs(login, f), Vantage: v.Client,
				Summary: fmt.Sprintf("%s is accepted; programs here that are given no account send %s, from %s",
					v.Ask.Account, first.Account, first.Place),
				Values: v.Place(t, catalogue.Values{"account": first.Account, "place": first.Place}),
			}, true
		}
		if first.For != "" || first.Same == nil || *first.Same ||
			first.Account != "" && first.Account != "*" && first.Account != v.Ask.Account {
			continue
		}
		return gate.Reading{
			Gate:     gate.Account,
			Cause:    "login/saved-secret",
			Strength: gate.Read,
			Reach:    gate.Further,
			Because:  scene.FactIDs(login, f),
			Vantage:  v.Client,
			Summary: fmt.Sprintf(
				"the secret that was given is accepted, and programs here send another one, from %s",
				first.Place,
			),
			Values: v.Place(t, catalogue.Values{"account": v.Ask.Account, "place": first.Place}),
		}, true
	}
	return gate.Reading{}, false
}
