package session

import (
	"regexp"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

const (
	sessionTime = 4 * time.Second
	mostSession = 4 << 10 // bytes of what a session says
)

// barredWords is what servers and shells say of an account that is accepted
// and gets no session.
var barredWords = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(
		`(?i)not available|expired|(?:must|required to) change|change your password|no (?:shell|login)|` +
			`not (?:allowed|permitted)|denied|disabled|locked`,
	)
})

// sshSession opens a session and ends it at once ("exit 0"): an account may be
// let in to none, since its shell is switched off or its password must be
// changed first. What a forced command of the account says is no reason.
func sshSession(client *ssh.Client) []fact.LackingRight {
	right := fact.Right{May: "open", On: "a session"}
	session, err := client.NewSession()
	if err != nil {
		return []fact.LackingRight{{Right: right, Level: "session", Told: foreign.Clean(err.Error())}}
	}
	defer session.Close()
	heard := &bounded{}
	session.Stdout, session.Stderr = heard, heard
	done := make(chan error, 1)
	go func() { done <- session.Run("exit 0") }()
	select {
	case err = <-done:
	case <-time.After(sessionTime):
		return nil
	}
	text := foreign.Clean(strings.TrimSpace(heard.String()))
	if err == nil || !barredWords().MatchString(text) {
		return nil
	}
	first, _, _ := strings.Cut(text, "\n")
	return []fact.LackingRight{{Right: right, Level: "session", Told: first}}
}

// bounded keeps the beginning of what is written to it.
type bounded struct {
	mu   sync.Mutex
	text []byte
}

func (b *bounded) Write(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.text = append(b.text, p[:min(len(p), mostSession-len(b.text))]...)
	return len(p), nil
}

func (b *bounded) String() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return string(b.text)
}
