// Package session climbs one connection as far as it goes: connect, who
// speaks first, upgrade, handshake, a question. Every step leaves a fact.
//
// Certificates are not checked here: the chain is kept whole, together with
// the client's roots that could vouch for it, and weighed elsewhere.
package session

import (
	"context"
	"crypto/tls"
	"fmt"
	"net"
	"net/netip"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/look/file"
	"uakari/internal/protocol"
	"uakari/internal/redact"
	"uakari/internal/wire"
)

// settleTime is how long is waited for more of what a server says.
const settleTime = 300 * time.Millisecond

// late is when a server that should say something is told to be silent, while
// the wait for it goes on: long enough for the pause that address filters of
// the hosts.allow kind make.
const late = 5 * time.Second

// smallTime is how long a step is waited for in a try that only tells whether
// small segments get through where others do not.
const smallTime = 3 * time.Second

// whenLate calls tell unless the returned function is called in time. What is
// told so is replaced by what comes in the end.
func (c *climber) whenLate(tell func()) (inTime func()) {
	var once sync.Mutex // guards over
	over := false
	timer := time.AfterFunc(late, func() {
		once.Lock()
		defer once.Unlock()
		if !over {
			tell()
		}
	})
	return func() {
		timer.Stop()
		once.Lock()
		defer once.Unlock()
		over = true
	}
}

// climber is one climb.
type climber struct {
	env    look.Env
	order  fact.Order
	scheme protocol.Scheme
	wire   wire.Protocol
	emit   look.Emit
	conn   *wire.Conn
	// unshared is that the server answers only who shares a secret with it, and none
	// was given: what comes back proves nothing.
	unshared bool

	greeting fact.Greeting
	secured  *tls.ConnectionState // of the session that conn goes over; nil: it is not encrypted
}

// Look climbs. It is bounded by the context, which closes the connection;
// connecting is bounded by the environment's wait as well.
func Look(ctx context.Context, env look.Env, order fact.Order, emit look.Emit) {
	scheme, _ := protocol.Lookup(order.Target.Scheme)
	unshared := false
	if protocol.Of(scheme.Wire).Shared && env.Shared == "" {
		scheme.Wire, unshared = "", true // it answers nobody
	}
	c := &climber{env: env, order: order, scheme: scheme, wire: wire.Protocols[scheme.Wire], emit: emit,
		unshared: unshared}
	if scheme.UDP {
		c.datagrams(ctx)
		return
	}
	if err := env.Probes.Climb(netip.AddrPortFrom(order.Target.Addr, order.Target.Port)); err != nil {
		emit(env.Failed(order, c.connecting(), "did not connect", err, ""))
		return
	}
	raw := c.connect(ctx)
	if raw == nil {
		return
	}
	defer raw.Close()
	c.conn = wire.NewConn(raw)
	c.conn.Name = order.Target.Name
	c.step(ctx)
	stop := context.AfterFunc(ctx, func() { raw.SetDeadline(time.Unix(1, 0)) })
	defer stop()

	direct := order.Target.Security == fact.TLS
	if direct && !c.handshake(ctx) {
		return
	}
	c.step(ctx)
	if c.talk() != nil {
		c.converse(ctx)
		return
	}
	if !c.greet() {
		return
	}
	c.step(ctx)
	if order.Target.Security == fact.StartTLS && !c.upgrade(ctx) {
		return
	}
	if protocol.Of(scheme.Wire).HostKeys {
		c.hostKey(ctx, c.greeting)
	}
	c.step(ctx)
	c.ask()
}

func (c *climber) address() string {
	t := c.order.Target
	return endpoint.HostPort(t.Addr.String(), t.Port)
}

// connect makes the connection; nil if there is none.
func (c *climber) connect(ctx context.Context) net.Conn {
	conn, result := connect(ctx, c.order.Target, c.env.Patience())
	f := c.env.Seen(c.order, c.connecting(), sawConnect(result))
	f.Connect = &result
	c.emit(f)
	return conn
}

