package path

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"time"

	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/protocol"
	"uakari/internal/wire"
)

// Mapper asks the port mapper of a host what is registered there, as the
// order's scheme says.
func Mapper(ctx context.Context, env look.Env, order fact.Order, emit look.Emit) {
	t := order.Target
	ask := wire.MapperOf(t.Scheme)
	source := "port mapper " + netip.AddrPortFrom(t.Addr, t.Port).String()
	m, err := askMapper(ctx, env, t, ask)
	if err != nil {
		emit(
			env.Failed(
				order,
				source,
				"could not ask the port mapper",
				err,
				"a mapper that answers on port "+fmt.Sprint(t.Port),
			),
		)
		return
	}
	f := env.Seen(order, source, fmt.Sprintf("%d registered", len(m.Entries)))
	f.Mapper = &m
	emit(f)
}

func askMapper(
	ctx context.Context,
	env look.Env,
	t fact.Target,
	ask func(*wire.Conn) (fact.Mapper, error),
) (fact.Mapper, error) {
	d := net.Dialer{Timeout: env.Patience()}
	transport := "tcp"
	if scheme, ok := protocol.Lookup(t.Scheme); ok && scheme.UDP {
		transport = "udp"
	}
	conn, err := d.DialContext(ctx, transport, netip.AddrPortFrom(t.Addr, t.Port).String())
	if err != nil {
		return fact.Mapper{}, err
	}
	defer conn.Close()
	conn.SetDeadline(time.Now().Add(look.Within(ctx, env.Patience())))
	return ask(wire.NewConn(conn))
}
