package names

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"

	"uakari/internal/fact"
	"uakari/internal/look"
)

// resolver runs a stand-in that answers each datagram with what a function
// makes of it; nil is silence.
func resolver(t *testing.T, answer func(question *dns.Msg) []byte) netip.AddrPort {
	t.Helper()
	c, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Close() })
	go answering(c, answer)
	return netip.MustParseAddrPort(c.LocalAddr().String())
}

// answering answers each datagram until the connection is closed.
func answering(c net.PacketConn, answer func(question *dns.Msg) []byte) {
	buffer := make([]byte, 4096)
	for {
		n, from, err := c.ReadFrom(buffer)
		if err != nil {
			return
		}
		question := new(dns.Msg)
		if question.Unpack(buffer[:n]) != nil {
			continue
		}
		if reply := answer(question); reply != nil {
			c.WriteTo(reply, from)
		}
	}
}

func reply(edit func(*dns.Msg)) func(*dns.Msg) []byte {
	return func(question *dns.Msg) []byte {
		m := new(dns.Msg)
		m.SetReply(question)
		edit(m)
		b, err := m.Pack()
		if err != nil {
			panic(err)
		}
		return b
	}
}

func record(text string) dns.RR {
	rr, err := dns.NewRR(text)
	if err != nil {
		panic(err)
	}
	return rr
}

func lookUp(t *testing.T, name string, wait time.Duration, at ...netip.AddrPort) []fact.Fact {
	t.Helper()
	facts := make(chan fact.Fact, 100)
	hosts := filepath.Join(t.TempDir(), "hosts")
	order := fact.Order{Look: fact.LookNames, Target: fact.Target{Name: name}}
	Look(
		context.Background(),
		look.Env{Resolvers: at, HostsFile: hosts, Wait: wait},
		order,
		func(f fact.Fact) { facts <- f },
	)
	close(facts)
	var list []fact.Fact
	for f := range facts {
		list = append(list, f)
	}
	return list
}

func answerOf(t *testing.T, kind string, facts []fact.Fact) fact.Answer {
	t.Helper()
	for _, f := range facts {
		if f.Answer != nil && f.Answer.Type == kind {
			return *f.Answer
		}
	}
	t.Fatal("no answer")
	return fact.Answer{}
}

func TestAnswers(t *testing.T) {
	code := func(rcode int) func(*dns.Msg) []byte { return reply(func(m *dns.Msg) { m.Rcode = rcode }) }
	for _, c := range []struct {
		what   string
		answer func(*dns.Msg) []byte
		want   fact.AnswerOutcome
	}{
		{"an address", reply(func(m *dns.Msg) {
			m.Answer = []dns.RR{record("tidebook.varzea.example. 300 IN A " +
				"10.20.0.14")}
		}), fact.Addressed},
		{"none", reply(func(*dns.Msg) {}), fact.NoData},
		{"no such name", code(dns.RcodeNameError), fact.NoSuchName},
		{"failure", code(dns.RcodeServerFailure), fact.ServerFailure},
		{"refused", code(dns.RcodeRefused), fact.QueryRefused},
		{"silence", func(*dns.Msg) []byte { return nil }, fact.NoReply},
		{"garbage", func(*dns.Msg) []byte { return []byte("rubbish") }, fact.BadReply},
		{"an answer to another question", reply(func(m *dns.Msg) {
			m.Question[0].Name = "ledger.varzea.example."
			m.Answer = []dns.RR{record("ledger.varzea.example. 300 IN A 10.20.0.66")}
		}), fact.BadReply},
		{"an address of another name", reply(func(m *dns.Msg) {
			m.Answer = []dns.RR{record("ledger.varzea.example. " +
				"300 IN A 10.20.0.66")}
		}), fact.NoData},
		{"an alias that leads round", reply(func(m *dns.Msg) {
			m.Answer = []dns.RR{record("tidebook.varzea.example. 300 IN CNAME ledger.varzea.example."),
				record("ledger.varzea.example. 300 IN CNAME tidebook.varzea.example.")}
		}), fact.NoData},
		{"another id", reply(func(m *dns.Msg) { m.Id++ }), fact.NoReply},
		{"a loop of names", func(q *dns.Msg) []byte {
			b, _ := q.Pack()
			b[2] |= 0x80
			b[7] = 1
			return append(b[:len(b)-11], 0xc0, byte(len(b)-11), 0, 1, 0, 1, 0, 0, 0, 1, 0, 4, 1, 2, 3, 4)
		}, fact.BadReply},
	} {
		t.Run(c.what, func(t *testing.T) {
			t.Parallel()
			at := resolver(t, c.answer)
			if got := answerOf(t, "A", lookUp(t, "tidebook.varzea.example", 600*time.Millisecond,
				at)); got.Outcome != c.want {
				t.Errorf("got %s, want %s", got.Outcome, c.want)
			}
		})
	}
}

