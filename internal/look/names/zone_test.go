package names

import (
	"context"
	"net"
	"net/netip"
	"testing"
	"time"

	"github.com/miekg/dns"

	"uakari/internal/fact"
	"uakari/internal/look"
)

// world is stand-ins that share one port on several loopback addresses: a
// resolver and authoritative servers.
func world(t *testing.T, port string, servers map[string]func(*dns.Msg) []byte) {
	t.Helper()
	for addr, answer := range servers {
		c, err := net.ListenPacket("udp", net.JoinHostPort(addr, port))
		if err != nil {
			t.Skip(err)
		}
		t.Cleanup(func() { c.Close() })
		go answering(c, answer)
	}
}

// TestZone asks two authoritative servers, of which one is behind, one that
// answers without authority, and one that says nothing.
func TestZone(t *testing.T) {
	authority := func(serial, addr string, lame bool) func(*dns.Msg) []byte {
		return reply(func(m *dns.Msg) {
			m.Authoritative = !lame
			switch m.Question[0].Qtype {
			case dns.TypeSOA:
				m.Answer = append(
					m.Answer,
					record("varzea.example. 60 IN SOA ns1.varzea.example. post.varzea.example. "+serial+" 1 1 1 1"),
				)
			case dns.TypeA:
				m.Answer = append(m.Answer, record("tidebook.varzea.example. 60 IN A "+addr))
			}
		})
	}
	const port = "35353"
	world(t, port, map[string]func(*dns.Msg) []byte{
		"127.20.5.2": reply(func(m *dns.Msg) {
			q := m.Question[0]
			switch {
			case q.Qtype == dns.TypeNS && q.Name == "varzea.example.":
				for _, ns := range []string{"ns1", "ns2", "ns3", "ns4", "ns5"} {
					m.Answer = append(m.Answer, record("varzea.example. 60 IN NS "+ns+".varzea.example."))
				}
			case q.Qtype == dns.TypeA && q.Name != "ns5.varzea.example." && q.Name[:2] == "ns":
				m.Answer = append(m.Answer, record(q.Name+" 60 IN A 127.20.5.1"+q.Name[2:3]))
			}
		}),
		"127.20.5.11": authority("7", "10.20.0.14", false), "127.20.5.12": authority("6", "10.20.0.99", false),
		"127.20.5.13": authority("7", "10.20.0.14", true), "127.20.5.14": func(*dns.Msg) []byte { return nil },
	})
	var got *fact.Zone
	env := look.Env{
		Resolvers: []netip.AddrPort{netip.MustParseAddrPort("127.20.5.2:" + port)},
		Wait:      300 * time.Millisecond,
	}
	began := time.Now()
	Zone(
		context.Background(),
		env,
		fact.Order{Look: fact.LookZone, Target: fact.Target{Name: "tidebook.varzea.example"}},
		func(f fact.Fact) {
			if f.Zone != nil {
				got = f.Zone
			} else {
				t.Errorf("%s: %s", f.Source, f.Saw)
			}
		},
	)
	if took := time.Since(began); took > 3*time.Second {
		t.Errorf("took %s", took)
	}
	if got == nil || got.Name != "varzea.example." || len(got.Servers) != 5 {
		t.Fatalf("%+v", got)
	}
	for i, want := range []struct {
		serial  uint32
		addr    string
		lame    bool
		outcome fact.AnswerOutcome
	}{{7, "10.20.0.14", false, fact.Addressed}, {6, "10.20.0.99", false, fact.Addressed},
		{7, "10.20.0.14", true, fact.Addressed}, {0, "", false, fact.NoReply}, {0, "", false, fact.NoData}} {
		s := got.Servers[i]
		addr := ""
		if len(s.Addrs) > 0 {
			addr = s.Addrs[0].String()
		}
		if s.Serial != want.serial || addr != want.addr || s.Lame != want.lame || s.Outcome != want.outcome {
			t.Errorf("%s: %+v, want %+v", s.Name, s, want)
		}
	}
}

// TestPeculiarAnswers tells bad signatures, aliases that end nowhere, and
// answers that are cut off from other failures.
func TestPeculiarAnswers(t *testing.T) {
	bogus := resolver(t, func(q *dns.Msg) []byte {
		return reply(func(m *dns.Msg) {
			if !q.CheckingDisabled {
				m.Rcode = dns.RcodeServerFailure
			} else if q.Question[0].Qtype == dns.TypeA {
				m.Answer = append(m.Answer, record("tidebook.varzea.example. 60 IN A 10.20.0.14"))
			}
		})(q)
	})
	dangling := resolver(t, reply(func(m *dns.Msg) {
		m.Rcode = dns.RcodeNameError
		m.Answer = append(m.Answer, record("tidebook.varzea.example. 60 IN CNAME old.varzea.example."))
	}))
	cut := resolver(t, reply(func(m *dns.Msg) { m.Truncated = true }))
	for _, c := range []struct {
		at        netip.AddrPort
		outcome   fact.AnswerOutcome
		unchecked int
		aliases   int
	}{{bogus, fact.ServerFailure, 1, 0}, {dangling, fact.NoSuchName, 0, 1}, {cut, fact.CutOff, 0, 0}} {
		for _, f := range lookUp(t, "tidebook.varzea.example", time.Second, c.at) {
			if f.Answer == nil || f.Answer.Type != "A" {
				continue
			}
			if a := f.Answer; a.Outcome != c.outcome || len(a.Unchecked) != c.unchecked ||
				len(a.Aliases) != c.aliases {
				t.Errorf("%+v, want %+v", a, c)
			}
		}
	}
}
