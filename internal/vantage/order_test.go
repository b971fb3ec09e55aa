package vantage

import (
	"bytes"
	"crypto/ed25519"
	"encoding/json"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/nats-io/nats.go"
	"golang.org/x/crypto/ssh"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
)

func orderKey(t testing.TB, seed byte) ssh.Signer {
	t.Helper()
	key, err := ssh.NewSignerFromKey(ed25519.NewKeyFromSeed(bytes.Repeat([]byte{seed}, ed25519.SeedSize)))
	if err != nil {
		t.Fatal(err)
	}
	return key
}

// TestOrders takes an order that is well signed, for this host, in time and new; and
// none where any one of that is broken.
func TestOrders(t *testing.T) {
	now := time.Date(2026, 11, 27, 3, 0, 0, 0, time.UTC)
	desk, stranger := orderKey(t, 1), orderKey(t, 2)
	good := brokerOrder{
		Format: OrderFormat, To: "gauge-07", Number: "n1", Until: now.Add(orderLife), Run: "r1",
		Hello: hello{Version: talkVersion}, Order: &fact.Order{Look: fact.LookIdentity},
	}
	for _, c := range []struct {
		name   string
		by     ssh.Signer
		change func(*brokerOrder)
		spoil  func([]byte) []byte
		want   string
	}{
		{"well", desk, nil, nil, ""},
		{"of a stranger", stranger, nil, nil, "none of the keys"},
		{"for another host", desk, func(o *brokerOrder) { o.To = "gauge-08" }, nil, `it is for "gauge-08"`},
		{"over", desk, func(o *brokerOrder) { o.Until = now.Add(-time.Second) }, nil, "its time was over 1s ago"},
		{"for ever", desk, func(o *brokerOrder) { o.Until = now.Add(time.Hour) }, nil, "it lasts for 1h0m0s"},
		{"without a number", desk, func(o *brokerOrder) { o.Number = "" }, nil, "its number was used"},
		{"used", desk, func(o *brokerOrder) { o.Number = "old" }, nil, "its number was used"},
		{"of another version", desk, func(o *brokerOrder) { o.Hello.Version++ }, nil, "another version"},
		{"of another format", desk, func(o *brokerOrder) { o.Format = "x" }, nil, "not what this program understands"},
		{"changed on the way", desk, nil, func(m []byte) []byte {
			var s signed
			if err := json.Unmarshal(m, &s); err != nil {
				t.Fatal(err)
			}
			s.Order = bytes.Replace(s.Order, []byte("identity"), []byte("tables"), 1)
			m, err := json.Marshal(s)
			if err != nil {
				t.Fatal(err)
			}
			return m
		}, "none of the keys"},
		{"not signed", desk, nil, func([]byte) []byte { return []byte(`{"order":"e30="}`) }, "it is not signed"},
		{"nonsense", desk, nil, func([]byte) []byte { return []byte("nonsense") }, "it is no order"},
	} {
		o := good
		if c.change != nil {
			c.change(&o)
		}
		message, err := sign(o, c.by)
		if err != nil {
			t.Fatal(err)
		}
		if c.spoil != nil {
			message = c.spoil(message)
		}
		seen := used{"old": now.Add(time.Second)}
		got, _, err := opened(message, []ssh.PublicKey{desk.PublicKey()})
		if err == nil {
			err = seen.check(got, "gauge-07", now)
		}
		switch {
		case c.want == "" && err != nil, c.want != "" && (err == nil || !strings.Contains(err.Error(), c.want)):
			t.Errorf("%s: %v; expected %q", c.name, err, c.want)
		case c.want == "" && (got.Order == nil || got.Order.Look != fact.LookIdentity):
			t.Errorf("%s: %+v", c.name, got)
		}
		if c.want == "" && seen.check(got, "gauge-07", now) == nil {
			t.Errorf("%s: taken twice", c.name)
		}
	}
	// Numbers are forgotten once their orders could not be used any more.
	seen := used{"old": now}
	if err := seen.check(good, "gauge-07", now.Add(time.Second)); err != nil || len(seen) != 1 {
		t.Errorf("%v, %v", err, seen)
	}
}

