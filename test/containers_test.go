package test

import (
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"uakari/internal/trail"
)

// engineSettings lets an engine run within a host of the lab, which has no
// control groups to give away and no file system to lay over.
const engineSettings = `[containers]
default_ulimits = ["nofile=1024:4096", "nproc=1000:1000"]
cgroups = "disabled"
log_driver = "k8s-file"
[engine]
cgroup_manager = "cgroupfs"
events_logger = "file"
[network]
network_backend = "netavark"
`

// engineHost is a full host with an engine of containers, and an image with a
// small web server.
func engineHost(t *testing.T) *fullHost {
	t.Helper()
	h := bootOver(t, containerRoot)
	h.install()
	h.put("/etc/containers/containers.conf", engineSettings)
	h.put(
		"/etc/containers/storage.conf",
		"[storage]\ndriver = \"vfs\"\nrunroot = \"/run/containers/storage\"\ngraphroot = "+
			"\"/var/lib/containers/storage\"\n",
	)
	h.do(
		"rm -f /etc/cni/net.d/*; mkdir -p /tmp/i/bin /tmp/i/www /tmp/i/etc /tmp/i/tmp; cp /bin/busybox /tmp/i/bin/; " +
			"ln -s busybox /tmp/i/bin/sh; echo tides > /tmp/i/www/index.html; tar -C /tmp/i -c . | podman import - " +
			"tides:1; podman network create --internal harbour; podman network create yard",
	)
	return h
}

// engineUp lets the engine be asked.
func (h *fullHost) engineUp() {
	h.do(
		"mkdir -p /run/podman; (podman system service --time=0 unix:///run/podman/podman.sock >/dev/null 2>&1 &); " +
			"for i in $(seq 50); do [ -S /run/podman/podman.sock ] && exit; sleep 0.1; done; exit 1",
	)
}

// reads is what a command line on the host prints.
func (h *fullHost) reads(line string) string {
	h.t.Helper()
	out, err := h.command("sh", "-c", line).Output()
	if err != nil {
		h.t.Fatalf("%s: %v", line, err)
	}
	return string(out)
}

// looked traces an endpoint from the client by a record of the host.
func (h *fullHost) looked(t *testing.T, endpoint string, args ...string) trail.Trail {
	t.Helper()
	r := runWords(
		t,
		append(h.enter(), "/usr/local/bin/uakari", "record", "--for", endpoint, "--client", "10.20.7.31", "-o", "-"),
	)
	if r.status != 0 {
		t.Fatalf("%+v", r)
	}
	record := write(t, filepath.Join(t.TempDir(), "tidebook.json"), r.stdout)
	return traced(
		t,
		enter(h.client),
		append([]string{"--wait", "1s", "--record", "server=" + record, endpoint}, args...)...)
}

