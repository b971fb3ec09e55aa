package test

import (
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"uakari/internal/trail"
)

// TestSweep traces one server from ten stations, each a network of its own; those
// of one image have a wrong route.
func TestSweep(t *testing.T) {
	t.Parallel()
	if os.Getuid() != 0 {
		missing(t, "needs root, to make networks")
	}
	if _, err := exec.LookPath("ip"); err != nil {
		missing(t, "needs ip: apt-get install iproute2")
	}
	l := newLab(t)
	dir := t.TempDir()
	listenWithin(t, l.server, "10.20.0.14:8080")
	var clients strings.Builder
	const stations = 10
	for i := range stations {
		name, image := fmt.Sprintf("%s-s%d", l.server, i), "kiosk-2"
		if i%3 == 0 {
			image = "kiosk-3"
		}
		l.sh("ip netns add " + name)
		t.Cleanup(func() { exec.Command("ip", "netns", "del", name).Run() })
		l.link(name, fmt.Sprintf("10.21.%d.31/24", i), l.router, fmt.Sprintf("t%d", i),
			fmt.Sprintf("10.21.%d.1/24", i))
		l.sh("ip -n " + name + " link set lo up")
		l.sh(fmt.Sprintf("ip -n %s route add default via 10.21.%d.1", name, i))
		if image == "kiosk-3" {
			l.sh("ip -n " + name + " route add unreachable 10.20.0.0/24")
		}
		fmt.Fprintf(&clients, "  - {in: %s, tags: {image: %s, site: %s}}\n", name, image,
			[]string{"north", "south"}[i%2])
	}
	clients.WriteString("  - {at: nobody@127.0.0.1:1, tags: {image: kiosk-2}}\n")
	plan := write(
		t,
		filepath.Join(dir, "plan.yaml"),
		"format: uakari.plan/1\nname: stations\nendpoints: [\"http://10.20.0.14:8080/\"]\nclients:\n"+clients.String(),
	)
	kept := filepath.Join(dir, "rows")
	r := run(t, "sweep", "--json", "--wait", "2s", "--resume", kept, plan)
	validate(t, "sweep", []byte(r.stdout))
	var s trail.Sweep
	if err := json.Unmarshal([]byte(r.stdout), &s); err != nil {
		t.Fatalf("%v: %+v", err, r)
	}
	if r.status != 1 || len(s.Groups) != 1 || len(s.Groups[0].Clients) != 4 || len(s.Rows) != stations+1 {
		t.Fatalf("status %d: %s%s", r.status, r.stdout, r.stderr)
	}
	o := s.Groups[0].Origin
	if s.Groups[0].Cause != "rules/no-route" || o == nil || o.Feature != "image: kiosk-3" || o.With != 4 ||
		o.Others != 0 ||
		o.OfOthers != 6 ||
		o.Chance > 0.05 {
		t.Errorf("%+v, origin %+v", s.Groups[0], o)
	}
	for _, row := range s.Rows {
		if lost := strings.HasPrefix(row.Client, "nobody@"); lost != (row.Unseen != "") {
			t.Errorf("%+v", row)
		}
	}
	// What failed is confirmed after the origin was mended, and nothing else is tried.
	failed := write(t, filepath.Join(dir, "failed.json"), r.stdout)
	if r := run(t, "sweep", "--wait", "2s", "--confirm", failed, plan); r.status != 1 ||
		!strings.HasPrefix(r.stdout, "Not yet: 0 of 5 tries that failed work now.") {
		t.Errorf("%+v", r)
	}
	for i := 0; i < stations; i += 3 {
		l.sh(fmt.Sprintf("ip -n %s-s%d route del unreachable 10.20.0.0/24", l.server, i))
	}
	confirmed := run(t, "sweep", "--wait", "2s", "--confirm", failed, plan)
	// The host that could not be checked then cannot be checked now: that is no "all".
	if confirmed.status != 3 ||
		!strings.HasPrefix(confirmed.stdout, "Not known: 1 of 5 tries that failed could not") ||
		!strings.Contains(oneLine(confirmed.stdout), "rules/no-route 4 of 4 work now") {
		t.Errorf("%+v", confirmed)
	}
	for i := 0; i < stations; i += 3 {
		l.sh(fmt.Sprintf("ip -n %s-s%d route add unreachable 10.20.0.0/24", l.server, i))
	}
	if r := run(t, "sweep", "--confirm", plan, plan); r.status != 2 ||
		!strings.Contains(r.stderr, "expected what uakari sweep --json wrote") {
		t.Errorf("%+v", r)
	}
	// What was done is not done again; what could not be looked at is.
	again := run(t, "sweep", "--resume", kept, plan)
	if again.status != 1 || again.took > r.took ||
		!strings.Contains(oneLine(again.stdout), "4 of 4 failing hosts and 0 of 6 working ones have image: kiosk-3") {
		t.Errorf("%+v", again)
	}
	page := run(t, "sweep", "--out", "html", "--resume", kept, plan)
	if strings.Count(page.stdout, `<td class="fault"`) != 4 || strings.Count(page.stdout, `<td class="clear"`) != 6 ||
		strings.Contains(page.stdout, "<script") {
		t.Error(page.stdout)
	}
}

