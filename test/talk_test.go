package test

import (
	"bufio"
	"fmt"
	"net"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"uakari/internal/trail"
)

// almanac speaks a protocol of its own: a greeting, a question, and an account
// if it wants one. It counts how often an account was presented.
func almanac(greeting string, tries *atomic.Int32) func(net.Conn, int32) {
	return func(c net.Conn, _ int32) {
		fmt.Fprint(c, greeting)
		for lines := bufio.NewScanner(c); lines.Scan(); {
			switch word, rest, _ := strings.Cut(lines.Text(), " "); word {
			case "HELLO":
				fmt.Fprint(c, "WELCOME\r\n")
			case "ENTER":
				if tries.Add(1); rest != "gauge canary-7f3a" {
					fmt.Fprint(c, "SORRY wrong word\r\n")
					continue
				}
				fmt.Fprint(c, "WELCOME gauge\r\n")
			}
		}
	}
}

const talkCard = `format: uakari.card/1
name: almanac
talk:
  steps:
    - expect: "^ALMANAC [0-9]+"
    - send: "HELLO\r\n"
    - expect: "WELCOME"
%s  means:
    - {words: "gate is closed", cause: login/closed-for-all, says: the almanac is closed}
    - {words: "wrong word", cause: login/wrong-secret}
`

const talkEnters = `    - send: "ENTER {account} {secret}\r\n"
    - expect: "WELCOME gauge"
`

// TestTalk climbs a protocol that only a card knows.
func TestTalk(t *testing.T) {
	dir := t.TempDir()
	plainCard := write(t, filepath.Join(dir, "card.yaml"), fmt.Sprintf(talkCard, ""))
	enters := write(t, filepath.Join(dir, "enters.yaml"), fmt.Sprintf(talkCard, talkEnters))
	right, wrong := write(
		t,
		filepath.Join(dir, "right"),
		"canary-7f3a\n",
	), write(
		t,
		filepath.Join(dir, "wrong"),
		"canary-1111\n",
	)
	for _, c := range []struct {
		name, greeting, card, secret string
		more                         []string
		want                         []string
		outcome                      trail.Outcome
		tries                        int32
	}{
		{"well", "ALMANAC 2\r\n", plainCard, "", nil, nil, trail.OutcomeClear, 0},
		{"something else", "220 harbour\r\n", plainCard, "", nil, []string{"answer/error-status proven"},
			trail.OutcomeFault, 0},
		{"closed, as the card knows", "ALMANAC: the gate is closed\r\n", plainCard, "", nil,
			[]string{"login/closed-for-all proven"}, trail.OutcomeFault, 0},
		{"an account, in the clear", "ALMANAC 2\r\n", enters, right, []string{"--in-the-clear"}, nil,
			trail.OutcomeClear, 1},
		{"a wrong secret", "ALMANAC 2\r\n", enters, wrong, []string{"--in-the-clear"},
			[]string{"login/wrong-secret proven"}, trail.OutcomeFault, 1},
		{"a secret that may not be shown", "ALMANAC 2\r\n", enters, right, nil, nil, trail.OutcomeUnsure, 0},
		{"no account given", "ALMANAC 2\r\n", enters, "", nil, nil, trail.OutcomeClear, 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			var tries atomic.Int32
			server := listen(t, "127.0.0.1:0", nil, almanac(c.greeting, &tries))
			args := append([]string{"--card", c.card, "tcp://" + server.addr}, c.more...)
			if c.secret != "" {
				args = append(args, "--user", "gauge", "--secret", "file:"+c.secret)
			}
			judged := traced(t, nil, args...)
			expect(t, judged, c.want...)
			if judged.Outcome != c.outcome || tries.Load() != c.tries || strings.Contains(dump(judged), "canary") {
				t.Errorf("outcome %s, %d tries\n%s", judged.Outcome, tries.Load(), dump(judged))
			}
		})
	}
	for text, want := range map[string]string{
		"    - {expect: a, send: b}\n": "expected one of expect, send, hex and tls",
		"    - {hex: xyz}\n":           "is not hexadecimal", "    - {tls: now}\n": `expected "start"`,
		"    - {expect: '('}\n": "no regular expression",
	} {
		card := write(t, filepath.Join(dir, "wrong.yaml"), fmt.Sprintf(talkCard, text))
		if r := run(t, "card", "check", card); r.status != 2 || !strings.Contains(r.stderr, want) ||
			!strings.Contains(r.stderr, "wrong.yaml:8:") {
			t.Errorf("%s: %+v", text, r)
		}
	}
}
