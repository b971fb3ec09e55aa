package weigh

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/filter"
	"uakari/internal/trail"
)

// mysqlHost reports whether the host of a MySQL account holds a source: an
// address or a name with % for anything and _ for any one character, or a net
// with a mask ("Specifying Account Names"). Which names the server finds for a
// source is not known.
func mysqlHost(pattern string, source netip.Addr) filter.Tri {
	if pattern == "" || pattern == "%" {
		return filter.Yes
	}
	if net, err := netPattern(pattern); err == nil {
		return triOf(net.Contains(source))
	}
	if strings.Trim(pattern, "0123456789.%_") == "" || strings.Contains(pattern, ":") {
		return triOf(globMatches(strings.NewReplacer("%", "*", "_", "?").Replace(pattern), source.String()))
	}
	if strings.EqualFold(pattern, "localhost") {
		return triOf(source.IsLoopback())
	}
	return filter.Unknown
}

// mysqlAccounts splits the accounts of a look into who may come from a source
// and who may not; known is false where some could not be told.
func mysqlAccounts(f fact.AccessFile, account string, source netip.Addr) (here, elsewhere []string, known bool) {
	known = true
	for _, l := range f.Lines {
		user, host, _ := strings.Cut(l.Text, "@")
		if account != "" && user != account && user != "" {
			continue
		}
		switch mysqlHost(host, source) {
		case filter.Yes:
			here = append(here, l.Text)
		case filter.No:
			elsewhere = append(elsewhere, l.Text)
		default:
			known = false
		}
	}
	return here, elsewhere, known
}

// mysqlJudge reads a database no account of which may come from a source.
func mysqlJudge(v *view, t *try, a *fact.Access, source netip.Addr) (string, []Symptom, string, listLine) {
	for _, f := range a.Files {
		if f.Kind != "mysql" || v.scheme.Wire != "mysql" {
			continue
		}
		if here, _, known := mysqlAccounts(f, "", source); len(here) > 0 || !known {
			continue
		}
		return "rules/not-on-list", []Symptom{ServerFirstRefused, RefusedByCode}, fmt.Sprintf("no account of the database on %s may come from %s", v.host(t.server), source),
			listLine{file: "the accounts of the database", allow: fmt.Sprintf("CREATE USER ACCOUNT@'%s' IDENTIFIED BY SECRET", source)}
	}
	return "", nil, "", listLine{}
}

// mysqlListReason says, by the accounts of a database, why one was refused.
func (v *view) mysqlListReason(w *wants, t *try, login *fact.Fact, r *Reading) {
	if t.server == "" || v.scheme.Wire != "mysql" {
		return
	}
	w.add(Want{Look: fact.LookAccess, At: fact.Server, On: t.server, Target: fact.Target{Port: t.target.Port}, Gate: Door})
	source := v.localAddress(t)
	for _, f := range v.facts(t.server, fact.LookAccess) {
		if f.Access == nil || !source.IsValid() {
			continue
		}
		at := slices.IndexFunc(f.Access.Files, func(file fact.AccessFile) bool { return file.Kind == "mysql" })
		if at < 0 {
			continue
		}
		account := login.Login.Account
		here, elsewhere, known := mysqlAccounts(f.Access.Files[at], account, source)
		own := slices.DeleteFunc(slices.Concat(here, elsewhere), func(a string) bool { return strings.HasPrefix(a, "@") })
		switch {
		case !known:
			return
		case len(own) == 0:
			r.Cause, r.Summary = "login/unknown-account", fmt.Sprintf("the database on %s has no account %s", v.host(t.server), account)
			r.Short = nil
		case len(here) == 0:
			r.Cause, r.Summary = "login/not-from-here", fmt.Sprintf("%s may come as %s, and not from %s", account, strings.Join(elsewhere, ", "), source)
			r.Short = nil
			if _, direct, _ := v.source(t); !direct && !v.seenFrom(t, source) && !v.onSame(t) && !strings.Contains(login.Login.Text, "'"+source.String()+"'") {
				r.Short = []string{"a translation on the way may show the server another address than " + source.String()}
			}
		default:
			// Of several that fit, the server takes the most special one.
			r.Cause, r.Most = "login/wrong-secret", trail.Likely
			r.Summary = fmt.Sprintf("the database on %s has %s, and the secret does not fit it", v.host(t.server), strings.Join(here, ", "))
			r.Short = []string{"the account's own way to sign in was not read"}
			r.Because = union(r.Because, factIDs(f))
			return
		}
		r.Most = ""
		r.Because = union(r.Because, factIDs(f))
		return
	}
}