func TestAliasAndTTL(t *testing.T) {
	at := resolver(t, reply(func(m *dns.Msg) {
		m.Answer = []dns.RR{
			record("readings.varzea.example. 3600 IN CNAME tidebook.varzea.example."),
			record("tidebook.varzea.example. 60 IN A 10.20.0.14"),
		}
	}))
	got := answerOf(t, "A", lookUp(t, "readings.varzea.example", time.Second, at))
	if got.TTL != 60 || len(got.Aliases) != 1 || got.Aliases[0] != "tidebook.varzea.example" ||
		got.Addrs[0] != netip.MustParseAddr("10.20.0.14") {
		t.Errorf("got %+v", got)
	}
}

// TestTruncated sees that an answer that does not fit is asked for over TCP,
// and that what comes there is bounded in size and in time.
func TestTruncated(t *testing.T) {
	whole := func(records int) []byte {
		return reply(func(m *dns.Msg) {
			for i := range records {
				m.Answer = append(m.Answer, record(fmt.Sprintf("tidebook.varzea.example. 60 IN A 10.20.%d.%d", i>>8,
					i&255)))
			}
			m.Compress = true
		})(new(dns.Msg).SetQuestion("tidebook.varzea.example.", dns.TypeA))
	}
	for name, c := range map[string]struct {
		answer []byte
		drip   time.Duration // between bytes
		want   fact.AnswerOutcome
	}{
		"the whole":                {whole(3), 0, fact.Addressed},
		"as large as can be":       {whole(4000), 0, fact.Addressed},
		"a byte at a time":         {whole(3), 100 * time.Millisecond, fact.CutOff},
		"nothing":                  {nil, 0, fact.CutOff},
		"a length that lies":       {whole(3)[:20], 0, fact.CutOff},
		"something else, and long": {[]byte(strings.Repeat("tide", 16000)), 0, fact.CutOff},
	} {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { l.Close() })
		at := netip.MustParseAddrPort(l.Addr().String())
		packets, err := net.ListenPacket("udp", at.String())
		if err != nil {
			t.Skipf("the same UDP port is taken: %v", err)
		}
		t.Cleanup(func() { packets.Close() })
		go answering(packets, reply(func(m *dns.Msg) { m.Truncated = true }))
		go func() {
			for {
				conn, err := l.Accept()
				if err != nil {
					return
				}
				go func() {
					defer conn.Close()
					question := make([]byte, 512)
					if n, err := conn.Read(question); err != nil || n < 4 || len(c.answer) == 0 {
						return
					}
					out := append([]byte{byte(len(c.answer) >> 8), byte(len(c.answer))}, c.answer...)
					if name == "a length that lies" {
						out[0] = 0xff
					}
					copy(out[2:4], question[2:4])
					for len(out) > 0 {
						n := len(out)
						if c.drip > 0 {
							n = 1
							time.Sleep(c.drip)
						}
						if _, err := conn.Write(out[:n]); err != nil {
							return
						}
						out = out[n:]
					}
				}()
			}
		}()
		began := time.Now()
		got := answerOf(t, "A", lookUp(t, "tidebook.varzea.example", 700*time.Millisecond, at))
		if got.Outcome != c.want || len(got.Addrs) > 1000 {
			t.Errorf("%s: got %s, %d addresses, want %s", name, got.Outcome, len(got.Addrs), c.want)
		}
		if took := time.Since(began); took > 3*time.Second {
			t.Errorf("%s: took %s", name, took)
		}
	}
}

