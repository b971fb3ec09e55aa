package cli

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"log/slog"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/spf13/cobra"
	"golang.org/x/crypto/ssh"

	"uakari/internal/casebook"
	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/look/file"
	"uakari/internal/trace"
	"uakari/internal/vantage"
)

// farHost is another host to look from.
type farHost interface {
	trace.Vantage
	Close()
}

// brokerFlags is how to reach a broker, and what signs orders.
type brokerFlags struct {
	url, login, trust, key string
	answers                string
	cmd                    *cobra.Command
}

// addBroker adds the flags that both ends of a broker have.
func (b *brokerFlags) addBroker(cmd *cobra.Command) {
	b.cmd = cmd
	flags := cmd.Flags()
	flags.StringVar(&b.url, "broker", "", "the message broker (NATS) of hosts that attend: `nats://HOST[:PORT]`")
	flags.StringVar(&b.login, "broker-login", "",
		"log in to the broker with this `file`: NATS credentials, or a line NAME:SECRET")
	flags.StringVar(&b.trust, "broker-trust", "",
		"trust the roots in this `file` for the broker instead of the system's")
}

// add adds the flags of the end that gives orders.
func (b *brokerFlags) add(cmd *cobra.Command) {
	b.addBroker(cmd)
	cmd.Flags().StringVar(&b.key, "order-key", "",
		"sign orders over the broker with the private Ed25519 key in this `file`")
	cmd.Flags().StringVar(&b.answers, "answers-from", "",
		"take answers over the broker only if one of these public keys signed them: a `file`, or the key itself")
}

// keys reads public keys from a file, or the one that is written in its place.
func (b *brokerFlags) keys(ctx context.Context, s *seeing, flag, from string) ([]ssh.PublicKey, error) {
	text, where := []byte(from), flag
	if !strings.HasPrefix(from, "ssh-") {
		var err error
		if text, err = s.steering(ctx, from, file.MostSettings); err != nil {
			return nil, fmt.Errorf("%s: %w", flag, err)
		}
		where = from
	}
	return vantage.OrderKeys(where, text)
}

// connect connects to the broker.
func (b *brokerFlags) connect(ctx context.Context, s *seeing, more ...nats.Option) (*nats.Conn, error) {
	if b.url == "" {
		return nil, errors.New("no broker is named; expected --broker nats://HOST[:PORT], or UAKARI_BROKER")
	}
	u, err := url.Parse(b.url)
	if err == nil && u.User != nil {
		if _, secret := u.User.Password(); secret && b.cmd.Flags().Changed("broker") {
			return nil, errors.New("--broker: a secret is never given in an argument; expected --broker-login FILE, " +
				"or UAKARI_BROKER")
		}
	}
	login := vantage.BrokerLogin{URL: b.url, Name: "uakari of " + hostname(), Wait: s.wait}
	if b.login != "" {
		text, err := s.read(ctx, b.login, file.MostSettings)
		if err != nil {
			return nil, fmt.Errorf("--broker-login: %w", err)
		}
		line := strings.TrimSpace(string(text))
		name, secret, ok := strings.Cut(line, ":")
		switch {
		case strings.Contains(line, "BEGIN NATS"):
			login.Login = b.login
		case ok && !strings.Contains(line, "\n"):
			login.User, login.Pass = name, secret
		default:
			return nil, fmt.Errorf("--broker-login %s:1:1: expected credentials as NATS writes them, or one line "+
				"NAME:SECRET", b.login)
		}
	}
	if b.trust != "" {
		text, err := s.read(ctx, b.trust, file.MostKept)
		if err != nil {
			return nil, fmt.Errorf("--broker-trust: %w", err)
		}
		if login.Trust = x509.NewCertPool(); !login.Trust.AppendCertsFromPEM(text) {
			return nil, fmt.Errorf("--broker-trust %s:1:1: no certificate in it; expected some in PEM", b.trust)
		}
	}
	return vantage.DialBroker(login, more...)
}

// brokerRun is the one connection of a run to the broker, made once it is needed.
type brokerRun struct {
	once    sync.Once
	conn    *nats.Conn
	key     ssh.Signer
	answers []ssh.PublicKey
	err     error
}

func (r *brokerRun) open(ctx context.Context, s *seeing) error {
	r.once.Do(func() {
		if s.broker.key == "" {
			r.err = errors.New("orders over a broker are signed; expected --order-key FILE with a private Ed25519 key")
			return
		}
		text, err := s.read(ctx, s.broker.key, file.MostSettings)
		if err == nil {
			r.key, err = vantage.OrderKey(s.broker.key, text)
		}
		if err != nil {
			r.err = fmt.Errorf("--order-key: %w", err)
			return
		}
		if s.broker.answers != "" {
			if r.answers, r.err = s.broker.keys(ctx, s, "--answers-from", s.broker.answers); r.err != nil {
				return
			}
		}
		if r.conn, r.err = s.broker.connect(ctx, s); r.err == nil && len(r.answers) == 0 {
			fmt.Fprintln(s.broker.cmd.ErrOrStderr(), "uakari: answers over the broker are not verified; "+
				"pin the hosts' keys with --answers-from")
		}
	})
	return r.err
}

func (r *brokerRun) close() {
	if r.conn != nil {
		r.conn.Close()
	}
}