// listenWithin serves a page on an address of a network of its own.
func listenWithin(t *testing.T, ns, addr string) {
	t.Helper()
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command("ip", "netns", "exec", ns, self, "-test.run", "^TestServePage$")
	cmd.Env = append(os.Environ(), "UAKARI_SERVE_PAGE="+addr)
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	if _, err := out.Read(make([]byte, 1)); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
}

// TestServePage is no test: it is the server of another.
func TestServePage(t *testing.T) {
	addr := os.Getenv("UAKARI_SERVE_PAGE")
	if addr == "" {
		t.Skip("it serves a page for other tests")
	}
	l, err := net.Listen("tcp", addr)
	if err != nil {
		t.Fatal(err)
	}
	fmt.Println("ready")
	for {
		c, err := l.Accept()
		if err != nil {
			return
		}
		go func() {
			defer c.Close()
			c.Read(make([]byte, 1024))
			fmt.Fprint(c, "HTTP/1.1 200 OK\r\nContent-Length: 2\r\nConnection: close\r\n\r\nok")
		}()
	}
}

// TestPlans reads plans that are wrong.
func TestPlans(t *testing.T) {
	dir := t.TempDir()
	for text, want := range map[string]string{
		"format: uakari.plan/2\n": `plan.yaml:1:9: format "uakari.plan/2"; expected "uakari.plan/1"`,
		"format: uakari.plan/1\nendpoints: " +
			"[\"https://tidebook.varzea.example/\"]\n": "the plan has no clients",
		"format: uakari.plan/1\nendpoints: [\"gopher://x\"]\nclients:\n  - here: " +
			"true\n": `unknown scheme "gopher"`,
		"format: uakari.plan/1\nendpoints: [\"https://tidebook.varzea.example/\"]\nclients:\n  - {here: true, at: " +
			"root@gauge-07}\n": "expected one of here, at, record, in, hosts and known",
		"format: uakari.plan/1\nendpoints: [\"https://tidebook.varzea.example/\"]\nclients:\n  - {hosts: " +
			filepath.Join(dir, "h") + "}\n": "h:2: \"image\"; expected NAME=VALUE",
		"format: uakari.plan/1\nendpoints: [\"https://tidebook.varzea.example/\"]\nclients:\n  - here: true\n  - " +
			"here: true\n": "twice among its clients",
		"format: uakari.plan/1\nendpoints: [\"https://tidebook.varzea.example/\"]\nclients:\n  - record: " +
			"/nowhere/*.json\n": "there is no such file",
	} {
		write(t, filepath.Join(dir, "h"), "# stations\nroot@gauge-07 image\n")
		file := write(t, filepath.Join(dir, "plan.yaml"), text)
		if r := run(t, "sweep", file); r.status != 2 || !strings.Contains(r.stderr, want) ||
			strings.Count(r.stderr, "\n") != 1 {
			t.Errorf("want %q: %+v", want, r)
		}
	}
}
