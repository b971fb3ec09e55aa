//go:build linux

package linux

import (
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"google.golang.org/protobuf/encoding/protowire"

	"uakari/internal/fact"
)

// part is one field of a message that a test writes.
type part struct {
	number protowire.Number
	value  any // a number, a text, or the parts of a message
}

func written(parts ...part) (b []byte) {
	for _, p := range parts {
		switch v := p.value.(type) {
		case int:
			b = protowire.AppendVarint(protowire.AppendTag(b, p.number, protowire.VarintType), uint64(v))
		case string:
			b = protowire.AppendString(protowire.AppendTag(b, p.number, protowire.BytesType), v)
		case []part:
			b = protowire.AppendBytes(protowire.AppendTag(b, p.number, protowire.BytesType), written(v...))
		}
	}
	return b
}

// engine answers calls on a socket: in the form of the interface as it is published, for
// no cluster's engine runs here.
func engine(t *testing.T, answers map[string]func(namespace string) []byte) string {
	t.Helper()
	socket := filepath.Join(t.TempDir(), "engine.sock")
	listener, err := net.Listen("unix", socket)
	if err != nil {
		t.Fatal(err)
	}
	serve := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		io.Copy(io.Discard, r.Body)
		w.Header().Set("Content-Type", "application/grpc")
		w.Header().Set("Trailer", "Grpc-Status, Grpc-Message")
		answer, ok := answers[r.URL.Path]
		if !ok {
			w.Header().Set("Grpc-Status", "12")
			w.Header().Set("Grpc-Message", "unknown service")
			return
		}
		body := answer(r.Header.Get("containerd-namespace"))
		w.Write(append(binary.BigEndian.AppendUint32([]byte{0}, uint32(len(body))), body...))
		w.Header().Set("Grpc-Status", "0")
	})
	var only http.Protocols
	only.SetUnencryptedHTTP2(true)
	server := &http.Server{Handler: serve, Protocols: &only}
	go server.Serve(listener)
	t.Cleanup(func() { server.Close() })
	return socket
}

func fixed(parts ...part) func(string) []byte {
	return func(string) []byte { return written(parts...) }
}

// TestPods reads pods with their containers, as an engine tells a cluster's node of them.
func TestPods(t *testing.T) {
	const info = `{"pid":4121,"config":{"envs":[{"key":"TIDE_SECRET","value":"CANARY-3c1d"}],"port_mappings":[{"protocol":0,"container_port":80,"host_port":18080,"host_ip":""}]}}`
	answers := map[string]func(string) []byte{
		criPods: fixed(part{1, []part{{1, "pod1"}, {2, []part{{1, "tidebook"}, {3, "harbour"}}}}}),
		criPod: fixed(
			part{1, []part{{1, "pod1"}, {5, []part{{1, "10.88.4.7"}, {2, []part{{1, "fd20:88::7"}}}}},
				{6, []part{{1, []part{{2, []part{{1, 0}}}}}}}}},
			part{2, []part{{1, "info"}, {2, info}}},
		),
		criAll: fixed(part{1, []part{{1, "c1"}, {2, "pod1"}}}),
		criOne: fixed(
			part{1, []part{
				{1, "c1"}, {2, []part{{1, "web"}, {2, 3}}}, {3, 2}, {5, 1764111600000000000}, {6, 1764111660000000000},
				{7, 137},
				{8, []part{{1, "tides:1"}}}, {9, "sha256:5f"}, {10, "OOMKilled"},
				{11, "it wanted more memory than it may have"},
				{14, []part{{1, "/etc/tidebook"}, {2, "/var/lib/settings"}}}, {15, "/nowhere/web.log"},
			}},
			part{2, []part{{1, "info"}, {2, info}}},
		),
	}
	list, err := askRPC(context.Background(), engine(t, answers), "CRI-O", 18080)
	if err != nil || len(list) != 1 {
		t.Fatalf("%+v, %v", list, err)
	}
	c := list[0]
	if c.Name != "web" || c.Pod != "harbour/tidebook" || c.State != "exited" || c.ExitCode != 137 || !c.Starved ||
		c.Restarts != 3 ||
		c.PID != 4121 || c.Image != "tides:1" || c.HostNet || c.Ended.IsZero() || len(c.Mounts) != 1 ||
		c.Mounts[0].Source != "/var/lib/settings" {
		t.Errorf("%+v", c)
	}
	if len(c.Published) != 1 || c.Published[0] != (fact.Published{Transport: "tcp", Port: 18080, Inside: 80}) {
		t.Errorf("%+v", c.Published)
	}
	if len(c.Networks) != 1 || !slices.Contains(c.Networks[0].Addrs, netip.MustParseAddr("10.88.4.7")) ||
		len(c.Networks[0].Addrs) != 2 {
		t.Errorf("%+v", c.Networks)
	}
	if text := fmt.Sprintf("%+v", c); strings.Contains(text, "CANARY") || !slices.Contains(c.Names, "TIDE_SECRET") {
		t.Errorf("an environment's value is told, or not its name: %s", text)
	}
}

// TestOwnContainers reads what containerd keeps beside pods, and leaves out what another
// engine tells of itself.
func TestOwnContainers(t *testing.T) {
	answers := map[string]func(string) []byte{
		ownSpaces: fixed(part{1, []part{{1, "default"}}}, part{1, []part{{1, "moby"}}},
			part{1, []part{{1, podNamespace}}}),
		ownAll: func(namespace string) []byte {
			return written(part{1, []part{{1, namespace + "-web"}, {3, "tides:1"}}},
				part{1, []part{{1, namespace + "-never"}, {3, "tides:1"}}})
		},
		ownTasks: func(namespace string) []byte {
			return written(part{1, []part{{1, namespace + "-web"}, {2, namespace + "-web"}, {3, 77}, {4, 2}}})
		},
	}
	list, err := askRPC(context.Background(), engine(t, answers), "containerd", 80)
	if err != nil || len(list) != 4 {
		t.Fatalf("%+v, %v", list, err)
	}
	if c := list[0]; c.ID != "default-web" || c.State != "running" || c.PID != 77 || list[1].State != "created" ||
		list[2].ID != podNamespace+"-web" {
		t.Errorf("%+v", list)
	}
	delete(answers, ownSpaces)
	if _, err := askRPC(context.Background(), engine(t, answers), "containerd", 80); err == nil ||
		!strings.Contains(err.Error(), "12 unknown service") {
		t.Errorf("an engine that answers nothing: %v", err)
	}
}

// FuzzMessage reads anything as a message.
func FuzzMessage(f *testing.F) {
	f.Add(written(part{1, "a"}, part{2, 7}, part{3, []part{{1, "b"}}}))
	f.Add([]byte{0x0a, 0xff, 0x01})
	f.Fuzz(func(t *testing.T, b []byte) {
		m, err := parseMessage(b)
		if err != nil {
			return
		}
		for number := range m {
			m.text(number)
			m.all(number)
		}
	})
}
