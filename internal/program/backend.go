package program

import (
	"net/url"
	"strconv"
	"strings"

	"uakari/internal/fact"
)

// passes is how gateways name what carries a request on, and what of it is
// asked here: a page, or only whether somebody takes the connection.
var passes = map[string]struct {
	scheme string
	port   uint16
}{
	"http": {"http", 80}, "https": {"https", 443}, "ws": {"http", 80}, "wss": {"https", 443},
	"grpc":  {"tcp", 80},
	"grpcs": {"tls", 443},
	"h2c":   {"tcp", 80},
	"ajp":   {"tcp", 8009},
	"fcgi":  {"tcp", 9000},
	"uwsgi": {"tcp", 3031},
	"scgi":  {"tcp", 4000},
	"tcp":   {"tcp", 0},
}

// BackendIn reads a backend as settings of gateways write it: a URL, a host
// with a port, or a local socket as "unix:/path". It knows none in names of
// groups, which stand for servers that the settings list elsewhere.
func BackendIn(value string) (fact.Upstream, bool) {
	value = strings.Trim(strings.TrimSpace(value), `"';`)
	if fields := strings.Fields(value); len(fields) > 0 {
		value = strings.Trim(fields[0], `"';`)
	}
	value = strings.TrimPrefix(value, "proxy:")
	for _, before := range []string{"http://unix:", "unix://", "unix:", "unix/"} {
		if rest, ok := strings.CutPrefix(value, before); ok {
			path, _, _ := strings.Cut(strings.TrimLeft(rest, ":"), "|")
			path, _, _ = strings.Cut(path, ":")
			return fact.Upstream{Scheme: "unix", Socket: path}, strings.HasPrefix(path, "/")
		}
	}
	if strings.HasPrefix(value, "/") {
		return fact.Upstream{Scheme: "unix", Socket: value}, true
	}
	if strings.Contains(value, "$") {
		return fact.Upstream{}, false // it is made at each request
	}
	name := "tcp"
	if before, rest, ok := strings.Cut(value, "://"); ok {
		name, value = strings.ToLower(before), rest
	}
	by, ok := passes[name]
	if !ok {
		return fact.Upstream{}, false
	}
	value, _, _ = strings.Cut(value, "/")
	u := url.URL{Host: value}
	up := fact.Upstream{Scheme: by.scheme, Host: u.Hostname(), Port: by.port}
	if n, err := strconv.ParseUint(u.Port(), 10, 16); err == nil && n > 0 {
		up.Port = uint16(n)
	} else if name == "tcp" || !strings.ContainsAny(up.Host, ".:") && up.Host != "localhost" {
		return fact.Upstream{}, false
	}
	return up, up.Host != "" && up.Port != 0
}
