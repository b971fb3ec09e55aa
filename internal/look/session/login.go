package session

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

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
	if env.Secret == "" && !byCertificate && (scheme.Wire != "ssh" || env.Identity == "") {
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
	return wire.TryLogin(c.conn, scheme.Wire, wire.Credentials{Account: t.Account, Secret: env.Secret, Certificate: byCertificate && env.Secret == "", Host: c.hostHeader(), Path: t.Path, Realm: c.realm(), Again: c.again(ctx)})
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

// errSpent keeps the library from presenting a secret a second time.
var errSpent = errors.New("the one try was made")

// codeWords are what questions for a second factor speak of.
var codeWords = []string{"verification code", "one-time", "otp", "passcode", "token", "authenticator", "second factor", "security code"}

// wantsCode reports whether a question is for something else than the secret.
func wantsCode(question string) bool {
	return slices.ContainsFunc(codeWords, func(w string) bool { return strings.Contains(strings.ToLower(question), w) })
}

// loginSSH tries a key, or a password once: by the password method or, where
// the server has only that, in answer to its questions.
func (c *climber) loginSSH() fact.Login {
	t := c.order.Target
	l := fact.Login{Mechanism: "password"}
	var auth []ssh.AuthMethod
	spent, second := false, false
	if c.env.Identity != "" {
		text, err := os.ReadFile(c.env.Identity)
		if err != nil {
			return withheld("the key could not be read: " + err.Error())
		}
		key, err := ssh.ParsePrivateKey(text)
		if err != nil {
			return withheld("the key could not be read: " + err.Error())
		}
		l.Mechanism, l.Key = "publickey", ssh.FingerprintSHA256(key.PublicKey())
		auth = append(auth, ssh.PublicKeys(key))
	} else {
		auth = append(auth, ssh.PasswordCallback(func() (string, error) { spent = true; return c.env.Secret, nil }),
			ssh.KeyboardInteractive(func(_, _ string, questions []string, _ []bool) ([]string, error) {
				if spent {
					return nil, errSpent
				}
				if len(questions) == 0 {
					return nil, nil
				}
				if slices.ContainsFunc(questions, wantsCode) {
					second = true
					return nil, errSpent // a secret is no answer to that
				}
				spent, l.Mechanism = true, "keyboard-interactive"
				answers := make([]string, len(questions))
				for i := range answers {
					answers[i] = c.env.Secret
				}
				return answers, nil
			}))
	}
	check, _, err := knownHosts()
	if err != nil {
		return withheld("the known hosts could not be read: " + err.Error())
	}
	place := endpoint.HostPort(strings.TrimSuffix(t.Name, "."), t.Port)
	state := ""
	config := &ssh.ClientConfig{User: t.Account, Auth: auth, HostKeyAlgorithms: preferred(check, place, t), HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
		if state, _ = compareKey(check, place, t, key); state != "known" && c.env.Identity == "" {
			return errSeen // a password is shown only to a host that is known
		}
		return nil
	}}
	conn, channels, requests, err := ssh.NewClientConn(&heard{c.conn, []byte(c.greeting.Head + "\r\n")}, place, config)
	switch {
	case err == nil:
		l.Outcome = fact.LoginAccepted
		go ssh.DiscardRequests(requests)
		go func() {
			for range channels {
			}
		}()
		conn.Close()
	case errors.Is(err, errSeen):
		return withheld("the host key is " + state + ", and a password is shown only to a host that is known")
	case second:
		l.Outcome, l.Code, l.Text = fact.LoginRefused, "second-factor", "the server asks for a code beside the secret"
	case strings.Contains(err.Error(), "unable to authenticate"):
		l.Outcome, l.Text = fact.LoginRefused, "none of its ways was accepted, after "+methods(err)
		if !slices.ContainsFunc([]string{"password", "keyboard-interactive", "publickey"}, func(m string) bool { return strings.Contains(methods(err), m) }) {
			l.Code = "mechanism"
		}
	case spent && strings.HasSuffix(err.Error(), "EOF"):
		l.Outcome, l.Text = fact.LoginRefused, "the server closed the connection without a word"
	default:
		l.Outcome, l.Text = fact.LoginFailed, wire.Clean(err.Error())
	}
	return l
}

// methods is what the library says it tried: "[none password]".
func methods(err error) string {
	_, after, _ := strings.Cut(err.Error(), "attempted methods [")
	list, _, _ := strings.Cut(after, "]")
	return list
}
