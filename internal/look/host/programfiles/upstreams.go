package programfiles

import (
	"context"
	"fmt"
	"slices"

	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/program"
)

// mostUpstreams bounds how many backends are kept.
const mostUpstreams = 20

// Upstreams leaves the backends that a gateway on a port passes requests to,
// by its settings.
func (h *Host) Upstreams(ctx context.Context, env look.Env, order fact.Order, emit look.Emit) {
	u := fact.Upstreams{List: []fact.Upstream{}}
	held := h.On(ctx, env, order.Target.Port)
	for _, name := range program.Gateways() {
		pid, holds := held[name]
		if !holds && len(held) > 0 {
			continue
		}
		for _, from := range h.SettingsOf(Shipped(name), pid) {
			if from.Err != nil {
				emit(env.Failed(order, from.Path, "could not read the gateway's settings", from.Err, "root"))
				continue
			}
			u.List = append(u.List, program.UpstreamsIn(name, string(from.Text), from.Path)...)
		}
	}
	for _, p := range KnownOf(env, held) {
		pid, holds := Holding(p, held)
		if len(p.Settings.Backend) == 0 || !holds {
			continue
		}
		for _, from := range h.SettingsOf(p, pid) { // what could not be read was said above, or is no gateway's
			for _, v := range from.Found(p, p.Settings.Backend) {
				up, ok := program.BackendIn(v.Text)
				up.Path, up.Line = from.Path, v.Line
				if ok && !slices.ContainsFunc(u.List, func(have fact.Upstream) bool {
					return have.Socket == up.Socket && have.Host == up.Host && have.Port == up.Port
				}) {
					u.List = append(u.List, h.Opened(up))
				}
			}
		}
	}
	u.List = u.List[:min(len(u.List), mostUpstreams)]
	f := env.Seen(order, "backends behind this gateway", fmt.Sprintf("%d in its settings", len(u.List)))
	f.Upstreams = &u
	emit(f)
}
