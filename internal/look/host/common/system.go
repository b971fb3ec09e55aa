package common

import (
	"net/url"
	"strings"

	"uakari/internal/fact"
)

// ProxyOf is a proxy that a system is set to, beside what the environment says.
type ProxyOf struct {
	Name   string // of the place
	Value  string // "heron:3128"; "" for none
	Except string // as the system writes it: names behind semicolons, <local> for short ones
	Script string // an address of a script that decides
}

// What a system keeps beside files and the environment; nil where it keeps nothing
// there.
var (
	SystemProxy  func(scheme string) (ProxyOf, error)
	SystemStored func(host string) []fact.StoredSecret
)

// ProxyFor is the proxy for a scheme in a list as Windows writes it: one for all, or
// "http=heron:3128;https=heron:3129".
func ProxyFor(list, scheme string) string {
	for part := range strings.FieldsFuncSeq(list, func(r rune) bool { return r == ';' || r == ' ' }) {
		name, value, named := strings.Cut(part, "=")
		switch {
		case !named:
			return part
		case strings.EqualFold(name, scheme):
			return value
		}
	}
	return ""
}

// exceptions is a list of exceptions as environments have it: "<local>" stays, for
// names without a dot.
func exceptions(list string) string {
	var parts []string
	for part := range strings.FieldsFuncSeq(list, func(r rune) bool { return r == ';' || r == ' ' || r == ',' }) {
		parts = append(parts, part)
	}
	return strings.Join(parts, ",")
}

// CredentialFor reports whether a target of the store of credentials of Windows is for
// a host: "TERMSRV/heron", "Domain:target=heron", "LegacyGeneric:target=git:https://heron".
func CredentialFor(target, host string) bool {
	_, name, _ := strings.Cut(target, "target=")
	if name == "" {
		name = target
	}
	if at := strings.Index(name, "://"); at >= 0 {
		start := strings.LastIndexByte(name[:at], ':') + 1
		if u, err := url.Parse(name[start:]); err == nil {
			return host != "" && strings.EqualFold(u.Hostname(), host)
		}
	}
	name = name[strings.LastIndexByte(name, '/')+1:]
	return host != "" && strings.EqualFold(name, host)
}
