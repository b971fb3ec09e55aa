package test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"uakari/internal/trail"
)

// TestSignedZone asks a resolver that checks signatures for a name of a zone
// that is signed well, and of one whose signatures have ended.
func TestSignedZone(t *testing.T) {
	t.Parallel()
	found := needs(t, "bind9", "/usr/sbin/named", "/usr/bin/dnssec-keygen", "/usr/bin/dnssec-signzone")
	l := newLab(t)
	for _, addr := range []string{"10.20.7.53", "10.20.7.2"} {
		l.sh("ip -n " + l.router + " addr add " + addr + "/24 dev c")
	}
	l.web(l.server, "10.20.0.14:8080")
	// The servers leave their rights behind, so the folder is not under the
	// test's own, which nobody else may enter.
	dir, err := os.MkdirTemp("/var/tmp", "uakari-signed-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	tool := func(words ...string) string {
		cmd := exec.Command(words[0], words[1:]...)
		cmd.Dir = dir
		out, err := cmd.Output()
		if err != nil {
			t.Fatalf("%v: %v: %s", words, err, out)
		}
		return strings.TrimSpace(string(out))
	}
	key := tool(found[1], "-q", "-a", "ECDSAP256SHA256", "-f", "KSK", "varzea.example")
	tool(found[1], "-q", "-a", "ECDSAP256SHA256", "varzea.example")
	write(
		t,
		filepath.Join(dir, "zone"),
		"$TTL 5\n@ IN SOA ns1.varzea.example. post.varzea.example. ( 1 3600 600 86400 5 )\n@ IN NS ns1\nns1 IN A "+
			"10.20.7.53\ntidebook IN A 10.20.0.14\n",
	)
	conf := func(name, options, more string) string {
		return write(
			t,
			filepath.Join(dir, name),
			fmt.Sprintf(
				"options { directory \"%s\"; listen-on-v6 { none; }; pid-file none; session-keyfile \"%s/%s.key\"; "+
					"%s };\ncontrols { };\n%s\n",
				dir,
				dir,
				name,
				options,
				more,
			),
		)
	}
	// Of the key's line, what follows the class: flags, protocol, algorithm, key.
	public := readFile(t, filepath.Join(dir, key+".key"))
	fields := strings.Fields(public[strings.LastIndex(public, "DNSKEY"):])
	anchor := fmt.Sprintf(
		"trust-anchors { varzea.example. static-key %s %s %s \"%s\"; };",
		fields[1],
		fields[2],
		fields[3],
		strings.Join(fields[4:], ""),
	)
	authority := conf(
		"authority",
		"listen-on { 10.20.7.53; }; recursion no; dnssec-validation no;",
		`zone "varzea.example" { type primary; file "zone.signed"; };`,
	)
	resolver := conf(
		"resolver",
		"listen-on { 10.20.7.2; }; recursion yes; allow-query { any; }; allow-recursion { any; }; forward only; "+
			"forwarders { 10.20.7.53; }; dnssec-validation yes;",
		anchor,
	)
	look := func(until string) trail.Trail {
		tool(found[2], "-S", "-q", "-P", "-s", "20261101000000", "-e", until, "-o", "varzea.example", "zone")
		a := l.background(l.router, found[0], "-g", "-c", authority)
		r := l.background(l.router, found[0], "-g", "-c", resolver)
		defer func() { a.Process.Kill(); r.Process.Kill(); a.Wait(); r.Wait() }()
		l.ready(l.client, "10.20.7.53")
		var judged trail.Trail
		for range 20 {
			judged = traced(
				t,
				enter(l.client),
				"--resolver",
				"10.20.7.2",
				"--wait",
				"2s",
				"http://tidebook.varzea.example:8080/",
			)
			if !strings.Contains(dump(judged), "names/resolver-silent") {
				break
			}
		}
		return judged
	}
	well := look("20271101000000")
	expectHealthy(t, well)
	if !strings.Contains(dump(well), "10.20.0.14 from 10.20.7.2") {
		t.Error(dump(well))
	}
	expect(t, look("20261102000000"), "names/bogus-signature proven")
}
