package vantage

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"net/url"
	"strings"
	"time"

	"github.com/nats-io/nats.go"
	"golang.org/x/crypto/ssh"

	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/look"
)

// BrokerLogin is how to reach a message broker that speaks NATS.
type BrokerLogin struct {
	URL   string // nats://HOST[:PORT] or tls://HOST[:PORT]
	Login string // a file of credentials as NATS writes them; "": none
	User  string // or an account and its secret
	Pass  string
	Trust *x509.CertPool // nil: the system's
	Name  string         // what this end is called on the broker
	Wait  time.Duration
}

// DialBroker connects to a broker. Unless it is on this host, the connection is
// encrypted, and the broker's certificate is verified.
func DialBroker(login BrokerLogin, more ...nats.Option) (*nats.Conn, error) {
	u, err := url.Parse(login.URL)
	if err != nil || u.Scheme != "nats" && u.Scheme != "tls" || u.Hostname() == "" {
		return nil, errors.New("--broker: expected nats://HOST[:PORT] or tls://HOST[:PORT]") // it may hold a secret
	}
	told := u.Scheme + "://" + u.Host
	options := append([]nats.Option{
		nats.Name(login.Name), nats.Timeout(max(login.Wait, time.Second)), nats.MaxReconnects(-1),
		nats.ReconnectWait(500 * time.Millisecond), nats.ReconnectBufSize(8 << 20),
		nats.ErrorHandler(func(*nats.Conn, *nats.Subscription, error) {}), // what is lost shows in that it is missing
	}, more...)
	if u.Scheme == "tls" || !onThisHost(u.Hostname()) {
		options = append(options, nats.Secure(&tls.Config{
			RootCAs: login.Trust, MinVersion: tls.VersionTLS12, ServerName: u.Hostname(),
		}))
	}
	switch {
	case login.Login != "":
		options = append(options, nats.UserCredentials(login.Login))
	case login.User != "":
		options = append(options, nats.UserInfo(login.User, login.Pass))
	}
	conn, err := nats.Connect(login.URL, options...)
	if err != nil {
		return nil, fmt.Errorf("--broker %s: %w", told, err)
	}
	return conn, nil
}

// onThisHost reports whether a name is this host's own, whatever a resolver says.
func onThisHost(name string) bool {
	addr, err := netip.ParseAddr(name)
	return name == "localhost" || err == nil && addr.IsLoopback()
}

// Broker is a host that attends a broker.
type Broker struct {
	info  fact.Vantage
	name  string
	conn  *nats.Conn
	key   ssh.Signer
	hello hello
	run   string
	// answers is the keys of hosts whose answers are taken; none: those of any are.
	answers []ssh.PublicKey
}

// Bounds of waiting for a host over a broker.
const (
	begunWait = 3 * time.Second // until it says that it has the order
	aliveWait = 7 * time.Second // between two signs of life
	aliveEach = 2 * time.Second // how often it gives one
)

// AskBroker asks for a host by its name on the broker. The connection stays the
// caller's.
func AskBroker(
	ctx context.Context,
	conn *nats.Conn,
	key ssh.Signer,
	name string,
	info fact.Vantage,
	env look.Env,
	answers []ssh.PublicKey,
) (*Broker, error) {
	if _, err := subjectOf(name); err != nil {
		return nil, fmt.Errorf("--at nats:%s: %w", name, err)
	}
	b := &Broker{info: info, name: name, conn: conn, key: key, run: rand.Text(), hello: helloOf(env),
		answers: answers}
	b.hello.Marks = nil // what a broker carries is signed, and not hidden
	there, err := b.order(ctx, nil, func(fact.Fact) {})
	if err != nil {
		return nil, fmt.Errorf("--at nats:%s: %w", name, err)
	}
	b.info.Host, b.info.System = foreign.Clean(there.Host), foreign.Clean(there.System)
	return b, nil
}

// Info says which vantage this is.
func (b *Broker) Info() fact.Vantage { return b.info }

// Close does nothing: the connection is for every host of the run.
func (b *Broker) Close() {}

