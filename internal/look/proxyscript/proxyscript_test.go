package proxyscript

import (
	"net/netip"
	"strings"
	"testing"
	"time"
)

// world is gauge-07, on a Wednesday at half past ten.
func world() World {
	return World{
		Own: netip.MustParseAddr("10.20.7.31"), Now: time.Date(2026, 12, 2, 10, 30, 0, 0, time.UTC),
		Resolve: func(name string) []netip.Addr {
			switch name {
			case "tidebook", "tidebook.varzea.example":
				return []netip.Addr{netip.MustParseAddr("fd20::14"), netip.MustParseAddr("10.20.0.14")}
			}
			return nil
		},
	}
}

func script(body string) string {
	return "function FindProxyForURL(url, host) {\n" + body + "\n}\n"
}

// TestEvaluate is what scripts say, by what browsers document of their helpers.
func TestEvaluate(t *testing.T) {
	const host = "tidebook.varzea.example"
	for condition, want := range map[string]bool{
		`isPlainHostName(host)`:                               false,
		`isPlainHostName("tidebook")`:                         true,
		`dnsDomainIs(host, ".varzea.example")`:                true,
		`dnsDomainIs(host, ".varzea.test")`:                   false,
		`localHostOrDomainIs("tidebook", host)`:               true,
		`localHostOrDomainIs("heron", host)`:                  false,
		`localHostOrDomainIs("tidebook.varzea.test", host)`:   false,
		`isResolvable(host) && !isResolvable("nowhere.test")`: true,
		`isInNet(host, "10.20.0.0", "255.255.0.0")`:           true,
		`isInNet(host, "10.21.0.0", "255.255.0.0")`:           false,
		`isInNet("nowhere.test", "10.20.0.0", "255.255.0.0")`: false,
		`isInNetEx(host, "fd20::/64")`:                        true,
		`dnsResolve(host) == "10.20.0.14"`:                    true,
		`dnsResolve("nowhere.test") == null`:                  true,
		`myIpAddress() == "10.20.7.31"`:                       true,
		`dnsDomainLevels(host) == 2`:                          true,
		`shExpMatch(url, "https://*.example/*")`:              true,
		`shExpMatch(host, "tide????.varzea.*")`:               true,
		`shExpMatch(host, "tide?.varzea.*")`:                  false,
		`shExpMatch(host, "tidebook[.]varzea.example")`:       false,
		`weekdayRange("WED", "GMT")`:                          true,
		`weekdayRange("FRI", "TUE", "GMT")`:                   false,
		`weekdayRange("MON", "FRI", "GMT")`:                   true,
		`dateRange(2, "GMT")`:                                 true,
		`dateRange("NOV", "JAN", "GMT")`:                      true,
		`dateRange(1, "DEC", 2, "DEC", "GMT")`:                true,
		`dateRange(1, "DEC", 2027, 2, "DEC", 2028, "GMT")`:    false,
		`dateRange(2025, 2026, "GMT")`:                        true,
		`timeRange(10, "GMT")`:                                true,
		`timeRange(9, 10, "GMT")`:                             true,
		`timeRange(22, 6, "GMT")`:                             false,
		`timeRange(10, 0, 10, 30, "GMT")`:                     true,
		`timeRange(10, 0, 0, 10, 29, 59, "GMT")`:              false,
	} {
		a, err := Evaluate(script("if ("+condition+")\n  return \"PROXY heron:3128; DIRECT\";\nreturn \"DIRECT\";"),
			"https://"+host+"/levels", host, world())
		if err != nil || a.Choices[0].Direct == want {
			t.Errorf("%s: %+v, %v", condition, a, err)
			continue
		}
		if line := map[bool]int{true: 3, false: 4}[want]; a.Line != line {
			t.Errorf("%s: decided by line %d, want %d", condition, a.Line, line)
		}
	}
}

// TestAnswers is what a script may answer, and what is none.
func TestAnswers(t *testing.T) {
	for said, want := range map[string]string{
		`"PROXY heron:3128"`: "http://heron:3128", `"HTTPS heron:443; DIRECT"`: "https://heron:443 direct",
		`"SOCKS heron:1080;SOCKS5 heron:1081"`: "socks5://heron:1080 socks5://heron:1081", `""`: "direct",
		`null`:     "direct",
		`"DIRECT"`: "direct", `undefined`: "direct", `"PROXY"`: "!", `"proxy.varzea.example:3128"`: "!",
		`"PROXY http://heron:3128"`: "!", `"PROXY gauge:secret@heron:3128"`: "!", `42`: "!",
	} {
		a, err := Evaluate(script("return "+said+";"), "http://tidebook/", "tidebook", world())
		var got []string
		for _, c := range a.Choices {
			if c.Direct {
				got = append(got, "direct")
			} else {
				got = append(got, c.Proxy)
			}
		}
		if want == "!" && err == nil || want != "!" && (err != nil || strings.Join(got, " ") != want) {
			t.Errorf("%s: %q, %v", said, got, err)
		}
	}
}

// TestFailures is scripts that are none, that fail, and that would never end: each is told in
// one line, within its bounds.
func TestFailures(t *testing.T) {
	began := time.Now()
	for text, want := range map[string]string{
		"":                             "no function FindProxyForURL",
		"<html><body>Not found</body>": "SyntaxError",
		script("return heron;"):        "heron is not defined",
		script("while (true) {}"):      "more time or memory",
		script("return FindProxyForURL(url, host);"):                            "",
		script("var a = []; while (true) a.push(new Array(100000).join('x'));"): "more time or memory",
		script("return new XMLHttpRequest();"):                                  "XMLHttpRequest is not defined",
		script("return require('fs');"):                                         "require is not defined",
		strings.Repeat("x", MostText+1):                                         "bytes",
	} {
		_, err := Evaluate(text, "http://tidebook/", "tidebook", world())
		if err == nil || !strings.Contains(err.Error(), want) || strings.Contains(err.Error(), "\n") {
			t.Errorf("%.60q: %v", text, err)
		}
	}
	if took := time.Since(began); took > 15*time.Second {
		t.Errorf("it took %s", took)
	}
}

func FuzzEvaluate(f *testing.F) {
	f.Add(script("return 'PROXY heron:3128';"), "tidebook")
	f.Fuzz(func(t *testing.T, text, host string) {
		if a, err := Evaluate(text, "http://"+host+"/", host, world()); err == nil && len(a.Choices) == 0 {
			t.Errorf("%q: no way at all", text)
		}
	})
}
