//go:build linux

package linux

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"regexp"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/look/file"
)

// directorySockets is where a directory takes connections of its own host.
var directorySockets = []string{"/run/slapd/ldapi", "/var/run/ldapi", "/run/openldap/ldapi"}

// directoryEntries asks OpenLDAP as root over its local socket, where who
// connects counts as an account (RFC 4513 section 5.2.3, EXTERNAL).
func directoryEntries(ctx context.Context, pid int, t fact.Target) (fact.Accounts, error) {
	var a fact.Accounts
	account := t.Account
	if os.Geteuid() != 0 {
		return a, os.ErrPermission
	}
	if account != "" {
		if _, err := ldap.ParseDN(account); err != nil || !strings.Contains(account, "=") {
			return a, fmt.Errorf("%q is not the name of an entry", account)
		}
	}
	var paths []string
	text, err := file.Head(procFile(pid, "cmdline"), mostCommand)
	if err != nil {
		return a, err
	}
	for _, m := range regexp.MustCompile(`ldapi://([^/\s\x00]+)`).FindAllSubmatch(text, -1) {
		if path, err := url.PathUnescape(string(m[1])); err == nil {
			paths = append(paths, path)
		}
	}
	err = errors.New("it has no local socket")
	for _, path := range append(paths, directorySockets...) {
		var conn net.Conn
		if conn, err = dialAs(ctx, 0, path, pid); err != nil {
			continue
		}
		defer conn.Close()
		d := directory{ldap.NewConn(conn, false)}
		d.c.SetTimeout(look.Within(ctx, askTime))
		d.c.Start()
		defer d.c.Close()
		if err = d.c.ExternalBind(); err != nil {
			return a, err
		}
		a.Place = "asked as root over " + path
		return a, d.entries(&a, account)
	}
	return a, err
}

// directory is a session with one.
type directory struct{ c *ldap.Conn }

func (d directory) search(
	base string,
	scope int,
	filter string,
	typesOnly bool,
	attributes ...string,
) ([]*ldap.Entry, error) {
	r, err := d.c.Search(
		ldap.NewSearchRequest(
			base,
			scope,
			ldap.NeverDerefAliases,
			mostAccounts,
			int(askTime/time.Second),
			typesOnly,
			filter,
			attributes,
			nil,
		),
	)
	if err != nil {
		return nil, err
	}
	return r.Entries, nil
}

// entries reads the state of one entry, or of all that have a secret.
func (d directory) entries(a *fact.Accounts, account string) error {
	roots, err := d.search("", ldap.ScopeBaseObject, "(objectClass=*)", false, "namingContexts")
	if err != nil || len(roots) != 1 {
		return errors.Join(errors.New("its root entry could not be read"), err)
	}
	bases := roots[0].GetAttributeValues("namingContexts")
	state := []string{
		"pwdAccountLockedTime",
		"pwdReset",
		"pwdChangedTime",
		"pwdFailureTime",
		"pwdPolicySubentry",
		"pwdGraceUseTime",
	}
	for _, base := range bases {
		scope, under, filter := ldap.ScopeWholeSubtree, base,
			"(|(userPassword=*)(objectClass=person)(objectClass=account)(objectClass=simpleSecurityObject))"
		if account != "" {
			if !strings.HasSuffix(strings.ToLower(account), strings.ToLower(base)) {
				continue
			}
			// Whoever may not read the top may not say that nothing is below.
			if _, err := d.search(base, ldap.ScopeBaseObject, "(objectClass=*)", true, "objectClass"); err != nil {
				return fmt.Errorf("root may not read %s: %w", base, err)
			}
			scope, under, filter = ldap.ScopeBaseObject, account, "(objectClass=*)"
		}
		entries, err := d.search(under, scope, filter, false, state...)
		if ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchObject) {
			return nil
		}
		if err != nil {
			return err
		}
		policies, err := d.search(
			base,
			ldap.ScopeWholeSubtree,
			"(objectClass=pwdPolicy)",
			false,
			"pwdMaxAge",
			"pwdLockout",
			"pwdMaxFailure",
			"pwdLockoutDuration",
			"pwdGraceAuthNLimit",
		)
		if err != nil {
			return err
		}
		for _, e := range entries {
			s := accountState(e, policies)
			if account != "" {
				with, err := d.search(account, ldap.ScopeBaseObject, "(userPassword=*)", true, "userPassword")
				if err != nil {
					return err
				}
				s.Secret = "none"
				if len(with) > 0 {
					s.Secret = "set"
				}
				if s.Groups, err = d.groups(base, account); err != nil {
					return err
				}
			}
			a.List = append(a.List, s)
		}
	}
	return nil
}

