//go:build linux

package linux

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/look/file"
	"uakari/internal/look/host/common"
	"uakari/internal/program"
)

// mostUpstreams bounds how many backends are kept.
const mostUpstreams = 20

// Upstreams leaves the backends that a gateway on a port passes requests to,
// by its settings.
func Upstreams(ctx context.Context, env look.Env, order fact.Order, emit look.Emit) {
	u := fact.Upstreams{List: []fact.Upstream{}}
	held := programsOn(ctx, env, order.Target.Port)
	for _, name := range program.Gateways() {
		pid, holds := held[name]
		if !holds && len(held) > 0 {
			continue
		}
		for _, from := range settingsOf(shipped(name), pid) {
			if from.err != nil {
				emit(env.Failed(order, from.path, "could not read the gateway's settings", from.err, "root"))
				continue
			}
			u.List = append(u.List, program.UpstreamsIn(name, string(from.text), from.path)...)
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
