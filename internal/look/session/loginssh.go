package session

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"runtime"
	"slices"
	"strings"

	"golang.org/x/crypto/ssh"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/look/file"
	"uakari/internal/look/sshclient"
)

// errSpent keeps the library from presenting a secret a second time.
var errSpent = errors.New("the one try was made")

// codeWords are what questions for a second factor speak of.
var codeWords = []string{
	"verification code",
	"one-time",
	"otp",
	"passcode",
	"token",
	"authenticator",
	"second factor",
	"security code",
}

// wantsCode reports whether a question is for something else than the secret.
func wantsCode(question string) bool {
	return slices.ContainsFunc(codeWords, func(w string) bool {
		return strings.Contains(strings.ToLower(question),
			w)
	})
}

// sshTry is one login over SSH: what the library was given, and how far it came.
type sshTry struct {
	c     *climber
	login fact.Login
	place string
	state string // of the host's key: "known", …
	taken bool   // the host's key was; what follows is authentication
	spent bool   // the secret was presented
	asked bool   // for a code beside it
}

// loginSSH tries a key, or a password once: by the password method or, where
// the server has only that, in answer to its questions. What is accepted also
// opens a session, in which nothing is run.
func (c *climber) loginSSH(ctx context.Context) fact.Login {
	t := c.order.Target
	s := &sshTry{c: c, place: endpoint.HostPort(strings.TrimSuffix(t.Name, "."), t.Port)}
	s.login.Mechanism = "password"
	var auth []ssh.AuthMethod
	if c.env.Identity != "" || c.env.Secret == "" {
		keys, done, why := c.keysToOffer(ctx, &s.login)
		defer done()
		if why != "" {
			return withheld(why)
		}
		s.login.Mechanism = "publickey"
		auth = append(auth, ssh.PublicKeys(keys...))
	} else if c.env.OnlyHidden {
		return withheld(shownOnly)
	} else {
		auth = append(auth, ssh.PasswordCallback(func() (string, error) { s.spent = true; return c.env.Secret, nil }),
			ssh.KeyboardInteractive(s.answers))
	}
	known, err := sshclient.KnownHosts(t.Name)
	if err != nil {
		return withheld("the known hosts could not be read: " + err.Error())
	}
	config := &ssh.ClientConfig{
		User:              t.Account,
		Auth:              auth,
		HostKeyAlgorithms: preferred(known, s.place, t),
		HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
			if s.state, _ = known.Compare(s.place, remote(t), key); s.state != "known" && c.env.Identity == "" &&
				c.env.Secret != "" {
				return errSeen // a password is shown only to a host that is known
			}
			s.taken = true
			return nil
		},
	}
	conn, channels, requests, err := ssh.NewClientConn(
		&heard{c.conn, []byte(c.greeting.Head + "\r\n")},
		s.place,
		config,
	)
	if err != nil {
		return s.ended(err)
	}
	defer conn.Close()
	client := ssh.NewClient(conn, channels, requests)
	channel, more, err := client.OpenChannel("session", nil)
	if err != nil {
		s.login.Outcome, s.login.Code, s.login.Text = fact.LoginRefused, "session", foreign.Clean(
			"the account is accepted, and no session is opened: "+err.Error(),
		)
		return s.login
	}
	go ssh.DiscardRequests(more)
	channel.Close()
	s.login.Outcome, s.login.Lacks = fact.LoginAccepted, sshSession(client)
	return s.login
}

// answers answers the questions of the keyboard-interactive method (RFC 4256),
// with the secret, once.
func (s *sshTry) answers(_, _ string, questions []string, _ []bool) ([]string, error) {
	switch {
	case len(questions) == 0:
		return nil, nil
	case slices.ContainsFunc(questions, wantsCode):
		s.asked = true
		return nil, errSpent // a secret is no answer to that
	case s.spent:
		return nil, errSpent
	}
	s.spent, s.login.Mechanism = true, "keyboard-interactive"
	answers := make([]string, len(questions))
	for i := range answers {
		answers[i] = s.c.env.Secret
	}
	return answers, nil
}

