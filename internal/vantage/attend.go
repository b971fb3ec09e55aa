package vantage

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"runtime"
	"sync"
	"time"

	"github.com/nats-io/nats.go"
	"golang.org/x/crypto/ssh"
	"golang.org/x/time/rate"

	"uakari/internal/fact"
	"uakari/internal/program"
)

// Attendance is how a host attends a broker: it takes the orders that SSH would
// carry, from whom it was told, and no others.
type Attendance struct {
	Name string // what the host is called there; hosts of one name share the orders
	Host string // what it is called in facts
	Keys []ssh.PublicKey
	// Login is the one login that orders may ask for, once in ten minutes; nil: none.
	Login *PinnedLogin
	// Width is the most requests side by side that an order may ask for; 0: none.
	Width int
	Rate  float64 // orders a second; two hundred more at once
	Log   *slog.Logger
	// State is the folder that remembers orders and tries when this is started again;
	// "": nothing does. Key signs answers; nil: they are not signed.
	State string
	Key   ssh.Signer
}

// Bounds of what a host does for orders.
const (
	mostOrder  = 1 << 20         // bytes of one
	mostAtOnce = 16              // orders under way
	junkRate   = 5               // messages of strangers a second that are told so
	mostBurst  = 200             // orders at once, beyond the rate
	mostPause  = 2 * time.Second // an order waits for its turn; the desk waits a little longer
	mostLook   = time.Minute
	mostRuns   = 64 // runs whose connections are counted
	loginEach  = 10 * time.Minute
)

// attending is the state of a host that attends.
type attending struct {
	Attendance
	limit *rate.Limiter
	junk  *rate.Limiter // of what is no order of ours: more is passed over without a word
	seats chan struct{} // one for each order under way

	mu    sync.Mutex // guards what follows
	used  used
	runs  map[string]*run
	tried time.Time // when the account was tried last
	kept  *ledger
}

// run is the looks of one run.
type run struct {
	here *Here
	last time.Time
}

// Attend takes orders until its context ends.
func Attend(ctx context.Context, conn *nats.Conn, a Attendance) (err error) {
	subject, err := subjectOf(a.Name)
	if err != nil {
		return err
	}
	s := &attending{
		Attendance: a,
		limit:      rate.NewLimiter(rate.Limit(a.Rate), mostBurst),
		junk:       rate.NewLimiter(junkRate, mostAtOnce),
		seats:      make(chan struct{}, mostAtOnce),
		runs:       map[string]*run{},
	}
	if s.kept, s.used, s.tried, err = openLedger(a.State, a.Name, time.Now()); err != nil {
		return err
	}
	defer func() { err = errors.Join(err, s.kept.close()) }()
	var orders sync.WaitGroup
	subscription, err := conn.QueueSubscribe(subject, a.Name, func(m *nats.Msg) {
		orders.Go(func() { s.take(ctx, conn, m) })
	})
	if err != nil {
		return err
	}
	if err := subscription.SetPendingLimits(10*mostBurst, 64<<20); err != nil {
		return err
	}
	if err := conn.Flush(); err != nil {
		return err
	}
	<-ctx.Done()
	err = subscription.Unsubscribe()
	orders.Wait()
	if errors.Is(err, nats.ErrConnectionClosed) {
		return nil
	}
	return err
}

// answering says lines to whoever sent an order.
type answering struct {
	conn   *nats.Conn
	to     string
	key    ssh.Signer
	number string // of the order that is answered

	mu    sync.Mutex // guards n and lines, and the order of messages
	n     uint32
	lines uint32
}