// reach reaches another host, over SSH or over the broker.
func (s *seeing) reach(
	ctx context.Context,
	broker *brokerRun,
	login vantage.Login,
	info fact.Vantage,
	env look.Env,
	first []fact.Order,
) (farHost, error) {
	name, ok := vantage.BrokerName(login.To)
	if !ok {
		info.Means = fact.SSH
		return vantage.DialSSH(ctx, login, info, env, first)
	}
	if login.In != "" {
		return nil, fmt.Errorf("--in %s: not over a broker; expected --at USER@HOST over SSH beside it", login.In)
	}
	if err := broker.open(ctx, s); err != nil {
		return nil, fmt.Errorf("--at %s: %w", login.To, err)
	}
	info.Means = fact.Broker
	return vantage.AskBroker(ctx, broker.conn, broker.key, name, info, env, broker.answers)
}

func newAttend() *cobra.Command {
	var b brokerFlags
	var s seeing
	var from, name, secret, identity, login string
	var hidden bool
	var each float64
	var width int
	cmd := &cobra.Command{
		Use:   "attend",
		Short: "let this host be checked through a message broker, read-only",
		Long: `Wait on a message broker for orders to look, and answer them: the orders that
SSH would carry, and no others. Nothing is changed here. An order is carried out
only if it is signed by a key of --orders-from, addressed to this host, not expired
and not used before. Each order is one line on
standard error. No account is tried without --allow-login, which names the one
endpoint and --user the one account: no order names another, nor the mechanism by which
the secret is presented; --only-hidden never shows it to the server. Numbers of orders and
the time of a try are remembered on disk. Answers are signed with a key of this
host's own, which is printed at the start, for --answers-from on the other side.

On the other side: --broker URL --order-key FILE --at nats:NAME.`,
		Example: `  ssh-keygen -t ed25519 -f orders.key                # once, at the desk
  uakari attend --broker tls://relay.varzea.example --orders-from orders.key.pub
  uakari trace https://tidebook.varzea.example/ --broker tls://relay.varzea.example --order-key orders.key --at client=nats:gauge-07`,
		Args: takes(0, 0, "flags alone"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			ctx, stop := interruptible(cmd)
			defer stop()
			a := vantage.Attendance{
				Name: name, Host: hostname(), Rate: each, Width: width,
				Log: slog.New(slog.NewTextHandler(cmd.ErrOrStderr(), nil)),
			}
			if a.Name == "" {
				a.Name = hostname()
			}
			s.wait, s.secret, s.identity = 4*time.Second, secret, identity
			var err error
			switch {
			case from == "":
				return errors.New("attend: whose orders are taken? Expected --orders-from FILE, or a public key in " +
					"quotes")
			case login == "" && (secret != "" || identity != "" || s.user != "" || hidden):
				return errors.New("attend: --user, --secret, --identity and --only-hidden are for --allow-login")
			case login != "" && s.user == "":
				return errors.New("attend: --allow-login: expected --user with the one account that may be tried")
			case width < 0 || width > mostWidth:
				return fmt.Errorf("--parallel %d: expected a number from 0 to %d", width, mostWidth)
			case each <= 0:
				return fmt.Errorf("--rate %g: expected a number of orders a second above zero", each)
			}
			if a.Keys, err = b.keys(ctx, &s, "--orders-from", from); err != nil {
				return err
			}
			if login != "" {
				s.deadline = attendRead
				ask, env, err := s.ask(ctx, login)
				if err != nil {
					return fmt.Errorf("--allow-login: %w", err)
				}
				env.OnlyHidden = hidden
				a.Login = &vantage.PinnedLogin{Endpoint: ask.Endpoint, Account: ask.Account, Env: env}
			}
			if a.State, err = casebook.Folder(); err != nil {
				return err
			}
			if a.Key, err = vantage.AnswerKey(a.State); err != nil {
				return err
			}
			return attend(ctx, &b, &s, a)
		},
	}
	b.addBroker(cmd)
	flags := cmd.Flags()
	flags.StringVar(&from, "orders-from", "",
		"take orders that this public key signs: a `file`, or the key itself as SSH writes it")
	flags.StringVar(&name, "name", "",
		"what this host is called on the broker (this host's name); hosts of one name share the orders")
	flags.StringVar(&login, "allow-login", "",
		"let orders try the account of --user at this `endpoint`, once in ten minutes, and no other account or endpoint")
	flags.StringVar(&s.user, "user", "", "the one `account` that --allow-login lets orders try")
	flags.BoolVar(&hidden, "only-hidden", false,
		"never show the secret to the server: only mechanisms that prove it (SCRAM, digest, NTLM, Kerberos, a key) are used")
	flags.IntVar(&width, "parallel", 0, "the most requests side by side that an order may ask for (`NUMBER`)")
	flags.StringVar(&secret, "secret", "",
		"the password that tries of accounts send: `env:NAME|file:PATH`; never given here itself")
	flags.StringVar(&identity, "identity", "", "the private key that tries of accounts use: a `file`")
	flags.Float64Var(&each, "rate", 50, "the most orders a second")
	return cmd
}

// attendRead bounds the reading of what attend is given.
const attendRead = 30 * time.Second

// attend takes orders until it is interrupted.
func attend(ctx context.Context, b *brokerFlags, s *seeing, a vantage.Attendance) error {
	conn, err := b.connect(
		ctx, s,
		nats.DisconnectErrHandler(func(_ *nats.Conn, err error) {
			if ctx.Err() == nil {
				a.Log.Warn("the broker is gone", "why", fmt.Sprint(err))
			}
		}),
		nats.ReconnectHandler(func(*nats.Conn) { a.Log.Info("the broker is back") }),
	)
	if err != nil {
		return err
	}
	defer conn.Close()
	a.Log.Info("attends", "name", a.Name, "broker", conn.ConnectedAddr(), "keys", len(a.Keys), "answers",
		strings.TrimSpace(string(ssh.MarshalAuthorizedKey(a.Key.PublicKey()))))
	return vantage.Attend(ctx, conn, a)
}
