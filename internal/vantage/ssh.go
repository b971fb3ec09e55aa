package vantage

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/look"
)

// Login is how to log in to a host.
type Login struct {
	To       string // [USER@]HOST[:PORT], or a name of the user's SSH settings
	Identity string // a private key file; "": those of the settings and the agent
	Secret   string // a password; "": none is tried
	Lend     string // the program to copy over for the run: Own, or a file; "": none
	AsRoot   bool   // run it by sudo
	Wait     time.Duration
	In       string // the container or namespace there to look from; "": the host itself
}

// SSH is a host that is looked at by a program over there.
type SSH struct {
	info   fact.Vantage
	login  Login
	hops   []*ssh.Client // the way there, the last being the host
	out    io.Writer     // to the program there
	hangUp func()        // ends its input
	early  map[fact.Order]*early
	stderr *tail
	ended  chan struct{}

	mu    sync.Mutex // guards what follows, and writing
	next  int
	looks map[int]*pending
	lost  error
}

// pending is a look that is under way over there.
type pending struct {
	emit  func(fact.Fact)
	done  chan struct{}
	ended bool // by its own end, and not the connection's
}

// DialSSH logs in and starts the program over there, and orders the first
// looks together with the hello, so that their answers cost no round trip of
// their own. Every error says which host, and what to do.
func DialSSH(ctx context.Context, login Login, info fact.Vantage, env look.Env, first []fact.Order) (*SSH, error) {
	s := &SSH{
		info:   info,
		login:  login,
		ended:  make(chan struct{}),
		looks:  map[int]*pending{},
		stderr: &tail{},
		early:  map[fact.Order]*early{},
	}
	// The library's calls know no context: what it waits on is closed.
	stop := context.AfterFunc(ctx, s.abort)
	defer stop()
	if err := s.dial(ctx); err != nil {
		s.Close()
		return nil, err
	}
	host, err := s.start(ctx, env, first)
	if err != nil {
		s.Close()
		return nil, err
	}
	s.info.Host = host
	return s, nil
}

// Info says which vantage this is.
func (s *SSH) Info() fact.Vantage { return s.info }

// fail words an error of the way there.
func (s *SSH) fail(what string, err error) error {
	return fmt.Errorf(
		"--at %s: %s: %w; if SSH itself is broken, make a record there (uakari record) and give it by --record",
		s.login.To,
		what,
		err,
	)
}

// dial makes the connection, through jump hosts where the settings name them.
func (s *SSH) dial(ctx context.Context) error {
	target := resolveLogin(s.login.To)
	var list []place
	for _, jump := range target.jumps {
		list = append(list, resolveLogin(jump))
	}
	places := append(list, target)
	for i, p := range places {
		client, err := s.step(ctx, p, i == len(places)-1)
		if err != nil {
			return err
		}
		s.mu.Lock()
		s.hops = append(s.hops, client)
		s.mu.Unlock()
	}
	return nil
}

// abort ends every connection at once.
func (s *SSH) abort() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, hop := range s.hops {
		hop.Close()
	}
}

// step logs in at one place, from here or through the last hop.
func (s *SSH) step(ctx context.Context, p place, last bool) (*ssh.Client, error) {
	config, done, err := s.config(ctx, p, last)
	defer done()
	if err != nil {
		return nil, s.fail("settings", err)
	}
	conn, err := s.reach(ctx, p.addr)
	if err != nil {
		return nil, s.fail("no connection to "+p.addr, err)
	}
	client, err := handshake(ctx, conn, p.addr, config)
	if err != nil {
		return nil, s.fail("login at "+p.addr, err)
	}
	return client, nil
}

// reach opens a connection, from here or through the last hop.
func (s *SSH) reach(ctx context.Context, addr string) (net.Conn, error) {
	if len(s.hops) == 0 {
		d := net.Dialer{Timeout: s.login.Wait}
		return d.DialContext(ctx, "tcp", addr)
	}
	return s.hops[len(s.hops)-1].DialContext(ctx, "tcp", addr)
}

// handshakeWait bounds an SSH handshake and login.
const handshakeWait = 15 * time.Second