// TestContainers breaks what runs in containers in the ways of everyday, and
// looks with the engine's own word, and by what it left on the disk.
func TestContainers(t *testing.T) {
	t.Parallel()
	h := engineHost(t)
	const web = "tides:1 /bin/busybox httpd -f -h /www -p "
	for _, c := range []struct {
		name, run string
		port      int
		then      string // after it runs
		want      string
		holds     string
		mend      string
	}{
		{"healthy", "-p 18080:80 " + web + "80", 18080, "", "", "container web holds port 80", ""},
		{"stopped", "-p 18080:80 " + web + "80", 18080, "podman stop -t 0 web", "service/stopped proven",
			"podman start web", ""},
		{"killed", "-p 18080:80 " + web + "80", 18080, "podman kill web; sleep 1", "service/stopped proven",
			"with 137 (killed)", ""},
		{"ended with an error", "-p 18080:80 tides:1 /bin/sh -c 'echo level table is missing; exit 3'", 18080, "",
			"service/failed proven", "level table is missing", ""},
		{"starts again and again", "--restart always -p 18080:80 tides:1 /bin/sh -c 'sleep 0.2; exit 4'", 18080,
			"sleep 4", "service/restarting proven", "again and again", ""},
		{"a command that is not there", "-p 18080:80 tides:1 /bin/none", 18080, "", "service/stopped proven",
			"was never started", ""},
		{"a shell that finds no command", "-p 18080:80 tides:1 /bin/sh -c 'exec /bin/none'", 18080, "sleep 0.5",
			"service/failed proven", "127 (its command is not there)", ""},
		{"a crash", "-p 18080:80 tides:1 /bin/sh -c 'exit 139'", 18080, "sleep 0.5", "service/failed proven",
			"139 (it crashed", ""},
		{"unhealthy", "-p 18080:80 --health-cmd 'echo the gauge is stuck; exit 1' --health-retries 1 " + web + "80",
			18080, "podman healthcheck run web; podman healthcheck run web; true", "", "unhealthy by its own check", ""},
		{"loopback inside", "-p 18080:80 " + web + "127.0.0.1:80", 18080, "", "ports/loopback-only proven",
			"listens on 127.0.0.1:80 only; port 18080 of it is published to 10.88.0.", ""},
		{"another port inside", "-p 18080:80 " + web + "8080", 18080, "", "settings/wrong-port proven",
			"listens there on 8080", ""},
		{"published on loopback", "-p 127.0.0.1:18080:80 " + web + "80", 18080, "",
			"rules/published-on-loopback proven", "published on 127.0.0.1", ""},
		{"not published", web + "18080", 18080, "", "ports/not-published proven",
			"listens on port 18080 in container web", ""},
		{"the forward chain drops", "-p 18080:80 " + web + "80", 18080,
			"nft add table inet f; nft add chain inet f fw '{ type filter hook forward priority -5; }'; nft add " +
				"rule inet f fw tcp dport 80 drop", "rules/server-drop proven", "chain fw",
			"nft delete table inet f"},
		{"an internal network", "--network harbour -p 18080:80 " + web + "80", 18080, "",
			"rules/network-isolated proven", "the network harbour alone", ""},
		{"two networks", "--network podman,yard -p 18080:80 " + web + "80", 18080, "", "",
			"container web holds port 80", ""},
		{"a range", "-p 18080-18082:80-82 " + web + "82", 18082, "", "", "container web holds port 82", ""},
		{"the engine's rules are gone", "-p 18080:80 " + web + "80", 18080, "nft flush ruleset",
			"ports/not-published proven", "podman network reload web", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			h.t = t
			h.do(
				"pkill -f '[p]odman system service' || true; rm -f /run/podman/podman.sock; for i in 1 2 3 4 5; do " +
					"podman rm -f -t 0 web >/dev/null 2>&1; podman container exists web || break; sleep 0.5; done; " +
					"nft flush ruleset; podman run -d --name web " + c.run + " >/dev/null 2>&1; sleep 0.5; true; " +
					c.then,
			)
			if c.mend != "" {
				defer h.do(c.mend)
			}
			endpoint := fmt.Sprintf("http://10.20.0.14:%d", c.port)
			check := func(how string) {
				t.Helper()
				judged := h.looked(t, endpoint)
				var list []string
				if c.want != "" {
					list = []string{c.want}
				}
				expectButAge(t, judged, list...)
				text, err := json.Marshal(judged)
				if err != nil {
					t.Fatal(err)
				}
				if !strings.Contains(string(text), c.holds) {
					t.Errorf("%s: it does not say %q\n%s", how, c.holds, dump(judged))
				}
			}
			check("by what the engine left on the disk")
			h.engineUp()
			check("by its own word")
		})
	}
}

