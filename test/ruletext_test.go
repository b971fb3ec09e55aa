package test

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"uakari/internal/fact"
	"uakari/internal/filter"
)

// TestRuleText tells rules as the kernel's own tool lists them.
func TestRuleText(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("nft"); err != nil || os.Getuid() != 0 {
		missing(t, "needs root and nft: apt-get install nftables")
	}
	dir := t.TempDir()
	rules := write(t, filepath.Join(dir, "rules"), `table inet t {
  set desks { type ipv4_addr; flags interval; elements = { 10.20.7.0/24, 10.20.1.5 } }
  chain input {
    type filter hook input priority 0; policy drop;
    ct state established,related accept
    tcp dport { 22, 443 } ip saddr @desks accept
    ip saddr 10.20.7.0/24 tcp dport 8000-8100 counter accept comment "gauges"
    iifname "lo" accept
    ip6 saddr fd20::/16 tcp dport 80 reject with tcp reset
    icmp type echo-request accept
    meta mark 0x1 drop
    tcp dport 25 reject
    tcp dport 26 reject with icmpx type admin-prohibited
    ip daddr != 10.20.0.14 drop
    ip saddr 10.20.7.31-10.20.7.40 drop
    ip6 hoplimit 3 drop
    udp dport 5000-5010 jump sub
  }
  chain sub { meta l4proto tcp drop; }
  chain pre { type nat hook prerouting priority -100; tcp dport 8080 dnat ip to 10.20.0.15:80; tcp dport 8081 redirect to :80; }
}
`)
	record := filepath.Join(dir, "host.json")
	r := runWords(
		t,
		[]string{"unshare", "-n", "sh", "-c", "nft -f " + rules + " && nft -s list ruleset && " + program +
			" record -o " + record},
	)
	text, err := os.ReadFile(record)
	if err != nil {
		t.Fatalf("%v: %+v", err, r)
	}
	host, err := fact.DecodeRecord(record, text)
	if err != nil {
		t.Fatal(err)
	}
	var told []string
	for _, f := range host.Facts {
		if f.Tables == nil {
			continue
		}
		set, err := filter.FromFacts(f.Tables)
		if err != nil {
			t.Fatal(err)
		}
		for _, line := range set.Lines() {
			_, rule, _ := strings.Cut(line, ": ")
			told = append(told, rule)
		}
	}
	listed := regexp.MustCompile(`(?m)^\t\t(.+)$`).FindAllStringSubmatch(r.stdout, -1)
	count := 0
	for _, m := range listed {
		rule := m[1]
		if strings.HasPrefix(rule, "type ") || strings.HasPrefix(rule, "flags ") ||
			strings.HasPrefix(rule, "elements") {
			continue
		}
		count++
		if !strings.Contains("\n"+strings.Join(told, "\n")+"\n", "\n"+rule+"\n") {
			t.Errorf("%q is not told so:\n%s", rule, strings.Join(told, "\n"))
		}
	}
	if count < 15 {
		t.Errorf("%d rules were listed:\n%s", count, r.stdout)
	}
}
