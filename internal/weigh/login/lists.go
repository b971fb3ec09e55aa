package login

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/program"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// mysqlListReadings reads from the accounts of a database why one was refused.
func mysqlListReadings(v *scene.Scene, w *scene.Wants, t *scene.Try, login *fact.Fact) []gate.Reading {
	if t.Server == "" || v.Protocol.List != fact.ListMySQL {
		return nil
	}
	w.AddLists(t)
	source := v.LocalAddress(t)
	for _, f := range v.Facts(t.Server, fact.LookAccess) {
		if f.Access == nil || !source.IsValid() {
			continue
		}
		at := slices.IndexFunc(f.Access.Files, func(file fact.AccessFile) bool { return file.Kind == fact.ListMySQL })
		if at < 0 {
			continue
		}
		account := login.Login.Account
		here, _, known := program.MySQLAccounts(f.Access.Files[at], account, source)
		r := refusal(v, t, login, "", gate.Read)
		r.Because = gate.Union(r.Because, scene.FactIDs(f))
		switch cause, text := mysqlAccount(f.Access.Files[at], v.Host(t.Server), account, source); {
		case !known:
			return nil
		case cause != "":
			r.Cause, r.Summary = cause, text
			if cause == "login/not-from-here" && !strings.Contains(login.Login.Text, "'"+source.String()+"'") {
				r.Rests.Source = source
			}
		default:
			// Of several that fit, the server takes the most special one.
			r.Cause, r.Strength = "login/wrong-secret", gate.Inferred
			r.Summary = fmt.Sprintf(
				"the database on %s has %s, and the secret does not fit it",
				v.Host(t.Server),
				strings.Join(here, ", "),
			)
			if login.Login.Code == "1698" {
				r.Cause, r.Summary = "login/mechanism-off", fmt.Sprintf(
					"the database on %s has %s, which signs in otherwise than by a secret",
					v.Host(t.Server),
					strings.Join(here, ", "),
				)
			}
			r.Lacks = []gate.Lack{{Guard: gate.AllRead, Why: "the account's own way to sign in was not read"}}
		}
		return []gate.Reading{r}
	}
	return nil
}

// mysqlAccount is why a database's own list of accounts keeps one out that comes from a
// source; "" where it has it.
func mysqlAccount(file fact.AccessFile, server, account string, source netip.Addr) (cause, text string) {
	here, elsewhere, known := program.MySQLAccounts(file, account, source)
	nameless := func(a string) bool { return strings.HasPrefix(a, "@") }
	switch own := slices.DeleteFunc(slices.Concat(here, elsewhere), nameless); {
	case !known:
	case len(own) == 0:
		return "login/unknown-account", fmt.Sprintf("the database on %s has no account %s", server, account)
	case len(here) == 0:
		return "login/not-from-here", fmt.Sprintf("%s may come as %s, and not from %s", account,
			strings.Join(elsewhere, ", "), source)
	}
	return "", ""
}

// hbaLine is the line of PostgreSQL's list that decided over a try, for its
// account and source; nothing where that cannot be told.
func hbaLine(
	v *scene.Scene,
	w *scene.Wants,
	t *scene.Try,
	login *fact.Fact,
) (line program.HBALine, path string, f *fact.Fact) {
	if t.Server == "" || v.Protocol.List != fact.ListHBA {
		return line, "", nil
	}
	w.AddLists(t)
	source := v.LocalAddress(t)
	if _, direct, _ := v.Source(t); !direct && !v.SeenFrom(t, source) && !v.OnSame(t) {
		return line, "", nil // the server may see another one
	}
	encrypted := t.Sessions.Handshake != nil && t.Sessions.Handshake.Handshake.Ending == fact.Done
	for _, f := range v.Facts(t.Server, fact.LookAccess) {
		if f.Access == nil || !source.IsValid() {
			continue
		}
		at := slices.IndexFunc(f.Access.Files, func(file fact.AccessFile) bool { return file.Kind == fact.ListHBA })
		if at < 0 {
			continue
		}
		file := &f.Access.Files[at]
		lines, ok := program.HBALines(file, encrypted)
		if !ok || v.ReadBy(t, file.Changed) != "" {
			return line, "", nil
		}
		if l, ok := program.HBAFirst(lines, scene.DatabaseOf(t.Target.Path, login.Login.Account), login.Login.Account,
			source); ok {
			return l, file.Path, f
		}
		return line, "", nil
	}
	return line, "", nil
}