// TestOrderSize refuses an order beyond its bound, before anything of it is read.
func TestOrderSize(t *testing.T) {
	s := &attending{Attendance: Attendance{Keys: []ssh.PublicKey{orderKey(t, 1).PublicKey()}}}
	for size, want := range map[int]string{mostOrder: "it is no order", mostOrder + 1: "expected at most"} {
		m := &nats.Msg{Data: bytes.Repeat([]byte("x"), size)}
		if _, _, err := s.permitted(t.Context(), m, time.Now()); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%d bytes: %v; expected %q", size, err, want)
		}
	}
}

// TestParts carries lines of any length, and sees what is lost.
func TestParts(t *testing.T) {
	for _, size := range []int{0, 1, mostPart, mostPart + 1, 3*mostPart + 7} {
		line := bytes.Repeat([]byte("x"), size)
		messages := parts(5, line)
		j := joined{next: 5}
		for i, m := range messages {
			got, ended, err := j.add(m)
			if err != nil || ended != (i == len(messages)-1) || ended && !bytes.Equal(got, line) {
				t.Errorf("%d bytes, part %d: %d bytes, %v, %v", size, i, len(got), ended, err)
			}
		}
		if _, _, err := (&joined{next: 4}).add(messages[0]); err == nil {
			t.Error("what was lost is not missed")
		}
	}
	if _, _, err := (&joined{}).add([]byte("x")); err == nil {
		t.Error("a message without a head is taken")
	}
}

// TestOrderKeys reads keys, and says what is wrong with others.
func TestOrderKeys(t *testing.T) {
	public := string(ssh.MarshalAuthorizedKey(orderKey(t, 1).PublicKey()))
	if keys, err := OrderKeys("orders.pub", []byte("# the desk\n\n"+public)); err != nil || len(keys) != 1 {
		t.Errorf("%v, %v", keys, err)
	}
	for text, want := range map[string]string{"": "orders.pub:1:1: no key",
		public + "nonsense\n": "orders.pub:2:1: expected a public key"} {
		if _, err := OrderKeys("orders.pub", []byte(text)); err == nil || !strings.HasPrefix(err.Error(), want) {
			t.Errorf("%q: %v", text, err)
		}
	}
	if _, err := OrderKey("orders.key", []byte("nonsense")); err == nil ||
		!strings.Contains(err.Error(), "ssh-keygen -t ed25519") {
		t.Errorf("%v", err)
	}
	for name, want := range map[string]bool{"gauge-07": true, "gauge-07.varzea.example": true, "": false, "*": false,
		">": false, "a b": false, "a..b": false, ".": false} {
		if _, err := subjectOf(name); (err == nil) != want {
			t.Errorf("%q: %v", name, err)
		}
	}
}

