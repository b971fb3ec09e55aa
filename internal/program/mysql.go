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
