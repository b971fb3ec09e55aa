package program

import (
	"net/netip"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/filter"
)

// MySQLHost reports whether the host of a MySQL account holds a source: an
// address or a name with % for anything and _ for any one character, or a net
// with a mask ("Specifying Account Names"). Which names the server finds for a
// source is not known.
func MySQLHost(pattern string, source netip.Addr) filter.Tri {
	if pattern == "" || pattern == "%" {
		return filter.Yes
	}
	if net, err := NetPattern(pattern); err == nil {
		return triOf(net.Contains(source))
	}
	if strings.Trim(pattern, "0123456789.%_") == "" || strings.Contains(pattern, ":") {
		return triOf(GlobMatches(strings.NewReplacer("%", "*", "_", "?").Replace(pattern), source.String()))
	}
	if strings.EqualFold(pattern, "localhost") {
		return triOf(source.IsLoopback())
	}
	return filter.Unknown
}

// MySQLAccounts splits the accounts of a look into who may come from a source
// and who may not; known is false where some could not be told.
func MySQLAccounts(f fact.AccessFile, account string, source netip.Addr) (here, elsewhere []string, known bool) {
	known = true
	for _, l := range f.Lines {
		user, host, _ := strings.Cut(l.Text, "@")
		if account != "" && user != account && user != "" {
			continue
		}
		switch MySQLHost(host, source) {
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

// MySQLRights is what a look tells of one account, "USER@HOST", and of a database.
type MySQLRights struct {
	Locked   bool
	Roles    bool // it may have more by a role, of its own or of all ("*")
	Granted  bool // something in the database, or in all
	Database bool // it is there
}

// MySQLRightsOf reads the rights of an account on a database.
func MySQLRightsOf(f fact.AccessFile, account, database string) MySQLRights {
	var r MySQLRights
	for _, l := range f.Lines {
		what, rest, _ := strings.Cut(l.Text, " ")
		switch what {
		case "database":
			r.Database = r.Database || rest == database
		case "locked":
			r.Locked = r.Locked || rest == account
		case "roles":
			r.Roles = r.Roles || rest == account || rest == "*"
		case "grant":
			// What MariaDB grants to PUBLIC all accounts have.
			if of, on, _ := strings.Cut(rest, " "); of == account || of == "PUBLIC@" {
				r.Granted = r.Granted || on == "*" || likeMatches(on, database)
			}
		}
	}
	return r
}

// likeMatches is a pattern of grants: % for anything, _ for any one character, and \ before
// one that is meant itself ("GRANT Statement").
func likeMatches(pattern, text string) bool {
	switch {
	case pattern == "":
		return text == ""
	case pattern[0] == '%':
		return likeMatches(pattern[1:], text) || text != "" && likeMatches(pattern, text[1:])
	case text == "":
		return false
	case pattern[0] == '_':
		return likeMatches(pattern[1:], text[1:])
	case pattern[0] == '\\' && len(pattern) > 1:
		pattern = pattern[1:]
	}
	return pattern[0] == text[0] && likeMatches(pattern[1:], text[1:])
}
