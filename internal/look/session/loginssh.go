package session

import (
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"runtime"
	"slices"
	"strings"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/wire"
)

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
	if c.env.Identity != "" || c.env.Secret == "" {
		keys, why := c.keysToOffer(&l)
		if why != "" {
			return withheld(why)
		}
		l.Mechanism = "publickey"
		auth = append(auth, ssh.PublicKeys(keys...))
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
		if state, _ = compareKey(check, place, t, key); state != "known" && c.env.Identity == "" && c.env.Secret != "" {
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
	case strings.Contains(err.Error(), "Too many authentication failures"):
		l.Outcome, l.Code, l.Text = fact.LoginRefused, "too-many", "the server ends it: too many authentication failures"
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

// keysToOffer is the key of the file that was given, or all that the agent of
// this user holds, as SSH clients offer them.
func (c *climber) keysToOffer(l *fact.Login) (keys []ssh.Signer, why string) {
	if c.env.Identity == "" {
		conn, err := net.Dial("unix", os.Getenv("SSH_AUTH_SOCK"))
		if err != nil {
			return nil, "no secret was given, and there is no agent with keys"
		}
		if keys, err = agent.NewClient(conn).Signers(); err != nil || len(keys) == 0 {
			return nil, "no secret was given, and the agent holds no keys"
		}
		l.KeysIn = "the agent"
		for i, key := range keys {
			l.Keys = append(l.Keys, ssh.FingerprintSHA256(key.PublicKey()))
			keys[i] = noticed{key.(ssh.AlgorithmSigner), &l.Key}
		}
		return keys, ""
	}
	text, err := os.ReadFile(c.env.Identity)
	if err != nil {
		return nil, "the key could not be read: " + err.Error()
	}
	key, err := ssh.ParsePrivateKey(text)
	if err != nil {
		return nil, "the key could not be read: " + err.Error()
	}
	l.Key, l.KeyWrong = ssh.FingerprintSHA256(key.PublicKey()), tooOpen(c.env.Identity)
	return []ssh.Signer{key}, ""
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

// noticed is a key that says when it is the one that signs: the server has
// taken it then.
type noticed struct {
	ssh.AlgorithmSigner
	key *string
}

func (n noticed) Sign(r io.Reader, data []byte) (*ssh.Signature, error) {
	*n.key = ssh.FingerprintSHA256(n.PublicKey())
	return n.AlgorithmSigner.Sign(r, data)
}

func (n noticed) SignWithAlgorithm(r io.Reader, data []byte, algorithm string) (*ssh.Signature, error) {
	*n.key = ssh.FingerprintSHA256(n.PublicKey())
	return n.AlgorithmSigner.SignWithAlgorithm(r, data, algorithm)
}

// methods is what the library says it tried: "[none password]".
func methods(err error) string {
	_, after, _ := strings.Cut(err.Error(), "attempted methods [")
	list, _, _ := strings.Cut(after, "]")
	return list
}
