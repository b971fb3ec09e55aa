package program

import (
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"uakari/internal/fact"
)

// serverLines is, of gateways whose settings say more of a backend than a key and a value,
// the line that names one: its groups are the scheme, the host and the port. They are
// compiled when they are first used: most runs never do.
var serverLines = sync.OnceValue(func() map[string]*regexp.Regexp {
	return map[string]*regexp.Regexp{
		Nginx: regexp.MustCompile(
			`(?:^|[\s{;])(?:proxy_pass\s+(https?)://|server\s+)(\[[0-9a-fA-F:]+\]|[A-Za-z0-9._-]+)(?::(\d+))?[\s/;]`,
		),
		HAProxy: regexp.MustCompile(`^\s*server\s+\S+\s+()(\[[0-9a-fA-F:]+\]|[A-Za-z0-9._-]+):(\d+)`),
		Apache: regexp.MustCompile(
			`(?i)^\s*proxypass(?:match)?\s+\S+\s+(https?)://(\[[0-9a-f:]+\]|[a-z0-9._-]+)(?::(\d+))?`,
		),
	}
})

// Gateways is the programs whose settings UpstreamsIn reads.
func Gateways() []string { return []string{Nginx, HAProxy, Apache} }

// UpstreamsIn finds backends in a settings file of a gateway. Names of upstream groups
// have no port and no dot, and stand for the servers that the group lists.
func UpstreamsIn(gateway, text, path string) []fact.Upstream {
	var list []fact.Upstream
	named, number := serverLines()[gateway], 0
	usual, mode := "", "" // a balancer's own: it passes on bytes, or requests
	for line := range strings.Lines(text) {
		number++
		line, _, _ = strings.Cut(line, "#")
		words := strings.Fields(line)
		switch {
		case len(words) == 0:
		case words[0] == "defaults":
			usual, mode = "tcp", "tcp"
		case words[0] == "frontend" || words[0] == "backend" || words[0] == "listen":
			mode = usual
		case words[0] == "mode" && len(words) > 1:
			if mode = words[1]; len(list) == 0 {
				usual = mode
			}
		}
		m := named.FindStringSubmatch(line)
		if m == nil {
			continue
		}
		up := fact.Upstream{Scheme: "http", Host: strings.Trim(m[2], "[]"), Path: path, Line: number}
		switch {
		case m[1] != "":
			up.Scheme = m[1]
		case slices.Contains(words, "ssl"):
			up.Scheme = "https"
		case mode == "tcp":
			up.Scheme = "tcp"
		}
		port, err := strconv.ParseUint(m[3], 10, 16)
		switch {
		case err == nil:
			up.Port = uint16(port)
		case !strings.ContainsAny(up.Host, ".:") && up.Host != "localhost":
			continue
		default:
			up.Port = passes[up.Scheme].port
		}
		list = append(list, up)
	}
	return list
}
