package session

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"strings"
	"time"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/look/errqueue"
	"uakari/internal/protocol"
	"uakari/internal/wire"
)

// Login makes one login try: it climbs as a session does, says nothing of the
// steps, and presents the account once, over a connection that passed the gate
// ([climber.mayShow]); a host of SSH must be known.
func Login(ctx context.Context, env look.Env, order fact.Order, emit look.Emit) {
	began := time.Now()
	l := loginTry(ctx, env, order)
	l.Account, l.TookMS = order.Target.Account, wire.MS(time.Since(began))
	saw := string(l.Outcome)
	if l.Code != "" || l.Text != "" {
		saw += ": " + strings.TrimSpace(l.Code+" "+l.Text)
	}
	if l.Needs != "" {
		saw += " (" + l.Needs + ")"
	}
	f := env.Seen(
		order,
		fmt.Sprintf("login of %s at %s", l.Account, endpoint.HostPort(order.Target.Addr.String(), order.Target.Port)),
		saw,
	)
	f.Login = &l
	emit(f)
}

func withheld(text string) fact.Login { return fact.Login{Outcome: fact.LoginWithheld, Text: text} }

// inTheClear is the flag that lets a secret be shown where nobody vouches for
// who reads it.
const inTheClear = "--in-the-clear"

func loginTry(ctx context.Context, env look.Env, order fact.Order) fact.Login {
	t := order.Target
	scheme, _ := protocol.Lookup(t.Scheme)
	c := &climber{env: env, order: order, scheme: scheme, wire: wire.Protocols[scheme.Wire], emit: func(fact.Fact) {}}
	byTalk := c.talk().SignsIn()
	known := protocol.Of(scheme.Wire)
	if !known.HostKeys && wire.Logins[scheme.Wire] == nil && !byTalk {
		return withheld("logins of " + t.Scheme + " are not tried here")
	}
	byCertificate := t.Security != fact.Plain && wire.ByCertificate[scheme.Wire] && len(c.presented().Certificate) > 0
	if env.Secret == "" && !byCertificate && !known.HostKeys && !known.Tickets {
		l := withheld("no secret was given")
		l.Needs = "--secret"
		return l
	}
	if known.Shared && env.Shared == "" {
		l := withheld("no secret was given that the client shares with its server")
		l.Needs = "--shared-secret"
		return l
	}
	var raw net.Conn
	if scheme.UDP {
		w := errqueue.New()
		defer w.Close()
		raw, _ = c.open(ctx, w, look.Within(ctx, env.Patience())) // no socket is told as no connection
	} else {
		raw = c.connect(ctx)
	}
	if raw == nil {
		return fact.Login{Outcome: fact.LoginFailed, Text: "no connection"}
	}
	defer raw.Close()
	c.conn = wire.NewConn(raw)
	c.setDeadline(ctx)
	stop := context.AfterFunc(ctx, func() { raw.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	if t.Security == fact.TLS && !c.handshake(ctx) || !byTalk && !scheme.UDP && !c.greet() {
		return fact.Login{Outcome: fact.LoginFailed, Text: "the session did not come up"}
	}
	if byTalk {
		return c.loginTalk(ctx)
	}
	if known.HostKeys {
		return c.loginSSH(ctx)
	}
	if t.Security == fact.StartTLS && c.wire.Upgrade != nil {
		if up := c.wire.Upgrade(c.conn); up.Ending == fact.Done && up.Offered && !c.handshake(ctx) {
			return fact.Login{Outcome: fact.LoginFailed, Text: "the session did not come up"}
		}
	}
	show, why := c.mayShow()
	if why != "" {
		return withheld(why)
	}
	var rights []fact.Right
	if env.Card != nil && env.Card.Account != nil {
		rights = env.Card.Account.Rights
	}
	l := wire.TryLogin(
		c.conn,
		scheme.Wire,
		wire.Credentials{
			Rights:      rights,
			Account:     t.Account,
			Secret:      env.Secret,
			Shared:      env.Shared,
			Certificate: byCertificate && env.Secret == "",
			Show:        show,
			Host:        c.hostHeader(),
			Path:        c.path(),
			Realm:       c.realm(),
			Agreed:      t.Security == fact.StartTLS,
			Again:       c.again(ctx),
		},
	)
	if l.Outcome == fact.LoginWithheld && !show && l.Needs == "" {
		c.neverShown(&l)
	}
	return l
}

// shownOnly is why nothing is presented where a host never shows its secret.
const shownOnly = "the server offers only mechanisms that show it the secret, and this host uses none of them"

// neverShown says what a try lacks that was withheld since the secret may not be shown.
func (c *climber) neverShown(l *fact.Login) {
	if c.env.OnlyHidden {
		l.Text = shownOnly
		return
	}
	l.Needs = inTheClear
}

// mayShow is the one gate that a secret passes. It reports whether the secret
// itself may go over this connection, and why nothing at all may be presented,
// if so. A session whose server this client would take for the right one may be
// shown everything. To one that did not prove itself to a client that checks,
// nothing is presented. Else only a way of signing in that does not show the secret is
// left, unless the user says otherwise.
func (c *climber) mayShow() (show bool, why string) {
	show, why = c.trusted()
	return show && !c.env.OnlyHidden, why
}

// trusted is mayShow for a host that shows its secret at all.
func (c *climber) trusted() (show bool, why string) {
	if c.secured == nil {
		return c.env.InTheClear, ""
	}
	distrust := c.distrust(*c.secured)
	switch {
	case distrust == "":
		return true, ""
	case !c.env.Lenient:
		return false, "the server did not prove that it is the right one: " + distrust
	}
	return c.env.InTheClear, ""
}

// again makes another connection to a web server, which closes each after its
// answer; nil for other protocols. It has to pass the gate as the first did.
func (c *climber) again(ctx context.Context) func() (*wire.Conn, error) {
	if !protocol.Of(c.scheme.Wire).Web {
		return nil
	}
	was, _ := c.mayShow()
	return func() (*wire.Conn, error) {
		c.secured = nil
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
		if show, why := c.mayShow(); why != "" || was && !show {
			raw.Close()
			return nil, fmt.Errorf(
				"the second connection is not to be trusted: %s",
				cmp.Or(why, "it shows another server"),
			)
		}
		return c.conn, nil
	}
}
