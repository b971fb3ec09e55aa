//go:build linux

package linux

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/look/file"
	"uakari/internal/look/host/common"
	"uakari/internal/program"
)

// upstreamFiles are where gateways say which backends they pass requests to:
// the file patterns, and a regular expression of which the groups are the
// scheme, the host and the port. They are compiled when they are first used:
// most runs never do.
var upstreamFiles = sync.OnceValue(func() []upstreamFile {
	return []upstreamFile{
		{
			"nginx",
			[]string{
				"/etc/nginx/nginx.conf",
				"/etc/nginx/conf.d/*.conf",
				"/etc/nginx/sites-enabled/*",
				"/etc/nginx/*.d/*.conf",
			},
			regexp.MustCompile(
				`(?:^|[\s{;])(?:proxy_pass\s+(https?)://|server\s+)(\[[0-9a-fA-F:]+\]|[A-Za-z0-9._-]+)(?::(\d+))?[\s/;]`,
			),
		},
		{"haproxy", []string{"/etc/haproxy/haproxy.cfg", "/etc/haproxy/conf.d/*.cfg"},
			regexp.MustCompile(`^\s*server\s+\S+\s+()(\[[0-9a-fA-F:]+\]|[A-Za-z0-9._-]+):(\d+)`)},
		{"apache2", []string{"/etc/apache2/sites-enabled/*", "/etc/httpd/conf.d/*.conf"},
			regexp.MustCompile(
				`(?i)^\s*proxypass(?:match)?\s+\S+\s+(https?)://(\[[0-9a-f:]+\]|[a-z0-9._-]+)(?::(\d+))?`,
			)},
	}
})

type upstreamFile struct {
	program string
	globs   []string
	line    *regexp.Regexp
}

// mostUpstreams bounds how many backends are kept.
const mostUpstreams = 20

// Upstreams leaves the backends that a gateway on a port passes requests to,
// by its settings.
func Upstreams(ctx context.Context, env look.Env, order fact.Order, emit look.Emit) {
	u := fact.Upstreams{List: []fact.Upstream{}}
	held := programsOn(ctx, env, order.Target.Port)
	for _, f := range upstreamFiles() {
		pid, holds := held[f.program]
		if !holds && len(held) > 0 {
			continue
		}
		for _, from := range settingsOf(shipped(f.program), pid) {
			if from.err != nil {
				emit(env.Failed(order, from.path, "could not read the gateway's settings", from.err, "root"))
				continue
			}
			u.List = append(u.List, upstreamsIn(string(from.text), from.path, f.line)...)
		}
	}
	for _, p := range knownOf(env, held) {
		pid, holds := holding(p, held)
		if len(p.Settings.Backend) == 0 || !holds {
			continue
		}
		for _, from := range settingsOf(p, pid) { // what could not be read was said above, or is no gateway's
			for _, v := range from.found(p, p.Settings.Backend) {
				up, ok := program.BackendIn(v.Text)
				up.Path, up.Line = from.path, v.Line
				if ok && !slices.ContainsFunc(u.List, func(have fact.Upstream) bool {
					return have.Socket == up.Socket && have.Host == up.Host && have.Port == up.Port
				}) {
					u.List = append(u.List, opened(up))
				}
			}
		}
	}
	u.List = u.List[:min(len(u.List), mostUpstreams)]
	f := env.Seen(order, "backends behind this gateway", fmt.Sprintf("%d in its settings", len(u.List)))
	f.Upstreams = &u
	emit(f)
}

// opened says of a local socket whether somebody listens on it (the flag
// __SO_ACCEPTCON of include/linux/socket.h in /proc/net/unix).
func opened(up fact.Upstream) fact.Upstream {
	if up.Socket == "" {
		return up
	}
	text, err := file.Head("/proc/net/unix", common.MostSettingFile)
	if err != nil {
		return up
	}
	const listens = "00010000"
	open := false
	for line := range strings.Lines(string(text)) {
		fields := strings.Fields(line)
		if len(fields) == 8 && fields[3] == listens &&
			(fields[7] == up.Socket || fields[7] == strings.Replace(up.Socket, "/var/run/", "/run/", 1)) {
			open = true
		}
	}
	up.Open = &open
	return up
}

// upstreamsIn finds backends in a settings file. Names of upstream groups have
// no port and no dot, and stand for the servers that the group lists.
func upstreamsIn(text, path string, line *regexp.Regexp) []fact.Upstream {
	var list []fact.Upstream
	number := 0
	usual, mode := "", "" // a balancer's own: it passes on bytes, or requests
	for each := range strings.Lines(text) {
		number++
		each, _, _ = strings.Cut(each, "#")
		words := strings.Fields(each)
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
		m := line.FindStringSubmatch(each)
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
		case up.Scheme == "https":
			up.Port = 443
		default:
			up.Port = 80
		}
		list = append(list, up)
	}
	return list
}
