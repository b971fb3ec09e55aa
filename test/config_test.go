package test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
)

// configured runs the program with a configuration of its own.
func configured(t *testing.T, path string, env []string, args ...string) result {
	t.Helper()
	return runWords(
		t,
		append(append([]string{"env", "UAKARI_CONFIG=" + path}, env...), append([]string{program}, args...)...),
	)
}

// TestConfig is defaults from the environment and from a file, and what is told
// of wrong ones.
func TestConfig(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	served := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter,
		_ *http.Request) {
		fmt.Fprint(w, "tides")
	}))
	defer served.Close()
	team := filepath.Join(dir, "team")
	if err := os.Mkdir(team, 0o700); err != nil {
		t.Fatal(err)
	}
	write(
		t,
		filepath.Join(team, "tidebook.yaml"),
		"format: uakari.card/1\nname: tidebook\nendpoint: "+served.URL+"/\nanswer: {contains: floods}\n",
	)
	write(t, filepath.Join(team, "office.yaml"), "format: uakari.sheet/1\nname: office\n")
	file := write(
		t,
		filepath.Join(dir, "uakari.yaml"),
		"format: uakari.config/1\nflags: {wait: 1s, resolver: [127.0.0.1]}\ncommands: {trace: {wait: 2s, json: "+
			"true}}\ncards: "+team+"\nsheets: "+team+"\n",
	)
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	var written map[string]any
	if err := yaml.Unmarshal(text, &written); err != nil {
		t.Fatal(err)
	}
	asJSON, err := json.Marshal(written)
	if err != nil {
		t.Fatal(err)
	}
	validate(t, "config", asJSON)
	shown := configured(t, file, []string{"UAKARI_DEADLINE=9s"}, "config", "show", "--json", "trace")
	validate(t, "config-shown", []byte(shown.stdout))
	var got struct {
		Flags []struct{ Flag, Value, From string }
	}
	if err := json.Unmarshal([]byte(shown.stdout), &got); err != nil {
		t.Fatal(err)
	}
	have := map[string]string{}
	for _, f := range got.Flags {
		have[f.Flag] = f.Value + " from " + f.From
	}
	for flag, want := range map[string]string{
		"wait": "2s from " + file + ", commands.trace", "resolver": "127.0.0.1 from " + file + ", flags",
		"deadline": "9s from UAKARI_DEADLINE", "color": "auto from the program",
	} {
		if have[flag] != want {
			t.Errorf("%s: %q, want %q", flag, have[flag], want)
		}
	}
	// The trace is JSON by the file, and its card comes from the team's folder.
	judged := readTrail(t, configured(t, file, nil, "trace", "--card", "tidebook", "--sheet", "office").stdout)
	expect(t, judged, "answer/wrong-application proven")
	if strings.Contains(judged.Command, "--wait") {
		t.Errorf("the command names what was not typed: %s", judged.Command)
	}
	// The command line comes before all.
	if r := configured(t, file, nil, "trace", "--json=false", served.URL); !strings.HasPrefix(r.stdout, "Yes: ") {
		t.Errorf("%+v", r)
	}
	for name, c := range map[string]struct{ text, want string }{
		"no such flag":     {"flags: {wiat: 2s}\n", `no flag is called "wiat"`},
		"not a time":       {"flags: {wait: soon}\n", `wait "soon"`},
		"of one run alone": {"flags: {output: x}\n", "belongs to one run"},
		"no such command":  {"commands: {trase: {wait: 2s}}\n", `no command is called "trase"`},
		"not that one's":   {"commands: {explain: {wait: 2s}}\n", `no flag is called "wait"`},
		"a secret of a shared folder": {"flags: {secret: \"env:TIDE\"}\ncards: " + dir + "\n",
			"secret is not taken from the shared folder"},
		"a host of a shared folder": {"commands: {trace: {at: server=ebb}}\nsheets: " + dir + "\n",
			"at is not taken from the shared folder"},
		"a misspelt key":    {"flgas: {}\n", `:2:1: unknown field "flgas"; did you mean "flags"?`},
		"of another format": {"format: uakari.config/9\n", "expected \"uakari.config/1\""},
	} {
		text := "format: uakari.config/1\n" + c.text
		if strings.HasPrefix(c.text, "format") {
			text = c.text
		}
		r := configured(t, write(t, filepath.Join(dir, "bad.yaml"), text), nil, "trace", served.URL)
		if r.status != 2 || !strings.Contains(r.stderr, c.want) ||
			strings.Count(strings.TrimSpace(r.stderr), "\n") > 0 {
			t.Errorf("%s: %+v", name, r)
		}
	}
	if r := configured(t, filepath.Join(dir, "none.yaml"), nil, "trace", served.URL); r.status != 2 {
		t.Errorf("a file that was named is not there: %+v", r)
	}
	for flags, status := range map[string]int{served.URL: 0, fmt.Sprintf("http://127.0.0.1:%d/", freePort(t)): 1} {
		if r := run(t, "trace", "--quiet", flags); r.status != status || r.stdout+r.stderr != "" {
			t.Errorf("%+v", r)
		}
	}
}

