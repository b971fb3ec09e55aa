package cli

import (
	"errors"
	"fmt"
	"reflect"
	"strings"
	"testing"
	"time"

	"uakari/internal/casebook"
	"uakari/internal/fact"
	"uakari/internal/foreign"

	"github.com/spf13/cobra"
)

// TestEnded is errors, statuses, and both at once.
func TestEnded(t *testing.T) {
	no := errors.New("no room")
	for name, c := range map[string]struct {
		err    error
		status int
		says   string
	}{
		"nothing":              {nil, 0, ""},
		"a status":             {exit(exitFault), 1, ""},
		"an error":             {no, 2, "uakari: no room\n"},
		"both":                 {errors.Join(exit(exitFault), no), 2, "uakari: no room\n"},
		"both, the other way":  {errors.Join(no, exit(exitFault)), 2, "uakari: no room\n"},
		"a status and nothing": {errors.Join(exit(exitUnsure), nil), 3, ""},
		"a hostile one":        {errors.New("x\x1b[2J\ny"), 2, "uakari: x<U+001B>[2J y\n"},
	} {
		var out strings.Builder
		if got := ended(c.err, &out); got != c.status || out.String() != c.says {
			t.Errorf("%s: %d, %q", name, got, out.String())
		}
	}
}

// TestTakes is how many arguments a command is given, and what it says.
func TestTakes(t *testing.T) {
	cmd := &cobra.Command{Use: "show CASE"}
	check := takes(1, 2, "a CASE")
	for n, want := range []string{"show: expected a CASE; there is nothing", "", "",
		`show: expected a CASE; there is "2" too`} {
		var args []string
		for i := range n {
			args = append(args, fmt.Sprint(i))
		}
		if err := check(cmd, args); want == "" && err != nil || want != "" && (err == nil || err.Error() != want) {
			t.Errorf("%d: %v", n, err)
		}
	}
}

// TestCompletions offers causes, chapters and files where they are wanted.
func TestCompletions(t *testing.T) {
	t.Setenv("UAKARI_CASEBOOK", t.TempDir())
	for line, want := range map[string]string{"explain certs/not-r": "certs/not-reloaded", "demo gate": "gateway",
		"card check ": "yaml", "confirm ": ""} {
		var out strings.Builder
		root := newRoot()
		root.SetArgs(append([]string{cobra.ShellCompRequestCmd}, strings.Split(line, " ")...))
		root.SetOut(&out)
		root.SetErr(&strings.Builder{})
		if err := root.Execute(); err != nil || !strings.Contains(out.String(), want) {
			t.Errorf("%q: %q, %v", line, out.String(), err)
		}
	}
}

// TestRoles reads who a flag speaks of.
func TestRoles(t *testing.T) {
	for text, want := range map[string]string{"root@tidebook": "server root@tidebook",
		"client=ana@gauge-07": "client ana@gauge-07", "gateway=heron.json": "gateway heron.json"} {
		role, what, err := roleOf("--at", text)
		if got := string(role) + " " + what; err != nil || got != want {
			t.Errorf("%s: %s, %v", text, got, err)
		}
	}
	if _, _, err := roleOf("--at", "king=x"); err == nil {
		t.Error("a role that does not exist is taken")
	}
}

// TestShellWords takes commands apart as they were written.
func TestShellWords(t *testing.T) {
	for command, want := range map[string]string{
		"uakari trace  a":                    "uakari|trace|a",
		`--hosts '/tmp/a b/hosts' x`:         "--hosts|/tmp/a b/hosts|x",
		`'it'\''s' ''`:                       "it's|",
		"":                                   "",
		foreign.ShellWord("a'b \\ c") + " d": "a'b \\ c|d",
	} {
		words, err := shellWords(command)
		if got := strings.Join(words, "|"); err != nil || got != want {
			t.Errorf("%s: %q, %v, want %q", command, got, err, want)
		}
	}
	if _, err := shellWords("a 'b"); err == nil {
		t.Error("a quote that does not end is taken")
	}
}

// TestInherit looks as a kept trace did, but for what is given anew.
func TestInherit(t *testing.T) {
	var now seeing
	cmd := &cobra.Command{}
	now.addFlags(cmd)
	now.addFar(cmd)
	if err := cmd.ParseFlags([]string{"--hosts", "new"}); err != nil {
		t.Fatal(err)
	}
	var own kept
	own.set.Ask.Command = "uakari trace --at root@heron --at client=ana@gauge-07 --trust '/a b' --hosts old " +
		"--resolver 10.20.0.2 --only rules --lend --deadline 5s https://tidebook.varzea.example/"
	err := now.inherit(cmd, own)
	if err != nil || strings.Join(now.at, " ") != "root@heron client=ana@gauge-07" || now.trust != "/a b" ||
		now.hosts != "new" ||
		now.lend != "own" ||
		now.deadline == 5*time.Second ||
		len(now.resolvers) != 1 {
		t.Errorf("%+v, %v", now, err)
	}
}

// TestForeign takes over nothing of a run that came from elsewhere.
func TestForeign(t *testing.T) {
	var now seeing
	cmd := &cobra.Command{}
	now.addFlags(cmd)
	now.addFar(cmd)
	cmd.SetErr(&strings.Builder{})
	if err := cmd.ParseFlags(nil); err != nil {
		t.Fatal(err)
	}
	before := now
	set := fact.Set{
		Ask: fact.Ask{
			Endpoint: fact.Endpoint{Input: "https://x'; rm -rf /"},
			Command: "uakari trace --at root@heron --secret file:/etc/shadow --user root --identity " +
				"/root/.ssh/id_rsa --as-root --lend https://x/",
		},
	}
	for _, from := range []kept{{disarmed(set), true}, keptOf(casebook.Case{Foreign: true}, set)} {
		if err := now.inherit(cmd, from); err != nil || !reflect.DeepEqual(now, before) {
			t.Errorf("%+v, %v", now, err)
		}
		if from.set.Ask.Command != `uakari trace 'https://x'\''; rm -rf /'` {
			t.Errorf("its command: %s", from.set.Ask.Command)
		}
	}
	if own := keptOf(casebook.Case{}, set); own.foreign || own.set.Ask.Command != set.Ask.Command {
		t.Errorf("%+v", own)
	}
}

// TestMisspelt suggests what was meant.
func TestMisspelt(t *testing.T) {
	for words, want := range map[string]string{
		"trace --hots x tcp://a:1":       `unknown flag: --hots; did you mean "hosts"?`,
		"case list --opne":               `did you mean "open"?`,
		"explain rules/servr-drop":       `did you mean "rules/server-drop"?`,
		"explain server-dorp":            `did you mean "server-drop"?`,
		"trace --only certz tcp://a:1":   `did you mean "certs"?`,
		"trace --suspect rulz tcp://a:1": `did you mean "rules"?`,
		"tracee x":                       `did you mean "trace"?`,
	} {
		root := newRoot()
		root.SetArgs(strings.Fields(words))
		if err := root.Execute(); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, expected %q", words, err, want)
		}
	}
}