// handshake makes the protocol's handshake under a deadline, which the library
// by itself does not.
func handshake(ctx context.Context, conn net.Conn, addr string, config *ssh.ClientConfig) (*ssh.Client, error) {
	conn.SetDeadline(time.Now().Add(look.Within(ctx, handshakeWait)))
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	c, channels, requests, err := ssh.NewClientConn(conn, addr, config)
	if err != nil {
		conn.Close()
		return nil, err
	}
	conn.SetDeadline(time.Time{})
	return ssh.NewClient(c, channels, requests), nil
}

// start starts the program over there and exchanges hellos. The command and
// all that is said first are sent without waiting for an answer in between.
func (s *SSH) start(ctx context.Context, env look.Env, first []fact.Order) (host string, err error) {
	command, binary, err := s.command()
	if err != nil {
		return "", fmt.Errorf("--at %s: %w", s.login.To, err)
	}
	channel, requests, err := s.hops[len(s.hops)-1].OpenChannel("session", nil)
	if err != nil {
		return "", s.fail("session", err)
	}
	go ssh.DiscardRequests(requests) // how it ended shows in what it said
	s.out, s.hangUp = channel, func() { channel.CloseWrite() }
	exec := ssh.Marshal(struct{ Command string }{command}) // RFC 4254 section 6.5
	if _, err := channel.SendRequest("exec", false, exec); err != nil {
		return "", s.fail("starting the program there", err)
	}
	return s.greet(ctx, channel, channel.Stderr(), binary, env, first)
}

// greet exchanges hellos with the program there, after what it is lent.
func (s *SSH) greet(
	ctx context.Context,
	from, stderr io.Reader,
	binary []byte,
	env look.Env,
	first []fact.Order,
) (host string, err error) {
	for n, order := range first {
		e := &early{}
		e.look = &pending{emit: e.keep, done: make(chan struct{})}
		s.early[order], s.looks[n] = e, e.look
	}
	s.next = len(first)
	go func() {
		// An error shows in that no hello comes back.
		if _, err := s.out.Write(binary); err == nil {
			s.say(helloOf(env))
			for n, order := range first {
				s.say(said{N: n, Order: &order})
			}
		}
	}()
	complaints := make(chan struct{})
	go func() {
		io.Copy(s.stderr, stderr)
		close(complaints)
	}()
	lines := bufio.NewScanner(&limited{from, mostTalk})
	lines.Buffer(nil, mostSaid)
	greeted := make(chan hello, 1)
	go s.listen(lines, complaints, greeted)
	select {
	case h, ok := <-greeted:
		if !ok || h.Version != talkVersion {
			return "", fmt.Errorf("--at %s: %s", s.login.To, s.why())
		}
		s.info.System = foreign.Clean(h.System)
		return foreign.Clean(h.Host), nil
	case <-ctx.Done():
		return "", s.fail("waiting for the program there", ctx.Err())
	}
}

// early keeps the facts of a first look until the run asks for them, and hands
// them on from then.
type early struct {
	mu    sync.Mutex // guards facts and emit
	facts []fact.Fact
	emit  func(fact.Fact) // nil: nobody has asked yet
	look  *pending
}

func (e *early) keep(f fact.Fact) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.emit == nil {
		e.facts = append(e.facts, f)
		return
	}
	e.emit(f)
}

// hand hands on what came so far, and from now what comes.
func (e *early) hand(emit func(fact.Fact)) {
	e.mu.Lock()
	defer e.mu.Unlock()
	for _, f := range e.facts {
		emit(f)
	}
	e.facts, e.emit = nil, emit
}

// why says why the program over there did not speak.
func (s *SSH) why() string {
	text := foreign.Clean(s.stderr.String())
	switch {
	case strings.Contains(text, "password is required"), strings.Contains(text, "sudo:"):
		return "sudo refuses to run it without a password (" + text +
			"); leave --as-root away, or make a record there as root"
	case strings.Contains(text, "not found"), strings.Contains(text, "No such file"):
		return "there is no uakari (" + text + "); --lend copies this one over for the run"
	case text == "":
		return "the program there ended without a word; is it another version?"
	}
	return text
}

// say writes one line.
func (s *SSH) say(v any) error {
	text, err := json.Marshal(v)
	if err != nil {
		return err
	}
	_, err = s.out.Write(append(text, '\n'))
	return err
}

