package weigh

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/filter"
)

// hbaLine is one line of PostgreSQL's list that is about connections over TCP.
type hbaLine struct {
	number                    int
	databases, accounts, addr string
	method, text              string
}

// hbaLines reads a list; ok is false where not all of it is here.
func hbaLines(file *fact.AccessFile, encrypted bool) (list []hbaLine, ok bool) {
	for _, line := range file.Lines {
		body, _, _ := strings.Cut(line.Text, "#")
		f := strings.Fields(body)
		if len(f) > 0 && (strings.HasPrefix(f[0], "include") || strings.HasSuffix(body, "\\")) {
			return nil, false
		}
		if len(f) < 5 || !strings.HasPrefix(f[0], "host") {
			continue
		}
		if f[0] == "hostssl" && !encrypted || f[0] == "hostnossl" && encrypted || f[0] == "hostgssenc" {
			continue
		}
		addr, method := f[3], f[4]
		if strings.Count(addr, ".") == 3 && !strings.Contains(addr, "/") && len(f) > 5 && strings.Count(f[4], ".") == 3 {
			addr, method = addr+"/"+f[4], f[5]
		}
		list = append(list, hbaLine{line.Number, f[1], f[2], addr, method, strings.Join(f, " ")})
	}
	return list, true
}

// hbaNamed reports whether a list of names holds one. Groups and expressions
// are unknown.
func hbaNamed(list, name string, special ...string) filter.Tri {
	result := filter.No
	for each := range strings.SplitSeq(list, ",") {
		switch each = strings.Trim(each, `"`); {
		case each == "all" || each == name:
			return filter.Yes
		case each == "":
		case each[0] == '+' || each[0] == '@' || each[0] == '/' || slices.Contains(special, each):
			result = filter.Unknown
		}
	}
	return result
}

// hbaWords names the line that decided over a try at a database, for its
// account and source; "" where that cannot be told.
func (v *view) hbaWords(w *wants, t *try, login *fact.Fact, r *Reading) string {
	if t.server == "" || v.scheme.Wire != "postgres" {
		return ""
	}
	w.add(Want{Look: fact.LookAccess, At: fact.Server, On: t.server, Target: fact.Target{Port: t.target.Port}, Gate: Door})
	source := v.localAddress(t)
	if _, direct, _ := v.source(t); !direct && !v.seenFrom(t, source) && !v.onSame(t) {
		return "" // the server may see another one
	}
	encrypted := t.sessions.handshake != nil && t.sessions.handshake.Handshake.Ending == fact.Done
	for _, f := range v.facts(t.server, fact.LookAccess) {
		if f.Access == nil || !source.IsValid() {
			continue
		}
		at := slices.IndexFunc(f.Access.Files, func(file fact.AccessFile) bool { return file.Kind == "pg_hba" })
		if at < 0 {
			continue
		}
		file := &f.Access.Files[at]
		lines, ok := hbaLines(file, encrypted)
		if !ok || v.readBy(t, file.Changed) != "" {
			return ""
		}
		if l, ok := hbaFirst(lines, databaseOf(t.target.Path, login.Login.Account), login.Login.Account, source); ok {
			r.Because = union(r.Because, factIDs(f))
			return fmt.Sprintf(" (line %d of %s decides: %s)", l.number, file.Path, l.text)
		}
		return ""
	}
	return ""
}

// hbaFirst is the first line that is for a database, an account and a source;
// none, where one before it may be.
func hbaFirst(lines []hbaLine, database, account string, source netip.Addr) (hbaLine, bool) {
	for _, l := range lines {
		all := []filter.Tri{hbaNamed(l.databases, database, "sameuser", "samerole", "samegroup"), hbaNamed(l.accounts, account), hbaMatches(l.addr, source)}
		switch {
		case slices.Contains(all, filter.No):
		case slices.Contains(all, filter.Unknown):
			return hbaLine{}, false
		default:
			return l, true
		}
	}
	return hbaLine{}, false
}