// TestTruncatedByServer sees that a real server's answer over TCP is taken.
func TestTruncatedByServer(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	at := netip.MustParseAddrPort(l.Addr().String())
	packets, err := net.ListenPacket("udp", at.String())
	if err != nil {
		t.Skipf("the same UDP port is taken: %v", err)
	}
	full := dns.HandlerFunc(func(w dns.ResponseWriter, q *dns.Msg) {
		m := new(dns.Msg)
		m.SetReply(q)
		if w.RemoteAddr().Network() == "udp" {
			m.Truncated = true
		} else {
			m.Answer = []dns.RR{record(q.Question[0].Name + " 60 IN A 10.20.0.14")}
		}
		w.WriteMsg(m)
	})
	tcp, udp := &dns.Server{Listener: l, Handler: full}, &dns.Server{PacketConn: packets, Handler: full}
	go tcp.ActivateAndServe()
	go udp.ActivateAndServe()
	t.Cleanup(func() { l.Close(); packets.Close() })
	if got := answerOf(t, "A", lookUp(t, "tidebook.varzea.example", 2*time.Second,
		at)); got.Outcome != fact.Addressed {
		t.Errorf("got %s", got.Outcome)
	}
}

// TestSilentResolverCostsOneWait sees that waits are not added up.
func TestSilentResolverCostsOneWait(t *testing.T) {
	dead := resolver(t, func(*dns.Msg) []byte { return nil })
	live := resolver(
		t,
		reply(func(m *dns.Msg) { m.Answer = []dns.RR{record(m.Question[0].Name + " 300 IN A 10.20.0.14")} }),
	)
	began := time.Now()
	lookUp(t, "tidebook.varzea.example", 500*time.Millisecond, dead, live)
	if took := time.Since(began); took > time.Second {
		t.Errorf("took %s with a wait of 500 ms", took)
	}
}

func TestReadHosts(t *testing.T) {
	path := filepath.Join(t.TempDir(), "hosts")
	text := "127.0.0.1 localhost\n# 10.20.0.1 tidebook\n\n10.20.0.66\tTidebook.varzea.example tidebook # " +
		"old\nfd20::66 tidebook.varzea.example\nrubbish tidebook\n"
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	got, err := ReadHosts(path, "tidebook.varzea.example.")
	if err != nil || got.Line != 4 || len(got.Addrs) != 2 {
		t.Errorf("got %+v, %v", got, err)
	}
	if got, err := ReadHosts(path, "ledger"); err != nil || len(got.Addrs) != 0 {
		t.Errorf("a name that is not there: %+v, %v", got, err)
	}
	if got, err := ReadHosts(path+"-missing", "ledger"); err != nil || len(got.Addrs) != 0 {
		t.Errorf("a missing file: %+v, %v", got, err)
	}
	if _, err := ReadHosts(t.TempDir(), "ledger"); err == nil {
		t.Error("a folder passes for a file that names nobody")
	}
}

func TestReadSetup(t *testing.T) {
	own := []netip.AddrPort{netip.MustParseAddrPort("127.0.0.1:53")}
	plain := fact.ResolverSetup{Servers: own, Ndots: 1, TimeoutMS: 5000, Attempts: 2}
	for text, edit := range map[string]func(*fact.ResolverSetup){
		"":                      func(*fact.ResolverSetup) {},
		"# nothing\n; at all\n": func(*fact.ResolverSetup) {},
		"nameserver 10.20.0.2\nnameserver fd20::2\nnameserver rubbish\n": func(s *fact.ResolverSetup) {
			s.Servers = []netip.AddrPort{netip.MustParseAddrPort("10.20.0.2:53"),
				netip.MustParseAddrPort("[fd20::2]:53")}
		},
		"domain river.example\nsearch varzea.example " +
			"example\n": func(s *fact.ResolverSetup) { s.Search = []string{"varzea.example", "example"} },
		"options ndots:3 timeout:1 attempts:9 rotate ndots:x edns0\n": func(s *fact.ResolverSetup) {
			s.Ndots,
				s.TimeoutMS, s.Attempts = 3, 1000, 5
		},
	} {
		path := filepath.Join(t.TempDir(), "resolv.conf")
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		want := plain
		want.Path = path
		edit(&want)
		if got, err := ReadSetup(path); err != nil || !reflect.DeepEqual(got, want) {
			t.Errorf("%q:\n got %+v, %v\nwant %+v", text, got, err, want)
		}
	}
}

func TestCandidates(t *testing.T) {
	s := fact.ResolverSetup{Search: []string{"varzea.example", "river.example."}, Ndots: 1}
	for name, want := range map[string]string{
		"tidebook": "tidebook.varzea.example. tidebook.river.example. tidebook.",
		"tidebook.varzea.example": "tidebook.varzea.example. tidebook.varzea.example.varzea.example. " +
			"tidebook.varzea.example.river.example.",
		"tidebook.": "tidebook.",
	} {
		if got := strings.Join(s.Candidates(name), " "); got != want {
			t.Errorf("%s: got %s, want %s", name, got, want)
		}
	}
}