func sawConnect(r fact.Connect) string {
	switch r.Outcome {
	case fact.Connected:
		return fmt.Sprintf("connected in %s", short(r.TookMS))
	case fact.Silent:
		return fmt.Sprintf("no answer in %s", short(r.TookMS))
	case fact.Reset:
		return fmt.Sprintf("refused by a reset after %s", short(r.TookMS))
	case fact.ICMP:
		return fmt.Sprintf(
			"ICMP type %d code %d from %s after %s",
			r.ICMP.Type,
			r.ICMP.Code,
			r.ICMP.From,
			short(r.TookMS),
		)
	}
	return "this host's own kernel says " + r.Errno
}

// short writes milliseconds as people read them.
func short(ms float64) string {
	switch {
	case ms >= 1000:
		return fmt.Sprintf("%.3g s", ms/1000)
	case ms >= 10:
		return fmt.Sprintf("%.0f ms", ms)
	}
	return fmt.Sprintf("%.1f ms", ms)
}

// greet waits for a server that speaks first. Where nobody knows who does, it
// only watches for a moment. It reports whether to go on.
func (c *climber) greet() bool {
	var g fact.Greeting
	switch {
	case c.wire.Greet != nil:
		spoken := c.whenLate(func() { c.tell(fact.Greeting{Ending: fact.Stalled, TookMS: wire.MS(late)}) })
		g = c.wire.Greet(c.conn)
		spoken()
	case c.scheme.First == protocol.NobodyKnows || c.scheme.Wire == "":
		g = wire.Overhear(c.conn, c.env.SettleTime())
	default:
		return true
	}
	c.tell(g)
	c.greeting = g
	return g.Ending == fact.Done && g.Refusal == ""
}

// tell leaves a greeting; a later one replaces it.
func (c *climber) tell(g fact.Greeting) {
	f := c.env.Seen(c.order, "greeting of "+c.address(), sawGreeting(g))
	f.Greeting = &g
	c.emit(f)
}

func (c *climber) connecting() string {
	if c.order.Target.Small {
		return "tcp connect " + c.address() + " in small segments"
	}
	return "tcp connect " + c.address()
}

// step gives the next step its own time, which is not that of the whole run.
func (c *climber) step(ctx context.Context) {
	wait := c.env.StepTime()
	if c.order.Target.Small {
		wait = min(wait, smallTime) // the same was waited for already
	}
	c.conn.SetDeadline(time.Now().Add(look.Within(ctx, wait)))
}

// setDeadline makes every step end in time to be told.
func (c *climber) setDeadline(ctx context.Context) {
	if _, ok := ctx.Deadline(); ok {
		c.conn.SetDeadline(time.Now().Add(look.Within(ctx, time.Hour)))
	}
}

func sawGreeting(g fact.Greeting) string {
	switch {
	case g.Refusal != "":
		return fmt.Sprintf("refused in the greeting: %q", g.Refusal)
	case g.Head != "":
		return fmt.Sprintf("%q", g.Head)
	}
	return sawEnding(g.Ending) + " after " + short(g.TookMS)
}

func sawEnding(e fact.Ending) string {
	return map[fact.Ending]string{fact.Closed: "closed without a byte", fact.ResetMid: "reset without a byte",
		fact.Stalled:   "nothing came",
		fact.Malformed: "something unreadable came", fact.Done: "nothing yet, still open", fact.Bytes: "bytes came"}[e]
}

// upgrade asks for TLS inside the protocol and makes it. It reports whether
// to go on.
func (c *climber) upgrade(ctx context.Context) bool {
	if c.wire.Upgrade == nil {
		return true
	}
	u := c.wire.Upgrade(c.conn)
	saw := "not offered"
	switch {
	case u.Ending != fact.Done:
		saw = sawEnding(u.Ending)
	case u.Offered:
		saw = "offered"
	}
	f := c.env.Seen(c.order, "upgrade to TLS at "+c.address(), saw)
	f.Upgrade = &u
	c.emit(f)
	if u.Ending != fact.Done {
		return false
	}
	return !u.Offered || c.handshake(ctx)
}

