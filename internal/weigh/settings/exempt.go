package settings

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"uakari/internal/endpoint"
	"uakari/internal/program"
)

// client is programs that read a list of exceptions from a proxy in the same way. What they
// agree on: names stand for themselves and all below them.
type client struct {
	name  string
	star  star
	match func(entry, host string, port uint16) bool
}

// star is where "*" stands for everything.
type star int

const (
	nowhere star = iota
	alone        // if it is the whole list
	anywhere
)

// clients is how programs read no_proxy where they differ: nets, ports, stars, the ends of
// addresses. For those of Debian a test compares with the programs.
var clients = []client{
	{"curl and git", alone, func(entry, host string, _ uint16) bool {
		return inNet(entry, host) || !literal(host) && below(entry, host) || is(entry, host)
	}},
	{"wget", nowhere, func(entry, host string, _ uint16) bool { return below(entry, host) }},
	{"Python", alone, func(entry, host string, port uint16) bool {
		return below(entry, host) || below(entry, fmt.Sprintf("%s:%d", host, port))
	}},
	{"Go", anywhere, func(entry, host string, port uint16) bool {
		entry = strings.TrimPrefix(strings.TrimSuffix(entry, fmt.Sprintf(":%d", port)), "*")
		return inNet(entry, host) || !literal(host) && below(entry, host) || is(entry, host)
	}},
}

func literal(host string) bool {
	_, ok := endpoint.Literal(host)
	return ok
}

func is(entry, host string) bool { return host == strings.Trim(entry, "[]") }

// below reports whether a host is one name or below it.
func below(entry, host string) bool {
	entry = strings.TrimPrefix(entry, ".")
	return entry != "" && (is(entry, host) || strings.HasSuffix(host, "."+entry))
}

// inNet reports whether a host is an address in a net that is written as one.
func inNet(entry, host string) bool {
	addr, ok := endpoint.Literal(host)
	if !ok || !strings.Contains(entry, "/") {
		return false
	}
	p, err := program.NetPattern(entry)
	return err == nil && p.Contains(addr)
}

// exempt says which programs do not use the proxy for a host by a list of exceptions, and
// which do.
func exempt(list, host string, port uint16) (straight, through []string) {
	host = strings.ToLower(strings.TrimSuffix(host, "."))
	entries := strings.FieldsFunc(strings.ToLower(list), func(r rune) bool { return r == ',' || r == ' ' })
	for i := range entries {
		entries[i] = strings.TrimSuffix(entries[i], ".")
	}
	for _, c := range clients {
		all := slices.Contains(entries, "*") && (c.star == anywhere || c.star == alone && len(entries) == 1)
		if all || slices.ContainsFunc(entries, func(entry string) bool { return c.match(entry, host, port) }) {
			straight = append(straight, c.name)
		} else {
			through = append(through, c.name)
		}
	}
	return straight, through
}

// exemptBySystem reports whether a list of Windows excepts a host: patterns with stars
// anywhere ("10.20.*", "stage*"), with a scheme or a port or without, and "<local>" for names
// without a dot (documentation of WinINet, "ProxyOverride").
func exemptBySystem(list, scheme, host string, port uint16) bool {
	host = strings.ToLower(strings.TrimSuffix(host, "."))
	return slices.ContainsFunc(
		strings.FieldsFunc(strings.ToLower(list), func(r rune) bool { return r == ',' || r == ';' || r == ' ' }),
		func(each string) bool {
			if each == "<local>" {
				return !literal(host) && !strings.Contains(host, ".")
			}
			each, fits := strings.CutPrefix(each, scheme+"://")
			if strings.Contains(each, "://") && !fits {
				return false
			}
			each = strings.Trim(strings.TrimSuffix(each, fmt.Sprintf(":%d", port)), "[]")
			ok, err := path.Match(strings.ReplaceAll(each, "/", "\\/"), host)
			return err == nil && ok
		},
	)
}
