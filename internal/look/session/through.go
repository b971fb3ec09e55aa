package session

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/look"
	"uakari/internal/wire"
)

// Through asks the proxy that the card names for a tunnel to the endpoint (RFC
// 9110 section 9.3.6). Nothing is sent through it.
func Through(ctx context.Context, env look.Env, order fact.Order, emit look.Emit) {
	t := order.Target
	proxy := t.Path
	if proxy == "" && env.Card != nil {
		proxy = env.Card.Proxy
	}
	if proxy == "" {
		return
	}
	p := fact.Through{Proxy: proxy}
	place := endpoint.HostPort(strings.TrimSuffix(t.Name, "."), t.Port)
	status, err := tunnel(ctx, env, p.Proxy, place)
	if errors.Is(err, errNoProxy) {
		emit(env.Failed(order, "proxy "+p.Proxy, "could not ask the proxy", err, ""))
		return
	}
	if err != nil {
		p.Error = foreign.Clean(look.Words(err))
		f := env.Seen(order, fmt.Sprintf("proxy %s, asked for %s", p.Proxy, place), p.Error)
		f.Through = &p
		emit(f)
		return
	}
	p.Status, p.Open = status, status/100 == 2
	f := env.Seen(order, fmt.Sprintf("proxy %s, asked for %s", p.Proxy, place), fmt.Sprintf("answers %d", status))
	f.Through = &p
	emit(f)
}

var errNoProxy = errors.New("is no proxy's address")

func tunnel(ctx context.Context, env look.Env, proxy, place string) (status int, err error) {
	u, err := url.Parse(proxy)
	if err != nil || u.Host == "" {
		return 0, fmt.Errorf("%q %w like http://heron:3128", proxy, errNoProxy)
	}
	d := net.Dialer{Timeout: env.Patience()}
	conn, err := d.DialContext(ctx, "tcp", u.Host)
	if err != nil {
		return 0, err
	}
	defer conn.Close()
	conn.SetDeadline(time.Now().Add(look.Within(ctx, 10*time.Second)))
	c := wire.NewConn(conn)
	if _, err := fmt.Fprintf(c, "CONNECT %[1]s HTTP/1.1\r\nHost: %[1]s\r\nUser-Agent: uakari\r\n\r\n",
		place); err != nil {
		return 0, err
	}
	answer, err := http.ReadResponse(bufio.NewReader(c), nil)
	if err != nil {
		return 0, err
	}
	answer.Body.Close()
	return answer.StatusCode, nil
}
