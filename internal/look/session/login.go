package session

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/wire"
)

// Login makes one login try: it climbs as a session does, says nothing of the
// steps, and presents the account once. Where the secret would go unprotected
// though the endpoint has protection, or to a host that is not known, nothing
// is presented.
func Login(ctx context.Context, env look.Env, order fact.Order, emit look.Emit) {
	began := time.Now()
	l := loginTry(ctx, env, order)
	l.Account, l.TookMS = order.Target.Account, wire.MS(time.Since(began))
	saw := string(l.Outcome)
	if l.Code != "" || l.Text != "" {
		saw += ": " + strings.TrimSpace(l.Code+" "+l.Text)
	}
	f := env.Seen(order, fmt.Sprintf("login of %s at %s", l.Account, endpoint.HostPort(order.Target.Addr.String(), order.Target.Port)), saw)
	f.Login = &l
	emit(f)
}

func withheld(text string) fact.Login { return fact.Login{Outcome: fact.LoginWithheld, Text: text} }

func loginTry(ctx context.Context, env look.Env, order fact.Order) fact.Login {
	t := order.Target
	scheme, _ := endpoint.Lookup(t.Scheme)
	if scheme.Wire != "ssh" && wire.Logins[scheme.Wire] == nil {
		return withheld("logins of " + t.Scheme + " are not tried here")
	}
	c := &climber{env: env, order: order, scheme: scheme, wire: wire.Protocols[scheme.Wire], emit: func(fact.Fact) {}}
	byCertificate := t.Security != fact.Plain && wire.ByCertificate[scheme.Wire] && len(c.presented().Certificate) > 0
	if env.Secret == "" && !byCertificate && scheme.Wire != "ssh" && scheme.Wire != "krb5" {
		return withheld("no secret was given")
	}
	raw := c.connect(ctx)
	if raw == nil {
		return fact.Login{Outcome: fact.LoginFailed, Text: "no connection"}
	}
	defer raw.Close()
	c.conn = wire.NewConn(raw)
	c.setDeadline(ctx)
	stop := context.AfterFunc(ctx, func() { raw.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	if t.Security == fact.TLS && !c.handshake(ctx) || !c.greet() {
		return fact.Login{Outcome: fact.LoginFailed, Text: "the session did not come up"}
	}
	if scheme.Wire == "ssh" {
		return c.loginSSH()
	}
	if t.Security == fact.StartTLS {
		encrypted := false
		if u := c.wire.Upgrade; u != nil {
			up := u(c.conn)
			encrypted = up.Ending == fact.Done && up.Offered && c.handshake(ctx)
		}
		if !encrypted && !t.Addr.IsLoopback() {
			return withheld("the server does not encrypt, and the secret would be sent in the clear")
		}
	}
	var rights []fact.Right
	if env.Card != nil && env.Card.Account != nil {
		rights = env.Card.Account.Rights
	}
	return wire.TryLogin(c.conn, scheme.Wire, wire.Credentials{Rights: rights, Account: t.Account, Secret: env.Secret, Certificate: byCertificate && env.Secret == "", Host: c.hostHeader(), Path: t.Path, Realm: c.realm(), Again: c.again(ctx)})
}

// again makes another connection to a web server, which closes each after its
// answer; nil for other protocols.
func (c *climber) again(ctx context.Context) func() (*wire.Conn, error) {
	if c.scheme.Wire != "http" {
		return nil
	}
	return func() (*wire.Conn, error) {
		raw := c.connect(ctx)
		if raw == nil {
			return nil, errors.New("no second connection")
		}
		c.conn = wire.NewConn(raw)
		c.setDeadline(ctx)
		if c.order.Target.Security == fact.TLS && !c.handshake(ctx) {
			raw.Close()
			return nil, errors.New("the session did not come up again")
		}
		return c.conn, nil
	}
}