// ended says how a login ended that opened no connection. Everything that
// comes after the host's key was taken is the server's word on the account, or
// its silence.
func (s *sshTry) ended(err error) fact.Login {
	l, text := s.login, err.Error()
	var network net.Error
	switch {
	case errors.Is(err, errSeen):
		return withheld("the host key is " + s.state + ", and a password is shown only to a host that is known")
	case s.asked:
		l.Outcome, l.Code, l.Text = fact.LoginMore, "second-factor", "the server asks for a code beside the secret"
	case errors.Is(err, errSpent):
		l.Outcome, l.Text = fact.LoginRefused, "the secret was not accepted, and the server asks for it again"
	case strings.Contains(text, "Too many authentication failures"):
		l.Outcome, l.Code, l.Text = fact.LoginRefused, "too-many",
			"the server ends it: too many authentication failures"
	case strings.Contains(text, "unable to authenticate"):
		l.Outcome, l.Text = fact.LoginRefused, "none of its ways was accepted, after "+methods(err)
		if !slices.ContainsFunc(
			[]string{"password", "keyboard-interactive", "publickey"},
			func(m string) bool { return strings.Contains(methods(err), m) },
		) {
			l.Code = "mechanism"
		}
	case !s.taken:
		l.Outcome, l.Text = fact.LoginFailed, foreign.Clean(text)
	case strings.Contains(text, "ssh: disconnect, reason"):
		l.Outcome, l.Text = fact.LoginRefused, foreign.Clean(
			"the server ends it: "+text[strings.Index(text, "ssh: disconnect"):],
		)
	case errors.As(err, &network) && network.Timeout():
		l.Outcome, l.Text = fact.LoginStalled, "the account was presented, and no answer came in time"
	default: // closed or reset
		l.Outcome, l.Text = fact.LoginCut,
			"the server closed the connection without a word, while the account was being checked"
	}
	return l
}

// keysToOffer is the key of the file that was given, or all that the agent of
// this user holds, as SSH clients offer them. They sign until done is called.
func (c *climber) keysToOffer(ctx context.Context, l *fact.Login) (keys []ssh.Signer, done func(), why string) {
	if c.env.Identity == "" {
		keys, done, err := sshclient.AgentKeys(ctx)
		switch {
		case errors.Is(err, sshclient.ErrNoAgent):
			return nil, done, "no secret was given, and there is no agent with keys"
		case err != nil:
			return nil, done, "no secret was given, and the agent does not answer: " + foreign.Clean(err.Error())
		case len(keys) == 0:
			return nil, done, "no secret was given, and the agent holds no keys"
		}
		l.KeysIn = "the agent"
		for i, key := range keys {
			l.Keys = append(l.Keys, ssh.FingerprintSHA256(key.PublicKey()))
			if signer, ok := key.(ssh.AlgorithmSigner); ok {
				keys[i] = watchedKey{signer, &l.Key}
			}
		}
		return keys, done, ""
	}
	done = func() {}
	text, err := file.Typed(ctx, c.env.Identity, file.MostSettings)
	if err != nil {
		return nil, done, "the key could not be read: " + err.Error()
	}
	key, err := ssh.ParsePrivateKey(text)
	if err != nil {
		return nil, done, "the key could not be read: " + err.Error()
	}
	l.Key, l.KeyWrong = ssh.FingerprintSHA256(key.PublicKey()), tooOpen(c.env.Identity)
	return []ssh.Signer{key}, done, ""
}

// tooOpen says why SSH clients would not use a key file (ssh(1), "FILES"); ""
// if they would.
func tooOpen(path string) string {
	info, err := os.Stat(path)
	if err != nil || runtime.GOOS == "windows" || info.Mode().Perm()&0o077 == 0 {
		return ""
	}
	return fmt.Sprintf("%s has mode %04o", path, info.Mode().Perm())
}

// watchedKey is a key that says when it is the one that signs: the server has
// taken it then.
type watchedKey struct {
	ssh.AlgorithmSigner
	key *string
}

func (n watchedKey) Sign(r io.Reader, data []byte) (*ssh.Signature, error) {
	*n.key = ssh.FingerprintSHA256(n.PublicKey())
	return n.AlgorithmSigner.Sign(r, data)
}

func (n watchedKey) SignWithAlgorithm(r io.Reader, data []byte, algorithm string) (*ssh.Signature, error) {
	*n.key = ssh.FingerprintSHA256(n.PublicKey())
	return n.AlgorithmSigner.SignWithAlgorithm(r, data, algorithm)
}

// methods is what the library says it tried: "[none password]".
func methods(err error) string {
	_, after, _ := strings.Cut(err.Error(), "attempted methods [")
	list, _, _ := strings.Cut(after, "]")
	return list
}
