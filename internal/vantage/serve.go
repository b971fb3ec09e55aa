package vantage

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/netip"
	"runtime"
	"sync"
	"time"

	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/program"
	"uakari/internal/redact"
)

// The talk between a run and the program over there: one JSON object a line.
// The run says hello with how to look and then sends orders; the program over
// there says hello with its host and sends facts, and for each order its end.

// hello opens the talk on both sides.
type hello struct {
	Version   int                `json:"version"`
	Host      string             `json:"host,omitempty"`
	System    string             `json:"system,omitempty"`
	WaitMS    float64            `json:"wait_ms,omitempty"`
	SettleMS  float64            `json:"settle_ms,omitempty"`
	Resolvers []netip.AddrPort   `json:"resolvers,omitempty"`
	HostsFile string             `json:"hosts,omitempty"`
	Unit      string             `json:"unit,omitempty"`
	Account   string             `json:"account,omitempty"`
	Card      *fact.Card         `json:"card,omitempty"`
	Programs  []fact.ProgramFile `json:"programs,omitempty"`
	Marks     []byte             `json:"marks,omitempty"` // the key of this run's marks; not over a broker
}

// talkVersion changes when either side would misunderstand the other.
const talkVersion = 1

// env is how to look, as a run said it.
func (h hello) env(known *program.Registry) look.Env {
	return look.Env{
		Wait:      time.Duration(h.WaitMS * float64(time.Millisecond)),
		Settle:    time.Duration(h.SettleMS * float64(time.Millisecond)),
		Resolvers: h.Resolvers,
		HostsFile: h.HostsFile,
		Unit:      h.Unit,
		Account:   h.Account,
		Card:      h.Card,
		Programs:  known,
	}
}

// helloOf is how a run wants to be looked for.
func helloOf(env look.Env) hello {
	return hello{
		Version:   talkVersion,
		WaitMS:    float64(env.Wait.Milliseconds()),
		SettleMS:  float64(env.Settle.Milliseconds()),
		Resolvers: env.Resolvers,
		HostsFile: env.HostsFile,
		Unit:      env.Unit,
		Account:   env.Account,
		Card:      env.Card,
		Programs:  env.Registry().Own,
		Marks:     redact.Key(),
	}
}

// said is one line after hello.
type said struct {
	N     int         `json:"n"`
	Order *fact.Order `json:"order,omitempty"`
	Fact  *fact.Fact  `json:"fact,omitempty"`
	Ended bool        `json:"ended,omitempty"`
}

// mostSaid bounds one line, in bytes: a fact with a long chain of
// certificates is the longest.
const mostSaid = 8 << 20

// Serve looks from this host for the run at the other end, until its input
// ends; inside is that this host is a place whose own programs are not run.
func Serve(ctx context.Context, host string, inside bool, in io.Reader, out io.Writer) error {
	if ctx == nil {
		ctx = context.Background()
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	lines := bufio.NewScanner(in)
	lines.Buffer(nil, mostSaid)
	if !lines.Scan() {
		return fmt.Errorf(
			"look: nothing on standard input; this command is for the program itself: %w",
			io.ErrUnexpectedEOF,
		)
	}
	var h hello
	if err := json.Unmarshal(lines.Bytes(), &h); err != nil || h.Version != talkVersion {
		return fmt.Errorf(
			"look: the program at the other end speaks another version (%d, here %d)",
			h.Version,
			talkVersion,
		)
	}
	var mu sync.Mutex // guards out
	say := func(v any) error {
		text, err := json.Marshal(v)
		if err != nil {
			return err
		}
		mu.Lock()
		defer mu.Unlock()
		if _, err := out.Write(append(text, '\n')); err != nil {
			cancel() // nobody listens any more
		}
		return nil
	}
	known, err := program.With(h.Programs)
	if err != nil {
		return fmt.Errorf("look: %w", err)
	}
	say(hello{Version: talkVersion, Host: host, System: runtime.GOOS})
	redact.UseKey(func() []byte { return h.Marks })
	env := h.env(known)
	env.Inside = inside
	local := NewHere(fact.Vantage{}, env)
	var wg sync.WaitGroup
	for lines.Scan() {
		var s said
		if err := json.Unmarshal(lines.Bytes(), &s); err != nil || s.Order == nil {
			return fmt.Errorf("look: unreadable order %q", lines.Text()[:min(len(lines.Text()), 80)])
		}
		wg.Go(func() {
			local.Look(ctx, *s.Order, func(f fact.Fact) {
				if err := say(said{N: s.N, Fact: &f}); err != nil {
					f = look.Env{}.Failed(*s.Order, f.Source, "what was seen cannot be sent", err, "")
					say(said{N: s.N, Fact: &f})
				}
			})
			say(said{N: s.N, Ended: true})
		})
	}
	cancel() // the run is over: what is still looked at is for nobody
	wg.Wait()
	return lines.Err()
}
