package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"golang.org/x/term"
)

// readSecret reads a secret from where the flag says, if it is needed.
func (s *seeing) readSecret(ctx context.Context, needed bool) (string, error) {
	if !needed {
		return "", nil
	}
	return s.secretFrom(ctx, "--secret", s.secret)
}

// secretFrom reads the secret of a flag. What goes wrong is said without it.
func (s *seeing) secretFrom(ctx context.Context, flag, from string) (string, error) {
	kind, where, _ := strings.Cut(from, ":")
	switch {
	case from == "":
		return "", nil
	case kind == "env" && where != "":
		secret, ok := os.LookupEnv(where)
		if !ok {
			return "", fmt.Errorf("%s: the environment has no %s", flag, where)
		}
		return secret, nil
	case kind == "file" && where != "":
		text, err := s.read(ctx, where, mostSecret)
		if err != nil {
			return "", fmt.Errorf("%s: %w", flag, err)
		}
		return strings.TrimRight(string(text), "\r\n"), nil
	case from == "prompt":
		return prompted(ctx)
	}
	return "", fmt.Errorf("%s: expected env:NAME, file:PATH or prompt, and not the secret itself", flag)
}

// mostSecret bounds a file with a secret, in bytes.
const mostSecret = 64 << 10

// prompted asks for a secret on the terminal, which shows what is typed again
// afterwards, also when it is interrupted.
func prompted(ctx context.Context) (string, error) {
	in := int(os.Stdin.Fd())
	was, err := term.GetState(in)
	if err != nil {
		return "", errors.New("--secret prompt: standard input is no terminal; expected env:NAME or file:PATH")
	}
	fmt.Fprint(os.Stderr, "Password: ")
	type answer struct {
		text []byte
		err  error
	}
	got := make(chan answer, 1)
	go func() {
		text, err := term.ReadPassword(in)
		got <- answer{text, err}
	}()
	select {
	case a := <-got:
		fmt.Fprintln(os.Stderr)
		if a.err != nil {
			return "", fmt.Errorf("--secret prompt: %w", a.err)
		}
		return string(a.text), nil
	case <-ctx.Done():
		fmt.Fprintln(os.Stderr)
		return "", errors.Join(term.Restore(in, was), exit(exitInterrupted))
	}
}
