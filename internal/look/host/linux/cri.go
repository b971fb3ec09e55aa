//go:build linux

package linux

import (
	"context"
	"encoding/json"
	"net/netip"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/look/file"
	"uakari/internal/look/host/common"
)

// The calls of the open interface between a cluster's node and its engine, and of
// containerd itself, that only read (k8s.io/cri-api, runtime/v1/api.proto; containerd's
// api/services).
const (
	criPods      = "/runtime.v1.RuntimeService/ListPodSandbox"
	criPod       = "/runtime.v1.RuntimeService/PodSandboxStatus"
	criAll       = "/runtime.v1.RuntimeService/ListContainers"
	criOne       = "/runtime.v1.RuntimeService/ContainerStatus"
	ownSpaces    = "/containerd.services.namespaces.v1.Namespaces/List"
	ownAll       = "/containerd.services.containers.v1.Containers/List"
	ownTasks     = "/containerd.services.tasks.v1.Tasks/List"
	podNamespace = "k8s.io" // where containerd keeps what that interface made
)

// criStates and taskStates are the states of a container, in the words of facts.
var (
	criStates  = []string{"created", "running", "exited", "unknown"}
	taskStates = []string{"unknown", "created", "running", "exited", "paused", "paused"}
)

func stateOf(names []string, n int64) string {
	if n < 0 || n >= int64(len(names)) {
		return "unknown"
	}
	return names[n]
}

// askRPC asks an engine that speaks gRPC: for the pods of a cluster's node with their
// containers, and containerd for those that others made there.
func askRPC(ctx context.Context, socket, engine string, port uint16) ([]fact.Container, error) {
	ctx, cancel := context.WithTimeout(ctx, engineTime)
	defer cancel()
	c := newRPCClient(socket)
	defer c.close()
	list, err := c.pods(ctx, engine, port)
	if engine != "containerd" {
		return list, err
	}
	own, ownErr := c.own(ctx, engine, err == nil)
	if err != nil && ownErr != nil {
		return nil, ownErr
	}
	return append(list, own...), nil
}

// pod is what an engine tells of one pod.
type pod struct {
	name      string
	addrs     []fact.Network
	hostNet   bool
	published []fact.Published
}

// pods is the containers of all pods.
func (c *rpcClient) pods(ctx context.Context, engine string, port uint16) ([]fact.Container, error) {
	found, err := c.call(ctx, criPods, nil)
	if err != nil {
		return nil, err
	}
	pods := map[string]pod{}
	for _, each := range found.all(1)[:min(len(found.all(1)), mostContainers)] {
		id := each.text(1)
		p := pod{name: each.in(2).text(1)}
		if space := each.in(2).text(3); space != "" {
			p.name = space + "/" + p.name
		}
		if status, err := c.call(ctx, criPod, verbosely(id)); err == nil { // else its network is not known
			p.read(status)
		}
		pods[id] = p
	}
	all, err := c.call(ctx, criAll, nil)
	if err != nil {
		return nil, err
	}
	list := []fact.Container{}
	for _, each := range all.all(1)[:min(len(all.all(1)), mostContainers)] {
		status, err := c.call(ctx, criOne, verbosely(each.text(1)))
		if err != nil {
			continue // it went away meanwhile
		}
		one := criContainer(ctx, engine, status, pods[each.text(2)])
		if one.State != "running" || port == 0 ||
			slices.ContainsFunc(one.Published, func(p fact.Published) bool { return p.Port == port }) {
			one.Log = criLog(ctx, status.in(1).text(15))
		}
		list = append(list, one)
	}
	return list, nil
}

// verbosely asks for one by its number, with what the engine knows beyond the interface.
func verbosely(id string) []byte {
	return with(asking(1, id), 2, 1)
}

// read takes a pod's addresses, and the ports of the node that lead into it.
func (p *pod) read(m message) {
	status := m.in(1)
	network := fact.Network{Name: "the pod's"}
	for _, text := range append([]string{status.in(5).text(1)}, textsOf(status.in(5).all(2))...) {
		if addr, err := netip.ParseAddr(text); err == nil {
			network.Addrs = append(network.Addrs, addr)
		}
	}
	if len(network.Addrs) > 0 {
		p.addrs = []fact.Network{network}
	}
	const ofNode = 2
	p.hostNet = status.in(6).in(1).in(2).count(1) == ofNode
	var more struct {
		Config struct {
			Ports []struct {
				Protocol  int    `json:"protocol"`
				Container uint16 `json:"container_port"`
				Host      uint16 `json:"host_port"`
				IP        string `json:"host_ip"`
			} `json:"port_mappings"`
		} `json:"config"`
	}
	if json.Unmarshal([]byte(rawInfo(m)), &more) != nil {
		return // the engine tells it in another form
	}
	for _, each := range more.Config.Ports {
		if each.Host == 0 {
			continue
		}
		one := fact.Published{Transport: "tcp", Port: each.Host, Inside: each.Container}
		if each.Protocol == 1 {
			one.Transport = "udp"
		}
		if addr, err := netip.ParseAddr(each.IP); err == nil && !addr.IsUnspecified() {
			one.Addr = addr.Unmap()
		}
		p.published = append(p.published, one)
	}
}

