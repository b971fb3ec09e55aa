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

// TestAddressTwice puts two machines with one address on a link, of which the
// wrong one wins.
func TestAddressTwice(t *testing.T) {
	t.Parallel()
	l := newLab(t)
	impostor := fmt.Sprintf("u%d-impostor", os.Getpid())
	l.sh("ip netns add " + impostor)
	t.Cleanup(func() { exec.Command("ip", "netns", "del", impostor).Run() })
	l.sh("ip -n " + l.router + " link add quay type bridge")
	l.sh("ip -n " + l.router + " link set quay up")
	for i, ns := range []string{l.client, l.server, impostor} {
		port := fmt.Sprintf("q%d", i)
		l.sh(fmt.Sprintf("ip link add eth1 netns %s type veth peer name %s netns %s", ns, port, l.router))
		l.sh("ip -n " + l.router + " link set " + port + " master quay up")
		l.sh("ip -n " + ns + " link set eth1 up")
		l.sh(fmt.Sprintf("ip -n %s addr add 10.20.9.%d/24 dev eth1", ns, []int{31, 14, 14}[i]))
	}
	l.web(l.server, "10.20.9.14:8080")
	const endpoint = "http://10.20.9.14:8080/"
	winner := func(ns string) {
		mac, err := exec.Command("ip", "netns", "exec", ns, "cat", "/sys/class/net/eth1/address").Output()
		if err != nil {
			t.Fatal(err)
		}
		l.sh(
			"ip -n " + l.client + " neigh replace 10.20.9.14 dev eth1 lladdr " + strings.TrimSpace(
				string(mac),
			) + " nud reachable",
		)
	}
	winner(impostor)
	alone := traced(t, enter(l.client), "--wait", "1s", endpoint)
	expect(t, alone, "service/address-twice likely")

	r := runIn(t, enter(l.server), "record", "--deadline", "9s", "--for", endpoint, "-o", "-")
	record := write(
		t,
		filepath.Join(t.TempDir(), "tidebook"),
		strings.ReplaceAll(r.stdout, `"host": "`, `"host": "tidebook-`),
	)
	expectButAge(
		t,
		traced(t, enter(l.client), "--wait", "1s", "--record", record, endpoint),
		"service/address-twice proven",
	)

	winner(l.server)
	if well := traced(t, enter(l.client), "--wait", "1s", endpoint); well.Reached != trail.Yes {
		t.Errorf("the right one answers: %s", dump(well))
	}
}
