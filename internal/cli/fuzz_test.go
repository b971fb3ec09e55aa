package cli

import (
	"strings"
	"testing"

	"uakari/internal/foreign"
)

// FuzzShellWords takes any command apart, and what was quoted comes back.
func FuzzShellWords(f *testing.F) {
	f.Add("uakari trace --at 'a b' x")
	f.Add(`'it'\''s'`)
	f.Fuzz(func(t *testing.T, command string) {
		shellWords(command)
		words, err := shellWords(foreign.ShellWord(command) + " x")
		if err != nil || len(words) != 2 || words[0] != command {
			t.Errorf("%q came back as %q, %v", command, words, err)
		}
	})
}

// FuzzInherit takes anything for the command of a kept run.
func FuzzInherit(f *testing.F) {
	f.Add("uakari trace --at root@heron --resolver 10.20.0.2 https://x/")
	f.Fuzz(func(_ *testing.T, command string) {
		var s seeing
		cmd := newTrace()
		cmd.SetErr(&strings.Builder{})
		var own kept
		own.set.Ask.Command = command
		s.inherit(cmd, own)
	})
}