// ask asks the protocol's question.
func (c *climber) ask() {
	if c.wire.Ask == nil {
		if c.wire.Greet != nil { // the greeting is all that is said without an account
			g := fact.Reply{Ending: fact.Done, Protocol: c.scheme.Wire, Asked: "the greeting"}
			f := c.env.Seen(c.order, "greeting of "+c.address(), "complete")
			f.Reply = &g
			c.emit(f)
		}
		return
	}
	answered := c.whenLate(func() {
		r := fact.Reply{Ending: fact.Stalled, Protocol: c.scheme.Wire, Asked: "the question", TookMS: wire.MS(late)}
		f := c.env.Seen(c.order, "question to "+c.address(), "no answer yet after "+short(r.TookMS))
		f.Reply = &r
		c.emit(f)
	})
	matters := c.env.Card != nil && c.env.Card.Answer != nil && c.env.Card.Answer.Contains != ""
	r := c.wire.Ask(
		c.conn,
		wire.Question{
			Host:    c.hostHeader(),
			Path:    c.path(),
			Realm:   c.realm(),
			Body:    matters,
			Agreed:  c.order.Target.Security == fact.StartTLS,
			Secured: c.secured != nil,
		},
	)
	answered()
	r.LeftOut = strings.Contains(c.order.Target.Path, redact.Hidden) && !c.mayAskWhole()
	r.Asked = redact.Query(r.Asked)
	f := c.env.Seen(c.order, fmt.Sprintf("%s of %s", r.Asked, c.address()), sawReply(r))
	f.Reply = &r
	c.emit(f)
}

// path is what is asked for. A secret in it passes the same gate as any other
// ([climber.mayShow]); where it may not, and where it is not known, it is left
// out.
func (c *climber) path() string {
	path := c.order.Target.Path
	if !strings.Contains(path, redact.Hidden) {
		return path
	}
	if c.mayAskWhole() {
		return c.env.Whole
	}
	before, query, _ := strings.Cut(path, "?")
	rest := slices.DeleteFunc(
		strings.Split(query, "&"),
		func(p string) bool { return strings.HasSuffix(p, "="+redact.Hidden) },
	)
	return strings.TrimSuffix(before+"?"+strings.Join(rest, "&"), "?")
}

// mayAskWhole reports whether the secrets of a path may go over this
// connection, and are known here.
func (c *climber) mayAskWhole() bool {
	show, why := c.mayShow()
	return c.env.Whole != "" && c.order.Target.Path == c.env.Path && show && why == ""
}

// realm is this host's own realm (krb5.conf(5)); "" if it has none.
func (c *climber) realm() string {
	if !protocol.Of(c.scheme.Wire).Tickets {
		return ""
	}
	path := os.Getenv("KRB5_CONFIG")
	if path == "" {
		path = "/etc/krb5.conf"
	}
	text, err := file.Head(path, file.MostSettings)
	if err != nil {
		return "" // then the server's domain names it
	}
	for line := range strings.Lines(string(text)) {
		if key, value, ok := strings.Cut(line, "="); ok && strings.TrimSpace(key) == "default_realm" {
			return strings.TrimSpace(value)
		}
	}
	return ""
}

// hostHeader is the Host of an HTTP request: the port belongs to it unless it
// is the default one of the security in use (RFC 9110 section 4.2).
func (c *climber) hostHeader() string {
	t := c.order.Target
	name := t.Name
	if strings.Contains(name, ":") {
		name = "[" + name + "]"
	}
	if t.Security == fact.TLS && t.Port == 443 || t.Security == fact.Plain && t.Port == 80 {
		return name
	}
	return fmt.Sprintf("%s:%d", name, t.Port)
}

func sawReply(r fact.Reply) string {
	took := " in " + short(max(0.1, r.FirstMS-r.SentMS))
	switch {
	case r.Ending != fact.Done && r.Spoke != "":
		return fmt.Sprintf("%s answered: %q", r.Spoke, r.Text)
	case r.Ending != fact.Done && r.Text != "":
		return fmt.Sprintf("%s: %q", sawEnding(r.Ending), r.Text)
	case r.Ending != fact.Done:
		return sawEnding(r.Ending) + " after " + short(r.TookMS)
	case r.Status != 0 && r.Location != "":
		return fmt.Sprintf("%d to %s%s", r.Status, r.Location, took)
	case r.Status != 0:
		return fmt.Sprintf("%d%s", r.Status, took)
	case r.Code != "":
		return strings.TrimSpace(r.Code+" "+r.Text) + took
	}
	return "answered" + took
}
