package session

import (
	"cmp"
	"context"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptrace"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/look"
	"uakari/internal/protocol"
	"uakari/internal/wire"
)

// Idle climbs, leaves the connection idle for a while, and asks once more on
// it: what was dropped on the way meanwhile shows only then.
func Idle(ctx context.Context, env look.Env, order fact.Order, emit look.Emit) {
	t := order.Target
	wait := time.Duration(t.IdleS) * time.Second
	idle := fact.Idle{WaitMS: wire.MS(wait)}
	scheme, _ := protocol.Lookup(t.Scheme)
	c := &climber{env: env, order: order, scheme: scheme, wire: wire.Protocols[scheme.Wire], emit: func(fact.Fact) {}}
	raw := c.connect(ctx)
	if raw == nil {
		emit(
			env.Failed(
				order,
				"idle connection",
				"could not leave a connection idle",
				fmt.Errorf("there is none"),
				"a connection that is made",
			),
		)
		return
	}
	defer raw.Close()
	c.conn = wire.NewConn(raw)
	stop := context.AfterFunc(ctx, func() { raw.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	if t.Security == fact.TLS && !c.handshake(ctx) || !c.greet() {
		emit(
			env.Failed(
				order,
				"idle connection",
				"could not leave a connection idle",
				fmt.Errorf("the session did not come up"),
				"",
			),
		)
		return
	}
	question := protocol.Of(scheme.Wire).Alive
	if protocol.Of(scheme.Wire).Web {
		path, _, _ := strings.Cut(t.Path, "#")
		question = "HEAD /" + strings.TrimPrefix(
			path,
			"/",
		) + " HTTP/1.1\r\nHost: " + c.hostHeader() + "\r\nUser-Agent: uakari\r\n\r\n"
	}
	if question == "" {
		emit(
			env.Failed(
				order,
				"idle connection",
				"could not leave a connection idle",
				fmt.Errorf("%s is not asked twice", t.Scheme),
				"",
			),
		)
		return
	}
	if _, err := c.askTwice(question, 5*time.Second); err != nil {
		emit(
			env.Failed(
				order,
				"idle connection",
				"could not leave a connection idle",
				fmt.Errorf("the first question failed: %w", err),
				"",
			),
		)
		return
	}
	select {
	case <-time.After(wait):
	case <-ctx.Done():
		return
	}
	began := time.Now()
	_, err := c.askTwice(question, 5*time.Second)
	idle.Ending, idle.TookMS = wire.Ending(err), wire.MS(time.Since(began))
	f := env.Seen(order, fmt.Sprintf("a connection to %s, idle for %s", c.address(), wait), sawIdle(idle))
	f.Idle = &idle
	emit(f)
}

func sawIdle(i fact.Idle) string {
	switch i.Ending {
	case fact.Done:
		return "still works"
	case fact.Closed:
		return "the server had closed it"
	case fact.ResetMid:
		return "reset when it was used again"
	}
	return "nothing comes back any more"
}

// askTwice asks once more on the same connection and waits for the beginning of an answer, within a time.
func (c *climber) askTwice(question string, within time.Duration) (string, error) {
	c.conn.SetDeadline(time.Now().Add(within))
	defer c.conn.SetDeadline(time.Time{})
	if _, err := io.WriteString(c.conn, question); err != nil {
		return "", err
	}
	b := make([]byte, 4096)
	n, err := c.conn.Read(b)
	return string(b[:n]), err
}

// Bounds on asking side by side: what one width sends, whatever time it is
// given, and the head of one answer, in bytes.
const (
	mostRequests = 2000
	mostHead     = 64 << 10
)

// lateAnswers is how long the last requests of a width are waited for, beyond
// the time in which they are begun.
const lateAnswers = 2 * time.Second

// Load asks the same question from several connections at once, for a while,
// and leaves how long answers took and how many failed. Target.Width is the
// width, Env.Each how long it goes on.
func Load(ctx context.Context, env look.Env, order fact.Order, emit look.Emit) {
	t := order.Target
	l := fact.Load{Width: t.Width}
	each := cmp.Or(env.Each, 5*time.Second)
	begins, cancel := context.WithTimeout(ctx, each)
	defer cancel()
	ctx, stop := context.WithTimeout(ctx, each+lateAnswers)
	defer stop()
	client := &http.Client{
		Timeout:       10 * time.Second,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		Transport: &http.Transport{
			DialContext:            dialTo(t),
			MaxConnsPerHost:        t.Width,
			MaxIdleConnsPerHost:    t.Width,
			MaxResponseHeaderBytes: mostHead,
			TLSClientConfig:        &tls.Config{InsecureSkipVerify: true, ServerName: indicated(t.Name)},
		},
	}
	c := &climber{env: env, order: order}
	url := protocol.WebScheme(t.Security) + "://" + c.hostHeader() + "/" + strings.TrimPrefix(t.Path, "/")
	var (
		mu    sync.Mutex // guards l and took
		took  []float64
		wg    sync.WaitGroup
		began = time.Now()
	)
	for range t.Width {
		wg.Go(func() {
			for begins.Err() == nil {
				mu.Lock()
				enough := l.Asked >= mostRequests
				if !enough {
					l.Asked++
				}
				mu.Unlock()
				if enough {
					return
				}
				since := time.Now()
				ms, failed := once(ctx, client, url)
				mu.Lock()
				switch {
				case ctx.Err() != nil && failed != "" && time.Since(since) < lateAnswers:
					l.Asked-- // the whole run ended, and it may have been about to come
				case ctx.Err() != nil && failed != "":
					l.Failed++
					l.Unfinished++
					l.Why = fmt.Sprintf("no answer in %s", short(wire.MS(time.Since(since))))
				case failed != "":
					l.Failed++
					l.Why = failed
				default:
					took = append(took, ms)
				}
				mu.Unlock()
			}
		})
	}
	wg.Wait()
	l.ForMS = wire.MS(time.Since(began))
	client.CloseIdleConnections()
	slices.Sort(took)
	if n := len(took); n > 0 {
		l.MedianMS, l.MostMS, l.Late95MS = took[n/2], took[n-1], took[min(n-1, n*95/100)]
	}
	f := env.Seen(
		order,
		foreign.Plural(l.Width, "request")+" side by side",
		fmt.Sprintf(
			"%d asked, %d failed, half within %s, 95 of 100 within %s",
			l.Asked,
			l.Failed,
			short(l.MedianMS),
			short(l.Late95MS),
		),
	)
	f.Load = &l
	emit(f)
}

// dialTo connects to one address, whatever the name gives.
func dialTo(t fact.Target) func(context.Context, string, string) (net.Conn, error) {
	return func(ctx context.Context, network, _ string) (net.Conn, error) {
		var d net.Dialer
		return d.DialContext(ctx, network, netip.AddrPortFrom(t.Addr, t.Port).String())
	}
}

// once asks once; failed says why there was no good answer.
func once(ctx context.Context, client *http.Client, url string) (ms float64, failed string) {
	began, first := time.Now(), time.Time{}
	ctx = httptrace.WithClientTrace(ctx, &httptrace.ClientTrace{GotFirstResponseByte: func() { first = time.Now() }})
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, url, nil)
	if err != nil {
		return 0, foreign.Clean(err.Error())
	}
	request.Header.Set("User-Agent", "uakari")
	answer, err := client.Do(request)
	if err != nil {
		return 0, foreign.Clean(err.Error())
	}
	defer answer.Body.Close()
	if _, err := io.Copy(io.Discard, io.LimitReader(answer.Body, 1<<20)); err != nil {
		return 0, foreign.Clean(err.Error())
	}
	if answer.StatusCode >= 500 || answer.StatusCode == 429 {
		return 0, answer.Status
	}
	return wire.MS(first.Sub(began)), ""
}
