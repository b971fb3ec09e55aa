package program

import (
	"cmp"
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
	offset, next := 0, 0  // where the line begins
	for line := range strings.Lines(text) {
		number++
		offset, next = next, next+len(line)
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
		switch {
		case up.Scheme != "https":
		case gateway == HAProxy:
			balancerVerifies(&up, words)
		default:
			verifies(&up, gateway, text, offset+max(strings.Index(line, m[0]), 0))
		}
		list = append(list, up)
	}
	return list
}

// balancerVerifies reads the words of a server's line: a certificate is checked unless they
// say otherwise, by the name that they give.
func balancerVerifies(up *fact.Upstream, words []string) {
	after := func(word string) string {
		if at := slices.Index(words, word); at >= 0 && at+1 < len(words) {
			return words[at+1]
		}
		return ""
	}
	sni, fixed := strings.CutPrefix(after("sni"), "str(")
	if sni = strings.TrimSuffix(sni, ")"); !fixed {
		sni = "" // of the request
	}
	up.Verified, up.Trust = after("verify") == "required", after("ca-file")
	up.Name = cmp.Or(after("verifyhost"), sni)
	// Without either of them no name is checked that is known (HAProxy, "verifyhost").
	up.AnyName = up.Verified && up.Name == ""
}

// verifying is how a gateway's settings say that it checks the certificates of backends, for
// which name, and by which roots.
var verifying = sync.OnceValue(func() map[string][3]*regexp.Regexp {
	return map[string][3]*regexp.Regexp{
		Nginx: {
			regexp.MustCompile(`proxy_ssl_verify\s+(on|off)\s*;`),
			regexp.MustCompile(`proxy_ssl_name\s+([^\s;$]+)\s*;`),
			regexp.MustCompile(`proxy_ssl_trusted_certificate\s+"?([^\s;"]+)"?\s*;`),
		},
		Apache: {
			regexp.MustCompile(`(?im)^\s*sslproxyverify\s+(require|none)`),
			nil,
			regexp.MustCompile(`(?im)^\s*sslproxycacertificatefile\s+"?([^\s"]+)`),
		},
	}
})

// verifies reads what holds for a line: its own block first, then those around it.
func verifies(up *fact.Upstream, gateway, text string, at int) {
	patterns := verifying()[gateway]
	say := func(pattern *regexp.Regexp) string {
		for _, block := range around(text, at) {
			if pattern == nil {
				return ""
			}
			if m := pattern.FindStringSubmatch(block); m != nil {
				return m[1]
			}
		}
		return ""
	}
	switch said := say(patterns[0]); strings.ToLower(said) {
	case "on", "require":
		up.Verified, up.Name, up.Trust = true, say(patterns[1]), say(patterns[2])
	}
}

// around is the text of the blocks in braces that a place stands in, each without the blocks
// within it, the innermost first; the whole is the last.
func around(text string, at int) []string {
	own := [][]byte{nil} // of the blocks that are open, the innermost last
	var list []string
	depth := 0 // of the innermost block of the place that is still open; 0: it was not met
	for i := 0; i < len(text); i++ {
		if i == at {
			depth = len(own)
		}
		switch c := text[i]; {
		case c == '{':
			own = append(own, nil)
		case c == '}' && len(own) > 1:
			if len(own) == depth {
				list, depth = append(list, string(own[len(own)-1])), depth-1
			}
			own = own[:len(own)-1]
		default:
			own[len(own)-1] = append(own[len(own)-1], c)
		}
	}
	for i := min(depth, len(own)) - 1; i >= 0; i-- {
		list = append(list, string(own[i]))
	}
	return list
}