// TestFromWithin traces from within a container: by its own files and its own
// network, with nothing in its image.
func TestFromWithin(t *testing.T) {
	t.Parallel()
	h := engineHost(t)
	h.do(
		"podman run -d --name upload --dns 10.88.0.250 --add-host soundings.varzea.example:10.88.0.77 -e " +
			"http_proxy=http://10.88.0.99:3128 -e " +
			"no_proxy=10.20.0.14,tidebook.varzea.example,soundings.varzea.example tides:1 /bin/busybox sleep 600; " +
			"podman run -d --name rogue tides:1 /bin/busybox httpd -f -h /www -p 127.0.0.1:8080; sleep 0.5",
	)
	inside := func(place string, args ...string) trail.Trail {
		t.Helper()
		r := runWords(
			t,
			append(append(h.enter(), "/usr/local/bin/uakari", "trace", "--json", "--wait", "1s", "--in", place),
				args...),
		)
		return readTrail(t, r.stdout+r.stderr)
	}
	if judged := inside("upload", "http://10.20.0.14/"); judged.Reached != trail.Yes {
		t.Error(dump(judged))
	}
	dead := inside("upload", "http://tidebook.varzea.example/")
	if rung(dead, trail.Names).State != trail.Fault || !strings.Contains(dump(dead), "10.88.0.250") {
		t.Errorf("the container's own resolver: %s", dump(dead))
	}
	hosts := inside("upload", "http://soundings.varzea.example/")
	if !strings.Contains(dump(hosts), "10.88.0.77") {
		t.Errorf("the container's own hosts file: %s", dump(hosts))
	}
	if judged := inside("upload", "http://10.20.0.15/"); !strings.Contains(dump(judged), "10.88.0.99") {
		t.Errorf("the container's own proxy: %s", dump(judged))
	}
	if judged := inside("rogue", "http://127.0.0.1:8080/"); judged.Reached != trail.Yes {
		t.Errorf("its own loopback: %s", dump(judged))
	}
	// Programs of the place are bait: whatever runs one of them leaves a proof.
	h.do("for p in getent journalctl iptables-legacy-save systemctl ip; do printf '#!/bin/sh\\necho $0 >> /proof\\n' " +
		"> /tmp/bait; podman exec -i upload /bin/sh -c \"mkdir -p /usr/bin /usr/sbin; cat > /usr/bin/$p; " +
		"cp /usr/bin/$p /usr/sbin/$p; cp /usr/bin/$p /bin/$p; chmod 755 /usr/bin/$p /usr/sbin/$p /bin/$p\" </tmp/bait; done")
	inside("upload", "http://nowhere.varzea.example/")
	if proof := h.reads("podman exec upload /bin/sh -c 'cat /proof 2>/dev/null; true'"); proof != "" {
		t.Errorf("programs of the container were executed: %s", proof)
	}
	// And what looks there has the container's rights, not the host's.
	h.do("podman run -d --name narrow --cap-drop all --user 1000:1000 tides:1 /bin/busybox sleep 600; sleep 0.5")
	if judged := inside("narrow", "http://10.20.0.14/"); judged.Reached != trail.Yes {
		t.Errorf("without rights: %s", dump(judged))
	}
	for place, want := range map[string]string{"nobody": "known here: ", "999999": "no such process",
		"/run/nothing": "no such file"} {
		r := runWords(t, append(h.enter(), "/usr/local/bin/uakari", "trace", "--in", place, "http://10.20.0.14/"))
		if r.status != 2 || !strings.Contains(r.stderr, want) || strings.Count(r.stderr, "\n") != 1 {
			t.Errorf("%s: %+v", place, r)
		}
	}
}