func (a *answering) say(r reply) {
	line, err := json.Marshal(r)
	if err != nil {
		return
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if line, err = sealed(a.key, a.number, a.lines, line); err != nil {
		return
	}
	a.lines++
	for _, part := range parts(a.n, line) {
		a.n++
		if a.conn.Publish(a.to, part) != nil {
			return // the desk sees that nothing comes
		}
	}
}

// take does one order, and writes one line about it.
func (s *attending) take(ctx context.Context, conn *nats.Conn, m *nats.Msg) {
	began := time.Now()
	o, by, err := s.permitted(ctx, m, began)
	say := &answering{conn: conn, to: m.Reply, key: s.Key, number: o.Number}
	if by == nil && !s.junk.Allow() {
		return
	}
	about := []any{"number", o.Number}
	if by != nil {
		about = append(about, "from", ssh.FingerprintSHA256(by))
	}
	if o.Order != nil {
		about = append(about, "look", string(o.Order.Look), "target", targetOf(o.Order.Target))
	}
	if err != nil {
		s.Log.Warn("refused", append(about, "why", err.Error())...)
		say.say(reply{Refused: err.Error()})
		return
	}
	defer func() { <-s.seats }()
	say.say(reply{Begun: true})
	if o.Order == nil {
		say.say(reply{Hello: &hello{Version: talkVersion, Host: s.Host, System: runtime.GOOS}})
		say.say(reply{Ended: true})
		s.Log.Info("greeted", about...)
		return
	}
	here, err := s.runOf(o, began)
	if err == nil && o.Order.Look == fact.LookLogin {
		here, err = s.loginFrom(ctx, *o.Order)
	}
	if err != nil {
		s.Log.Warn("refused", append(about, "why", err.Error())...)
		say.say(reply{Refused: err.Error()})
		return
	}
	count := 0
	s.look(ctx, here, *o.Order, func(f fact.Fact) {
		count++
		say.say(reply{Fact: &f})
	}, func() { say.say(reply{Alive: true}) })
	say.say(reply{Ended: true})
	s.Log.Info("looked", append(about, "facts", count, "took", time.Since(began).Round(time.Millisecond).String())...)
}

// look takes a look within its time, and gives signs of life until it ends.
func (s *attending) look(ctx context.Context, here *Here, order fact.Order, emit func(fact.Fact), alive func()) {
	ctx, cancel := context.WithTimeout(ctx, mostLook)
	defer cancel()
	var mu sync.Mutex // facts come from several goroutines
	done := make(chan struct{})
	go func() {
		defer close(done)
		here.Look(ctx, order, func(f fact.Fact) {
			mu.Lock()
			defer mu.Unlock()
			emit(f)
		})
	}()
	tick := time.NewTicker(aliveEach)
	defer tick.Stop()
	for {
		select {
		case <-done:
			return
		case <-tick.C:
			alive()
		}
	}
}

// permitted finds whether an order may be done, and takes a seat for it. What is well
// signed waits a moment for its turn.
func (s *attending) permitted(
	ctx context.Context,
	m *nats.Msg,
	now time.Time,
) (o brokerOrder, by ssh.PublicKey, err error) {
	if len(m.Data) > mostOrder {
		return o, nil, fmt.Errorf("it has %d bytes; expected at most %d", len(m.Data), mostOrder)
	}
	if o, by, err = opened(m.Data, s.Keys); err != nil {
		return o, by, err
	}
	if err := s.allowed(o, now); err != nil {
		return o, by, err
	}
	ctx, cancel := context.WithTimeout(ctx, mostPause)
	defer cancel()
	if s.limit.Wait(ctx) != nil {
		return o, by, errors.New("too many orders; later")
	}
	select {
	case s.seats <- struct{}{}:
		return o, by, nil
	case <-ctx.Done():
		return o, by, errors.New("it is busy with other orders; later")
	}
}

// allowed finds what is wrong with an order that is well signed.
func (s *attending) allowed(o brokerOrder, now time.Time) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.used.check(o, s.Name, now); err != nil {
		return err
	}
	if err := s.kept.add(entry{Number: o.Number, Until: o.Until}, false); err != nil {
		return err
	}
	switch {
	case o.Order == nil:
		return nil
	case o.Order.Look == fact.LookLoad && o.Order.Target.Width > s.Width:
		return fmt.Errorf("at most %d requests side by side are made from here (uakari attend --parallel)", s.Width)
	case o.Order.Look == fact.LookLogin:
		return s.mayLogin(o, now)
	}
	return nil
}

// mayLogin refuses a try of an account unless that very login was pinned, on this very
// host, and the next one for a while.
func (s *attending) mayLogin(o brokerOrder, now time.Time) error {
	if s.Login == nil {
		return errors.New("no account is tried from here (uakari attend --allow-login)")
	}
	if o.Host != s.Host {
		return fmt.Errorf("a login is ordered from one host by its own name, and this is %s", s.Host)
	}
	if err := s.Login.fits(o.Order.Target); err != nil {
		return err
	}
	if ago := now.Sub(s.tried); !s.tried.IsZero() && ago < loginEach {
		return fmt.Errorf("the account was tried from here %s ago; accounts lock", ago.Round(time.Second))
	}
	if err := s.kept.add(entry{Tried: now}, true); err != nil {
		return err
	}
	s.tried = now
	return nil
}

// loginFrom is the looks of a login: by this host's own settings, and at an address that
// its own look-up gives. What the order says of how to look does not count.
func (s *attending) loginFrom(ctx context.Context, order fact.Order) (*Here, error) {
	if !s.Login.gave(ctx, order.Target.Addr) {
		return nil, fmt.Errorf("this host's own look-up of %s does not give %s", order.Target.Name, order.Target.Addr)
	}
	return NewHere(fact.Vantage{}, s.Login.Env), nil
}

// runOf is the looks of the run that an order belongs to.
func (s *attending) runOf(o brokerOrder, now time.Time) (*Here, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if have := s.runs[o.Run]; have != nil {
		have.last = now
		return have.here, nil
	}
	known, err := program.With(o.Hello.Programs)
	if err != nil {
		return nil, err
	}
	if len(s.runs) >= mostRuns {
		oldest := ""
		for id, r := range s.runs {
			if oldest == "" || r.last.Before(s.runs[oldest].last) {
				oldest = id
			}
		}
		delete(s.runs, oldest)
	}
	r := &run{NewHere(fact.Vantage{}, o.Hello.env(known)), now}
	s.runs[o.Run] = r
	return r.here, nil
}

// targetOf is what an order is about, as one line of a log has it.
func targetOf(t fact.Target) string {
	text, err := json.Marshal(t)
	if err != nil {
		return "?"
	}
	return string(text[:min(len(text), 300)])
}
