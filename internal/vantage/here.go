// Package vantage holds the ways to look from a host.
package vantage

import (
	"context"
	"fmt"
	"maps"
	"runtime"
	"sync"
	"time"

	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/look/host"
	"uakari/internal/look/host/common"
	"uakari/internal/look/names"
	"uakari/internal/look/path"
	"uakari/internal/look/session"
)

// looks is every look by its kind.
var looks = map[fact.Kind]func(context.Context, look.Env, fact.Order, look.Emit){
	fact.LookNames:    names.Look,
	fact.LookZone:     names.Zone,
	fact.LookServices: names.Services,
	fact.LookIdle:     session.Idle,
	fact.LookThrough:  session.Through,
	fact.LookKeyFile:  session.KeyFile,
	fact.LookLoad:     session.Load,
	fact.LookMetadata: session.Metadata,
	fact.LookMapper:   path.Mapper,
	fact.LookReverse:  names.Reverse,
	fact.LookSession:  session.Look,
	fact.LookLogin:    session.Login,
	fact.LookEcho:     path.Echo,
	fact.LookRoute:    path.Route,
	fact.LookLink:     path.Link,
	fact.LookHops:     path.Hops,
	fact.LookReset:    path.Reset,
	fact.LookPackets:  path.Packets,
	fact.LookClock:    path.Clock,
	fact.LookOffers:   session.Offers,
	fact.LookLibrary:  session.Library,
	fact.LookTrust:    session.Trust,
	fact.LookClaims:   path.Claims,
	fact.LookResolver: names.Resolver,
}

func init() { maps.Copy(looks, host.Looks) }

// Here is the host that the program runs on.
type Here struct {
	info fact.Vantage
	env  look.Env
}

// NewHere looks from this host, in the role that info gives it.
func NewHere(info fact.Vantage, env look.Env) *Here {
	env.Vantage, env.Probes = info.ID, &look.Probes{}
	info.System = runtime.GOOS
	return &Here{info, env}
}

// Info says which vantage this is.
func (h *Here) Info() fact.Vantage { return h.info }

// Look takes one look and leaves its facts. A kind that does not exist here
// is a fact too.
func (h *Here) Look(ctx context.Context, order fact.Order, emit func(fact.Fact)) {
	if order.Look == fact.LookNothing {
		h.env.Probes.Renew()
		return
	}
	take, ok := looks[order.Look]
	if !ok {
		emit(
			h.env.Failed(
				order,
				string(order.Look),
				"could not look",
				fmt.Errorf("there is no look %q", order.Look),
				"",
			),
		)
		return
	}
	env := h.env
	if order.Target.Apart {
		env.Card, env.Unit = nil, ""
	}
	if _, ofHost := host.Looks[order.Look]; ofHost {
		within := hostTime
		if env.Deep { // a record is for hosts that cannot be asked again
			within = deepTime
		}
		bounded(common.WithHarmless(ctx, env, order), take, env, order, within, emit)
		return
	}
	take(ctx, env, order, emit)
}

// hostTime bounds a look at this host, and deepTime one for a record. Some of the
// system's own files and calls know no end of their own: those of a process that
// hangs, or of a disk that is gone.
const (
	hostTime = 15 * time.Second
	deepTime = 4 * hostTime
)

// bounded takes a look and leaves it behind when its time is over: what it saw
// until then is kept, and that it did not end is told.
func bounded(
	ctx context.Context,
	take look.Func,
	env look.Env,
	order fact.Order,
	within time.Duration,
	emit func(fact.Fact),
) {
	var (
		mu   sync.Mutex // guards over, and calls of emit
		over bool
	)
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		take(ctx, env, order, func(f fact.Fact) {
			mu.Lock()
			defer mu.Unlock()
			if !over {
				emit(f)
			}
		})
	}()
	timer := time.NewTimer(within)
	defer timer.Stop()
	select {
	case <-ended:
		return
	case <-timer.C:
	}
	mu.Lock()
	defer mu.Unlock()
	over = true
	emit(host.Unended(env, order, within))
}
