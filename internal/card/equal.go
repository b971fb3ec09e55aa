package card

import (
	"cmp"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"sync"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/protocol"
)

// switchWords is how settings write yes and no.
var switchWords = map[string]string{
	"1": "yes", "true": "yes", "on": "yes", "yes": "yes", "enabled": "yes", "enable": "yes",
	"0": "no", "false": "no", "off": "no", "no": "no", "disabled": "no", "disable": "no",
}

// securityWords is how settings write what protects a connection.
var securityWords = map[string]fact.Security{
	"plain": fact.Plain, "none": fact.Plain, "no": fact.Plain,
	"unencrypted": fact.Plain, "clear": fact.Plain, "cleartext": fact.Plain,
	"tls": fact.TLS, "ssl": fact.TLS, "yes": fact.TLS, "implicit": fact.TLS, "required": fact.TLS,
	"require": fact.TLS, "verify-ca": fact.TLS, "verify-full": fact.TLS,
	"starttls": fact.StartTLS, "start-tls": fact.StartTLS, "start_tls": fact.StartTLS, "upgrade": fact.StartTLS,
	"explicit": fact.StartTLS, "opportunistic": fact.StartTLS, "prefer": fact.StartTLS, "preferred": fact.StartTLS,
}

// SecurityOf reads a word of a setting as what protects a connection.
func SecurityOf(value string) (fact.Security, bool) {
	word := strings.ToLower(strings.TrimSpace(value))
	if s, ok := securityWords[cmp.Or(switchWords[word], word)]; ok {
		return s, true
	}
	scheme, ok := protocol.Lookup(word) // a scheme in its place
	return scheme.Security, ok
}

// hostLike is a name of several labels, of which the last has letters only.
var hostLike = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(
		`(?i)^[a-z0-9_]([a-z0-9_-]*[a-z0-9_])?(\.[a-z0-9_]([a-z0-9_-]*[a-z0-9_])?)*\.[a-z]{2,}\.?$`,
	)
})

// Canonical is a value in the one way in which equal values of a rule are
// written: a switch, an address, a host name, a URL; and, where the rule says
// that it is a set, its parts in order. Numbers stay as they are: 010 is not 10.
func Canonical(rule fact.SettingRule, value string) string {
	value = strings.TrimSpace(value)
	if !rule.Set {
		return canonical(rule.Is, value)
	}
	parts := strings.FieldsFunc(
		value,
		func(r rune) bool { return r == ',' || r == ';' || r == ' ' || r == '\t' || r == '\n' },
	)
	for i, part := range parts {
		parts[i] = canonical(rule.Is, part)
	}
	slices.Sort(parts)
	return strings.Join(slices.Compact(parts), " ")
}

func canonical(is, value string) string {
	if is == "security" {
		if s, ok := SecurityOf(value); ok {
			return string(s)
		}
	}
	if word := switchWords[strings.ToLower(value)]; word != "" {
		return word
	}
	if addr, err := netip.ParseAddr(strings.Trim(value, "[]")); err == nil {
		return addr.Unmap().String()
	}
	if strings.Contains(value, "://") {
		if e, err := endpoint.Parse(value); err == nil {
			return e.Scheme + "://" + endpoint.HostPort(
				strings.ToLower(strings.TrimSuffix(e.Host, ".")),
				e.Port,
			) + cmp.Or(
				e.Path,
				"/",
			)
		}
	}
	if is == "host" || hostLike().MatchString(value) {
		return strings.ToLower(strings.TrimSuffix(value, "."))
	}
	return value
}
