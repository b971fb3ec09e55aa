//go:build linux

package linux

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/look/host/common"
)

// Bounds on what an engine is asked.
const (
	engineTime    = 4 * time.Second
	mostEngine    = 8 << 20 // bytes of one answer
	mostEngineLog = 30      // lines
)

// engineClient asks an engine over its socket. Only what reads is asked (the
// open API that engines share, "Docker Engine API" 1.40 and later).
type engineClient struct {
	http.Client
}

func newEngineClient(socket string) *engineClient {
	return &engineClient{http.Client{
		Timeout: engineTime,
		Transport: &http.Transport{
			DisableKeepAlives: true,
			DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
				return (&net.Dialer{}).DialContext(ctx, "unix", socket)
			},
		},
	}}
}

func (e *engineClient) get(ctx context.Context, path string) ([]byte, error) {
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://engine"+path, nil)
	if err != nil {
		return nil, err
	}
	answer, err := e.Do(request)
	if err != nil {
		return nil, err
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(io.LimitReader(answer.Body, mostEngine))
	if err != nil {
		return nil, err
	}
	if answer.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("it answers %d to %s", answer.StatusCode, path)
	}
	return text, nil
}

func (e *engineClient) read(ctx context.Context, path string, into any) error {
	text, err := e.get(ctx, path)
	if err != nil {
		return err
	}
	return json.Unmarshal(text, into)
}

// told is what an engine tells of one container.
type told struct {
	ID     string `json:"Id"`
	Name   string
	Image  string // its digest
	Pod    string
	Config struct {
		Image string
		Env   []string
	}
	State struct {
		Status                string
		ExitCode              int
		OOMKilled             bool
		Error                 string
		StartedAt, FinishedAt time.Time
		Pid                   int
		Health                struct {
			Status string
			Log    []struct{ Output string }
		}
	}
	RestartCount int
	HostConfig   struct {
		NetworkMode   string
		PortBindings  map[string][]struct{ HostIp, HostPort string }
		RestartPolicy struct{ Name string }
	}
	NetworkSettings struct {
		Networks map[string]struct {
			IPAddress, GlobalIPv6Address, Gateway string
			Aliases                               []string
		}
	}
	Mounts []struct{ Source, Destination string }
}

// toldNetwork is what it tells of a network.
type toldNetwork struct {
	Name     string
	Internal bool
	Options  map[string]string
}

// askEngine asks an engine for all its containers, and for the last lines of
// those that the endpoint's port leads into or that do not run.
func askEngine(ctx context.Context, socket, name string, port uint16) ([]fact.Container, error) {
	ctx, cancel := context.WithTimeout(ctx, engineTime)
	defer cancel()
	e := newEngineClient(socket)
	var short []struct {
		ID string `json:"Id"`
	}
	if err := e.read(ctx, "/containers/json?all=true", &short); err != nil {
		return nil, err
	}
	var networks []toldNetwork
	if err := e.read(ctx, "/networks", &networks); err != nil {
		networks = nil // what is known of the containers is told all the same
	}
	list := []fact.Container{}
	for _, each := range short[:min(len(short), mostContainers)] {
		var t told
		if err := e.read(ctx, "/containers/"+each.ID+"/json", &t); err != nil {
			continue // it went away meanwhile
		}
		c := t.container(ctx, name, networks)
		if c.State != "running" || port == 0 ||
			slices.ContainsFunc(c.Published, func(p fact.Published) bool { return p.Port == port }) {
			c.Log = e.log(ctx, each.ID)
		}
		list = append(list, c)
	}
	return list, nil
}

