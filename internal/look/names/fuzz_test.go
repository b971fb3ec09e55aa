package names

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/miekg/dns"

	"uakari/internal/fact"
)

// FuzzReply reads any message as a resolver's answer.
func FuzzReply(f *testing.F) {
	question := new(dns.Msg)
	question.SetQuestion("tidebook.varzea.example.", dns.TypeA)
	reply := new(dns.Msg)
	reply.SetReply(question)
	for _, text := range []string{"tidebook.varzea.example. 60 IN CNAME heron.varzea.example.",
		"heron.varzea.example. 60 IN A 10.20.0.14"} {
		if rr, err := dns.NewRR(text); err == nil {
			reply.Answer = append(reply.Answer, rr)
		}
	}
	raw, err := reply.Pack()
	if err != nil {
		f.Fatal(err)
	}
	f.Add(raw)
	f.Fuzz(func(_ *testing.T, raw []byte) {
		var m dns.Msg
		if m.Unpack(raw) != nil {
			return
		}
		answers(&m, question)
		var a fact.Answer
		readReply(&m, &a)
		namesOf(&m)
		aliasesOf(&m)
	})
}

// FuzzFiles reads anything as a hosts file and as resolv.conf.
func FuzzFiles(f *testing.F) {
	f.Add("10.20.0.14 tidebook # x\nnameserver fd20::2\nsearch varzea.example\noptions ndots:2 timeout:1\n")
	f.Fuzz(func(t *testing.T, text string) {
		path := filepath.Join(t.TempDir(), "file")
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		ReadHosts(path, "tidebook")
		allHosts(path)
		ReadSetup(path)
		sourceOrder(path)
	})
}
