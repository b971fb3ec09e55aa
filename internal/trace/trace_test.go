package trace

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"sync"
	"testing"
	"time"

	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/trail"
	"uakari/internal/weigh"
)

// stage is a vantage that answers each look from a script.
type stage struct {
	info   fact.Vantage
	script func(ctx context.Context, order fact.Order, emit func(fact.Fact))

	mu    sync.Mutex // guards taken
	taken []fact.Order
}

func (s *stage) Info() fact.Vantage { return s.info }

func (s *stage) Look(ctx context.Context, order fact.Order, emit func(fact.Fact)) {
	s.mu.Lock()
	s.taken = append(s.taken, order)
	s.mu.Unlock()
	s.script(ctx, order, func(f fact.Fact) {
		f.Vantage, f.Order = s.info.ID, order
		emit(f)
	})
}

func (s *stage) count(kind fact.Kind) int {
	s.mu.Lock()
	defer s.mu.Unlock()
	n := 0
	for _, o := range s.taken {
		if o.Look == kind {
			n++
		}
	}
	return n
}

func askFor(t *testing.T, input string) fact.Ask {
	t.Helper()
	e, err := endpoint.Parse(input)
	if err != nil {
		t.Fatal(err)
	}
	return fact.Ask{Endpoint: e, Began: time.Now()}
}

var server = netip.MustParseAddr("10.20.0.14")

// healthy answers as a client in front of a healthy server would.
func healthy(_ context.Context, order fact.Order, emit func(fact.Fact)) {
	switch order.Look {
	case fact.LookNames:
		at := netip.MustParseAddrPort("10.20.0.2:53")
		emit(fact.Fact{Setup: &fact.ResolverSetup{Servers: []netip.AddrPort{at}, Ndots: 1}})
		emit(
			fact.Fact{
				Answer: &fact.Answer{
					Resolver: at,
					Asked:    order.Target.Name + ".",
					Type:     "A",
					Outcome:  fact.Addressed,
					Addrs:    []netip.Addr{server},
				},
			},
		)
		emit(
			fact.Fact{Answer: &fact.Answer{Resolver: at, Asked: order.Target.Name + ".", Type: "AAAA",
				Outcome: fact.NoData}},
		)
	case fact.LookSession:
		emit(fact.Fact{Connect: &fact.Connect{Outcome: fact.Connected}})
		emit(fact.Fact{Reply: &fact.Reply{Ending: fact.Done, Protocol: "http", Status: 200}})
	}
}

func TestRunTakesEachLookOnce(t *testing.T) {
	client := &stage{info: fact.Vantage{ID: "v1", Role: fact.Client}, script: healthy}
	set, judged := Run(context.Background(), askFor(t, "http://tidebook.varzea.example/"), []Vantage{client}, nil)
	if judged.Outcome != trail.OutcomeClear || judged.Incomplete != "" {
		t.Errorf("outcome %s, incomplete %q", judged.Outcome, judged.Incomplete)
	}
	if client.count(fact.LookNames) != 1 || client.count(fact.LookSession) != 1 {
		t.Errorf("looks taken: %v", client.taken)
	}
	if again, _ := weigh.Weigh(set); again.ID != judged.ID || again.Outcome != judged.Outcome {
		t.Error("the set that was returned gives another trail")
	}
	for i, f := range set.Facts {
		if f.ID != fmt.Sprintf("e%d", i+1) {
			t.Errorf("fact %d is called %s", i, f.ID)
		}
	}
}

// TestCutOff sees that a run ends in time, and that a look that was cut off
// does not pass for a silence.
func TestCutOff(t *testing.T) {
	stuck := func(ctx context.Context, order fact.Order, emit func(fact.Fact)) {
		if order.Look != fact.LookSession {
			healthy(ctx, order, emit)
			return
		}
		<-ctx.Done()
		emit(fact.Fact{Connect: &fact.Connect{Outcome: fact.Silent}})
	}
	for _, c := range []struct {
		want  string
		limit func() (context.Context, context.CancelFunc)
	}{
		{"deadline", func() (context.Context, context.CancelFunc) {
			return context.WithTimeout(context.Background(), 200*time.Millisecond)
		}},
		{"interrupted", func() (context.Context, context.CancelFunc) {
			ctx, cancel := context.WithCancel(context.Background())
			time.AfterFunc(200*time.Millisecond, cancel)
			return ctx, cancel
		}},
	} {
		ctx, cancel := c.limit()
		client := &stage{info: fact.Vantage{ID: "v1", Role: fact.Client, Host: "keel"}, script: stuck}
		began := time.Now()
		_, judged := Run(ctx, askFor(t, "http://tidebook.varzea.example/"), []Vantage{client}, nil)
		cancel()
		if !slices.Contains(judged.CutOff, `keel: the look "session" had not ended`) {
			t.Errorf("%s: cut off %q", c.want, judged.CutOff)
		}
		if judged.Incomplete != c.want || judged.Reached != trail.Unknown || len(judged.Causes) > 0 {
			t.Errorf("%s: incomplete %q, reached %s, causes %v", c.want, judged.Incomplete, judged.Reached,
				judged.Causes)
		}
		if took := time.Since(began); took > time.Second {
			t.Errorf("%s: took %s", c.want, took)
		}
	}
}

