package trace

import (
	"context"
	"net/netip"
	"slices"
	"testing"
	"time"

	"uakari/internal/fact"
	"uakari/internal/trail"
	"uakari/internal/weigh"
)

// gatewayed is a host whose gateway answers 502 on port 80, with a backend on
// the same host that is given by port. What is looked at is kept.
func gatewayed(id string, role fact.Role, backend uint16, implied bool) *stage {
	at := netip.MustParseAddr("10.20.0.14")
	s := &stage{info: fact.Vantage{ID: id, Role: role, Host: "heron", Means: fact.Here, Implied: implied}}
	s.script = func(_ context.Context, order fact.Order, emit func(fact.Fact)) {
		t := order.Target
		switch order.Look {
		case fact.LookAddresses:
			emit(
				fact.Fact{
					Addresses: &fact.Addresses{
						Host: "heron",
						Held: []fact.Address{{Prefix: netip.PrefixFrom(at, 24), Link: "eth0", Up: true}},
					},
				},
			)
		case fact.LookListeners:
			emit(
				fact.Fact{
					Listeners: &fact.Listeners{All: []fact.Listener{{Addr: at, Port: 80, Program: "nginx", PID: 7,
						Limit: 511}}},
				},
			)
		case fact.LookUpstreams:
			emit(
				fact.Fact{
					Upstreams: &fact.Upstreams{
						List: []fact.Upstream{{Scheme: "http", Host: at.String(), Port: backend,
							Path: "/etc/nginx/nginx.conf", Line: 3}},
					},
				},
			)
		case fact.LookSession:
			if t.Port != 80 {
				emit(fact.Fact{Connect: &fact.Connect{Outcome: fact.Reset}})
				return
			}
			emit(fact.Fact{Connect: &fact.Connect{Outcome: fact.Connected}})
			emit(
				fact.Fact{Reply: &fact.Reply{Ending: fact.Done, Protocol: "http", Status: 502, Program: "nginx",
					Date: time.Now()}},
			)
		}
	}
	return s
}

// TestFollow traces the backend behind a gateway from the gateway, without the
// card that speaks of the gateway.
func TestFollow(t *testing.T) {
	ask := askFor(t, "http://10.20.0.14/")
	ask.Card = &fact.Card{Name: "heron", Program: "/usr/sbin/nginx"}
	client, server := gatewayed("v1", fact.Client, 8080, false), gatewayed("v2", fact.Server, 8080, true)
	at := []Vantage{client, server}
	set, judged := Run(context.Background(), ask, at, nil)
	if blocking := judged.Blocking(); len(blocking) != 1 || blocking[0].ID != "answer/hop-fails" {
		t.Fatalf("%+v", judged.Causes)
	}
	set = Follow(context.Background(), set, at, nil)
	if len(set.Behind) != 1 || set.Behind[0].From != "v2" || set.Behind[0].Set.Ask.Card != nil {
		t.Fatalf("%+v", set.Behind)
	}
	judged, _ = weigh.Weigh(set)
	behind := judged.Behind[0].Trail
	if behind.Endpoint.Port != 8080 || behind.Outcome != trail.OutcomeFault ||
		behind.Causes[0].ID != "ports/none-listening" {
		t.Errorf("%+v", behind.Causes)
	}
	if !slices.ContainsFunc(server.taken, func(o fact.Order) bool { return o.Target.Apart }) {
		t.Error("the card of the gateway is used for its backend")
	}
	for _, f := range set.Behind[0].Set.Facts {
		if f.Order.Target.Apart {
			t.Errorf("%s is kept as apart", f.Source)
		}
	}
}

// TestFollowLoop is a gateway that passes on to itself.
func TestFollowLoop(t *testing.T) {
	at := []Vantage{gatewayed("v1", fact.Client, 80, false), gatewayed("v2", fact.Server, 80, true)}
	set, _ := Run(context.Background(), askFor(t, "http://10.20.0.14/"), at, nil)
	done := make(chan fact.Set, 1)
	go func() { done <- Follow(context.Background(), set, at, nil) }()
	select {
	case set = <-done:
	case <-time.After(20 * time.Second):
		t.Fatal("it goes round and round")
	}
	deep := 0
	for inner := set; len(inner.Behind) > 0; inner = inner.Behind[0].Set {
		deep++
	}
	if deep > mostDeep {
		t.Errorf("%d hops deep", deep)
	}
}

// TestFollowPair traces the way back of a pair.
func TestFollowPair(t *testing.T) {
	ask := askFor(t, "http://10.20.0.14/")
	ask.Card = &fact.Card{Name: "heron", Pairs: []fact.Pair{{Endpoint: "http://10.20.0.14:8090/"}}}
	at := []Vantage{gatewayed("v1", fact.Client, 8080, false), gatewayed("v2", fact.Server, 8080, true)}
	set, _ := Run(context.Background(), ask, at, nil)
	set = Follow(context.Background(), set, at, nil)
	if len(set.Behind) != 2 || !set.Behind[0].Pair || set.Behind[1].Pair ||
		set.Behind[0].Set.Ask.Endpoint.Port != 8090 {
		t.Fatalf("%d behind: %+v", len(set.Behind), set.Behind)
	}
}