func (t told) container(ctx context.Context, engine string, networks []toldNetwork) fact.Container {
	c := fact.Container{
		Engine: engine, ID: foreign.Clean(t.ID), Name: foreign.Clean(strings.TrimPrefix(t.Name, "/")),
		Image:  foreign.Clean(t.Config.Image),
		Digest: foreign.Clean(t.Image), Pod: foreign.Clean(t.Pod),
		State: foreign.Clean(
			t.State.Status,
		), ExitCode: t.State.ExitCode, Starved: t.State.OOMKilled, Error: foreign.Clean(t.State.Error),
		Restarts: t.RestartCount, Policy: foreign.Clean(t.HostConfig.RestartPolicy.Name), PID: t.State.Pid,
		Health: foreign.Clean(t.State.Health.Status), HostNet: t.HostConfig.NetworkMode == "host",
	}
	if id, ok := strings.CutPrefix(t.HostConfig.NetworkMode, "container:"); ok {
		c.Shares = foreign.Clean(id)
	}
	if c.Health == "none" {
		c.Health = ""
	}
	if checks := t.State.Health.Log; len(checks) > 0 {
		c.Checked = foreign.Shortened(common.LogLine(ctx, strings.TrimSpace(checks[len(checks)-1].Output)))
	}
	if at := t.State.StartedAt; at.Year() > 1 {
		c.Started = at.UTC()
	}
	if at := t.State.FinishedAt; at.Year() > 1 && c.State != "running" {
		c.Ended = at.UTC()
	}
	for _, variable := range t.Config.Env {
		variable, _, _ = strings.Cut(variable, "=")
		c.Names = append(c.Names, foreign.Clean(variable))
	}
	for inside, places := range t.HostConfig.PortBindings {
		number, transport, _ := strings.Cut(inside, "/")
		to, err := strconv.ParseUint(number, 10, 16)
		if err != nil {
			continue
		}
		for _, at := range places {
			port, err := strconv.ParseUint(at.HostPort, 10, 16)
			if err != nil {
				continue
			}
			p := fact.Published{Transport: transport, Port: uint16(port), Inside: uint16(to)}
			if addr, err := netip.ParseAddr(at.HostIp); err == nil && !addr.IsUnspecified() {
				p.Addr = addr.Unmap()
			}
			c.Published = append(c.Published, p)
		}
	}
	slices.SortFunc(c.Published, func(a, b fact.Published) int { return int(a.Port) - int(b.Port) })
	for name, n := range t.NetworkSettings.Networks {
		each := fact.Network{Name: foreign.Clean(name)}
		for _, text := range []string{n.IPAddress, n.GlobalIPv6Address} {
			if addr, err := netip.ParseAddr(text); err == nil {
				each.Addrs = append(each.Addrs, addr)
			}
		}
		each.Gateway, _ = netip.ParseAddr(n.Gateway)
		for _, alias := range n.Aliases {
			each.Aliases = append(each.Aliases, foreign.Clean(alias))
		}
		for _, known := range networks {
			if known.Name == name {
				each.Internal = known.Internal
				each.Isolated = known.Options["isolate"] == "true" || engine == "docker"
			}
		}
		c.Networks = append(c.Networks, each)
	}
	slices.SortFunc(c.Networks, func(a, b fact.Network) int { return strings.Compare(a.Name, b.Name) })
	for _, m := range t.Mounts {
		c.Mounts = append(c.Mounts, fact.Mount{Source: foreign.Clean(m.Source), Inside: foreign.Clean(m.Destination)})
	}
	return c
}

// log is the last lines of a container.
func (e *engineClient) log(ctx context.Context, id string) []fact.LogLine {
	text, err := e.get(
		ctx,
		fmt.Sprintf("/containers/%s/logs?stdout=true&stderr=true&timestamps=true&tail=%d", id, mostEngineLog),
	)
	if err != nil {
		return nil // one that keeps none
	}
	var lines []fact.LogLine
	for line := range strings.Lines(string(unframed(text))) {
		line = strings.TrimRight(line, "\r\n")
		at, rest, _ := strings.Cut(line, " ")
		when, err := time.Parse(time.RFC3339Nano, at)
		if err != nil {
			rest = line
		}
		if rest != "" {
			lines = append(lines, fact.LogLine{At: when.UTC(), Text: foreign.CleanTo(common.LogLine(ctx, rest), 500)})
		}
	}
	return lines[max(0, len(lines)-mostEngineLog):]
}

// unframed takes the heads off the pieces that a log comes in: a byte for
// where it was written to, three of nothing, and four for its length. A
// container with a terminal has none.
func unframed(text []byte) []byte {
	var plainText []byte
	for rest := text; len(rest) > 0; {
		if len(rest) < 8 || rest[0] > 2 || rest[1] != 0 || rest[2] != 0 || rest[3] != 0 {
			return append(plainText, rest...)
		}
		size := min(int(binary.BigEndian.Uint32(rest[4:])), len(rest)-8)
		plainText, rest = append(plainText, rest[8:8+size]...), rest[8+size:]
	}
	return plainText
}
