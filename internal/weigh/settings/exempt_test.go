package settings

import (
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"slices"
	"strings"
	"testing"
	"time"
)

// TestExempt is which programs go straight, and which through the proxy.
func TestExempt(t *testing.T) {
	for _, c := range []struct{ list, host, straight string }{
		{"", "tidebook.varzea.example", ""},
		{"*", "tidebook.varzea.example", "curl and git, Python, Go"}, {"*,heron", "tidebook.varzea.example", "Go"},
		{"varzea.example", "tidebook.varzea.example", "curl and git, wget, Python, Go"},
		{".varzea.example", "tidebook.varzea.example", "curl and git, wget, Python, Go"},
		{"*.varzea.example", "tidebook.varzea.example", "Go"},
		{"zea.example", "tidebook.varzea.example", ""},
		{"tidebook.varzea.example:443", "tidebook.varzea.example", "Python, Go"},
		{"tidebook.varzea.example:80", "tidebook.varzea.example", ""},
		{"localhost, VARZEA.example", "tidebook.varzea.example.", "curl and git, wget, Python, Go"},
		{"10.20.0.0/16", "10.20.0.14", "curl and git, Go"},
		{"10.20.0.14", "10.20.0.14", "curl and git, wget, Python, Go"},
		{"10.20.0.1", "10.20.0.14", ""}, {"0.14", "10.20.0.14", "wget, Python"},
		{"varzea.example", "10.20.0.14", ""},
	} {
		straight, through := exempt(c.list, c.host, 443)
		if strings.Join(straight, ", ") != c.straight || len(straight)+len(through) != len(clients) {
			t.Errorf("%q, %s: straight %v, through %v", c.list, c.host, straight, through)
		}
	}
}

// TestExemptBySystem is the patterns of Windows.
func TestExemptBySystem(t *testing.T) {
	for _, c := range []struct {
		list, host string
		want       bool
	}{
		{"*.varzea.example;10.20.*;<local>", "tidebook.varzea.example", true},
		{"10.20.*", "10.20.0.14", true}, {"10.*", "10.20.0.14", true}, {"10.2.*", "10.20.0.14", false},
		{"stage*", "stage7.varzea.example", true}, {"stage*", "tidebook.varzea.example", false},
		{"<local>", "tidebook", true}, {"<local>", "tidebook.varzea.example", false}, {"<local>", "10.20.0.14", false},
		{"varzea.example", "tidebook.varzea.example", false}, {"*", "tidebook.varzea.example", true},
		{"tidebook.varzea.example:443", "tidebook.varzea.example", true},
		{"tidebook.varzea.example:80", "tidebook.varzea.example", false},
		{"https://tidebook.varzea.example", "tidebook.varzea.example", true},
		{"http://tidebook.varzea.example", "tidebook.varzea.example", false},
		{"*tide*", "TideBook.varzea.example", true}, {"[bad", "tidebook", false},
	} {
		if got := exemptBySystem(c.list, "https", c.host, 443); got != c.want {
			t.Errorf("%q, %s: %v", c.list, c.host, got)
		}
	}
}

// TestRefereeExempt lets curl, wget and Python decide whether they use a proxy, for lists and
// hosts made at random.
func TestRefereeExempt(t *testing.T) {
	programs := map[string][]string{
		"curl and git": {"curl", "-s", "-o", os.DevNull, "--max-time", "5"},
		"wget":         {"wget", "-q", "-O", os.DevNull, "-t", "1", "-T", "5"},
		"Python": {"python3", "-c",
			"import sys,urllib.request as u\ntry: u.urlopen(sys.argv[1],timeout=5)\nexcept Exception: pass"},
	}
	const proxied = "http://127.0.0.1:%d"
	seed := uint64(time.Now().UnixNano())
	r := rand.New(rand.NewPCG(seed, 4))
	hosts := []string{"tidebook.varzea.invalid", "ledger.varzea.invalid", "127.20.0.14", "127.20.7.31",
		"heron.invalid"}
	entries := []string{"varzea.invalid", ".varzea.invalid", "*.varzea.invalid", "tidebook.varzea.invalid",
		"127.20.0.0/16", "127.20.0.14", "*", "invalid", "zea.invalid", "127.20.", "tidebook.varzea.invalid:8",
		"VARZEA.invalid", "heron", "*varzea.invalid", "127.0.0.0/8", "14", "localhost"}
	// Where no resolver answers, programs that go straight wait for one.
	asked := time.Now()
	if _, err := net.LookupHost(hosts[0]); err == nil || time.Since(asked) > time.Second {
		hosts = hosts[2:4]
	}
	tried, worlds := 0, 10
	if os.Getenv("UAKARI_LIVE") != "" {
		worlds = 70
	}
	for name, words := range programs {
		if _, err := exec.LookPath(words[0]); err != nil {
			continue
		}
		for n := range worlds {
			l, err := net.Listen("tcp", "127.0.0.1:0")
			if err != nil {
				t.Fatal(err)
			}
			met := make(chan bool, 1)
			go func() {
				c, err := l.Accept()
				if err == nil {
					fmt.Fprint(c, "HTTP/1.1 204 No Content\r\nContent-Length: 0\r\nConnection: close\r\n\r\n")
					c.Close()
				}
				met <- err == nil
			}()
			var list []string
			for range 1 + r.IntN(3) {
				list = append(list, entries[r.IntN(len(entries))])
			}
			joined, host := strings.Join(list, ","), hosts[r.IntN(len(hosts))]
			cmd := exec.Command(words[0], append(slices.Clone(words[1:]), fmt.Sprintf("http://%s:8/", host))...)
			cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=" + os.Getenv("HOME"), "no_proxy=" + joined,
				"http_proxy=" + fmt.Sprintf(proxied, l.Addr().(*net.TCPAddr).Port)}
			cmd.Run() // how it ends does not matter, but where it goes
			l.Close()
			through := <-met
			straight, _ := exempt(joined, host, 8)
			if tried++; through == slices.Contains(straight, name) {
				t.Errorf("seed %d, %d: %s with no_proxy=%s for %s: through the proxy: %v", seed, n, name, joined, host,
					through)
			}
		}
	}
	if tried == 0 {
		t.Skip("neither curl nor wget nor Python is installed")
	}
}
