package test

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// TestConfirm breaks a way, keeps what a trace found, mends one of two faults,
// then the other, and sees what confirm says each time.
func TestConfirm(t *testing.T) {
	l := newLab(t)
	l.web(l.server, "10.20.0.14:8080")
	l.filter(l.client, "table inet f { chain c { type filter hook output priority 0; tcp dport 8080 drop; }\n}")
	l.filter(l.router, "table inet f { chain c { type filter hook forward priority 0; tcp dport 8080 reject; }\n}")
	facts := filepath.Join(t.TempDir(), "first.json")
	const endpoint = "http://10.20.0.14:8080/"
	if r := runIn(t, enter(l.client), "trace", "--wait", "1s", "--facts", facts, endpoint); r.status != 1 ||
		!strings.Contains(r.stdout, "Then: uakari confirm "+facts) {
		t.Fatalf("%d: %s%s", r.status, r.stdout, r.stderr)
	}
	confirm := func(status int, first string, args ...string) {
		t.Helper()
		r := runIn(t, enter(l.client), append([]string{"confirm", facts, "--wait", "1s", "--times", "2"}, args...)...)
		if flat := oneLine(r.stdout); r.status != status || !strings.HasPrefix(flat, first) {
			t.Errorf("%d, want %d and %q: %s%s", r.status, status, first, r.stdout, r.stderr)
		}
	}
	confirm(1, "Not yet: http://10.20.0.14:8080/ does not work, for the same reason as before.")
	l.in(l.client, "nft flush ruleset")
	confirm(1, "Not yet: http://10.20.0.14:8080/ does not work; 1 of 1 fixed, 1 new; before: ")
	l.in(l.router, "nft flush ruleset")
	confirm(0, "Works again: http://10.20.0.14:8080/, 2 times in a row")
	confirm(0, "Works again:", "--within", "10s")
	for _, args := range [][]string{{"confirm"}, {"confirm", "/nowhere"}, {"confirm", facts, "--times", "0"}} {
		if r := run(t, args...); r.status != 2 {
			t.Errorf("%v: %+v", args, r)
		}
	}
}

// TestFilterOff mends by switching a filter off: it works, that it was the filter
// is said, and the case stays open until the narrow rule is in.
func TestFilterOff(t *testing.T) {
	l := newLab(t)
	l.web(l.server, "10.20.0.14:8080")
	const rules = "table inet f { chain c { type filter hook output priority 0; ip daddr 10.20.9.9 accept; tcp " +
		"dport 8080 drop; }\n}"
	l.filter(l.client, rules)
	env := append(enter(l.client), "env", "UAKARI_CASEBOOK="+filepath.Join(t.TempDir(), "book.db"))
	if r := runIn(t, env, "trace", "--case", "new", "--wait", "1s", "http://10.20.0.14:8080/"); r.status != 1 {
		t.Fatalf("%+v", r)
	}
	l.in(l.client, "nft flush ruleset")
	r := runIn(t, env, "confirm", "1", "--wait", "1s")
	for _, want := range []string{"Works again:", "The filter was the cause.", "inet f c: tcp dport 8080 drop",
		"nft -e -a", "10.20.0.14", "Case 1 stays open: more gets in than before."} {
		if !strings.Contains(oneLine(r.stdout), want) {
			t.Errorf("it does not say %q: %s%s", want, r.stdout, r.stderr)
		}
	}
	if r.status != 1 {
		t.Errorf("status %d", r.status)
	}
	l.filter(
		l.client,
		strings.Replace(rules, "tcp dport 8080 drop", "ip daddr 10.20.0.14 tcp dport 8080 accept; tcp dport 8080 drop",
			1),
	)
	if r := runIn(t, env, "confirm", "1", "--wait", "1s"); r.status != 0 ||
		!strings.Contains(r.stdout, "Case 1 is closed") {
		t.Errorf("%+v", r)
	}
}

// TestForecast waits for an endpoint twice: the second time it is said how long the first
// one took, which the case keeps.
func TestForecast(t *testing.T) {
	t.Parallel()
	l := newLab(t)
	l.web(l.server, "10.20.0.14:8080")
	env := append(enter(l.client), "env", "UAKARI_CASEBOOK="+filepath.Join(t.TempDir(), "book.db"))
	for i, foretold := range []bool{false, true} {
		l.filter(l.client, "table inet f { chain c { type filter hook output priority 0; tcp dport 8080 reject; }\n}")
		if r := runIn(t, env, "trace", "--case", "new", "http://10.20.0.14:8080/"); r.status != 1 {
			t.Fatalf("%+v", r)
		}
		freed := time.AfterFunc(2*time.Second, func() { l.in(l.client, "nft flush ruleset") })
		r := runIn(t, env, "confirm", fmt.Sprint(i+1), "--times", "1", "--within", "30s")
		freed.Stop() // what let it work again keeps the case open: it was a filter that lets more in
		if !strings.HasPrefix(r.stdout, "Works again:") || strings.Contains(r.stderr, "it took ") != foretold {
			t.Errorf("time %d: %+v", i+1, r)
		}
		shown := runIn(t, env, "case", "show", fmt.Sprint(i+1))
		if !strings.Contains(shown.stdout, "it worked after ") {
			t.Errorf("the case does not keep it: %s%s", shown.stdout, shown.stderr)
		}
	}
}
