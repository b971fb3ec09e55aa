package vantage

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestSSHSettings(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("HOME", dir)
	if err := os.Mkdir(filepath.Join(dir, ".ssh"), 0o700); err != nil {
		t.Fatal(err)
	}
	for name, text := range map[string]string{
		"config": "# office\nHost ledger tide* !tidebook-old\n  HostName=10.20.0.21\n\tUser ana\n  IdentityFile " +
			"~/.ssh/one\n  Port 2022\n" +
			"Match user bruno\n  User bruno\nInclude more\nHost *\n  ProxyJump pier,heron:2200\n  IdentityFile " +
			"\"~/.ssh/two words\"\n  User nobody\n",
		"more": "Host ledger\n UserKnownHostsFile /dev/null ~/.ssh/known2\n",
	} {
		if err := os.WriteFile(filepath.Join(dir, ".ssh", name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	for to, want := range map[string]string{
		"ledger":            "ana 10.20.0.21:2022 pier,heron:2200",
		"eva@ledger:22":     "eva 10.20.0.21:22 pier,heron:2200",
		"tidebook":          "ana 10.20.0.21:2022 pier,heron:2200",
		"tidebook-old":      "nobody tidebook-old:22 pier,heron:2200",
		"eva@[fd20::14]:22": "eva [fd20::14]:22 pier,heron:2200",
	} {
		p := resolveLogin(to)
		if got := p.user + " " + p.addr + " " + strings.Join(p.jumps, ","); got != want {
			t.Errorf("%s: got %s, want %s", to, got, want)
		}
	}
	p := resolveLogin("ledger")
	if p.identities[0] != filepath.Join(dir, ".ssh/one") || p.identities[1] != filepath.Join(dir, ".ssh/two words") {
		t.Errorf("identities %q", p.identities)
	}
}
