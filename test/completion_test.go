package test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// TestCompletion has real shells complete a line: causes, cases, roles, hosts of the SSH
// client, rungs and forms of output.
func TestCompletion(t *testing.T) {
	t.Parallel()
	home := t.TempDir()
	if err := os.MkdirAll(filepath.Join(home, ".ssh"), 0o700); err != nil {
		t.Fatal(err)
	}
	write(t, filepath.Join(home, ".ssh", "config"), "Host heron pier-*\n  User ana\nHost=\"ledger\"\nHost *\n")
	write(t, filepath.Join(home, "tide.yaml"), "format: uakari.card/1\n")
	env := append(os.Environ(), "HOME="+home, "UAKARI_CASEBOOK="+filepath.Join(home, "book.db"),
		"PATH="+filepath.Dir(program)+":"+os.Getenv("PATH"))
	open := exec.Command(program, "trace", "--case", "new", "--wait", "1s", "http://127.0.0.1:9/")
	if open.Env = env; open.Run() == nil {
		t.Fatal("nobody listens there, and it is clear")
	}
	// The function that bash-completion gives to all: the words of the line.
	const bash = `_get_comp_words_by_ref() { cur=${COMP_WORDS[COMP_CWORD]}; prev=${COMP_WORDS[COMP_CWORD-1]}
words=("${COMP_WORDS[@]}"); cword=$COMP_CWORD; }
source <("$1" completion bash)
shift; COMP_WORDS=(uakari "$@"); COMP_CWORD=$#; COMP_LINE="${COMP_WORDS[*]}"; COMP_POINT=${#COMP_LINE}; COMP_TYPE=9
__start_uakari 2>/dev/null; printf '%s\n' "${COMPREPLY[@]}"`
	const fish = `uakari completion fish | source; complete -C "$COMPLETED"`
	for _, c := range []struct {
		line []string
		want []string
	}{
		{[]string{"explain", "ports/lo"}, []string{"ports/loopback-only"}},
		{[]string{"case", "show", ""}, []string{"1"}},
		{[]string{"trace", "--only", "na"}, []string{"names"}},
		{[]string{"trace", "--suspect", "rules/unit"}, []string{"rules/unit-list"}},
		{[]string{"trace", "--at", "s"}, []string{"server="}},
		{[]string{"trace", "--at", "he"}, []string{"heron"}},
		{[]string{"trace", "--at", "le"}, []string{"ledger"}},
		{[]string{"trace", "--out", "j"}, []string{"json"}},
		{[]string{"explain", "--system", "win"}, []string{"windows"}},
		{[]string{"watch", "--until", ""}, []string{"clear", "fault"}},
		{[]string{"reh"}, []string{"rehearse"}},
	} {
		for shell, script := range map[string]string{"bash": bash, "fish": fish} {
			if _, err := exec.LookPath(shell); err != nil {
				continue
			}
			cmd := exec.Command(shell, "-c", script)
			if shell == "bash" {
				cmd.Args = append(append(cmd.Args, shell, program), c.line...)
			}
			cmd.Env, cmd.Dir = append(env, "COMPLETED=uakari "+strings.Join(c.line, " ")), home
			out, err := cmd.Output()
			if err != nil {
				t.Errorf("%s: %v", shell, err)
			}
			for _, want := range c.want {
				if !strings.Contains("\n"+string(out), "\n"+want) {
					t.Errorf("%s, %q: %q is not among %q", shell, c.line, want, out)
				}
			}
		}
	}
}
