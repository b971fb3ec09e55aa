package vantage

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"uakari/internal/fact"
	"uakari/internal/look"
)

// TestOddTalk has a host say what nobody expects: greetings of its shell, and lines
// that cannot be read.
func TestOddTalk(t *testing.T) {
	order := fact.Order{Look: fact.LookListeners}
	hello := fmt.Sprintf(`{"version":%d,"host":"tidebook"}`, talkVersion)
	for _, c := range []struct{ name, greeting, answer, want string }{
		{"a chatty shell", "Welcome to tidebook!\n\n" + hello,
			`{"n":0,"fact":{"source":"listening sockets","saw":"none"}}` + "\n" + `{"n":0,"ended":true}`, "none"},
		{"a line that cannot be read", hello, `{"n":0,"fact":{"at":"yesterday"}}`,
			"what the program there says cannot be read"},
	} {
		s := &SSH{
			ended: make(chan struct{}), looks: map[int]*pending{}, stderr: &tail{}, early: map[fact.Order]*early{},
		}
		from, there := io.Pipe()
		orders, to := io.Pipe()
		complaints, complain := io.Pipe()
		s.out, s.hangUp = to, func() { to.Close() }
		go func() { // it waits for orders until its input ends
			lines := bufio.NewScanner(orders)
			for _, text := range []string{c.greeting, c.answer} {
				lines.Scan()
				fmt.Fprintln(there, text)
			}
			for lines.Scan() {
			}
			complain.Close()
			there.Close()
		}()
		ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
		if _, err := s.greet(ctx, from, complaints, nil, look.Env{}, nil); err != nil {
			t.Errorf("%s: %v", c.name, err)
		}
		var saw []string
		s.Look(ctx, order, func(f fact.Fact) { saw = append(saw, f.Saw) })
		if ctx.Err() != nil || len(saw) != 1 || !strings.Contains(saw[0], c.want) {
			t.Errorf("%s: %v, %q", c.name, ctx.Err(), saw)
		}
		s.Close()
		cancel()
	}
}