// mostChatter bounds the lines that an account's own shell may print before the
// program there speaks.
const mostChatter = 200

// listen hands what comes from over there to whom it is for, until it ends.
func (s *SSH) listen(lines *bufio.Scanner, complaints <-chan struct{}, greeted chan<- hello) {
	defer close(s.ended)
	var odd error
	chatter := 0
	for begun := false; odd == nil && lines.Scan(); {
		if !begun {
			if chatter++; chatter <= mostChatter && !bytes.HasPrefix(lines.Bytes(), []byte("{")) {
				continue
			}
			begun = true
			var h hello
			if odd = json.Unmarshal(lines.Bytes(), &h); odd == nil {
				greeted <- h
			}
			continue
		}
		var line said
		if odd = json.Unmarshal(lines.Bytes(), &line); odd != nil {
			continue
		}
		s.mu.Lock()
		look := s.looks[line.N]
		if line.Ended && look != nil {
			delete(s.looks, line.N)
			look.ended = true
		}
		s.mu.Unlock()
		switch {
		case look == nil:
		case line.Fact != nil:
			look.emit(*line.Fact)
		case line.Ended:
			close(look.done)
		}
	}
	if odd = cmp.Or(odd, lines.Err()); odd != nil {
		s.hangUp() // it would wait for more orders, and nobody can hear it
	}
	<-complaints
	close(greeted)
	s.mu.Lock()
	defer s.mu.Unlock()
	s.lost = errors.New("the program there ended")
	if odd != nil {
		s.lost = fmt.Errorf("what the program there says cannot be read: %w", odd)
	}
	for _, look := range s.looks {
		close(look.done)
	}
}

// Look sends an order over and hands on the facts that come back. A
// connection that is lost is a fact.
func (s *SSH) Look(ctx context.Context, order fact.Order, emit func(fact.Fact)) {
	p := &pending{done: make(chan struct{}), emit: func(f fact.Fact) {
		f.Vantage, f.Order = s.info.ID, order
		emit(f)
	}}
	s.mu.Lock()
	err, e := s.lost, s.early[order]
	delete(s.early, order) // asked again, it is looked at again
	if e == nil && err == nil {
		n := s.next
		s.next++
		s.looks[n] = p
		err = s.say(said{N: n, Order: &order})
	}
	s.mu.Unlock()
	if e != nil {
		e.hand(p.emit)
		p = e.look
	}
	if err == nil || e != nil {
		select {
		case <-p.done:
		case <-ctx.Done():
		}
		s.mu.Lock()
		if err = nil; !p.ended {
			err = s.lost
		}
		s.mu.Unlock()
	}
	if err != nil && ctx.Err() == nil {
		env := look.Env{Vantage: s.info.ID}
		emit(
			env.Failed(
				order,
				"ssh "+s.login.To,
				"lost the connection to "+s.login.To,
				err,
				"SSH, or a record made there",
			),
		)
	}
}

// closeWait is how long the program over there gets to clean up.
const closeWait = 2 * time.Second

// Close ends the program over there and the connections.
func (s *SSH) Close() {
	if s.hangUp != nil {
		s.hangUp()              // its input ends, and it with it
		if s.login.Lend != "" { // what was lent is seen off
			select {
			case <-s.ended:
			case <-time.After(closeWait):
			}
		}
	}
	for i := len(s.hops) - 1; i >= 0; i-- {
		s.hops[i].Close()
	}
}

// mostTalk bounds all that comes from over there in one run, in bytes.
const mostTalk = 64 << 20

// limited reads up to a number of bytes, and fails beyond.
type limited struct {
	from io.Reader
	left int
}

func (l *limited) Read(p []byte) (int, error) {
	if l.left == 0 {
		return 0, errTalk
	}
	n, err := l.from.Read(p[:min(len(p), l.left)])
	l.left -= n
	return n, err
}

var errTalk = errors.New("it says more than one run can hold")

// tail keeps the first of what a program complains of.
type tail struct {
	mu  sync.Mutex // guards buf
	buf bytes.Buffer
}

const mostTail = 4 << 10

func (t *tail) Write(p []byte) (int, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.buf.Write(p[:min(len(p), max(0, mostTail-t.buf.Len()))])
	return len(p), nil
}

func (t *tail) String() string {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.buf.String()
}