// TestTraceMany reads endpoints from standard input.
func TestTraceMany(t *testing.T) {
	t.Parallel()
	served := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter,
		_ *http.Request) {
		fmt.Fprint(w, "tides")
	}))
	defer served.Close()
	shut := fmt.Sprintf("http://127.0.0.1:%d/", freePort(t))
	for _, c := range []struct {
		input  string
		args   string
		status int
		want   []string
	}{
		{"# those of the harbour\n" + served.URL + "\n\n" + served.URL + "/levels\n", "", 0, []string{"Yes: "}},
		{served.URL + "\n" + shut + "\n" + served.URL + "\n", "", 1, []string{"Yes: ", "No: "}},
		{served.URL + "\n", "--json", 0, []string{`"format": "uakari.trail/1"`}},
		{served.URL + "\nhttp://\n", "", 2, []string{"standard input:2:1: "}},
		{"# nothing\n", "", 2, []string{"no endpoint"}},
		{served.URL + "\n", "--facts x", 2, []string{"for one endpoint"}},
	} {
		r := runWords(
			t,
			[]string{
				"sh",
				"-c",
				fmt.Sprintf("printf '%s' | %s trace %s -", strings.ReplaceAll(c.input, "\n", `\n`), program, c.args),
			},
		)
		for _, want := range c.want {
			if r.status != c.status || !strings.Contains(r.stdout+r.stderr, want) {
				t.Errorf("%q %s: %d, lacks %q:\n%s%s", c.input, c.args, r.status, want, r.stdout, r.stderr)
			}
		}
		if c.status == 2 && r.stdout != "" {
			t.Errorf("%q: something was traced: %s", c.input, r.stdout)
		}
	}
}

// TestSaid is what further commands say to other programs, against the schemas.
func TestSaid(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	served := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter,
		_ *http.Request) {
		fmt.Fprint(w, "tides")
	}))
	defer served.Close()
	facts := filepath.Join(dir, "facts.json")
	run(t, "trace", "--facts", facts, served.URL)
	for _, c := range []struct {
		schema string
		status int
		args   []string
	}{
		{"causes", 0, []string{"explain"}},
		{"causes", 0, []string{"explain", "rules/server-drop"}},
		{"causes", 0, []string{"explain", "refused"}},
		{"version", 0, []string{"version"}},
		{"checked", 0, []string{"card", "check", "../docs/examples/tidebook.card.yaml"}},
		{"checked", 0, []string{"sheet", "check", "../docs/examples/office.sheet.yaml"}},
		{"card", 0, []string{"card", "show", "../docs/examples/tidebook.card.yaml"}},
		{"sheet", 0, []string{"sheet", "show", "../docs/examples/office.sheet.yaml"}},
		{"differ", 0, []string{"differ", facts, facts}},
		{"recorded", 0, []string{"record", "-o", filepath.Join(dir, "here.json")}},
		{"demo", 0, []string{"demo", "--list"}},
		{"confirm", 0, []string{"confirm", "--times", "1", facts}},
	} {
		r := run(t, append(c.args, "--out", "json")...)
		if r.status != c.status || r.stderr != "" &&
			c.schema != "confirm" { // which says that the facts came from elsewhere
			t.Errorf("%q: %+v", c.args, r)
			continue
		}
		validate(t, c.schema, []byte(r.stdout))
	}
}
