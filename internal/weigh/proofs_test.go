package weigh

import (
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"uakari/internal/fact"
	"uakari/internal/protocol"
	"uakari/internal/trail"
	"uakari/internal/weigh/catalogue"
)

// refusedLogin is a client of a protocol whose account is refused with a code.
func refusedLogin(t *testing.T, endpoint, code, text string) *scenario {
	s := newScene(t, endpoint+"://tidebook.varzea.example").holds("v1", gauge).holds("v2", tidebook).named(tidebook)
	s.ask.Account, s.set.Ask.Account = "gauge", "gauge"
	s.client(tidebook, connected, answered(fact.Reply{Ending: fact.Done, Protocol: protocol.Spoken(endpoint).Name,
		Refused: true}))
	s.listening(listener("0.0.0.0", s.ask.Endpoint.Port, "x"))
	target := s.target(tidebook)
	target.Account = "gauge"
	return s.add("v1", fact.LookLogin, target, func(f *fact.Fact) {
		f.Login = &fact.Login{Outcome: fact.LoginRefused, Mechanism: "x", Account: "gauge", Code: code, Text: text}
	})
}

// TestCodesThatProve is what servers say of an account in so many words.
func TestCodesThatProve(t *testing.T) {
	refusedLogin(t, "mysql", "1129", "Host is blocked because of many connection errors").
		check("blocked for errors", "login/host-blocked proven")
	refusedLogin(t, "mysql", "1045", "Access denied").check("another code", "login/rejected likely")
	refusedLogin(t, "krb5", "8", "the principal is in the database more than once").
		check("twice in the database", "login/duplicate-principal proven")
	refusedLogin(t, "krb5", "24", "pre-authentication failed").check("another error", "login/wrong-secret proven")
	refusedLogin(t, "ssh", "second-factor", "").check("one more is wanted", "login/second-factor proven")
	refusedLogin(t, "vnc", "refused", "Too many security failures").check("too many", "login/host-blocked proven")
}

// TestProxyOfTheCard is a way that is shut straight, and open through the proxy that the card
// names.
func TestProxyOfTheCard(t *testing.T) {
	proxied := func(open bool) *scenario {
		s := carded(t, fact.Card{Proxy: "http://heron:3128"}, silent)
		return s.add("v1", fact.LookThrough, fact.Target{Name: "tidebook.varzea.example", Port: 80},
			func(f *fact.Fact) { f.Through = &fact.Through{Proxy: "http://heron:3128", Status: 200, Open: open} })
	}
	proxied(true).check("open through it", "settings/proxy-missing proven")
	if got := proxied(false).weigh(); strings.Contains(summaries(got.Causes), "settings/proxy-missing") {
		t.Error("the proxy is missed where it leads nowhere")
	}
}

// atMostLikely is causes that nothing proves by itself, by the catalogue: what was seen
// leaves them over, or a server says no more.
var atMostLikely = map[string]string{
	"login/rejected":              "a server that says no more may mean anything",
	"certs/handshake-stalls":      "it is what was met, without a reason",
	"names/loops-back":            "an address that leads back is the client's own, or a tunnel's",
	"rules/reverse-path":          "by which link a packet came the host that discards it does not say",
	"settings/proxy-script-fails": "what a client does then, no setting says",
	"rules/rate-limited":          "that a limit was reached nobody keeps",
}

// live is a set as if every host had been looked at during the run, and not by a record, whose
// age hangs on a clock.
func live(set fact.Set) fact.Set {
	vantages := slices.Clone(set.Vantages)
	for i := range vantages {
		if vantages[i].Means == fact.Record {
			vantages[i].Means, vantages[i].Ended = fact.SSH, time.Time{}
		}
	}
	now := fact.New(set.Ask, vantages)
	now.Facts, now.Ended, now.Behind = slices.Clone(set.Facts), set.Ended, set.Behind
	return now
}

// TestEveryCauseIsProven wants a test for every cause of the catalogue in which it is proven:
// a scene or a recorded host, or a live test that names it so.
func TestEveryCauseIsProven(t *testing.T) {
	shown := regexp.MustCompile(`([a-z]+/[a-z0-9-]+) proven`)
	proven := map[string]bool{}
	var files []string
	for _, pattern := range []string{"testdata/frozen/*.txt", "*_test.go", "*/*_test.go", "../../test/*_test.go"} {
		found, err := filepath.Glob(pattern)
		if err != nil {
			t.Fatal(err)
		}
		files = append(files, found...)
	}
	for _, name := range files {
		text, err := os.ReadFile(name)
		if err != nil {
			continue // a folder
		}
		for _, m := range shown.FindAllStringSubmatch(string(text), -1) {
			proven[m[1]] = true
		}
	}
	_, sets := recorded(t)
	for _, set := range sets {
		judged, _ := Weigh(live(set))
		for _, c := range judged.Causes {
			proven[c.ID] = proven[c.ID] || c.Certainty == trail.Proven
		}
	}
	for _, id := range catalogue.CauseIDs() {
		switch why := atMostLikely[id]; {
		case proven[id] && why != "":
			t.Errorf("%s is proven in a test, and at most likely here: %s", id, why)
		case !proven[id] && why == "":
			t.Errorf("%s: no test proves it; every cause has one", id)
		}
	}
	for id := range atMostLikely {
		if _, ok := catalogue.Explain(id); !ok {
			t.Errorf("%s is no cause", id)
		}
	}
}