// methodReadings reads a refusal by a method that asks a directory: one that
// does not answer refuses everybody. Which directory is asked, the lines of the
// list for this account say, from wherever it comes.
func methodReadings(v *scene.Scene, w *scene.Wants, t *scene.Try, login *fact.Fact) []gate.Reading {
	if t.Server == "" || v.Protocol.List != fact.ListHBA ||
		!strings.HasPrefix(login.Login.Text, "LDAP authentication failed") {
		return nil
	}
	w.AddLists(t)
	for _, f := range v.Facts(t.Server, fact.LookAccess) {
		if f.Access == nil {
			continue
		}
		failing, ids := "", []string(nil)
		for _, up := range program.SignInServers(f.Access, login.Login.Account) {
			text, because := v.Backend(w, t, up)
			if text == "" {
				return nil // one of them that answers is enough
			}
			failing, ids = text, gate.Union(ids, because)
		}
		if failing == "" {
			continue
		}
		r := refusal(v, t, login, "login/directory-down", gate.Read)
		r.Summary = fmt.Sprintf(
			"%s is refused: the directory that decides does not answer %s: %s",
			login.Login.Account,
			v.Host(t.Server),
			failing,
		)
		r.Because = gate.Union(append(r.Because, f.ID), ids)
		return []gate.Reading{r}
	}
	return nil
}

// keyAlone reports whether this client was given a key to sign in with, and nothing else.
func keyAlone(v *scene.Scene) bool {
	return slices.ContainsFunc(v.Facts(v.Client, fact.LookKeyFile), func(f *fact.Fact) bool {
		return f.KeyFile != nil && f.KeyFile.Wrong == "" && !f.KeyFile.Secret
	})
}

// sshListReadings reads from sshd's own settings why a login was refused or, where login is
// nil, why one would be.
func sshListReadings(v *scene.Scene, w *scene.Wants, t *scene.Try, login, account *fact.Fact) []gate.Reading {
	if t.Server == "" || v.Protocol.List != fact.ListSSH {
		return nil
	}
	w.AddListsAndSource(t)
	mechanism := ""
	who := program.SSHLogin{Account: v.Ask.Account, Source: v.SourceOf(t), Port: t.Target.Port}
	if login != nil {
		who.Account, mechanism = login.Login.Account, login.Login.Mechanism
	}
	if account != nil && account.Account != nil && account.Account.Known {
		who.Groups = account.Account.Groups
	}
	if !who.Source.IsValid() {
		return nil
	}
	for _, f := range v.Facts(t.Server, fact.LookAccess) {
		if f.Access == nil {
			continue
		}
		s := program.SSHSettingsFor(f.Access, who)
		if s == nil {
			continue
		}
		cause, text, by := s.Refuses(who, mechanism)
		if mechanism == "" && (cause == "" || cause == "login/mechanism-off") {
			if cause = ""; keyAlone(v) {
				cause, text, by = s.Short()
			}
		}
		if cause == "" {
			continue
		}
		r := gate.Reading{Gate: gate.Account, Cause: cause, Reach: gate.Further,
			Strength: gate.Read, Vantage: t.Server,
			Summary: fmt.Sprintf("%s would be refused: %s", who.Account, text), Because: scene.FactIDs(account),
			Values: v.Place(t, catalogue.Values{"account": who.Account, "server": v.Answering(t)})}
		if login != nil {
			r = refusal(v, t, login, cause, gate.Read)
			r.Summary = fmt.Sprintf("%s is refused: %s", who.Account, text)
		}
		r.Because = gate.Union(r.Because, scene.FactIDs(f))
		r.Values["source"], r.Values["file"], r.Values["line"] = who.Source.String(), by.File, strings.TrimSpace(
			by.Word+" "+strings.Join(by.Args, " "),
		)
		for _, why := range s.Unknown {
			r.Lacks = append(r.Lacks, gate.Lack{Guard: gate.AllRead, Why: why})
		}
		at := slices.IndexFunc(f.Access.Files, func(file fact.AccessFile) bool { return file.Path == by.File })
		r.Rests.Changed = f.Access.Files[at].Changed
		if cause == "login/missing-group" && len(account.Account.Others) > 0 {
			r.Lacks = append(
				r.Lacks,
				gate.Lack{
					Guard: gate.AllRead,
					Why: "groups also come from " + strings.Join(
						account.Account.Others,
						", ",
					) + ", which were not asked",
				},
			)
		}
		if cause == "login/not-from-here" && (login == nil || !loggedFrom(v, t, login, who.Source)) {
			r.Rests.Source = who.Source
		}
		return []gate.Reading{r}
	}
	return nil
}

// loggedFrom reports whether the server's log says of a try where it came from.
func loggedFrom(v *scene.Scene, t *scene.Try, login *fact.Fact, source netip.Addr) bool {
	for _, s := range v.Facts(t.Server, fact.LookService) {
		if s.Service != nil && s.Order.Target.Again == 1 &&
			slices.ContainsFunc(
				linesOfTry(v, t, s, login),
				func(line string) bool { return strings.Contains(line, "from "+source.String()) },
			) {
			return true
		}
	}
	return false
}