// TestAttendedLogin tries the one login that was pinned, on the host that the order
// names, once in a while, also when the host was started again.
func TestAttendedLogin(t *testing.T) {
	now := time.Date(2026, 11, 27, 3, 0, 0, 0, time.UTC)
	e, err := endpoint.Parse("postgres://127.0.0.1:5432/tides")
	if err != nil {
		t.Fatal(err)
	}
	target := fact.Target{
		Name: e.Host, Port: e.Port, Scheme: e.Scheme, Security: e.Security, Account: "ana",
		Addr: netip.MustParseAddr("127.0.0.1"),
	}
	order := func(change func(*brokerOrder)) brokerOrder {
		o := brokerOrder{Host: "gauge-07", Order: &fact.Order{Look: fact.LookLogin, Target: target}}
		if change != nil {
			change(&o)
		}
		return o
	}
	if err := (&attending{kept: &ledger{}}).mayLogin(order(nil), now); err == nil ||
		!strings.Contains(err.Error(), "--allow-login") {
		t.Errorf("not allowed: %v", err)
	}
	dir := t.TempDir()
	start := func(at time.Time) *attending {
		t.Helper()
		s := &attending{Attendance: Attendance{
			Host: "gauge-07", Login: &PinnedLogin{Endpoint: e, Account: "ana"}, State: dir, Name: "gauges",
		}}
		var err error
		if s.kept, s.used, s.tried, err = openLedger(dir, "gauges", at); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { s.kept.close() })
		return s
	}
	s := start(now)
	for name, change := range map[string]func(*brokerOrder){
		"another account": func(o *brokerOrder) { o.Order.Target.Account = "gauge" },
		"another server":  func(o *brokerOrder) { o.Order.Target.Name = "127.0.0.9" },
		"another port":    func(o *brokerOrder) { o.Order.Target.Port = 5433 },
		"in the clear":    func(o *brokerOrder) { o.Order.Target.Security = fact.TLS },
		"another host":    func(o *brokerOrder) { o.Host = "gauge-08" },
		"any host":        func(o *brokerOrder) { o.Host = "" },
	} {
		if err := s.mayLogin(order(change), now); err == nil {
			t.Errorf("%s: it is tried", name)
		}
	}
	for _, c := range []struct {
		after time.Duration
		want  bool
	}{{0, true}, {loginEach - time.Second, false}, {loginEach, true}, {loginEach + time.Second, false}} {
		if err := s.mayLogin(order(nil), now.Add(c.after)); (err == nil) != c.want {
			t.Errorf("after %s: %v", c.after, err)
		}
	}
	if _, _, _, err := openLedger(dir, "gauges", now); err == nil ||
		!strings.Contains(err.Error(), "another process") {
		t.Errorf("two processes of one host attend for one name: %v", err)
	}
	if err := s.kept.close(); err != nil {
		t.Fatal(err)
	}
	again := start(now.Add(loginEach + 2*time.Second))
	if err := again.mayLogin(order(nil), now.Add(loginEach+2*time.Second)); err == nil {
		t.Error("a restart forgets the last try")
	}
	if !s.Login.gave(t.Context(), target.Addr) || s.Login.gave(t.Context(), netip.MustParseAddr("10.20.9.9")) {
		t.Error("an address that is not the endpoint's is taken for it")
	}
}

// TestLedger remembers the numbers of orders when a host is started again.
func TestLedger(t *testing.T) {
	dir, now := t.TempDir(), time.Date(2026, 11, 27, 3, 0, 0, 0, time.UTC)
	kept, _, _, err := openLedger(dir, "gauge-07", now)
	if err != nil {
		t.Fatal(err)
	}
	for number, until := range map[string]time.Time{"a": now.Add(time.Minute), "b": now.Add(-time.Second)} {
		if err := kept.add(entry{Number: number, Until: until}, false); err != nil {
			t.Fatal(err)
		}
	}
	if err := kept.close(); err != nil {
		t.Fatal(err)
	}
	kept, numbers, _, err := openLedger(dir, "gauge-07", now)
	if err != nil {
		t.Fatal(err)
	}
	defer kept.close()
	if _, there := numbers["a"]; !there || len(numbers) != 1 {
		t.Errorf("%v", numbers)
	}
}

// TestAnswersSigned takes answers of this order, in their place, by a pinned key alone.
func TestAnswersSigned(t *testing.T) {
	host, other := orderKey(t, 3), orderKey(t, 4)
	pinned := []ssh.PublicKey{host.PublicKey()}
	line := []byte(`{"ended":true}`)
	say := func(key ssh.Signer, number string, at uint32) []byte {
		m, err := sealed(key, number, at, line)
		if err != nil {
			t.Fatal(err)
		}
		return m
	}
	for name, c := range map[string]struct {
		keys    []ssh.PublicKey
		message []byte
		want    bool
	}{
		"signed": {pinned, say(host, "n", 2), true}, "unsigned": {pinned, line, false},
		"by another": {pinned, say(other, "n", 2), false}, "of another order": {pinned, say(host, "m", 2), false},
		"in another place": {pinned, say(host, "n", 1), false}, "nobody is pinned": {nil, say(other, "n", 2), true},
		"nobody signs": {nil, line, true},
	} {
		got, err := unsealed(c.keys, "n", 2, c.message)
		if (err == nil) != c.want || c.want && !bytes.Equal(got, line) {
			t.Errorf("%s: %s, %v", name, got, err)
		}
	}
}