// groups is those that an entry is in, through other groups too.
func (d directory) groups(base, dn string) ([]string, error) {
	const deepest = 8
	var names []string
	seen := map[string]bool{}
	next := []string{dn}
	for range deepest {
		var found []string
		for _, member := range next {
			m := ldap.EscapeFilter(member)
			entries, err := d.search(base, ldap.ScopeWholeSubtree, "(|(member="+m+")(uniqueMember="+m+"))", false,
				"cn")
			if err != nil {
				return nil, err
			}
			for _, e := range entries {
				if !seen[e.DN] {
					seen[e.DN] = true
					found = append(found, e.DN)
					names = append(names, e.GetAttributeValue("cn"))
				}
			}
		}
		if next = found; len(next) == 0 {
			break
		}
	}
	return names, nil
}

// ldapTime reads a GeneralizedTime (RFC 4517 section 3.3.13).
func ldapTime(text string) time.Time {
	whole, _, _ := strings.Cut(strings.TrimSuffix(text, "Z"), ".")
	at, err := time.Parse("20060102150405", whole)
	if err != nil {
		return time.Time{}
	}
	return at
}

// accountState reads the state that a password policy leaves in an entry, by
// the policy that it names, or the only one there is.
func accountState(e *ldap.Entry, policies []*ldap.Entry) fact.ServiceAccount {
	s := fact.ServiceAccount{
		Name:       e.DN,
		MustChange: strings.EqualFold(e.GetAttributeValue("pwdReset"), "TRUE"),
		Failures:   len(e.GetAttributeValues("pwdFailureTime")),
	}
	var policy *ldap.Entry
	named := false // by the entry itself; else it is the only one there is, which may be nobody's
	for _, p := range policies {
		own := strings.EqualFold(p.DN, e.GetAttributeValue("pwdPolicySubentry"))
		if own || len(policies) == 1 {
			policy, named = p, own
		}
	}
	lasts := -1 // seconds of a lock; 0: until somebody ends it
	if policy != nil {
		lasts = count(policy.GetAttributeValue("pwdLockoutDuration"))
		if strings.EqualFold(policy.GetAttributeValue("pwdLockout"), "TRUE") {
			s.Deny = count(policy.GetAttributeValue("pwdMaxFailure"))
		}
		// A password that is over may be good for some logins more.
		grace := count(policy.GetAttributeValue("pwdGraceAuthNLimit")) > len(e.GetAttributeValues("pwdGraceUseTime"))
		if age, changed := count(policy.GetAttributeValue("pwdMaxAge")),
			ldapTime(e.GetAttributeValue("pwdChangedTime")); named &&
			!grace &&
			age > 0 &&
			!changed.IsZero() {
			s.SecretEnds = changed.Add(time.Duration(age) * time.Second)
		}
	}
	if locked := e.GetAttributeValue("pwdAccountLockedTime"); locked != "" {
		at := ldapTime(locked)
		s.Locked = strings.HasPrefix(locked, "0000") || lasts == 0 ||
			lasts > 0 && time.Since(at) < time.Duration(lasts)*time.Second
	}
	return s
}