// TestPodsAndNetworks has two containers share a network, as those of a pod do, and two
// networks that their engine keeps apart.
func TestPodsAndNetworks(t *testing.T) {
	t.Parallel()
	h := engineHost(t)
	h.do(
		"podman run -d --name keeper -p 18080:80 tides:1 /bin/busybox sleep 600; " +
			"podman run -d --name web --network container:keeper tides:1 /bin/busybox httpd -f -h /www -p 80; " +
			"podman network create -o isolate=true east; podman network create -o isolate=true west; podman network " +
			"create --internal inner; " +
			"podman run -d --name far --network east tides:1 /bin/busybox httpd -f -h /www -p 80; " +
			"podman run -d --name near --network west tides:1 /bin/busybox sleep 600; " +
			"podman run -d --name shut --network inner tides:1 /bin/busybox sleep 600; sleep 0.5",
	)
	h.engineUp()
	const endpoint = "http://10.20.0.14:18080"
	if judged := h.looked(t, endpoint); judged.Reached != trail.Yes {
		t.Errorf("two containers of one network: %s", dump(judged))
	}
	h.do("podman stop -t 0 web")
	stopped := h.looked(t, endpoint)
	expectButAge(t, stopped, "service/stopped proven")
	if text := dump(stopped); !strings.Contains(text, "container web") {
		t.Errorf("it does not name the container that should serve: %s", text)
	}
	from := func(place, endpoint string) trail.Trail {
		r := runWords(t, append(
			h.enter(), "/usr/local/bin/uakari", "trace", "--json", "--wait", "1s", "--in", "client="+place, endpoint,
		))
		return readTrail(t, r.stdout+r.stderr)
	}
	address := strings.TrimSpace(h.reads("podman inspect -f '{{range " +
		".NetworkSettings.Networks}}{{.IPAddress}}{{end}}' far"))
	// Datagrams are published too: a name server in a container.
	server := filepath.Join(t.TempDir(), "names")
	build := exec.Command("go", "build", "-o", server, "./bare/names")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	h.put("/tmp/i/bin/names", readFile(t, server))
	h.do("chmod 755 /tmp/i/bin/names; tar -C /tmp/i -c . | podman import - tides:2 >/dev/null")
	const names = "dns://10.20.0.14:18053/tidebook.varzea.example"
	for _, c := range []struct{ at, then, want string }{
		{"0.0.0.0", "true", ""}, {"127.0.0.1", "true", "ports/loopback-only proven"},
		{"0.0.0.0", "podman stop -t 0 names", "service/stopped proven"},
	} {
		h.do("podman rm -f -t 0 names >/dev/null 2>&1; podman run -d --name names -p 18053:53/udp tides:2 " +
			"/bin/names " + c.at +
			":53 >/dev/null; sleep 1; " + c.then)
		var want []string
		if c.want != "" {
			want = []string{c.want}
		}
		judged := h.looked(t, names)
		expectButAge(t, judged, want...)
		if c.want == "" && judged.Reached != trail.Yes {
			t.Errorf("a published port of UDP: %s", dump(judged))
		}
	}
	// A name of another network, which the engine's resolver does not tell, and one of none.
	for name, says := range map[string]string{
		"far":  "the container far has that name in the network east",
		"naer": "the resolver of the network west on tidebook, which knows near",
	} {
		judged := from("near", "http://"+name+"/")
		text := oneLine(dump(judged))
		if rung(judged, trail.Names).State != trail.Fault || !strings.Contains(text, says) ||
			len(judged.Causes) == 0 || judged.Causes[0].Remedies[0].Owner != "the containers" {
			t.Errorf("%s: it does not say %q: %s %+v", name, says, dump(judged), judged.Causes)
		}
	}
	// The office's root is trusted by the host, and is not in the image.
	m := newMaker(t)
	leaf, key := m.sign(&x509.Certificate{Subject: pkix.Name{CommonName: "tidebook"},
		IPAddresses: []net.IP{net.ParseIP("10.20.0.14")}}, m.cert, m.key)
	h.put("/etc/nginx/tide.crt", pemOf(leaf))
	h.put("/etc/nginx/tide.key", keyPEM(t, key))
	h.put("/usr/local/share/ca-certificates/office.crt", pemOf(m.cert))
	h.put("/etc/nginx/sites-enabled/tls", "server { listen 8443 ssl; ssl_certificate /etc/nginx/tide.crt; "+
		"ssl_certificate_key /etc/nginx/tide.key; location / { return 200 tides; } }\n")
	h.do("mkdir -p /etc/ssl/certs; cat /usr/local/share/ca-certificates/office.crt >> " +
		"/etc/ssl/certs/ca-certificates.crt; systemctl reload nginx; sleep 0.3")
	const secured = "https://10.20.0.14:8443/"
	on := runWords(t, append(h.enter(), "/usr/local/bin/uakari", "trace", "--json", "--wait", "1s", secured))
	if judged := readTrail(t, on.stdout+on.stderr); judged.Reached != trail.Yes ||
		judged.Outcome != trail.OutcomeClear {
		t.Errorf("on the host: %s", dump(judged))
	}
	if judged := from("near", secured); rung(judged, trail.Certs).State != trail.Fault {
		t.Errorf("without the office's root: %s", dump(judged))
	}
	for _, c := range []struct{ from, endpoint string }{{"near", "http://" + address + "/"},
		{"shut", "http://" + address + "/"}} {
		judged := from(c.from, c.endpoint)
		expect(t, judged, "rules/network-isolated proven")
	}
}

