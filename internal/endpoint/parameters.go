package endpoint

import (
	"fmt"
	"net/url"
	"slices"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"uakari/internal/fact"
	"uakari/internal/protocol"
)

// Parameters of an endpoint behind its question mark, as the open systems'
// own URIs define them: PostgreSQL's ("Connection URIs"), MariaDB's and MySQL's
// modes, LDAP's (RFC 4516).

// parametersOf reads the parameters behind the question mark of a URL.
func parametersOf(input, rest string) (before string, values url.Values, err error) {
	before, query, _ := strings.Cut(rest, "?")
	values, err = url.ParseQuery(query)
	if err != nil {
		return before, nil, &Error{input, 0, "an unreadable part after the question mark", "key=value pairs"}
	}
	if values.Has("password") {
		return before, nil, &Error{
			strings.SplitN(input, "?", 2)[0] + "?…", 0, "a secret in the address", "no secret on the command line",
		}
	}
	return before, values, nil
}

// fromParameters writes the host, port and database that parameters of
// PostgreSQL's URIs name into their places, as its clients do.
func fromParameters(input, scheme, rest string) (string, error) {
	s, ok := protocol.Lookup(scheme)
	modes := protocol.Of(s.Wire).Modes
	if !ok || modes == nil || len(modes.Moving) == 0 || !strings.Contains(rest, "?") {
		return rest, nil
	}
	before, values, err := parametersOf(input, rest)
	if err != nil {
		return rest, err
	}
	if values.Has("user") {
		return rest, &Error{input, 0, "an account in the address", "the account with --user"}
	}
	if !slices.ContainsFunc(modes.Moving, values.Has) {
		return rest, nil
	}
	place, path, _ := strings.Cut(before, "/")
	host, port, bracketed := place, "", strings.HasSuffix(place, "]")
	if at := strings.LastIndex(place, ":"); at >= 0 && !bracketed {
		host, port = place[:at], place[at+1:]
	}
	for _, key := range []string{"host", "hostaddr"} {
		switch named := values.Get(key); {
		case named == "":
		case strings.HasPrefix(named, "/") || strings.HasPrefix(named, "@"):
			return rest, &Error{input, 0, "a socket of the client's own host, " + quote(named),
				"a host to reach over a network"}
		case strings.Contains(named, ","):
			return rest, &Error{input, 0, "several hosts, " + quote(named), "one host; trace each by itself"}
		case strings.Contains(named, ":"):
			host = "[" + named + "]"
		default:
			host = named
		}
	}
	if named := values.Get("port"); named != "" {
		port = named
	}
	if port != "" {
		host += ":" + port
	}
	if named := values.Get("dbname"); named != "" {
		path = url.PathEscape(named)
	}
	for _, key := range modes.Moving {
		values.Del(key)
	}
	return strings.TrimSuffix(host+"/"+path+"?"+values.Encode(), "?"), nil
}

// roles is what clients of PostgreSQL may want a server to be.
var roles = []string{"any", "read-write", "read-only", "primary", "standby", "prefer-standby"}

// applyParameters takes what parameters say about security and about the
// session into an endpoint, and refuses values that clients would refuse.
func applyParameters(e *fact.Endpoint, scheme protocol.Scheme) error {
	if protocol.Of(scheme.Wire).Entries {
		return checkSearch(e)
	}
	modes := protocol.Of(scheme.Wire).Modes
	if modes == nil {
		return nil
	}
	_, values, err := parametersOf(e.Input, e.Path)
	if err != nil {
		return err
	}
	if name := values.Get("instance"); name != "" && modes.Browser != "" {
		return &Error{
			e.Input,
			0,
			"an instance, " + quote(name),
			"its port; uakari trace " + modes.Browser + "://" + e.Host + "/" + name + " tells which that is",
		}
	}
	if role := values.Get("target_session_attrs"); role != "" && !slices.Contains(roles, role) {
		return &Error{e.Input, 0, "target_session_attrs " + quote(role), strings.Join(roles, ", ")}
	}
	mode := values.Get(modes.Key)
	if mode == "" {
		return nil
	}
	set, ok := modes.Values[strings.ToLower(mode)]
	if !ok {
		return &Error{e.Input, 0, modes.Key + " " + quote(mode), modes.All}
	}
	e.Security, e.Verify, e.Insist, e.AnyName = set.Security, set.Verify, set.Insist, set.AnyName
	return nil
}

// Search is what an endpoint of a directory asks for (RFC 4516 section 2).
type Search struct {
	Base, Scope, Filter string // Scope is "base", "one" or "sub"
}

// SearchOf is the search that a path of a directory's endpoint names.
func SearchOf(path string) (Search, error) {
	parts := strings.Split(strings.TrimPrefix(path, "/"), "?")
	part := func(n int) (string, error) {
		if n >= len(parts) {
			return "", nil
		}
		return url.PathUnescape(parts[n])
	}
	s := Search{Scope: "base", Filter: "(objectClass=*)"}
	for n, to := range []*string{&s.Base, nil, &s.Scope, &s.Filter} {
		text, err := part(n)
		if err != nil {
			return s, err
		}
		if to != nil && text != "" {
			*to = text
		}
	}
	s.Scope = strings.ToLower(s.Scope)
	if !slices.Contains([]string{"base", "one", "sub"}, s.Scope) {
		return s, fmt.Errorf("scope %s", quote(s.Scope))
	}
	if _, err := ldap.CompileFilter(s.Filter); err != nil {
		return s, fmt.Errorf("filter %s", quote(s.Filter))
	}
	return s, nil
}

func checkSearch(e *fact.Endpoint) error {
	if _, err := SearchOf(e.Path); err != nil {
		return &Error{
			e.Input,
			0,
			err.Error(),
			"/BASE?ATTRIBUTES?SCOPE?FILTER, with a scope of base, one or sub and a filter in round brackets",
		}
	}
	return nil
}