// TestBudgets is how often weighing gets what it wants, and to whom an account
// is shown.
func TestBudgets(t *testing.T) {
	client := &stage{
		info:   fact.Vantage{ID: "v1", Role: fact.Client},
		script: func(context.Context, fact.Order, func(fact.Fact)) {},
	}
	p := newPool([]Vantage{client}, nil)
	defer p.close()
	ctx := context.Background()
	ask := askFor(t, "https://10.20.0.14/")
	set := fact.New(ask, []fact.Vantage{client.info})
	right := fact.Target{Account: "ana", Name: "10.20.0.14", Addr: server, Port: 443, Scheme: "https",
		Security: fact.TLS}
	wrong := []func(*fact.Target){
		func(t *fact.Target) { t.Addr = netip.MustParseAddr("10.20.0.15") }, func(t *fact.Target) { t.Port = 8443 },
		func(t *fact.Target) { t.Name = "heron.varzea.example" },
		func(t *fact.Target) { t.Scheme, t.Security = "http", fact.Plain },
		func(t *fact.Target) { t.Security = fact.Plain },
	}
	var wants []scene.Want
	for _, change := range wrong {
		target := right
		change(&target)
		wants = append(wants, scene.Want{Look: fact.LookLogin, At: fact.Client, Target: target, Gate: gate.Account})
	}
	if n := p.start(ctx, set, wants); n != 0 {
		t.Errorf("an account is shown to %d places that nobody typed", n)
	}
	for i := range 20 {
		target := right
		target.Path = fmt.Sprint(i)
		wants = append(wants, scene.Want{Look: fact.LookLogin, At: fact.Client, Target: target, Gate: gate.Account})
	}
	if n := p.start(ctx, set, wants); n != 1 {
		t.Errorf("started %d logins, want one", n)
	}
	if n := p.start(ctx, set, wants); n != 0 {
		t.Errorf("started %d again", n)
	}
	for !p.idle() {
		p.next(ctx)
	}
	if client.count(fact.LookLogin) != 1 {
		t.Errorf("%d logins for one account", client.count(fact.LookLogin))
	}
	// A look that differs only in the gate it would read is one look.
	same := []scene.Want{
		{Look: fact.LookEcho, At: fact.Client, Gate: gate.Host},
		{Look: fact.LookEcho, At: fact.Client, Gate: gate.Way},
	}
	if n := p.start(ctx, set, same); n != 1 {
		t.Errorf("started %d echoes, want 1", n)
	}
	// Nobody plays the gateway: what is wanted there is not had.
	if n := p.start(ctx, set, []scene.Want{{Look: fact.LookListeners, At: fact.Gateway}}); n != 0 {
		t.Errorf("started %d looks at a vantage that is not there", n)
	}
}

// TestEndless sees that a judge who always wants more is stopped.
func TestEndless(t *testing.T) {
	client := &stage{
		info:   fact.Vantage{ID: "v1", Role: fact.Client},
		script: func(context.Context, fact.Order, func(fact.Fact)) {},
	}
	p := newPool([]Vantage{client}, nil)
	defer p.close()
	total := 0
	for i := range 2 * mostLooks {
		total += p.start(
			context.Background(),
			fact.Set{},
			[]scene.Want{{Look: fact.LookNames, At: fact.Client, Target: fact.Target{Name: fmt.Sprint(i)}}},
		)
		for !p.idle() {
			p.next(context.Background())
		}
	}
	if total != mostLooks {
		t.Errorf("%d looks, want %d at most", total, mostLooks)
	}
}
