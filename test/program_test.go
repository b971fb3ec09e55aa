// Package test drives the built program from outside, against stand-ins, real
// servers, and hosts made of network namespaces.
package test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"uakari/internal/trail"
)

// program is the built program.
var program string

func TestMain(m *testing.M) {
	if os.Getenv("WEB") != "" || os.Getenv("FAR") != "" || os.Getenv("UAKARI_SERVE_PAGE") != "" {
		os.Exit(m.Run()) // only a helper's process
	}
	dir, err := os.MkdirTemp("", "uakari-test-")
	if err != nil {
		panic(err)
	}
	program = filepath.Join(dir, "uakari")
	build := exec.Command(
		"go",
		"build",
		"-trimpath",
		"-ldflags=-s -w",
		"-o",
		program,
		"uakari/cmd/uakari",
	) // as make build
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "building the program: %v\n%s", err, out)
		os.Exit(1)
	}
	os.Setenv("XDG_STATE_HOME", filepath.Join(dir, "state")) // no casebook of whoever runs the tests
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

// result is one run of the program.
type result struct {
	stdout, stderr string
	status         int
	took           time.Duration
}

// runIn runs the program behind other words, such as those that enter a
// namespace.
func runIn(t *testing.T, before []string, args ...string) result {
	t.Helper()
	return runWords(t, append(append([]string{}, before...), append([]string{program}, args...)...))
}

// runWords runs a command line that leads to the program.
func runWords(t *testing.T, words []string) result {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, words[0], words[1:]...)
	var stdout, stderr bytes.Buffer
	cmd.Stdout, cmd.Stderr = &stdout, &stderr
	began := time.Now()
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		t.Fatal(err)
	}
	r := result{stdout.String(), stderr.String(), cmd.ProcessState.ExitCode(), time.Since(began)}
	if strings.Contains(r.stdout+r.stderr, "goroutine ") {
		t.Fatalf("%v panicked:\n%s", words, r.stderr)
	}
	return r
}

func run(t *testing.T, args ...string) result {
	t.Helper()
	return runIn(t, nil, args...)
}

// withoutCommands is a trail without what would trace it again, and without what
// was kept of earlier runs.
func withoutCommands(t trail.Trail) trail.Trail {
	t.Command, t.Since = "", nil
	if t.Tell != nil {
		t.Tell = &trail.Tell{Look: t.Tell.Look}
	}
	t.Behind = slices.Clone(t.Behind)
	for i := range t.Behind {
		t.Behind[i].Trail = withoutCommands(t.Behind[i].Trail)
	}
	return t
}

// traced runs a trace and checks its JSON against the schema, its exit status
// against its outcome, and the kept facts against the trail.
func traced(t *testing.T, before []string, args ...string) trail.Trail {
	t.Helper()
	facts := filepath.Join(t.TempDir(), "facts.json")
	r := runIn(t, before, append([]string{"trace", "--json", "--facts", facts}, args...)...)
	judged := readTrail(t, r.stdout+r.stderr)
	status := map[trail.Outcome]int{trail.OutcomeClear: 0, trail.OutcomeFault: 1, trail.OutcomeUnsure: 3}
	want := status[judged.Outcome]
	for _, b := range judged.Behind {
		if want == 0 && b.Pair {
			want = status[b.Trail.Outcome] // the other way counts as much
		}
	}
	if r.status != want {
		t.Errorf("%v: exit status %d with outcome %s", args, r.status, judged.Outcome)
	}
	kept, err := os.ReadFile(facts)
	if err != nil {
		t.Fatal(err)
	}
	validate(t, "facts", kept)
	// The command is not taken over: it is whoever's kept the facts.
	again := readTrail(t, run(t, "trace", "--json", "--replay", facts).stdout)
	if !reflect.DeepEqual(withoutCommands(again), withoutCommands(judged)) {
		t.Errorf("%v: the kept facts give another trail", args)
	}
	return judged
}

func readTrail(t *testing.T, text string) trail.Trail {
	t.Helper()
	validate(t, "trail", []byte(text))
	var judged trail.Trail
	if err := json.Unmarshal([]byte(text), &judged); err != nil {
		t.Fatalf("%v:\n%s", err, text)
	}
	return judged
}

func validate(t *testing.T, name string, text []byte) {
	t.Helper()
	compiler := jsonschema.NewCompiler()
	compiler.AssertFormat()
	schema, err := compiler.Compile("../docs/schema/" + name + ".schema.json")
	if err != nil {
		t.Fatal(err)
	}
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	if err != nil {
		t.Fatalf("%v:\n%s", err, text)
	}
	if err := schema.Validate(doc); err != nil {
		t.Errorf("%s: %v", name, err)
	}
}

// expect compares the blocking causes, each as "id certainty".
func expect(t *testing.T, judged trail.Trail, want ...string) {
	t.Helper()
	var have []string
	for _, c := range judged.Blocking() {
		have = append(have, c.ID+" "+string(c.Certainty))
	}
	if strings.Join(have, ", ") != strings.Join(want, ", ") {
		t.Errorf("got %q, want %q\n%s", have, want, dump(judged))
	}
}

// expectHealthy sees a trace that found nothing at all.
func expectHealthy(t *testing.T, judged trail.Trail) {
	t.Helper()
	if judged.Outcome != trail.OutcomeClear || judged.Reached != trail.Yes || len(judged.Causes) > 0 {
		t.Errorf("not healthy: outcome %s, reached %s\n%s", judged.Outcome, judged.Reached, dump(judged))
	}
}

func dump(t trail.Trail) string {
	var b strings.Builder
	for _, c := range t.Causes {
		fmt.Fprintf(&b, "  %s %s %v: %s %v\n", c.ID, c.Certainty, c.Blocking, c.Summary, c.Short)
	}
	for _, f := range t.Rungs {
		fmt.Fprintf(&b, "  %s %s: %s\n", f.Name, f.State, f.Summary)
	}
	for _, e := range t.Evidence {
		fmt.Fprintf(&b, "  %s %s: %s\n", e.Vantage, e.Source, e.Saw)
	}
	return b.String()
}

// needs finds programs of a Debian package. Where they are missing the test is
// skipped, or failed if UAKARI_LIVE=all promised that they are there.
func needs(t *testing.T, pkg string, programs ...string) []string {
	t.Helper()
	var paths []string
	for _, p := range programs {
		matches, err := filepath.Glob(p)
		if err != nil {
			t.Fatal(err)
		}
		if len(matches) == 0 {
			missing(t, "needs "+p+": apt-get install "+pkg)
		}
		paths = append(paths, matches[len(matches)-1])
	}
	return paths
}

func missing(t *testing.T, why string) {
	t.Helper()
	if os.Getenv("UAKARI_LIVE") == "all" {
		t.Fatal(why)
	}
	t.Skip(why)
}