func textsOf(list []message) []string {
	var texts []string
	for _, each := range list {
		texts = append(texts, each.text(1))
	}
	return texts
}

// rawInfo is what an engine tells of one beyond the interface, as JSON; "" if nothing. It
// is read field by field, and never told as a whole: it has the values of environments.
func rawInfo(m message) string {
	for _, each := range m.all(2) {
		if each.text(1) == "info" && len(each[2]) > 0 {
			return string(each[2][0].bytes)
		}
	}
	return ""
}

// criContainer is one container of a pod.
func criContainer(ctx context.Context, engine string, m message, p pod) fact.Container {
	status := m.in(1)
	c := fact.Container{
		Engine: engine, ID: status.text(1), Name: status.in(2).text(1), Pod: p.name,
		Image: status.in(8).text(1), Digest: status.text(9),
		State: stateOf(criStates, status.count(3)), ExitCode: int(int32(status.count(7))),
		Starved: status.text(10) == "OOMKilled", Restarts: int(status.in(2).count(2)), HostNet: p.hostNet,
		Networks: p.addrs, Published: p.published,
	}
	if c.ExitCode != 0 || c.State != "exited" {
		c.Error = foreign.Shortened(common.LogLine(ctx, status.text(11)))
	}
	if ns := status.count(5); ns > 0 {
		c.Started = time.Unix(0, ns).UTC()
	}
	if ns := status.count(6); ns > 0 && c.State != "running" {
		c.Ended = time.Unix(0, ns).UTC()
	}
	for _, each := range status.all(14) {
		c.Mounts = append(c.Mounts, fact.Mount{Source: each.text(2), Inside: each.text(1)})
	}
	var more struct {
		PID    int `json:"pid"`
		Config struct {
			Env []struct {
				Key string `json:"key"`
			} `json:"envs"`
		} `json:"config"`
	}
	if json.Unmarshal([]byte(rawInfo(m)), &more) == nil {
		c.PID = more.PID
		for _, each := range more.Config.Env {
			c.Names = append(c.Names, foreign.Clean(each.Key))
		}
	}
	return c
}

// criLog is the last lines of a container's log, which begin with a time, where it was
// written to, and whether the line is whole.
func criLog(ctx context.Context, path string) []fact.LogLine {
	if !filepath.IsAbs(path) {
		return nil
	}
	const most = 16 << 10 // bytes from its end
	text, err := file.Tail(path, most)
	if err != nil {
		return nil // one that keeps none
	}
	var lines []fact.LogLine
	for line := range strings.Lines(string(text)) {
		parts := strings.SplitN(strings.TrimRight(line, "\r\n"), " ", 4)
		when, err := time.Parse(time.RFC3339Nano, parts[0])
		if err != nil || len(parts) < 4 {
			continue // cut at the beginning of what was read
		}
		lines = append(lines, fact.LogLine{At: when.UTC(), Text: foreign.CleanTo(common.LogLine(ctx, parts[3]), 500)})
	}
	return lines[max(0, len(lines)-mostEngineLog):]
}

// own is the containers of containerd that no pod has; where others tell of their own,
// those are left out.
func (c *rpcClient) own(ctx context.Context, engine string, withoutPods bool) ([]fact.Container, error) {
	spaces, err := c.call(ctx, ownSpaces, nil)
	if err != nil {
		return nil, err
	}
	var list []fact.Container
	for _, space := range spaces.all(1) {
		name := space.text(1)
		if name == "moby" || name == podNamespace && withoutPods {
			continue // another engine's, which is asked itself; or those that were told
		}
		c.namespace = name
		all, err := c.call(ctx, ownAll, nil)
		if err != nil {
			return list, err
		}
		tasks, err := c.call(ctx, ownTasks, nil)
		if err != nil {
			return list, err
		}
		for _, each := range all.all(1)[:min(len(all.all(1)), mostContainers)] {
			list = append(list, ownContainer(engine, each, tasks.all(1)))
		}
	}
	return list, nil
}

func ownContainer(engine string, m message, tasks []message) fact.Container {
	one := fact.Container{Engine: engine, ID: m.text(1), Name: m.text(1), Image: m.text(3), State: "created"}
	for _, t := range tasks {
		if t.text(1) != one.ID && t.text(2) != one.ID {
			continue
		}
		one.State, one.PID, one.ExitCode = stateOf(taskStates, t.count(4)), int(t.count(3)), int(t.count(9))
		if at := t.in(10).count(1); at > 0 && one.State == "exited" {
			one.Ended = time.Unix(at, 0).UTC()
		}
	}
	if one.State != "running" {
		one.PID = 0
	}
	return one
}