// TestDocker is the same with docker, whose ports a relay and a translation lead to, and
// with what containerd runs beside it.
func TestDocker(t *testing.T) {
	t.Parallel()
	h := bootOver(t, dockerRoot)
	h.install()
	h.do(
		"mkdir -p /tmp/i/bin /tmp/i/www /tmp/i/tmp; cp /bin/busybox /tmp/i/bin/; ln -s busybox /tmp/i/bin/sh; echo " +
			"tides > /tmp/i/www/index.html; " +
			"(containerd >/tmp/containerd.log 2>&1 &); for i in $(seq 50); do [ -S /run/containerd/containerd.sock " +
			"] && break; sleep 0.1; done; " +
			"(dockerd --storage-driver vfs --containerd /run/containerd/containerd.sock >/tmp/dockerd.log 2>&1 &); " +
			"for i in $(seq 150); do docker version >/dev/null 2>&1 && break; sleep 0.1; done; tar -C /tmp/i -c . | " +
			"docker import - tides:1 >/dev/null",
	)
	const web = "tides:1 /bin/busybox httpd -f -h /www -p "
	for _, c := range []struct{ name, run, then, want, holds string }{
		{"healthy", "-p 18080:80 " + web + "80", "", "", "container web holds port 80"},
		{"stopped", "-p 18080:80 " + web + "80", "docker stop -t 0 web", "service/stopped proven", "docker start web"},
		{"ended with an error", "-p 18080:80 tides:1 /bin/sh -c 'echo level table is missing; exit 3'", "sleep 1",
			"service/failed proven", "level table is missing"},
		{"starts again and again", "--restart always -p 18080:80 tides:1 /bin/sh -c 'sleep 0.2; exit 4'", "sleep 4",
			"service/restarting proven", "again and again"},
		{"loopback inside", "-p 18080:80 " + web + "127.0.0.1:80", "", "ports/loopback-only proven",
			"listens on 127.0.0.1:80 only"},
		{"another port inside", "-p 18080:80 " + web + "8080", "", "settings/wrong-port proven",
			"listens there on 8080"},
		{"published on loopback", "-p 127.0.0.1:18080:80 " + web + "80", "", "rules/published-on-loopback proven",
			"published on 127.0.0.1"},
		{"not published", web + "18080", "", "ports/not-published proven", "listens on port 18080 in container web"},
	} {
		t.Run(c.name, func(t *testing.T) {
			h.t = t
			h.do("docker rm -f web >/dev/null 2>&1; docker run -d --name web " + c.run + " >/dev/null; sleep 0.5; " +
				c.then)
			judged := h.looked(t, "http://10.20.0.14:18080")
			var want []string
			if c.want != "" {
				want = []string{c.want}
			}
			if strings.Contains(c.want, "restarting") {
				// Its rules come and go with it, and are no proof then.
				judged.Causes = slices.DeleteFunc(judged.Causes, func(each trail.Cause) bool {
					return strings.HasPrefix(each.ID, "rules/") && each.Certainty != trail.Proven
				})
			}
			expectButAge(t, judged, want...)
			if text, err := json.Marshal(judged); err != nil || !strings.Contains(string(text), c.holds) {
				t.Errorf("it does not say %q\n%s", c.holds, dump(judged))
			}
		})
	}
	h.t = t
	h.do("docker save tides:1 | ctr image import --snapshotter native - >/dev/null; ctr container create " +
		"--snapshotter native --net-host docker.io/library/tides:1 sluice /bin/busybox sleep 600")
	r := runWords(t, append(h.enter(), "/usr/local/bin/uakari", "ports", "--json"))
	if !strings.Contains(r.stdout, "sluice") || !strings.Contains(r.stdout, "containerd") ||
		strings.Contains(r.stdout, `"unread"`) {
		t.Errorf("%+v", r)
	}
}