// Look sends an order and hands on the facts that come back. A host that is gone
// is a fact.
func (b *Broker) Look(ctx context.Context, order fact.Order, emit func(fact.Fact)) {
	_, err := b.order(ctx, &order, func(f fact.Fact) {
		f.Vantage, f.Order = b.info.ID, order
		emit(f)
	})
	if err != nil && ctx.Err() == nil {
		env := look.Env{Vantage: b.info.ID}
		emit(env.Failed(
			order, "broker "+b.name, "no answer from "+b.name+" over the broker", err,
			"the broker and uakari attend on "+b.name+", or a record made there",
		))
	}
}

// reply is one line that comes back.
type reply struct {
	Begun   bool       `json:"begun,omitempty"`
	Alive   bool       `json:"alive,omitempty"`
	Hello   *hello     `json:"hello,omitempty"`
	Fact    *fact.Fact `json:"fact,omitempty"`
	Refused string     `json:"refused,omitempty"`
	Ended   bool       `json:"ended,omitempty"`
}

// order sends one order, and once more where nobody says that it arrived, unless it
// tries an account. No order is who the host is.
func (b *Broker) order(ctx context.Context, order *fact.Order, emit func(fact.Fact)) (there hello, err error) {
	tries := 2
	if order != nil && order.Look == fact.LookLogin {
		tries = 1
	}
	for range tries {
		begun := false
		there, begun, err = b.once(ctx, order, emit)
		if err == nil || begun || ctx.Err() != nil {
			break
		}
	}
	return there, err
}

// once sends one order, and says whether the host had begun with it.
func (b *Broker) once(
	ctx context.Context,
	order *fact.Order,
	emit func(fact.Fact),
) (there hello, begun bool, err error) {
	subject, err := subjectOf(b.name)
	if err != nil {
		return there, false, err
	}
	number := rand.Text()
	message, err := sign(brokerOrder{
		Format: OrderFormat, To: b.name, Host: b.info.Host, Number: number, Until: time.Now().Add(orderLife),
		Run: b.run, Hello: b.hello, Order: order,
	}, b.key)
	if err != nil {
		return there, false, err
	}
	inbox := b.conn.NewInbox()
	answers, err := b.conn.SubscribeSync(inbox)
	if err != nil {
		return there, false, err
	}
	defer answers.Unsubscribe()
	if err := b.conn.PublishRequest(subject, inbox, message); err != nil {
		return there, false, err
	}
	var lines joined
	place := uint32(0) // of the next line
	for {
		wait := begunWait
		if begun {
			wait = aliveWait
		}
		within, cancel := context.WithTimeout(ctx, wait)
		m, err := answers.NextMsgWithContext(within)
		cancel()
		switch {
		case errors.Is(err, nats.ErrNoResponders):
			return there, begun, errors.New("nobody of that name attends there")
		case errors.Is(err, context.DeadlineExceeded) && begun:
			return there, true, errors.New("it went silent in the middle")
		case err != nil:
			return there, begun, fmt.Errorf("no word that the order arrived: %w", err)
		}
		line, ended, err := lines.add(m.Data)
		if err != nil {
			return there, begun, err
		}
		if !ended {
			continue
		}
		if line, err = unsealed(b.answers, number, place, line); err != nil {
			return there, begun, err
		}
		place++
		var r reply
		if err := json.Unmarshal(line, &r); err != nil {
			return there, begun, fmt.Errorf("an answer that nobody can read: %w", err)
		}
		begun = true
		switch {
		case r.Refused != "":
			return there, true, fmt.Errorf("it refuses: %s", foreign.Clean(r.Refused))
		case r.Hello != nil:
			there = *r.Hello
		case r.Fact != nil:
			emit(*r.Fact)
		case r.Ended:
			return there, true, nil
		}
	}
}

// BrokerName is the name in "nats:NAME", and whether that is what is written.
func BrokerName(at string) (string, bool) {
	name, ok := strings.CutPrefix(at, "nats:")
	return name, ok && !strings.HasPrefix(name, "//")
}
