package test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"uakari/internal/trail"
)

// TestRehearse has real hosts with two faults, one behind the other: each fix is rehearsed
// with its consequence, and then done, and the real host is judged as it was foreseen.
func TestRehearse(t *testing.T) {
	if os.Getuid() != 0 {
		missing(t, "needs root, to make networks")
	}
	l := newLab(t)
	dir := t.TempDir()
	t.Setenv("UAKARI_CASEBOOK", filepath.Join(dir, "book.db"))
	listenWithin(t, l.server, "10.20.0.14:8080")
	rules := write(t, filepath.Join(dir, "rules.nft"), "table inet ebb {\n chain input {\n  type filter hook input "+
		"priority 0; policy accept;\n  tcp dport 8080 reject\n }\n}\n")
	l.sh("ip netns exec " + l.server + " nft -f " + rules)
	old := write(t, filepath.Join(dir, "old"), "10.20.0.15 tidebook.varzea.example\n")
	right := write(t, filepath.Join(dir, "right"), "10.20.0.14 tidebook.varzea.example\n")
	facts := filepath.Join(dir, "facts.json")
	traceWith := func(hosts string) trail.Trail {
		t.Helper()
		record := filepath.Join(dir, "server.json")
		url := "http://tidebook.varzea.example:8080/"
		runIn(t, enter(l.server), "record", "--for", url, "--hosts", right, "--client", "10.20.7.31", "-o", record)
		return readTrail(t, runIn(t, enter(l.client), "trace", "--json", "--wait", "1s", "--hosts", hosts, "--facts",
			facts, "--record", "server="+record, url).stdout)
	}
	judged := traceWith(old)
	if judged.Outcome != trail.OutcomeFault {
		t.Fatal(dump(judged))
	}
	r := run(t, "rehearse", facts, "--json")
	validate(t, "rehearsal", []byte(r.stdout))
	var got trail.Rehearsal
	if err := json.Unmarshal([]byte(r.stdout), &got); err != nil {
		t.Fatalf("%v: %+v", err, r)
	}
	var order []string
	for _, s := range got.Steps {
		order = append(order, s.Cause)
		if s.Fix == nil || s.Idle {
			t.Errorf("%+v", s)
		}
	}
	if !got.Clears || !slices.Equal(order, []string{"names/hosts-override", "rules/server-reject"}) {
		t.Fatalf("%v, clears %v: %s", order, got.Clears, r.stdout)
	}
	if !slices.Contains(got.Steps[0].Left, "rules/server-reject") || len(got.Steps[1].Left) > 0 {
		t.Errorf("left: %v, then %v", got.Steps[0].Left, got.Steps[1].Left)
	}
	text := run(t, "rehearse", facts)
	if text.status != 0 || !strings.HasPrefix(text.stdout, "Rehearsed: after 1 and 2, nothing that was seen is in the way.") {
		t.Errorf("%+v", text)
	}
	// The first fix is done: the real judgement is the one that was foreseen.
	judged = traceWith(right)
	var left []string
	for _, c := range judged.Blocking() {
		left = append(left, c.ID)
	}
	if !slices.Equal(left, got.Steps[0].Left) {
		t.Errorf("after the first fix %v; foreseen %v", left, got.Steps[0].Left)
	}
	// And the second, by the command as it was told.
	command := strings.TrimSpace(got.Steps[1].Fix.Command)
	l.sh("ip netns exec " + l.server + " " + strings.Replace(command, "nft -e -a", "nft", 1))
	if judged = traceWith(right); judged.Outcome != trail.OutcomeClear {
		t.Errorf("after both fixes: %s", dump(judged))
	}
	if r := run(t, "rehearse", facts); r.status != 0 || !strings.HasPrefix(r.stdout, "Nothing to fix: it works.") {
		t.Errorf("%+v", r)
	}
}
